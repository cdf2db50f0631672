package plan_test

import (
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/txtar"

	"kettlehole/internal/labfile"
	"kettlehole/internal/plan"
	"kettlehole/internal/workstation"
)

var update = flag.Bool("update", false, "write the golden files anew")

// Each case is one archive: a lab file, the facts of a workstation, perhaps
// the lab file by which the lab lives, and what is expected: findings, the plan
// as JSON, what fits, and the difference.
func TestGolden(t *testing.T) {
	files, err := filepath.Glob("testdata/*.txtar")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, file := range files {
		t.Run(strings.TrimSuffix(filepath.Base(file), ".txtar"), func(t *testing.T) {
			archive, err := txtar.ParseFile(file)
			require.NoError(t, err)
			parts := map[string][]byte{}
			for _, f := range archive.Files {
				parts[f.Name] = f.Data
			}
			var facts workstation.Facts
			require.NoError(t, json.Unmarshal(parts["workstation.json"], &facts))
			var living *plan.Plan
			if text, lives := parts["living.lab.yaml"]; lives {
				living, _ = plan.Make(parse(t, string(text)), plan.Where{}, facts, nil)
				require.NotNil(t, living)
			}
			lab, findings := labfile.Parse(parts["x.lab.yaml"], nil)
			require.NotNil(t, lab, findings.Text("x.lab.yaml", parts["x.lab.yaml"]))
			p, more := plan.Make(lab, plan.Where{}, facts, living)
			findings = append(findings, more...)
			findings.Sort()
			var b strings.Builder
			b.WriteString(findings.Text("x.lab.yaml", parts["x.lab.yaml"]))
			if p != nil {
				text, err := json.MarshalIndent(p, "", "  ")
				require.NoError(t, err)
				fmt.Fprintf(&b, "%s\n", text)
				for _, room := range p.Fit.Rooms {
					fmt.Fprintf(&b, "fit: %s: %s\n", room.Group, room)
				}
				for _, q := range p.Quorums() {
					fmt.Fprintf(&b, "quorum: %s: %s\n", q.Group, q)
				}
				if living != nil {
					for _, c := range plan.Difference(living, p) {
						fmt.Fprintf(&b, "difference: %s %s %s %s\n", c.Thing, c.Name, c.Kind, strings.Join(c.Why, "; "))
					}
				}
			}
			expected := &archive.Files[len(archive.Files)-1]
			require.Equal(t, "expected", expected.Name)
			if *update {
				expected.Data = []byte(b.String())
				require.NoError(t, os.WriteFile(file, txtar.Format(archive), 0o644))
			}
			assert.Equal(t, string(expected.Data), b.String())
		})
	}
}
