package main_test

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kettlehole/internal/testbed"
)

// A rehearsal makes nothing, tells what would happen, and refuses what it
// cannot know.
func TestRehearse(t *testing.T) {
	b := newBench(t)
	file := b.write("x.lab.yaml", "lab: rehearsed\ngroups: {node: {count: 2, memory: 900G}}\nforwards: {page: 80 -> node-1:80}\n"+
		"steps: {one: {on: all, run: x}, two: {on: node-2, after: [one], run: x, retry: {times: 1, pause: 1s}}}\n")
	out := b.ok("rehearse", file)
	assert.Contains(t, out, "in all         2.1 s of virtual time", "two steps of a second each, after the nodes")
	assert.Contains(t, out, "guessed        nodes, one, two")
	assert.NoDirExists(t, filepath.Join(b.home(), "labs"))
	assert.Contains(t, b.ok("rehearse", file, "--fail", "two@node-2:1"), "in all         4.1 s")
	assert.Contains(t, b.ok("rehearse", file, "--slow", "one@node-1:5"), "in all         6.1 s")
	out, errs, code := b.run("rehearse", file, "--fail", "two@node-2")
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "failed: it was made to fail, the last of 2 tries")
	assert.Contains(t, errs, "the run would not be done")
	for _, args := range [][]string{{"--fail", "two"}, {"--fail", "two@node-2:0"}, {"--slow", "two@node-2"}, {"--slow", "two@node-2:-1"}, {"--slow", "two@node-2:NaN"}, {"--fail", "two@node-1"}, {"--fail", "none@node-1"}} {
		_, _, code := b.run(append([]string{"rehearse", file}, args...)...)
		assert.Equal(t, 2, code, args)
	}
	var document struct {
		Version int
		Took    float64
		Chain   []map[string]string
		State   struct{ Run struct{ Rehearsed bool } }
	}
	require.NoError(t, json.Unmarshal([]byte(b.ok("rehearse", file, "--json")), &document))
	assert.Equal(t, 1, document.Version)
	assert.InDelta(t, 2.1, document.Took, 0.1)
	assert.Len(t, document.Chain, 2)
	assert.True(t, document.State.Run.Rehearsed)
	b.ok("rehearse", file, "-o", "run.pdf")
	assert.FileExists(t, filepath.Join(b.folder, "run.pdf"))
}

// Runs are drawn, the newest and earlier ones; what is wanted beyond what is
// due is done, and what nobody can mean is refused before anything happens.
func TestWays(t *testing.T) {
	testbed.Kernel(t)
	b := newBench(t)
	name := fmt.Sprintf("ways-%d", os.Getpid())
	file := b.write("x.lab.yaml", "lab: "+name+"\ngroups: {node: {count: 2, memory: 64M}}\n"+
		"steps: {one: {on: all, run: echo one >> /root/ran}, two: {on: node-2, run: 'echo two >> /root/ran; test -e /root/mended'}, three: {on: node-1, after: [two], run: echo three >> /root/ran}}\n")
	t.Cleanup(func() { b.run("teardown", name, "--yes") })
	_, _, code := b.run("provision", file)
	assert.Equal(t, 1, code)
	out := b.ok("provision", file, "--skip", "two@node-2")
	assert.Contains(t, out, "two skipped: it is taken for done")
	assert.Equal(t, "one\nthree\n", b.ok("exec", "--lab", name, "node-1", "--", "cat", "/root/ran"))
	b.ok("provision", file, "--again", "one", "--only", "node-2")
	assert.Equal(t, "one\ntwo\none\n", b.ok("exec", "--lab", name, "node-2", "--", "cat", "/root/ran"))
	b.ok("exec", "--lab", name, "node-2", "--", "touch", "/root/mended")
	b.ok("provision", file, "--from", "two")
	assert.Equal(t, "one\nthree\nthree\n", b.ok("exec", "--lab", name, "node-1", "--", "cat", "/root/ran"))
	for _, args := range [][]string{{"--again", "none"}, {"--from", "none"}, {"--only", "none"}, {"--skip", "one@none-1"}, {"--skip", "none"}} {
		_, errs, code := b.run(append([]string{"provision", file}, args...)...)
		assert.NotZero(t, code, args)
		assert.Contains(t, errs, "none", args)
	}
	b.ok("draw", "lanes", name, "-o", "now.svg")
	b.ok("draw", "lanes", name, "--run", "1", "-o", "first.svg")
	first, err := os.ReadFile(filepath.Join(b.folder, "first.svg"))
	require.NoError(t, err)
	assert.Contains(t, string(first), "failed after")
	assert.Contains(t, string(first), "cannot start: two on node-2 failed")
	_, errs, code := b.run("draw", "lanes", name, "--run", "77")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "no such run")
	assert.Contains(t, b.ok("plan", file), "node-2")
	b.ok("teardown", name, "--yes")
}

// On a machine that cannot hold containers the demo is rehearsed, and says why;
// a person who is not root needs nothing for that.
func TestDemoRehearsed(t *testing.T) {
	testbed.Kernel(t)
	b := newBench(t)
	open, err := os.MkdirTemp("", "rehearsed-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(open) })
	require.NoError(t, os.Chmod(open, 0o755))
	for from, to := range map[string]string{filepath.Join(testbed.Programs(t), "kettlehole"): "bin/kettlehole", filepath.Join(testbed.Root(), "examples"): "examples"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(open, to)), 0o755))
		out, err := exec.Command("cp", "-r", from, filepath.Join(open, to)).CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	cmd := exec.Command(filepath.Join(open, "bin/kettlehole"), "demo")
	cmd.Dir, cmd.Env = open, append(b.env, "KETTLEHOLE_HOME="+filepath.Join(open, "nowhere"))
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
	out, err := cmd.CombinedOutput()
	assert.Error(t, err)
	assert.Equal(t, 3, cmd.ProcessState.ExitCode(), "nothing was proved")
	assert.Contains(t, string(out), "needs root, and this user is not; so this is a rehearsal, and nothing is made")
	assert.Contains(t, string(out), "longest chain")
	assert.NoDirExists(t, filepath.Join(open, "nowhere"))
}

// Layers are listed with who uses them, and removed when nobody does and a
// person agrees.
func TestImages(t *testing.T) {
	testbed.Kernel(t)
	b := newBench(t)
	assert.Contains(t, b.ok("images"), "no layer is kept")
	assert.JSONEq(t, "[]", b.ok("images", "--json"))
	name := fmt.Sprintf("images-%d", os.Getpid())
	file := b.write("x.lab.yaml", "lab: "+name+"\ngroups: {node: {memory: 64M}}\nsteps: {common: {on: all, shared: true, run: 'head -c 300000 /dev/zero > /root/zeros'}}\n")
	t.Cleanup(func() { b.run("teardown", name, "--yes") })
	out := b.ok("provision", file)
	assert.Contains(t, out, "common done after")
	assert.Contains(t, b.ok("images"), "step common of "+name)
	assert.Contains(t, b.ok("images", "--prune", "--yes"), "0 layers removed", "all are in use")
	b.ok("teardown", name, "--yes")
	var layers []struct {
		Digest, Of string
		Size       int64
		Users      []string
	}
	require.NoError(t, json.Unmarshal([]byte(b.ok("images", "--json")), &layers))
	require.Len(t, layers, 3)
	for _, l := range layers {
		assert.Empty(t, l.Users)
		assert.Positive(t, l.Size)
	}
	_, errs, code := b.run("images", "--prune")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "3 layers that no lab uses; say --yes")
	for _, wrong := range [][]string{{"images", "--to", "1G"}, {"images", "--prune", "--to", "much"}, {"images", "x"}} {
		_, _, code := b.run(wrong...)
		assert.Equal(t, 2, code, wrong)
	}
	assert.Contains(t, b.ok("images", "--prune", "--yes"), "3 layers in use just now, or a minute ago, and stay")
	old := time.Now().Add(-time.Hour)
	for _, l := range layers {
		require.NoError(t, os.Chtimes(filepath.Join(b.home(), "images", l.Digest[len("sha256:"):]), old, old))
	}
	assert.Contains(t, b.ok("images", "--prune", "--yes", "--to", "100G"), "0 layers removed")
	assert.Contains(t, b.ok("images", "--prune", "--yes"), "3 layers removed")
	assert.Contains(t, b.ok("images"), "no layer is kept")
	assert.Contains(t, b.ok("provision", file), "common done after", "it is made again")
}
