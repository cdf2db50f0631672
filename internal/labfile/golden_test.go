package labfile_test

import (
	"encoding/json"
	"errors"
	"flag"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/txtar"

	"kettlehole/internal/labfile"
)

var update = flag.Bool("update", false, "write the golden files anew")

// scripts stand beside every golden case.
func scripts(path string) ([]byte, error) {
	switch path {
	case "scripts/good.sh":
		return []byte("#!/bin/sh\necho good\n"), nil
	case "scripts/binary":
		return []byte{0x7f, 'E', 'L', 'F', 0}, nil
	}
	return nil, errors.New("no such file")
}

// golden is one case: a lab file, perhaps a file "given" with inputs and files
// beside the lab file, and last what is expected.
type golden struct {
	archive *txtar.Archive
	input   []byte
	given   []labfile.Given
}

func readGolden(t testing.TB, file string) golden {
	archive, err := txtar.ParseFile(file)
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(archive.Files), 2)
	g := golden{archive: archive, input: archive.Files[0].Data}
	for _, f := range archive.Files {
		if f.Name == "given" {
			var environ []string
			for line := range strings.Lines(string(f.Data)) {
				line = strings.TrimSpace(line)
				if strings.HasPrefix(line, labfile.InputVariable) {
					environ = append(environ, line)
					continue
				}
				one, err := labfile.ParseGiven(line, "-i")
				require.NoError(t, err)
				g.given = append(g.given, one)
			}
			g.given = append(g.given, labfile.GivenByEnvironment(environ)...)
		}
	}
	return g
}

func (g golden) read(path string) ([]byte, error) {
	for _, f := range g.archive.Files[1:] {
		if f.Name == path {
			return f.Data, nil
		}
	}
	return scripts(path)
}

func goldens(t testing.TB) []string {
	files, err := filepath.Glob("testdata/*.txtar")
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(files), 150)
	return files
}

// Each case is one archive; what is expected are the findings and, where there
// is no error, the lab as JSON after them. A lab that is printed and parsed
// again is the same lab.
func TestGolden(t *testing.T) {
	for _, file := range goldens(t) {
		t.Run(strings.TrimSuffix(filepath.Base(file), ".txtar"), func(t *testing.T) {
			g := readGolden(t, file)
			expected := &g.archive.Files[len(g.archive.Files)-1]
			require.Equal(t, "expected", expected.Name)
			lab, findings := labfile.Parse(g.input, g.read, g.given...)
			got := findings.Text("x.lab.yaml", g.input)
			if lab != nil {
				got += asJSON(t, lab)
			}
			if *update {
				expected.Data = []byte(got)
				require.NoError(t, os.WriteFile(file, txtar.Format(g.archive), 0o644))
			}
			assert.Equal(t, string(expected.Data), got)
			assert.Equal(t, findings.Count(labfile.Error) > 0, lab == nil)
			if lab != nil {
				printed, err := labfile.Print(lab)
				require.NoError(t, err)
				again, findings := labfile.Parse(printed, g.read, g.given...)
				require.NotNil(t, again, findings.Text("printed", printed))
				assert.Equal(t, asJSON(t, lab), asJSON(t, again), string(printed))
			}
		})
	}
}

func asJSON(t testing.TB, lab *labfile.Lab) string {
	text, err := json.MarshalIndent(lab, "", "  ")
	require.NoError(t, err)
	return string(text) + "\n"
}
