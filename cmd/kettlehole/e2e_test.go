package main_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"kettlehole/internal/testbed"
)

// bench runs the real program with a state folder of its own.
type bench struct {
	t      *testing.T
	folder string
	env    []string
	attr   *syscall.SysProcAttr
}

func newBench(t *testing.T) *bench {
	b := &bench{t: t, folder: t.TempDir()}
	b.env = append(os.Environ(), "KETTLEHOLE_HOME="+b.home())
	return b
}

func (b *bench) home() string { return filepath.Join(b.folder, "home") }

func (b *bench) write(name, text string) string {
	path := filepath.Join(b.folder, name)
	require.NoError(b.t, os.WriteFile(path, []byte(text), 0o755))
	return path
}

func (b *bench) command(args ...string) *exec.Cmd {
	cmd := exec.Command(filepath.Join(testbed.Programs(b.t), "kettlehole"), args...)
	cmd.Dir, cmd.Env, cmd.SysProcAttr = b.folder, b.env, b.attr
	return cmd
}

// run gives what the program printed on both streams, and its exit code.
func (b *bench) run(args ...string) (string, string, int) {
	b.t.Helper()
	var out, errs bytes.Buffer
	cmd := b.command(args...)
	cmd.Stdout, cmd.Stderr = &out, &errs
	err := cmd.Run()
	if _, exited := err.(*exec.ExitError); !exited {
		require.NoError(b.t, err)
	}
	assert.NotContains(b.t, out.String()+errs.String(), "\x1b", "no escape codes without a terminal")
	return out.String(), errs.String(), cmd.ProcessState.ExitCode()
}

func (b *bench) ok(args ...string) string {
	b.t.Helper()
	out, errs, code := b.run(args...)
	require.Zero(b.t, code, "%s%s", out, errs)
	return out
}

func TestUse(t *testing.T) {
	b := newBench(t)
	assert.Contains(t, b.ok("--help"), "Available Commands")
	for _, command := range []string{"new", "schema", "preflight", "plan", "rehearse", "provision", "status", "labs", "exec", "shell", "logs", "runs", "images", "draw", "teardown", "demo", "version"} {
		help := b.ok(command, "--help")
		assert.Contains(t, help, "Examples:", command)
		assert.Contains(t, help, "kettlehole "+command, command)
	}
	assert.Contains(t, b.ok("completion", "bash"), "kettlehole")
	assert.Contains(t, b.ok("version"), "kettlehole ")
	assert.Equal(t, "no lab lives on this workstation\n", b.ok("labs"))
	assert.Equal(t, "[]\n", b.ok("labs", "--json"))
	for _, wrong := range [][]string{{"nonsense"}, {"plan", "a", "b"}, {"plan", "--nonsense"}, {"exec", "node-1"}, {"shell"}, {"plan"}, {"plan", "missing.lab.yaml"}, {"provision", "missing.lab.yaml"},
		{"status"}, {"exec", "a-1", "--", "true"}, {"logs", "a-1"}, {"status", "nobody"}} {
		out, errs, code := b.run(wrong...)
		assert.Equal(t, 2, code, "%v: %s%s", wrong, out, errs)
		assert.NotEmpty(t, errs, "%v", wrong)
	}
	_, errs, code := b.run("teardown", "nobody", "--yes")
	assert.Zero(t, code, "what is gone already is no error")
	assert.Contains(t, errs, "nothing to take down")
}

func TestPlan(t *testing.T) {
	b := newBench(t)
	b.write("good.lab.yaml", "lab: good\ngroups: {node: {count: 2}}\n")
	out := b.ok("plan")
	assert.Contains(t, out, "lab good, 2 nodes")
	assert.Contains(t, out, "node-2")
	_, out, _ = strings.Cut(out, "\n") // the first line tells of the memory of this moment
	_, bare, _ := strings.Cut(b.ok(), "\n")
	assert.Equal(t, out, bare, "without a terminal the bare command prints the plan")
	var plan struct {
		Version int
		Plan    struct{ Nodes []struct{ Name string } }
	}
	require.NoError(t, json.Unmarshal([]byte(b.ok("plan", "--json")), &plan))
	assert.Equal(t, 1, plan.Version)
	assert.Len(t, plan.Plan.Nodes, 2)
	wrong := b.write("wrong.lab.yaml", "lab: wrong\ngroups: {node: {cuont: 2}}\n")
	out, _, code := b.run("plan", wrong)
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "wrong.lab.yaml:2:17: error: group \"node\" has no \"cuont\"")
	assert.Contains(t, out, `did you mean "count"?`)
	out, _, code = b.run("plan", "--json", wrong)
	assert.Equal(t, 1, code)
	assert.Contains(t, out, `"meant": "count"`)
	_, errs, code := b.run("plan")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "several lab files here")
}

// The whole example, without a terminal: it must prove what it says.
func TestDemo(t *testing.T) {
	testbed.Kernel(t)
	b := newBench(t)
	out, errs, code := b.run("demo")
	require.Zero(t, code, "%s%s", out, errs)
	for _, want := range []string{"all six nodes are ready", "every node reaches every other", "with one of three members stopped, writes go on",
		"with two of three stopped, writes are refused", "with both back, writes go on", "nothing was left behind", "all held"} {
		assert.Contains(t, out, want)
	}
	assert.NotContains(t, out, "broken")
}

const pair = `
lab: %s
groups:
  pair:
    count: 2
    memory: 64M
    services: {page: {run: python3 -m http.server 8000}}
forwards: {page: auto -> pair-1:8000}
steps:
  hello: {on: all, run: "echo hello from $NODE; touch /root/hello"}
  served: {on: all, start: page, wait: {port: 8000}}
`

func TestCommands(t *testing.T) {
	testbed.Kernel(t)
	b := newBench(t)
	name := fmt.Sprintf("cmd-%d", os.Getpid())
	file := b.write("pair.lab.yaml", fmt.Sprintf(pair, name))
	t.Cleanup(func() { b.run("teardown", name, "--yes") })
	out := b.ok("provision")
	assert.Contains(t, out, "hello done after")
	assert.Contains(t, out, "run 1 done")
	assert.Contains(t, b.ok("provision", file), "hello reused from run 1")

	assert.Contains(t, b.ok("status"), "2 of 2 nodes ready")
	var status struct {
		Nodes    []struct{ Name, State string }
		Forwards []struct{ Listen string }
	}
	require.NoError(t, json.Unmarshal([]byte(b.ok("status", "--json")), &status))
	require.Len(t, status.Nodes, 2)
	assert.Contains(t, b.ok("labs"), "2 of 2")

	assert.Equal(t, "pair-2\n", b.ok("exec", "pair-2", "--", "hostname"))
	assert.Equal(t, "pair-2\n", b.ok("exec", "pair-2", "hostname"))
	_, _, code := b.run("exec", "pair-1", "--", "sh", "-c", "exit 42")
	assert.Equal(t, 42, code)
	_, errs, code := b.run("exec", "pair-1", "--", "no-such-program")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "no-such-program")
	_, errs, code = b.run("exec", "pair-9", "--", "true")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, `pair-9 is more than group "pair" has`)
	cmd := b.command("exec", "pair-1", "--", "tr", "a-z", "A-Z")
	cmd.Stdin = strings.NewReader(strings.Repeat("some input\n", 10_000))
	piped, err := cmd.Output()
	require.NoError(t, err)
	assert.Equal(t, strings.Repeat("SOME INPUT\n", 10_000), string(piped))

	assert.Contains(t, b.ok("logs", "pair-1", "hello"), "hello from pair-1")
	assert.Contains(t, b.ok("logs", "pair-1"), "page\n")
	_, errs, code = b.run("logs", "pair-1", "nothing")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "there are: hello.run1")

	conn, err := net.Dial("tcp", status.Forwards[0].Listen)
	require.NoError(t, err)
	_, err = fmt.Fprint(conn, "GET / HTTP/1.0\r\n\r\n")
	require.NoError(t, err)
	answer := make([]byte, 12)
	_, err = conn.Read(answer)
	require.NoError(t, err)
	assert.Equal(t, "HTTP/1.0 200", string(answer))
	require.NoError(t, conn.Close())

	other := b.write("taken.lab.yaml", fmt.Sprintf("lab: taken\ngroups: {n: {}}\nforwards: {f: %s -> n-1:80}\n", strings.TrimPrefix(status.Forwards[0].Listen, "127.0.0.1:")))
	_, errs, code = b.run("provision", other)
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "is taken by lab \""+name+"\"")

	_, errs, code = b.run("teardown", name)
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "2 nodes with all that is on them")
	assert.Contains(t, b.ok("teardown", name, "--yes"), "nothing was left behind")
	assert.Equal(t, "[]\n", b.ok("labs", "--json"))
	left, err := os.ReadDir(b.home())
	require.NoError(t, err)
	for _, e := range left {
		assert.Contains(t, []string{"images", "keepers", "ledger.db", "ledger.db-wal", "ledger.db-shm"}, e.Name())
	}
}

// The command may be killed in the middle: the run goes on, and the same
// command again shows its end.
func TestCommandIsKilled(t *testing.T) {
	testbed.Kernel(t)
	b := newBench(t)
	name := fmt.Sprintf("killed-%d", os.Getpid())
	file := b.write("x.lab.yaml", "lab: "+name+"\ngroups: {n: {memory: 64M}}\nsteps: {slow: {on: all, run: \"echo ran >> /root/ran; sleep 1\"}}\n")
	t.Cleanup(func() { b.run("teardown", name, "--yes") })
	cmd := b.command("provision", file)
	require.NoError(t, cmd.Start())
	time.Sleep(600 * time.Millisecond)
	require.NoError(t, cmd.Process.Kill())
	_ = cmd.Wait()
	out := b.ok("provision", file)
	assert.Contains(t, out, "done")
	assert.Equal(t, "ran\n", b.ok("exec", "n-1", "--", "cat", "/root/ran"))
}

func TestScriptFails(t *testing.T) {
	testbed.Kernel(t)
	b := newBench(t)
	name := fmt.Sprintf("fails-%d", os.Getpid())
	file := b.write("x.lab.yaml", "lab: "+name+"\ngroups: {n: {memory: 64M}}\nsteps: {bad: {on: all, script: bad.sh}}\n")
	b.write("bad.sh", "#!/bin/sh\necho the last words; printf '\\033[31mred\\007 not text \\377\\n'; exit 9\n")
	t.Cleanup(func() { b.run("teardown", name, "--yes") })
	out, errs, code := b.run("provision", file)
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "bad failed: exit code 9")
	assert.Contains(t, out, "| the last words\n              | red not text \uFFFD\n")
	assert.Contains(t, errs, "mend it and provision again")
	b.write("bad.sh", "#!/no/such/interpreter\n")
	_, errs, code = b.run("provision", file)
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "no such file")
	b.write("bad.sh", "#!/bin/sh\nexit 0\n")
	b.ok("provision", file)
}

func TestWorkstationsFault(t *testing.T) {
	testbed.Kernel(t)
	name := fmt.Sprintf("fault-%d", os.Getpid())
	text := "lab: " + name + "\ngroups: {n: {memory: 64M}}\n"
	t.Run("no runtime", func(t *testing.T) {
		b := newBench(t)
		file := b.write("x.lab.yaml", text)
		b.env = append(b.env, "PATH="+b.folder)
		_, errs, code := b.run("provision", file)
		assert.Equal(t, 3, code)
		assert.Contains(t, errs, "no OCI runtime is installed; on Debian: apt-get install runc")
		assert.Contains(t, b.ok("teardown", name, "--yes"), "nothing was left behind")
	})
	t.Run("no privilege", func(t *testing.T) {
		b := newBench(t)
		file := b.write("x.lab.yaml", text)
		// Another user must be able to reach the program and the folder.
		bin := t.TempDir()
		for _, program := range []string{"kettlehole", "kettlehole-anchor", "kettlehole-init", "kettlehole-files"} {
			data, err := os.ReadFile(filepath.Join(testbed.Programs(t), program))
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(filepath.Join(bin, program), data, 0o755))
		}
		for folder := range map[string]bool{bin: true, filepath.Dir(bin): true, b.folder: true, filepath.Dir(b.folder): true} {
			require.NoError(t, os.Chmod(folder, 0o755))
		}
		require.NoError(t, os.Chown(b.folder, 65534, 65534))
		run := func(args ...string) (string, int) {
			cmd := exec.Command(filepath.Join(bin, "kettlehole"), args...)
			cmd.Dir, cmd.Env = "/", append(b.env, "HOME="+b.folder)
			cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
			out, _ := cmd.CombinedOutput()
			return string(out), cmd.ProcessState.ExitCode()
		}
		out, code := run("provision", file)
		assert.Equal(t, 3, code, out)
		assert.Contains(t, out, "needs root")
		out, code = run("teardown", name, "--yes")
		assert.Zero(t, code, out)
	})
	t.Run("full disk", func(t *testing.T) {
		b := newBench(t)
		file := b.write("x.lab.yaml", text)
		require.NoError(t, os.Mkdir(b.home(), 0o700))
		// In a mount namespace of its own the state folder is a disk of 2 MiB.
		script := fmt.Sprintf(`mount --make-rprivate / && mount -t tmpfs -o size=2m small %[1]s && { %[2]s provision %[3]s; echo "code $?"; %[2]s teardown %[4]s --yes; echo "code $?"; }`,
			b.home(), filepath.Join(testbed.Programs(t), "kettlehole"), file, name)
		cmd := exec.Command("sh", "-c", script)
		cmd.Env = b.env
		cmd.SysProcAttr = &syscall.SysProcAttr{Cloneflags: unix.CLONE_NEWNS}
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
		assert.Contains(t, string(out), "no space left on device; free some space under "+b.home())
		assert.Contains(t, string(out), "code 3")
		assert.Contains(t, string(out), "nothing was left behind\ncode 0")
	})
}
