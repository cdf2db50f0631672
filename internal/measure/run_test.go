package measure_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kettlehole/internal/api"
	"kettlehole/internal/testbed"
)

// station is a state folder with the real program.
type station struct {
	t    *testing.T
	home string
}

func (s station) run(args ...string) []byte {
	cmd := exec.Command(filepath.Join(testbed.Programs(s.t), "kettlehole"), args...)
	cmd.Env = append(os.Environ(), "KETTLEHOLE_HOME="+s.home)
	var errs bytes.Buffer
	cmd.Stderr = &errs
	out, err := cmd.Output()
	require.NoError(s.t, err, "%s", errs.String())
	return out
}

func (s station) provision(file string) (state api.State) {
	require.NoError(s.t, json.Unmarshal(s.run("provision", "--json", file), &state))
	return state
}

// TestMeasureSteps: 20 steps that do nothing on each of 50 nodes, from the
// first that begins to the last that ends.
func TestMeasureSteps(t *testing.T) {
	ready(t)
	s := station{t, filepath.Join(t.TempDir(), "home")}
	lab := fmt.Sprintf("steps-%d", os.Getpid())
	var text strings.Builder
	fmt.Fprintf(&text, "lab: %s\ngroups: {node: {count: 50, memory: 32M}}\nsteps:\n", lab)
	for i := range 20 {
		fmt.Fprintf(&text, "  s%d: {on: all, run: 'true'}\n", i)
	}
	file := filepath.Join(t.TempDir(), "x.lab.yaml")
	require.NoError(t, os.WriteFile(file, []byte(text.String()), 0o644))
	var all []time.Duration
	for i := range rounds + 1 {
		state := s.provision(file)
		last := state.Run.Started
		for _, n := range state.Nodes {
			for _, m := range n.Marks {
				if m.State == api.Provisioning && m.At.After(last) {
					last = m.At // the nodes are all there
				}
			}
		}

		if i > 0 {
			all = append(all, state.Run.Ended.Sub(last))
		}
		s.run("teardown", lab, "--yes")
	}
	report("20 empty steps on each of 50 nodes, after the last node is there", "2000 ms", all)
}

// TestMeasureShared: the demo from nothing, without and with its shared layers
// at hand.
func TestMeasureShared(t *testing.T) {
	ready(t)
	var first, second []time.Duration
	for range rounds {
		s := station{t, filepath.Join(t.TempDir(), "home")}
		for _, all := range []*[]time.Duration{&first, &second} {
			state := s.provision(testbed.Demo())
			*all = append(*all, state.Run.Ended.Sub(state.Run.Started))
			s.run("teardown", "avalanche-desk", "--yes")
		}
	}
	report("the demo from nothing", "-", first)
	report("the demo from nothing, its shared layers at hand", "half of that", second)
}

// TestMeasureLoud: sixty nodes that print ten megabytes a second together, and
// the interface looking at one; what keeper and interface take.
func TestMeasureLoud(t *testing.T) {
	ready(t)
	s := station{t, filepath.Join(t.TempDir(), "home")}
	lab := fmt.Sprintf("loud-%d", os.Getpid())
	file := filepath.Join(t.TempDir(), "x.lab.yaml")
	// 170 lines of 1,000 letters each second and node.
	text := fmt.Sprintf("lab: %s\ngroups: {node: {count: 60, memory: 32M}}\nsteps: {loud: {on: all, run: %q}}\n", lab,
		`line=$(printf '%01000d' 7); for s in $(seq 12); do for i in $(seq 170); do echo "$line"; done; sleep 1; done`)
	require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
	tmux := testbed.Tool(t, "tmux")
	socket := filepath.Join(t.TempDir(), "tmux")
	control := func(args ...string) string {
		out, err := exec.Command(tmux, append([]string{"-f", "/dev/null", "-S", socket}, args...)...).CombinedOutput()
		require.NoError(t, err, "%s", out)
		return string(out)
	}
	command := fmt.Sprintf("env KETTLEHOLE_HOME=%s TERM=xterm-256color %s %s", s.home, filepath.Join(testbed.Programs(t), "kettlehole"), file)
	control("new-session", "-d", "-s", "s", "-x", "160", "-y", "42", command)
	defer func() {
		_ = exec.Command(tmux, "-S", socket, "kill-server").Run()
		s.run("teardown", lab, "--yes")
	}()
	time.Sleep(2 * time.Second)
	control("send-keys", "-t", "s", "p")
	time.Sleep(7 * time.Second)
	control("new-session", "-d", "-s", "echo", "-x", "160", "-y", "42", "cat")
	answered := func(session string, key string) time.Duration {
		before := control("capture-pane", "-p", "-t", session)
		began := time.Now()
		control("send-keys", "-t", session, key)
		for control("capture-pane", "-p", "-t", session) == before && time.Since(began) < 5*time.Second {
		}
		return time.Since(began)
	}
	var all, echoes []time.Duration
	for i := range 20 { // both ways by turns, so that each press changes the screen
		all = append(all, answered("s", []string{"Enter", "Escape"}[i%2]))
		echoes = append(echoes, answered("echo", "x"))
		time.Sleep(50 * time.Millisecond)
	}
	report("a key answered, 60 lanes and 10 MB/s of output, seen by tmux", "30 ms", all)
	report("  for comparison: a program that only echoes, seen the same way", "-", echoes)
	pid := strings.TrimSpace(control("display-message", "-p", "-t", "s", "#{pane_pid}"))
	fmt.Printf("%-62s interface %d MB, keeper %d MB   to reach 150 MB together\n", "resident memory meanwhile", resident(t, pid)>>10, keeperKilobytes(t, lab)>>10)
}

// resident gives the kilobytes of a process, or of the largest of its children.
func resident(t *testing.T, pid string) int {
	best := 0
	files, err := filepath.Glob("/proc/[0-9]*/status")
	require.NoError(t, err)
	for _, file := range files {
		text, _ := os.ReadFile(file)
		own, size := strings.Contains(string(text), "\nPid:\t"+pid+"\n") || strings.Contains(string(text), "\nPPid:\t"+pid+"\n"), 0
		for _, line := range strings.Split(string(text), "\n") {
			if rest, found := strings.CutPrefix(line, "VmRSS:"); found {
				size, _ = strconv.Atoi(strings.TrimSuffix(strings.TrimSpace(rest), " kB"))
			}
		}
		if own {
			best = max(best, size)
		}
	}
	return best
}

// keeperKilobytes gives the kilobytes of the keeper of a lab.
func keeperKilobytes(t *testing.T, lab string) int {
	files, err := filepath.Glob("/proc/[0-9]*/cmdline")
	require.NoError(t, err)
	for _, file := range files {
		if text, _ := os.ReadFile(file); strings.HasSuffix(string(text), "\x00keeper\x00"+lab+"\x00") {
			return resident(t, filepath.Base(filepath.Dir(file)))
		}
	}
	return 0
}
