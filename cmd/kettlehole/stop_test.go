package main_test

import (
	"encoding/json"
	"fmt"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kettlehole/internal/testbed"
)

// A lab is put away and comes back the next day.
func TestStopAndStart(t *testing.T) {
	testbed.Kernel(t)
	b := newBench(t)
	name := fmt.Sprintf("rests-%d", os.Getpid())
	b.write("x.lab.yaml", "lab: "+name+"\ngroups: {n: {count: 2, memory: 64M, services: {page: {run: python3 -m http.server 80}}}}\nforwards: {page: auto -> n-1:80}\n"+
		"steps: {page: {on: all, start: page, run: echo ran >> /root/ran, wait: {port: 80}}, odd: {on: n-2, run: test -e /root/mended}}\n")
	t.Cleanup(func() { b.run("teardown", name, "--yes") })
	for _, verb := range []string{"stop", "start"} {
		_, errs, code := b.run(verb)
		assert.Equal(t, 2, code)
		assert.Contains(t, errs, "none lives on this workstation")
	}
	_, _, code := b.run("provision")
	require.Equal(t, 1, code)
	assert.Contains(t, b.ok("stop"), "lab "+name+" is stopped after ")
	assert.Contains(t, b.ok("stop", name), "is stopped", "once more is no error")
	assert.Contains(t, b.ok("status"), "lab "+name+": stopped, made")
	assert.Contains(t, b.ok("labs"), "stopped")
	_, errs, code := b.run("exec", "n-1", "--", "true")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "kettlehole start brings it back")

	out, errs, code := b.run("start")
	assert.Equal(t, 1, code, "what failed before is due, and fails again")
	assert.Contains(t, out, "page reused from run 1")
	assert.Contains(t, errs, "step odd on n-2: exit code 1")
	b.ok("exec", "n-2", "--", "touch", "/root/mended")
	var state struct {
		Phase string
		Run   struct{ Outcome string }
	}
	require.NoError(t, json.Unmarshal([]byte(b.ok("start", "--json")), &state))
	assert.Equal(t, "done", state.Run.Outcome)
	assert.Contains(t, b.ok("start"), "lab "+name+" runs already: all its 2 nodes are ready")
	require.NoError(t, json.Unmarshal([]byte(b.ok("stop", "--json")), &state))
	assert.Equal(t, "stopped", state.Phase)
	b.ok("start")
	var env map[string]string
	require.NoError(t, json.Unmarshal([]byte(b.ok("env", "--json")), &env))
	page, code := b.client("", "curl", "-s", "-m", "5", "http://"+env["LAB_FORWARD_PAGE"]+"/")
	assert.Zero(t, code, "it answers at once: %s", page)
	assert.Contains(t, b.ok("exec", "all", "--", "cat", "/root/ran"), "2 nodes, exit code 0: n-1..2\n    ran\n")
	assert.Contains(t, b.ok("teardown", "--yes"), "nothing was left behind")
}
