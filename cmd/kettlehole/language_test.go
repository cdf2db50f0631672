package main_test

import (
	"encoding/json"
	"encoding/xml"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kettlehole/internal/testbed"
)

// Every starter is written, provisioned, found ready and taken down again.
func TestStartersLive(t *testing.T) {
	testbed.Kernel(t)
	for starter, expect := range map[string]struct {
		nodes int
		node  string // on which a command is run
		says  string
		run   []string
	}{
		"blank":  {2, "node-2", "node-2", []string{"sh", "-c", "echo $NODE"}},
		"pair":   {2, "standby-1", "the first entry", []string{"cat", "/var/lib/journal"}},
		"tier":   {4, "worker-2", "answers", []string{"python3", "-c", "import urllib.request as u; print(u.urlopen('http://door-1/').read())"}},
		"quorum": {3, "council-3", "council-2", []string{"cairn", "members"}},
	} {
		t.Run(starter, func(t *testing.T) {
			b := newBench(t)
			name := fmt.Sprintf("%s-%d", starter, os.Getpid())
			b.ok("new", starter, "--name", name, "lab")
			file := filepath.Join("lab", name+".lab.yaml")
			_, errs, code := b.run("new", starter, "--name", name, "lab")
			assert.Equal(t, 2, code)
			assert.Contains(t, errs, "never overwrites")
			t.Cleanup(func() { b.run("teardown", name, "--yes") })
			out := b.ok("provision", file)
			assert.Contains(t, b.ok("status", name), fmt.Sprintf("%d of %d nodes ready", expect.nodes, expect.nodes), out)
			assert.Contains(t, b.ok(append([]string{"exec", "--lab", name, expect.node, "--"}, expect.run...)...), expect.says)
			b.ok("teardown", name, "--yes")
		})
	}
}

// Inputs come from flags, a file and the environment, in this order of
// strength, and a living lab keeps what it was given.
func TestInputs(t *testing.T) {
	testbed.Kernel(t)
	b := newBench(t)
	name := fmt.Sprintf("inputs-%d", os.Getpid())
	file := b.write("x.lab.yaml", "lab: "+name+"\ninputs: {n: {default: 1, max: 4}, mood: calm}\ngroups: {node: {count: \"${n}\", memory: 64M}}\n"+
		"steps: {a: {on: all, run: 'echo it is $INPUT_MOOD, of $COUNT'}}\n")
	b.write("inputs.yaml", "n: 3\nmood: brisk\n")
	nodes := func(args ...string) int {
		var document struct{ Plan struct{ Nodes []any } }
		require.NoError(t, json.Unmarshal([]byte(b.ok(append([]string{"plan", "--json", file}, args...)...)), &document))
		return len(document.Plan.Nodes)
	}
	assert.Equal(t, 1, nodes())
	b.env = append(b.env, "KETTLEHOLE_INPUT_N=2")
	assert.Equal(t, 2, nodes())
	assert.Equal(t, 3, nodes("--input-file", "inputs.yaml"))
	assert.Equal(t, 4, nodes("--input-file", "inputs.yaml", "-i", "n=1", "-i", "n=4"))
	for _, wrong := range [][]string{{"-i", "n"}, {"--input-file", "none.yaml"}, {"--input-file", file + "/x"}} {
		_, errs, code := b.run(append([]string{"plan", file}, wrong...)...)
		assert.Equal(t, 2, code, "%v: %s", wrong, errs)
	}
	out, _, code := b.run("plan", file, "-i", "n=9")
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "n=9, given by -i: it is at most 4")

	t.Cleanup(func() { b.run("teardown", name, "--yes") })
	b.ok("provision", file, "-i", "n=2", "-i", "mood=bright")
	b.env = b.env[:len(b.env)-1]
	assert.Contains(t, b.ok("logs", "--lab", name, "node-2", "a"), "it is bright, of 2")
	assert.Equal(t, 2, nodes(), "the living lab keeps what it was given")
	assert.Contains(t, b.ok("provision", file), "reused")
	assert.Equal(t, 3, nodes("-i", "n=3"))
}

// What plan --json prints is what schema plan says.
func TestPlanDocument(t *testing.T) {
	b := newBench(t)
	document, err := jsonschema.UnmarshalJSON(strings.NewReader(b.ok("schema", "plan")))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	require.NoError(t, c.AddResource("plan.json", document))
	schema, err := c.Compile("plan.json")
	require.NoError(t, err)
	demo := filepath.Join(testbed.Root(), "examples/avalanche-desk/avalanche.lab.yaml")
	for _, file := range []string{demo, b.write("wrong.lab.yaml", "lab: wrong\ngroups: {node: {cuont: 2}}\n")} {
		out, _, _ := b.run("plan", "--json", file)
		printed, err := jsonschema.UnmarshalJSON(strings.NewReader(out))
		require.NoError(t, err)
		assert.NoError(t, schema.Validate(printed), file)
		printed.(map[string]any)["findings"] = "none"
		assert.Error(t, schema.Validate(printed))
	}
	assert.Equal(t, b.ok("schema"), b.ok("schema", "lab"))
}

func TestPreflight(t *testing.T) {
	testbed.Kernel(t)
	b := newBench(t)
	out := b.ok("preflight")
	for _, want := range []string{"met", "OCI runtime", "control groups", "runc"} {
		assert.Contains(t, out, want)
	}
	file := b.write("x.lab.yaml", "lab: pre\ngroups: {node: {count: 3, memory: 64M}}\nforwards: {f: auto -> node-1:80}\n")
	assert.Contains(t, b.ok("preflight", file), "195 MiB wanted")
	var document struct {
		Needs []struct {
			Name      string
			Met, Must bool
		}
		Facts struct{ Cores int }
	}
	require.NoError(t, json.Unmarshal([]byte(b.ok("preflight", "--json", "--again", file)), &document))
	assert.Positive(t, document.Facts.Cores)
	for _, n := range document.Needs {
		assert.True(t, n.Met || !n.Must, n.Name)
	}
	b.write("x.lab.yaml", "lab: pre\ngroups: {node: {cuont: 3}}\n")
	out, _, code := b.run("preflight", file)
	assert.Equal(t, 1, code)
	assert.Contains(t, out, `did you mean "count"?`)

	// Without a runtime, the exit code is the workstation's.
	empty := b.folder + "/empty"
	require.NoError(t, os.Mkdir(empty, 0o755))
	b.env = append(b.env, "PATH="+empty)
	out, errs, code := b.run("preflight")
	assert.Equal(t, 3, code, errs)
	assert.Contains(t, out, "apt-get install runc")
}

// A run leaves a record: its events while it happens, a report, its number and
// the logs of its steps.
func TestRecord(t *testing.T) {
	testbed.Kernel(t)
	b := newBench(t)
	name := fmt.Sprintf("record-%d", os.Getpid())
	file := b.write("x.lab.yaml", "lab: "+name+"\ngroups: {node: {count: 2, memory: 64M}}\nsteps: {fine: {on: all, run: 'echo was $((3+4))'}, bad: {on: node-2, script: bad.sh}, late: {on: node-2, run: x}}\n")
	b.write("bad.sh", "echo '<the reason>'; exit 5\n")
	t.Cleanup(func() { b.run("teardown", name, "--yes") })
	out, _, code := b.run("provision", file, "--events", "--junit", "report.xml")
	assert.Equal(t, 1, code)
	var got []string
	for line := range strings.Lines(out) {
		var e struct{ Kind, Node, Step, State string }
		require.NoError(t, json.Unmarshal([]byte(line), &e), line)
		got = append(got, strings.Join([]string{e.Kind, e.Node, e.Step, e.State}, " "))
	}
	assert.Equal(t, "run   started", got[0])
	assert.Equal(t, "run   failed", got[len(got)-1])
	for _, want := range []string{"node node-1  creating", "node node-1  ready", "step node-1 fine running", "step node-1 fine done", "step node-2 bad failed"} {
		assert.Contains(t, got, want)
	}
	var suite struct {
		Tests    int `xml:"tests,attr"`
		Failures int `xml:"failures,attr"`
		Skipped  int `xml:"skipped,attr"`
		Cases    []struct {
			Class   string `xml:"classname,attr"`
			Name    string `xml:"name,attr"`
			Failure *struct {
				Message string `xml:"message,attr"`
				Text    string `xml:",chardata"`
			} `xml:"failure"`
		} `xml:"testcase"`
	}
	report, err := os.ReadFile(filepath.Join(b.folder, "report.xml"))
	require.NoError(t, err)
	require.NoError(t, xml.Unmarshal(report, &suite))
	assert.Equal(t, []int{4, 1, 1}, []int{suite.Tests, suite.Failures, suite.Skipped})
	for _, c := range suite.Cases {
		if c.Failure != nil {
			assert.Equal(t, "node-2 bad: exit code 5: <the reason>", c.Class+" "+c.Name+": "+c.Failure.Message+": "+c.Failure.Text)
		}
	}

	b.write("bad.sh", "echo mended\n")
	b.write("x.lab.yaml", "lab: "+name+"\ngroups: {node: {count: 2, memory: 64M}}\nsteps: {fine: {on: all, run: 'echo was $((3+4))'}, bad: {on: node-2, script: bad.sh}}\n")
	assert.Contains(t, b.ok("provision", file, "--events"), `"state":"reused"`)
	runs := b.ok("runs", name)
	assert.Regexp(t, `(?m)^1 .* failed$`, runs)
	assert.Regexp(t, `(?m)^2 .* done$`, runs)
	assert.Contains(t, b.ok("logs", "--lab", name, "node-2", "bad"), "mended")
	assert.Contains(t, b.ok("logs", "--lab", name, "node-2", "bad", "--run", "1"), "<the reason>")
	_, _, code = b.run("logs", "--lab", name, "node-2", "bad", "--run", "7")
	assert.Equal(t, 2, code)
	_, _, code = b.run("provision", file, "--events", "--json")
	assert.Equal(t, 2, code)
}
