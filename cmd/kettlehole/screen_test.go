package main_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kettlehole/internal/testbed"
)

// screen is the real program in a real terminal, driven by tmux.
type screen struct {
	t      *testing.T
	tmux   string
	socket string
}

func open(t *testing.T, b *bench, width, height int, args ...string) *screen {
	s := &screen{t: t, tmux: testbed.Tool(t, "tmux"), socket: filepath.Join(b.folder, "tmux")}
	command := filepath.Join(testbed.Programs(t), "kettlehole")
	for _, arg := range args {
		command += " '" + arg + "'"
	}
	cmd := exec.Command(s.tmux, "-f", "/dev/null", "-S", s.socket, "new-session", "-d", "-s", "s", "-x", fmt.Sprint(width), "-y", fmt.Sprint(height), command)
	cmd.Dir, cmd.Env = b.folder, append(b.env, "TERM=xterm-256color", "EDITOR=true")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	t.Cleanup(func() { _ = exec.Command(s.tmux, "-S", s.socket, "kill-server").Run() })
	return s
}

func (s *screen) keys(keys ...string) {
	s.t.Helper()
	for _, key := range keys {
		require.NoError(s.t, exec.Command(s.tmux, "-S", s.socket, "send-keys", "-t", "s", key).Run())
		time.Sleep(50 * time.Millisecond)
		if key == "Escape" {
			time.Sleep(450 * time.Millisecond) // with what comes soon after, it would be another key
		}
	}
}

func (s *screen) capture() string {
	out, err := exec.Command(s.tmux, "-S", s.socket, "capture-pane", "-p", "-t", "s").CombinedOutput()
	if err != nil {
		return "gone: " + string(out)
	}
	return string(out)
}

// until waits until the screen holds all of the words.
func (s *screen) until(words ...string) string {
	s.t.Helper()
	last := ""
	held := func() bool {
		last = s.capture()
		for _, w := range words {
			if !strings.Contains(last, w) {
				return false
			}
		}
		return true
	}
	deadline := time.Now().Add(30 * time.Second)
	for !held() {
		if time.Now().After(deadline) {
			s.t.Fatalf("the screen never showed %q:\n%s", words, last)
		}
		time.Sleep(20 * time.Millisecond)
	}
	return last
}

// without waits until the words are gone from the screen.
func (s *screen) without(words string) {
	s.t.Helper()
	require.Eventually(s.t, func() bool { return !strings.Contains(s.capture(), words) }, 30*time.Second, 20*time.Millisecond)
}

// One person's way through the whole: open, provision, see six nodes ready,
// a shell, leave and come back, tear down, audit clean.
func TestScreen(t *testing.T) {
	testbed.Kernel(t)
	b := newBench(t)
	t.Cleanup(func() { b.run("teardown", "avalanche-desk", "--yes") })
	s := open(t, b, 160, 42, "demo")
	s.until("avalanche-desk", "not provisioned", "10.61.0.0/24", "council-3", "none; it can be provisioned", "p provision")
	s.keys("p")
	s.until("6 of 6 ready", "run 1 done after")
	s.keys("4", "Down")
	s.until("council-2.avalanche-desk.internal", "running for", "a shell beside", "front ledger 3 of 3 healthy")
	s.keys("!")
	s.until("council-2:~#")
	s.keys("hostname; echo $ADDRESS", "Enter")
	s.until("\ncouncil-2\n10.61.0.12\n")
	s.keys("exit", "Enter")
	s.until("6 of 6 ready", "all keys")
	s.keys("5")
	s.until("things are on this workstation", "127.0.0.1:8080")
	s.keys("?")
	s.until("in ledger", "everywhere")
	s.keys("?", "1")
	s.until("avalanche-desk", "6 of 6", "127.0.0.1:8080 door")

	// Leaving leaves the lab alive; coming back finds it.
	s.keys("q")
	require.Eventually(t, func() bool { return strings.HasPrefix(s.capture(), "gone") }, 5*time.Second, 20*time.Millisecond)
	assert.Contains(t, b.ok("status"), "6 of 6 nodes ready")
	s = open(t, b, 80, 24, "demo")
	s.until("6 of 6 ready", "valley")
	s.keys("4")
	s.until("council   3 of 3 ready", "addresses")
	out, err := exec.Command(s.tmux, "-S", s.socket, "resize-window", "-t", "s", "-x", "200", "-y", "60").CombinedOutput()
	require.NoError(t, err, "%s", out)
	s.until("council-1.avalanche-desk.internal", "ssh council-1.avalanche-desk")
	s.keys("t")
	s.until("Take down avalanche-desk?", "6 nodes with all that is on them, 2 networks and 2 forwards")
	s.keys("n")
	s.until("nothing was taken away", "6 of 6 ready")
	s.keys("S")
	s.until("Stop avalanche-desk?", "All programs on its 6 nodes end.")
	s.keys("n")
	s.until("nothing was stopped", "6 of 6 ready")
	s.keys("S", "y")
	s.until("▢ stopped", "avalanche-desk is stopped; S brings it back")
	s.keys("1")
	s.until("S start it")
	s.keys("4", "S")
	s.until("6 of 6 ready", "run 2 done")
	s.keys("t", "y")
	s.until("The workstation is as it was.", "gone without a trace")
	s.keys("q")
	assert.Equal(t, "no lab lives on this workstation\n", b.ok("labs"))
}

// A step fails, is mended, and the run goes on from the screen.
func TestScreenGoesOn(t *testing.T) {
	testbed.Kernel(t)
	b := newBench(t)
	name := fmt.Sprintf("goes-on-%d", os.Getpid())
	file := b.write("x.lab.yaml", "lab: "+name+"\ngroups: {n: {count: 2, memory: 64M}}\nsteps: {fine: {on: all, run: echo fine}, bad: {on: n-2, script: bad.sh}}\n")
	b.write("bad.sh", "echo the reason; exit 5\n")
	t.Cleanup(func() { b.run("teardown", name, "--yes") })
	s := open(t, b, 160, 42, file)
	s.until("not provisioned")
	s.keys("p")
	s.until("n-2  bad  failed after", "exit code 5", "the reason", "go on: only what is due runs", "edit bad.sh")
	b.write("bad.sh", "echo mended\n")
	s.keys("g")
	s.until("2 of 2 ready", "run 2 done", "mended", "2 of them reused")
	// A broken file is told at once, in its place, and mended the same way.
	s.keys("2")
	s.until("none; it can be provisioned")
	b.write("x.lab.yaml", "lab: "+name+"\ngroups: {n: {cuont: 2}}\n")
	s.until("1 error", "line 2", "cuont")
	b.write("x.lab.yaml", "lab: "+name+"\ngroups: {n: {count: 2, memory: 64M}}\n")
	s.until("it stays as it is")
	// What was told of the teardown stays, though runs were asked for before.
	s.keys("t", "y")
	s.until("The workstation is as it was.")
	time.Sleep(time.Second)
	s.until("The workstation is as it was.", "gone")
	s.keys("q")
	assert.Equal(t, "no lab lives on this workstation\n", b.ok("labs"))
}

// A finding is opened in the editor at its place, and a file that anybody
// saves is read again at once.
func TestScreenFindings(t *testing.T) {
	b := newBench(t)
	file := b.write("x.lab.yaml", "lab: findings\ngroups:\n  council: {count: 4, quorum: true}\n  gate: {cuont: 2, memory: lots}\n")
	editor := b.write("editor.sh", "#!/bin/sh\necho \"$@\" > \"$(dirname \"$0\")/asked\"\nsed -i 's/cuont/count/' \"$2\"\n")
	b.env = append(b.env, "VISUAL="+editor)
	s := open(t, b, 160, 42, file)
	s.until("2 errors, 1 caution", "line 4", "mean \"count\"?", "4 voting members bear the loss of 1", "open the file there")
	s.keys("Enter")
	s.until("1 error, 1 caution", "memory: \"lots\" is not a size")
	asked, err := os.ReadFile(filepath.Join(b.folder, "asked"))
	require.NoError(t, err)
	assert.Equal(t, "+4 "+file+"\n", string(asked))
	b.write("x.lab.yaml", "lab: findings\ngroups:\n  council: {count: 3, quorum: true}\n  gate: {count: 2}\nsteps: {a: {on: all, script: a.sh}}\n")
	s.until("1 error", "the script \"a.sh\" cannot be read")
	// A new file in the place of the old one, as many editors save.
	b.write("half", "echo hello\n")
	require.NoError(t, os.Rename(filepath.Join(b.folder, "half"), filepath.Join(b.folder, "a.sh")))
	s.until("none; it can be provisioned", "council-3")
	s.keys("q")
}

// A step fails; its script is edited from the view and the run goes on to its
// end; the run before is still there to look at, and a rehearsal of the next.
func TestScreenFailEditGoOn(t *testing.T) {
	testbed.Kernel(t)
	b := newBench(t)
	name := fmt.Sprintf("mend-%d", os.Getpid())
	b.write("x.lab.yaml", "lab: "+name+"\ngroups: {node: {count: 2, memory: 64M}}\nsteps: {fine: {on: all, run: echo fine}, breaks: {on: node-2, script: breaks.sh}, last: {on: all, after: [breaks], run: echo last}}\n")
	b.write("breaks.sh", "echo looking for the mended file\necho error: it is broken\nexit 3\n")
	b.env = append(b.env, "VISUAL="+b.write("mend.sh", "#!/bin/sh\nprintf 'echo mended by %s\\n' hand > \"$2\"\n"))
	t.Cleanup(func() { b.run("teardown", name, "--yes") })
	s := open(t, b, 160, 42, "x.lab.yaml")
	s.until("not provisioned", "longest chain")
	s.keys("p")
	s.until("run 1 failed", "node-2  breaks  failed", "error: it is broken", "edit breaks.sh, then go on", "cannot start: breaks on node-2 failed")
	s.keys("/", "m", "e", "n", "d", "Enter")
	s.until("1 of 1 lines")
	s.keys("Escape", "e")
	s.until("Go on with the run?")
	s.keys("y")
	s.until("2 of 2 ready", "run 2 done")
	s.keys("b")
	s.until("node-1  last")
	s.keys("Escape", "[")
	s.until("run 1 failed after", "error: it is broken")
	s.keys("]", "r")
	s.until("rehearsed: done after", "nothing was made", "This is a rehearsal")
	s.keys("Escape", "q")
	require.Eventually(t, func() bool { return strings.HasPrefix(s.capture(), "gone") }, 5*time.Second, 20*time.Millisecond)
	assert.Contains(t, b.ok("logs", "--lab", name, "node-2", "breaks"), "mended by hand")
}

// A secret that a script prints in every way is in no file of ours, no event,
// no drawing and on no screen.
func TestSecretOnNoScreen(t *testing.T) {
	testbed.Kernel(t)
	b := newBench(t)
	name := fmt.Sprintf("secret-%d", os.Getpid())
	b.write("x.lab.yaml", "lab: "+name+`
groups: {node: {memory: 64M}}
steps:
  gives: {on: all, run: 'word=pass-$((4000 + 711))-word; echo "word=$word" >> $GIVES; echo $word', gives: {word: secret}}
  tells: {on: all, takes: [word], run: 'echo "$word" >&2; printf %s "$word" | base64; printf %s pass-4711; sleep 0.2; printf %s -word; echo; echo "error: $word"; exit 4'}
`)
	const secret, encoded = "pass-4711-word", "cGFzcy00NzExLXdvcmQ"
	t.Cleanup(func() { b.run("teardown", name, "--yes") })
	out, errs, code := b.run("provision", "x.lab.yaml", "--events", "--junit", "report.xml")
	assert.Equal(t, 1, code)
	b.ok("draw", "lanes", name, "-o", "run.svg")
	b.ok("draw", "lanes", name, "--run", "1", "-o", "run.pdf")
	s := open(t, b, 160, 42, "x.lab.yaml")
	s.until("node-1 ✕")
	s.keys("3", "b")
	shown := s.until("node-1  tells  failed", "error: ")
	s.keys("b")
	shown += s.until("node-1  tells  failed", "error: ") + s.capture()
	s.keys("q")
	texts := map[string]string{"events": out, "errors": errs, "screen": shown, "log": b.ok("logs", "--lab", name, "node-1", "tells"), "status": b.ok("status", name, "--json")}
	searched := 0
	require.NoError(t, filepath.WalkDir(b.folder, func(path string, e os.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() || strings.Contains(path, "/upper/") || strings.Contains(path, "/images/") {
			return err // a node's own disk is where the script put it
		}
		text, err := os.ReadFile(path)
		texts[path] = string(text)
		searched++
		return err
	}))
	assert.Greater(t, searched, 8)
	for where, text := range texts {
		assert.False(t, strings.Contains(text, secret) || strings.Contains(text, encoded), "the secret stands in %s", where)
	}
	assert.Contains(t, texts["log"], "error: ••••••••")
}

// What a person does with nodes that live: one command on several with the
// answers compared, a shell beside the list, forwards added, written and
// removed.
func TestScreenReach(t *testing.T) {
	testbed.Kernel(t)
	b := newBench(t)
	name := fmt.Sprintf("seen-%d", os.Getpid())
	file := b.write("x.lab.yaml", "lab: "+name+"\ngroups: {web: {count: 5, memory: 64M, services: {page: {run: python3 -m http.server 80}}}}\nsteps: {page: {on: all, start: page, wait: {port: 80}}}\n")
	t.Cleanup(func() { b.run("teardown", name, "--yes") })
	b.ok("provision")
	s := open(t, b, 160, 42, "x.lab.yaml")
	s.until("5 of 5 ready")
	s.keys("4", "Space", "Space", "Space", "r")
	s.until("run on web-1..3:", "Enter does it")
	s.keys("x", "BSpace", "e", "c", "h", "o", "Space", "s", "a", "m", "e", "Enter")
	s.until("echo same", "on 3 nodes", "all said the same", "web-1..3", "exit code 0")
	s.keys("*", "r")
	s.until("run on web-1..5:")
	s.keys("[ $NODE = web-4 ] && echo more; hostname | wc -l; exit 0", "Enter")
	s.until("2 different answers", "web-1..3, web-5", "+ more")
	s.keys("r", "Up")
	s.until("run on web-1..5: [ $NODE = web-4 ]")
	s.keys("Up")
	s.until("run on web-1..5: echo same")
	s.keys("Escape")
	s.without("Enter does it")
	s.keys("Escape")
	s.until("addresses", "a shell beside")
	s.keys("*")

	s.keys("s")
	s.until("a shell on it", "#")
	s.keys("hostname; stty size; q=1", "Enter")
	s.until("36 99")
	s.keys("exit", "Enter")
	s.until("the shell on web-4 ended")
	s.keys("s")
	s.until("a shell on it")
	s.keys("C-]")
	s.until("addresses")

	s.keys("f", "8", "0", "Enter")
	s.until("leads to web-4:80", "added by hand")
	s.keys("f", "9", "9", "9", "9", "9", "Enter")
	s.until("ports go from 1 to 65535")
	s.keys("W")
	s.until("write into the lab file: web-4-80")
	s.keys("Enter")
	s.until("the lab file has it now")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Contains(t, string(text), "forwards:\n  web-4-80: auto -> web-4:80\n")
	s.keys("f", "8", "1", "Enter")
	s.until("web-4-81")
	s.keys("d")
	s.until("remove forward: web-4-8")
	s.keys("C-u")
	for _, c := range "web-4-81" {
		s.keys(string(c))
	}
	s.keys("Enter")
	s.until("forward web-4-81 is gone")
	s.keys("q")
}
