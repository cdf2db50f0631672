// Package house_test holds the table of docs/ARCHITECTURE.md: which package
// may import which.
package house_test

import (
	"encoding/json"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kettlehole/internal/testbed"
)

// may lists for each package the packages of the house that it imports
// directly. A package that is not listed may not be there.
var may = map[string]string{
	"labfile": "labfile/shape", "labfile/shape": "", "workstation": "labfile", "ledger": "", "mask": "", "reap": "", "clock": "", "home": "", "longpath": "", "lock": "", "image": "lock", "fabric": "", "reach": "",
	"answers": "", "bundle": "", "passing": "", "reach/names": "plan", "reach/browse": "reach", "reach/login": "agent", "reach/outward": "fabric longpath passing reach",
	"reach/within": "fabric plan reach reach/names reach/outward",
	"plan":         "labfile workstation", "schedule": "labfile plan", "mapping": "home labfile ledger plan schedule workstation workstation/survey", "workstation/survey": "workstation",
	"draw": "plan", "draw/paper": "draw plan", "draw/lanes": "api draw schedule", "agent": "bundle passing", "agent/server": "agent bundle mask passing reap",
	"anchor": "reap", "substrate": "agent fabric", "substrate/container": "agent anchor fabric home longpath reach reach/outward reach/within substrate",
	"trial": "home substrate/container workstation",
	"audit": "anchor workstation/survey", "api": "agent audit labfile ledger plan reach schedule", "run": "agent api fabric labfile ledger mask plan schedule substrate",
	"rehearsal": "api labfile ledger plan schedule workstation",
	"keeper":    "agent anchor api audit home image labfile ledger lock longpath mapping mask passing plan reach reach/login reach/outward reach/within rehearsal run schedule substrate substrate/container workstation workstation/survey",
	"client":    "agent answers api home ledger lock longpath mapping passing plan workstation",
	"starter":   "labfile/shape",
	"cli":       "labfile/shape starter agent answers api audit bundle client home passing reach/browse draw draw/lanes draw/paper image labfile mapping plan rehearsal schedule substrate workstation workstation/survey ledger",
	"tui":       "agent answers api audit client reach draw draw/lanes labfile ledger mapping plan rehearsal run schedule workstation workstation/survey tui/cell tui/theme", "tui/cell": "", "tui/theme": "",
	"testbed": "", "house": "", "measure": "",
}

// never lists what a package may not import even indirectly: the core no
// interface, the interface no kernel.
var never = map[string]string{
	"labfile": interfaces + kernel + "os/exec net/http", "plan": interfaces + "github.com/vishvananda os/exec net/http",
	"answers": interfaces + kernel + "net os/exec", "bundle": interfaces + kernel + "net os/exec", "reach": interfaces + kernel, "reach/names": interfaces + kernel, "reach/login": interfaces + kernel,
	"schedule": interfaces + "github.com/vishvananda os/exec net/http", "draw": interfaces + "github.com/vishvananda os/exec net/http", "draw/paper": interfaces + kernel + "os/exec net/http",
	"run": interfaces, "keeper": interfaces, "ledger": interfaces + kernel, "image": interfaces, "fabric": interfaces, "substrate/container": interfaces, "agent/server": interfaces,
	"cli": "github.com/opencontainers github.com/moby", "tui": "github.com/opencontainers github.com/moby github.com/spf13",
}

const (
	interfaces = "charm.land github.com/charmbracelet github.com/spf13 golang.org/x/term "
	kernel     = "github.com/vishvananda github.com/google/nftables github.com/opencontainers "
)

type listed struct {
	ImportPath    string
	Imports, Deps []string
}

func packages(t *testing.T) []listed {
	cmd := exec.Command("go", "list", "-json=ImportPath,Imports,Deps", "./internal/...")
	cmd.Dir = testbed.Root()
	out, err := cmd.Output()
	require.NoError(t, err)
	var all []listed
	for decoder := json.NewDecoder(strings.NewReader(string(out))); decoder.More(); {
		var p listed
		require.NoError(t, decoder.Decode(&p))
		all = append(all, p)
	}
	require.NotEmpty(t, all)
	return all
}

func TestImports(t *testing.T) {
	const house = "kettlehole/internal/"
	for _, p := range packages(t) {
		name := strings.TrimPrefix(p.ImportPath, house)
		allowed, known := may[name]
		if !known {
			t.Errorf("package %s has no place in the table", name)
		}
		for _, imported := range p.Imports {
			if other, ours := strings.CutPrefix(imported, house); ours && !slices.Contains(strings.Fields(allowed), other) {
				t.Errorf("%s imports %s, which the table does not allow", name, other)
			}
		}
		for _, forbidden := range strings.Fields(never[name]) {
			for _, dep := range p.Deps {
				if dep == forbidden || strings.HasPrefix(dep, forbidden+"/") {
					t.Errorf("%s depends on %s", name, dep)
				}
			}
		}
	}
}

// The pure packages know no clock and start no goroutine.
func TestPure(t *testing.T) {
	for _, name := range []string{"labfile", "plan", "schedule", "draw", "answers"} {
		cmd := exec.Command("grep", "-rnE", `time\.(Now|Sleep|After|Since)\(|^\s*go (func|[a-z])|os\.(Open|Read|Write|Getenv)`, "internal/"+name, "--include=*.go", "--exclude=*_test.go")
		cmd.Dir = testbed.Root()
		out, _ := cmd.Output() // grep fails where it finds nothing
		require.Empty(t, string(out), "%s is not pure", name)
	}
}
