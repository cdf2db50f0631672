package keeper_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"kettlehole/internal/agent"
	"kettlehole/internal/api"
	"kettlehole/internal/client"
	"kettlehole/internal/clock"
	"kettlehole/internal/home"
	"kettlehole/internal/keeper"
	"kettlehole/internal/ledger"
	"kettlehole/internal/rehearsal"
	"kettlehole/internal/schedule"
	"kettlehole/internal/testbed"
)

// keeperRole makes this test program a keeper, for the lab named after it.
const (
	keeperRole   = "work-as-keeper"
	killVariable = "KETTLEHOLE_TEST_KILL" // a file that says at which write the keeper kills itself, once
	binVariable  = "KETTLEHOLE_TEST_KEEPER_BIN"
)

func TestMain(m *testing.M) {
	if len(os.Args) == 3 && os.Args[1] == keeperRole {
		os.Exit(work(os.Args[2]))
	}
	os.Exit(m.Run())
}

func work(lab string) int {
	state, err := home.Default()
	if err != nil {
		return 1
	}
	bin := os.Getenv(binVariable)
	err = keeper.Serve(context.Background(), keeper.Options{Home: state, Lab: lab, Clock: clock.Real{}, Log: slog.New(slog.NewTextHandler(os.Stderr, nil)),
		Anchor: filepath.Join(bin, "kettlehole-anchor"), Init: filepath.Join(bin, "kettlehole-init"), Files: filepath.Join(bin, "kettlehole-files"), Hook: killer(os.Getenv(killVariable))})
	if err != nil && !errors.Is(err, keeper.ErrBusy) {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	return 0
}

// killer gives a hook that kills this process at the write that the file
// names: "7 after" is the seventh, once it is durable.
func killer(file string) ledger.Hook {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil
	}
	number, when, _ := strings.Cut(strings.TrimSpace(string(text)), " ")
	at, _ := strconv.Atoi(number)
	return func(n int, committed bool) {
		if n == at && committed == (when == "after") {
			_ = os.Remove(file)
			_ = unix.Kill(os.Getpid(), unix.SIGKILL)
			select {} // nothing more is done meanwhile
		}
	}
}

type bench struct {
	client.Station
	t    *testing.T
	kill string // the file
	file string // the lab file
	name string // the lab
	ctx  context.Context
}

var labs sync.Mutex // guards counter
var counter int

func newBench(t *testing.T, text string) *bench {
	testbed.Kernel(t)
	labs.Lock()
	counter++
	b := &bench{t: t, name: fmt.Sprintf("keep-%d-%d", os.Getpid(), counter), ctx: t.Context()}
	labs.Unlock()
	folder := t.TempDir()
	b.kill = filepath.Join(folder, "kill")
	t.Setenv(killVariable, b.kill)
	t.Setenv(binVariable, testbed.Programs(t))
	b.Station = client.Station{Home: home.Home(filepath.Join(folder, "home")), Keeper: []string{os.Args[0], keeperRole}}
	b.file = filepath.Join(folder, "x.lab.yaml")
	b.write(text)
	t.Cleanup(func() {
		// Whatever the test did, nothing of its lab may stay.
		_ = os.Remove(b.kill)
		b.ctx = context.Background()
		if b.LivingPlan(b.name) != nil {
			b.teardown()
		}
	})
	return b
}

func (b *bench) write(text string) {
	require.NoError(b.t, os.WriteFile(b.file, []byte("lab: "+b.name+"\n"+text), 0o644))
}

// script writes a script beside the lab file.
func (b *bench) script(name, text string) {
	require.NoError(b.t, os.WriteFile(filepath.Join(filepath.Dir(b.file), name), []byte(text), 0o755))
}

func (b *bench) killAt(n int, when string) {
	require.NoError(b.t, os.WriteFile(b.kill, []byte(fmt.Sprintf("%d %s", n, when)), 0o600))
}

// tryProvision provisions once and follows to the end of the run.
func (b *bench) tryProvision() (last api.State, err error) {
	lab := b.Open(b.name)
	if err := lab.Provision(b.ctx, api.Wanted{File: b.file}); err != nil {
		return last, err
	}
	err = lab.Follow(b.ctx, func(s api.State) bool { last = s; return s.Run.Outcome == "" })
	return last, err
}

// provision provisions until it ends, as often as the keeper is killed.
func (b *bench) provision() api.State {
	b.t.Helper()
	for range 10 {
		state, err := b.tryProvision()
		var problem *client.Problem
		if err == nil {
			return state
		}
		require.False(b.t, errors.As(err, &problem), "%v", err)
	}
	b.t.Fatal("provisioning does not come to an end")
	return api.State{}
}

func (b *bench) done() api.State {
	b.t.Helper()
	s := b.provision()
	require.Equal(b.t, api.OutcomeDone, s.Run.Outcome, "%s\n%s", s.Error, b.keeperLog())
	for _, n := range s.Nodes {
		require.Equal(b.t, api.Ready, n.State, "%s: %s", n.Name, n.Reason)
	}
	return s
}

func (b *bench) keeperLog() string {
	text, _ := os.ReadFile(b.Home.Keeper(b.name, "log"))
	return string(text)
}

// teardown takes the lab down, as often as the keeper is killed, and sees that
// nothing is left.
func (b *bench) teardown() {
	b.t.Helper()
	var last api.State
	for range 10 {
		lab := b.Open(b.name)
		err := lab.Teardown(b.ctx)
		if err == nil {
			_ = lab.Follow(b.ctx, func(s api.State) bool { last = s; return s.Phase == api.PhaseLeaving })
		}
		if last.Phase == api.PhaseGone || b.LivingPlan(b.name) == nil {
			break
		}
	}
	require.Nil(b.t, b.LivingPlan(b.name), "%s\n%s", last.Error, b.keeperLog())
	if last.Audit != nil {
		require.True(b.t, last.Audit.Clean(), "%v", last.Audit.Left())
	}
	require.NoDirExists(b.t, b.Home.Lab(b.name))
	id := b.Home.ID(b.name)
	groups, err := filepath.Glob("/sys/fs/cgroup/*/kettlehole-" + id)
	require.NoError(b.t, err)
	require.Empty(b.t, groups)
	require.Eventually(b.t, func() bool { return len(marked(id)) == 0 }, 5*time.Second, 10*time.Millisecond, "processes are left: %v", marked(id))
	require.Eventually(b.t, func() bool {
		require.NoError(b.t, b.Sweep(b.ctx))
		left, err := os.ReadDir(b.Home.Keepers())
		return err == nil && len(left) == 0
	}, 10*time.Second, 10*time.Millisecond, "the keeper left files behind")
}

// marked lists the processes that bear the lab's mark.
func marked(id string) (pids []string) {
	files, _ := filepath.Glob("/proc/[0-9]*/environ")
	for _, file := range files {
		env, _ := os.ReadFile(file)
		if strings.Contains(string(env), "KETTLEHOLE_LAB="+id+"\x00") {
			pids = append(pids, file)
		}
	}
	return pids
}

func (b *bench) sh(node, script string) string {
	b.t.Helper()
	out, code, err := b.Open(b.name).Agent(node).Run(b.ctx, 1<<20, "sh", "-c", script)
	require.NoError(b.t, err)
	require.Zero(b.t, code, out)
	return strings.TrimSpace(out)
}

const small = `
groups:
  pair:
    count: 2
    memory: 64M
    services: {beat: {run: sleep 600}}
forwards: {way: auto -> pair-1:8000}
steps:
  first: {on: pair-1, run: "echo first >> /root/ran; echo word=secret-word-$((4000 + 711)) >> $GIVES", gives: {word: secret}}
  second: {on: pair-2, takes: [word], run: "echo second >> /root/ran; echo $word > /root/word", start: beat, wait: {file: /root/word}}
`

// The keeper is killed before and after each of its writes to the ledger, in
// provision; the same command again goes on, no script that was done runs a
// second time, and the teardown leaves nothing.
func TestKilledAtEveryEntryOfProvision(t *testing.T) {
	b := newBench(t, small)
	killed := 0
	for n := 1; ; n++ {
		for _, when := range []string{"before", "after"} {
			b.killAt(n, when)
			state := b.done()
			if _, err := os.Stat(b.kill); err == nil {
				require.Greater(t, n, 15, "the keeper was never killed")
				b.teardown()
				t.Logf("killed %d times at %d writes", killed, n-1)
				return
			}
			killed++
			ran := b.sh("pair-1", "cat /root/ran") + " " + b.sh("pair-2", "cat /root/ran")
			for _, word := range []string{"first", "second"} {
				// A script whose end was not recorded yet may be found as a job of
				// the node; either way it ran once.
				assert.Equal(t, 1, strings.Count(ran, word), "write %d %s: %q", n, when, ran)
			}
			assert.Equal(t, "secret-word-4711", b.sh("pair-2", "cat /root/word"))
			require.Len(t, state.Forwards, 1)
			b.teardown()
		}
	}
}

func TestKilledAtEveryEntryOfTeardown(t *testing.T) {
	b := newBench(t, small)
	for n := 1; ; n++ {
		for _, when := range []string{"before", "after"} {
			b.done()
			// A fresh keeper counts its writes from the teardown on.
			b.killKeeper()
			b.killAt(n, when)
			b.teardown()
			if _, err := os.Stat(b.kill); err == nil {
				require.Greater(t, n, 6, "the keeper was never killed")
				t.Logf("%d writes", n-1)
				return
			}
		}
	}
}

// killKeeper kills the lab's keeper, and any that is just giving way to it.
func (b *bench) killKeeper() {
	b.t.Helper()
	require.NotEmpty(b.t, keepersOf(b))
	for _, pid := range keepersOf(b) {
		if err := unix.Kill(pid, unix.SIGKILL); err != nil {
			require.ErrorIs(b.t, err, unix.ESRCH)
		}
	}
	require.Eventually(b.t, func() bool { return len(keepersOf(b)) == 0 }, 5*time.Second, time.Millisecond)
}

// keepersOf finds the processes that work as the lab's keeper.
func keepersOf(b *bench) (pids []int) {
	files, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, file := range files {
		text, _ := os.ReadFile(file)
		if strings.HasSuffix(string(text), "\x00"+keeperRole+"\x00"+b.name+"\x00") {
			pid, _ := strconv.Atoi(filepath.Base(filepath.Dir(file)))
			pids = append(pids, pid)
		}
	}
	return pids
}

// A keeper that is killed does no harm: nodes go on, the next question starts
// another one, which finds all and opens the forwards.
func TestTakesOver(t *testing.T) {
	b := newBench(t, small)
	before := b.done()
	boot := b.sh("pair-1", "stat -c %i%Y /proc/1/ns/net")
	b.killKeeper()
	began := time.Now()
	state, err := b.Open(b.name).State(b.ctx)
	require.NoError(t, err)
	t.Logf("taken over after %v", time.Since(began))
	assert.Equal(t, boot, b.sh("pair-1", "stat -c %i%Y /proc/1/ns/net"))
	assert.Eventually(t, func() bool {
		state, err = b.Open(b.name).State(b.ctx)
		ready := 0
		for _, n := range state.Nodes {
			if n.State == api.Ready {
				ready++
			}
		}
		return err == nil && ready == 2 && len(state.Forwards) == 1 && state.Forwards[0].Reason == "" && len(state.Nodes[1].Services) == 1 && state.Nodes[1].Services[0].State == "running"
	}, 5*time.Second, 10*time.Millisecond)
	assert.Equal(t, before.Forwards[0].Listen, state.Forwards[0].Listen)
	again := b.done()
	for _, c := range again.Cells {
		assert.Equal(t, api.Reused, c.State)
	}
}

func TestFailsAndGoesOn(t *testing.T) {
	b := newBench(t, `
groups: {node: {count: 2, memory: 64M}}
steps:
  fine: {on: all, run: echo fine >> /root/ran}
  breaks: {on: node-1, script: breaks.sh}
  later: {on: node-2, after: [breaks], run: echo later >> /root/ran}
`)
	b.script("breaks.sh", "echo about to fail; echo the reason >&2; exit 7\n")
	s := b.provision()
	require.Equal(t, api.OutcomeFailed, s.Run.Outcome)
	find := func(step, node string) api.Cell {
		for _, c := range s.Cells {
			if c.Step == step && c.Node == node {
				return c
			}
		}
		t.Fatalf("no %s on %s", step, node)
		return api.Cell{}
	}
	broken := find("breaks", "node-1")
	assert.Equal(t, api.Failed, broken.State)
	assert.Equal(t, 7, broken.Exit)
	assert.Equal(t, "about to fail\nthe reason", broken.Tail)
	assert.Equal(t, api.Done, find("fine", "node-2").State, "other lanes go on")
	assert.Equal(t, "breaks on node-1 failed", find("later", "node-2").Reason)
	b.script("breaks.sh", "echo mended >> /root/ran\n")
	s = b.done()
	assert.Equal(t, 2, s.Run.N)
	assert.Equal(t, api.Reused, find("fine", "node-1").State)
	assert.Equal(t, api.Reused, find("fine", "node-2").State)
	assert.Equal(t, "fine\nmended", b.sh("node-1", "cat /root/ran"))
	assert.Equal(t, "fine\nlater", b.sh("node-2", "cat /root/ran"))
}

// Nodes with IPv6, alone or beside IPv4, reach one another by name and by
// address, are waited for, and are reached from the workstation.
func TestSix(t *testing.T) {
	b := newBench(t, `
networks: {valley: {subnet: [auto, "fd61::/64"]}, ridge: {subnet: "fd62::/64"}}
groups:
  both: {memory: 64M, networks: {valley: .11, ridge: .11}, services: {page: {run: python3 -m http.server --bind "$ADDRESS6" 8000}}}
  six: {memory: 64M, networks: {ridge: .21}, services: {page: {run: python3 -m http.server --bind "$ADDRESS" 8000}}}
  four: {memory: 64M, networks: {valley: .31}}
forwards: {way: auto -> six-1:8000, other: auto -> both-1:8000}
steps:
  serve: {on: "both, six", start: page, wait: {port: 8000, within: 30s}}
  asks: {on: four, after: [serve], run: 'curl -sfg "http://[$ADDRESSES6_BOTH]:8000/" >/dev/null; curl -6 -sf http://both-1:8000/ > /dev/null'}
  answers: {on: both, after: [serve], run: "true", wait: {http: "http://six-1:8000/", within: 30s}}
`)
	s := b.done()
	times, err := b.Open(b.name).Agent("both-1").Reach(b.ctx, []string{"fd62::21", "fd61::31", s.Plan.Nodes[2].Address().String(), "fd61::99"})
	require.NoError(t, err)
	for _, address := range []string{"fd62::21", "fd61::31", s.Plan.Nodes[2].Address().String()} {
		assert.Positive(t, times[address], address)
	}
	assert.EqualValues(t, -1, times["fd61::99"], "nobody has that address")
	assert.Len(t, times, 4)
	for _, f := range s.Forwards {
		response, err := http.Get("http://" + f.Listen.String() + "/")
		require.NoError(t, err)
		require.NoError(t, response.Body.Close())
		assert.Equal(t, http.StatusOK, response.StatusCode, f.Name)
	}
	b.teardown()
}

// What a run took is expected of the next one, also of another lab; a picture
// of each run stays; the rehearsal starts things in the order of the real run;
// what a person wants beyond what is due is done once, even if the keeper is
// killed meanwhile.
func TestTimesPicturesAndWays(t *testing.T) {
	text := `
groups: {node: {count: 2, memory: 64M}}
steps:
  first: {on: all, run: "sleep 0.4; echo first >> /root/ran"}
  second: {on: node-1, run: "sleep 0.4; echo second >> /root/ran"}
  third: {on: node-2, after: [second], run: "echo third >> /root/ran"}
`
	b := newBench(t, text)
	s := b.done()
	assert.Equal(t, "first on node-1, second on node-1, third on node-2", chain(s), "the longest chain")
	times, err := b.Times()
	require.NoError(t, err)
	g, _ := schedule.New(s.Plan)
	r, err := rehearsal.Rehearse(rehearsal.Request{Plan: s.Plan, Graph: g, Times: times, Start: s.Run.Started})
	require.NoError(t, err)
	assert.Empty(t, r.Guessed)
	assert.InDelta(t, s.Run.Ended.Sub(s.Run.Started).Seconds(), r.Took.Seconds(), 0.6)
	assert.Equal(t, begins(s), begins(r.State), "rehearsed in the order of the real run")

	// Again from the second step on, the keeper killed in the middle.
	b.killKeeper()
	b.killAt(12, "after")
	lab := b.Open(b.name)
	wanted := api.Wanted{File: b.file, Ways: api.Ways{From: "second"}}
	_ = lab.Provision(b.ctx, wanted) // the keeper may be gone before it answers
	expected := false
	for range 3 {
		if lab.Follow(b.ctx, func(now api.State) bool {
			s, expected = now, expected || !now.Run.Expected.IsZero() && now.Run.Guessed == 0
			return s.Run.N < 2 || s.Run.Outcome == ""
		}) == nil {
			break
		}
	}
	require.Equal(t, api.OutcomeDone, s.Run.Outcome, s.Error)
	assert.NoFileExists(t, b.kill, "it was killed")
	assert.True(t, expected, "its end was foreseen")
	assert.Equal(t, "first\nsecond\nsecond", b.sh("node-1", "cat /root/ran"))
	assert.Equal(t, "first\nthird\nthird", b.sh("node-2", "cat /root/ran"))
	first, err := b.Picture(b.ctx, b.name, 1)
	require.NoError(t, err)
	assert.Equal(t, 1, first.Run.N)
	assert.Len(t, first.Cells, 4)
	assert.NotEmpty(t, first.Nodes[0].Marks)
	_, err = b.Picture(b.ctx, b.name, 3)
	assert.ErrorIs(t, err, ledger.ErrNoRun)
	b.teardown()
	after, err := b.Times()
	require.NoError(t, err)
	assert.NotEmpty(t, after, "times outlive the lab")
}

func chain(s api.State) string {
	var all []string
	for _, c := range s.Run.Chain {
		all = append(all, c.String())
	}
	return strings.Join(all, ", ")
}

// begins lists the cells in the order in which they began, those of one step
// by their nodes.
func begins(s api.State) []string {
	cells := slices.Clone(s.Cells)
	slices.SortFunc(cells, func(a, b api.Cell) int {
		if a.Step == b.Step {
			return strings.Compare(a.Node, b.Node)
		}
		return a.Started.Compare(b.Started)
	})
	var all []string
	for _, c := range cells {
		all = append(all, c.Step+" on "+c.Node)
	}
	return all
}

func TestWaitsWithReason(t *testing.T) {
	b := newBench(t, `
groups: {node: {memory: 64M}}
steps:
  slow: {on: all, run: "(sleep 0.7; touch /root/there) >/dev/null 2>&1 &", wait: {file: /root/there, within: 20s}}
  never: {on: all, wait: {port: 99, within: 300ms}}
`)
	reason := ""
	lab := b.Open(b.name)
	require.NoError(t, lab.Provision(b.ctx, api.Wanted{File: b.file}))
	require.NoError(t, lab.Follow(b.ctx, func(s api.State) bool {
		for _, c := range s.Cells {
			if c.Step == "slow" && c.State == api.Running && c.Reason != "" {
				reason = c.Reason
			}
		}
		return s.Run.Outcome == ""
	}))
	assert.Contains(t, reason, "/root/there is not there, 0 s of 20")
	s, err := lab.State(b.ctx)
	require.NoError(t, err)
	assert.Contains(t, s.Error, "port 99: connection refused")
}

func TestCancel(t *testing.T) {
	b := newBench(t, "groups: {node: {memory: 64M}}\nsteps: {long: {on: all, run: \"echo begun; sleep 300\"}}\n")
	lab := b.Open(b.name)
	require.NoError(t, lab.Provision(b.ctx, api.Wanted{File: b.file}))
	var last api.State
	require.NoError(t, lab.Follow(b.ctx, func(s api.State) bool {
		last = s
		if len(s.Cells) == 1 && s.Cells[0].State == api.Running {
			require.NoError(t, lab.Cancel(b.ctx))
		}
		return s.Run.Outcome == ""
	}))
	assert.Equal(t, api.OutcomeCancelled, last.Run.Outcome)
	assert.Equal(t, "0", b.sh("node-1", "cat /proc/[0-9]*/comm | grep -c sleep || true"), "the script's processes are ended")
	b.write("groups: {node: {memory: 64M}}\nsteps: {long: {on: all, run: \"true\"}}\n")
	b.done()
}

// A teardown in the middle of a run is one from its first moment to its last:
// the run that it cancels says nothing of its own.
func TestTeardownWhileRunning(t *testing.T) {
	b := newBench(t, "groups: {node: {count: 2, memory: 64M}}\nsteps: {long: {on: all, run: \"sleep 300\"}}\n")
	lab := b.Open(b.name)
	require.NoError(t, lab.Provision(b.ctx, api.Wanted{File: b.file}))
	require.NoError(t, lab.Follow(b.ctx, func(s api.State) bool { return len(s.Cells) < 2 || s.Cells[1].State != api.Running }))
	require.NoError(t, lab.Teardown(b.ctx))
	var last api.State
	require.NoError(t, lab.Follow(b.ctx, func(s api.State) bool { last = s; return s.Phase == api.PhaseLeaving }))
	assert.Equal(t, api.PhaseGone, last.Phase)
	assert.Empty(t, last.Error)
	require.NotNil(t, last.Audit)
	assert.True(t, last.Audit.Clean(), "%v", last.Audit.Left())
}

// A node that dies while it is provisioned is said to be lost, and comes back
// with its disk.
func TestNodeDiesMeanwhile(t *testing.T) {
	b := newBench(t, "groups: {node: {count: 2, memory: 64M}}\nsteps:\n  keep: {on: all, run: echo kept >> /root/kept}\n  die: {on: node-1, run: \"test -e /root/died || { touch /root/died; sleep 300; }\"}\n")
	lab := b.Open(b.name)
	require.NoError(t, lab.Provision(b.ctx, api.Wanted{File: b.file}))
	var last api.State
	killed := false
	require.NoError(t, lab.Follow(b.ctx, func(s api.State) bool {
		last = s
		for _, c := range s.Cells {
			if c.Step == "die" && c.State == api.Running && !killed {
				killed = true
				time.Sleep(200 * time.Millisecond)
				b.killNode("node-1")
			}
		}
		return s.Run.Outcome == ""
	}))
	assert.Equal(t, api.OutcomeFailed, last.Run.Outcome)
	assert.Contains(t, last.Error, "the node was lost")
	b.done()
	assert.Equal(t, "kept", b.sh("node-1", "cat /root/kept"))
}

// pid is the number of a node's first process, outside.
func (b *bench) pid(node string) int {
	for _, h := range []string{"pids", "", "unified"} {
		text, err := os.ReadFile(filepath.Join("/sys/fs/cgroup", h, "kettlehole-"+b.Home.ID(b.name), node, "cgroup.procs"))
		if fields := strings.Fields(string(text)); err == nil && len(fields) > 0 {
			pid, err := strconv.Atoi(fields[0])
			require.NoError(b.t, err)
			return pid
		}
	}
	b.t.Fatal("the node has no process")
	return 0
}

func (b *bench) killNode(node string) { require.NoError(b.t, unix.Kill(b.pid(node), unix.SIGKILL)) }

func TestAnchorIsKilled(t *testing.T) {
	b := newBench(t, small)
	b.done()
	for _, file := range marked(b.Home.ID(b.name)) {
		cmdline, _ := os.ReadFile(filepath.Join(filepath.Dir(file), "cmdline"))
		if strings.Contains(string(cmdline), "\x00hold\x00") {
			pid, err := strconv.Atoi(filepath.Base(filepath.Dir(file)))
			require.NoError(t, err)
			require.NoError(t, unix.Kill(pid, unix.SIGKILL))
		}
	}
	require.Eventually(t, func() bool {
		s, err := b.Open(b.name).State(b.ctx)
		return err == nil && s.Nodes[0].State == api.Lost && s.Nodes[1].State == api.Lost
	}, 5*time.Second, 10*time.Millisecond)
	b.done()
	assert.Equal(t, "first", b.sh("pair-1", "cat /root/ran"), "the disk was kept, and the step with it")
}

// The secret of a run is nowhere in what the lab keeps, but sealed.
func TestSecretIsNowhere(t *testing.T) {
	b := newBench(t, strings.Replace(small, "echo first", "echo printed secret-word-$((4711)); echo first", 1))
	b.done()
	_, err := b.Open(b.name).State(b.ctx)
	require.NoError(t, err)
	const secret = "secret-word-4711"
	searched := 0
	require.NoError(t, filepath.WalkDir(string(b.Home), func(path string, e os.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() || strings.Contains(path, "/upper/") || strings.Contains(path, "/images/") {
			return err // a node's own disk is where the script put it
		}
		text, err := os.ReadFile(path)
		assert.NotContains(t, string(text), secret, path)
		searched++
		return err
	}))
	assert.Greater(t, searched, 5)
	log, err := b.Open(b.name).Logs(b.ctx, "pair-1", "first.run1", false, false)
	require.NoError(t, err)
	defer log.Close()
	text, err := io.ReadAll(log)
	require.NoError(t, err)
	assert.Contains(t, string(text), "printed ••••••••")
}

func TestRefusals(t *testing.T) {
	b := newBench(t, small)
	lab := b.Open(b.name)
	var problem *client.Problem
	require.ErrorAs(t, lab.Teardown(b.ctx), &problem)
	assert.Contains(t, problem.Error(), "there is no lab")
	b.write("groups: {}\n")
	require.ErrorAs(t, lab.Provision(b.ctx, api.Wanted{File: b.file}), &problem)
	assert.Contains(t, problem.Error(), "has errors")
	b.write(small)
	b.done()
	other := filepath.Join(t.TempDir(), "other.lab.yaml")
	text, err := os.ReadFile(b.file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(other, text, 0o644))
	require.ErrorAs(t, lab.Provision(b.ctx, api.Wanted{File: other}), &problem)
	assert.Contains(t, problem.Error(), "lives already, from "+b.file)
	b.write(strings.NewReplacer("count: 2", "count: 1", "pair-2", "pair-1").Replace(small))
	require.ErrorAs(t, lab.Provision(b.ctx, api.Wanted{File: b.file}), &problem)
	assert.Contains(t, problem.Error(), "which nobody agreed to: pair-2 goes")
	_, err = lab.Logs(b.ctx, "pair-1", "../../../../../../etc/passwd", false, false)
	require.ErrorAs(t, err, &problem)
	_, err = lab.Logs(b.ctx, "nobody", "", false, false)
	require.ErrorAs(t, err, &problem)
	_, _, err = lab.Agent("nobody").Run(b.ctx, 10, "true")
	require.ErrorAs(t, err, &problem)
	// A node that plants a link or a pipe among its logs gets nobody to follow it.
	b.sh("pair-1", "ln -s /etc/shadow /var/log/kettlehole/link.log; mkfifo /var/log/kettlehole/pipe.log")
	for _, name := range []string{"link", "pipe"} {
		_, err = lab.Logs(b.ctx, "pair-1", name, false, false)
		require.ErrorAs(t, err, &problem, name)
	}
}

// Two asked at the same time provision the same lab once.
func TestAskedTwice(t *testing.T) {
	b := newBench(t, small)
	var both sync.WaitGroup
	for range 3 {
		both.Go(func() {
			s, err := b.tryProvision()
			assert.NoError(t, err)
			assert.Equal(t, api.OutcomeDone, s.Run.Outcome)
		})
	}
	both.Wait()
	assert.Equal(t, "first", b.sh("pair-1", "cat /root/ran"))
}

// Nobody but the keeper's own user is answered.
func TestSocketIsPrivate(t *testing.T) {
	b := newBench(t, small)
	b.done()
	for _, path := range []string{b.Home.Keeper(b.name, "sock"), filepath.Join(b.Home.Lab(b.name), "inside.sock"), filepath.Join(b.Home.Lab(b.name), "nodes", "pair-1", "init.sock"), filepath.Join(b.Home.Lab(b.name), "key")} {
		info, err := os.Stat(path)
		require.NoError(t, err)
		assert.Zero(t, info.Mode().Perm()&0o077, path)
	}
	info, err := os.Stat(string(b.Home))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o700), info.Mode().Perm())
	assert.Empty(t, b.Open(b.name).Agent("pair-1").Dial == nil)
	_, err = b.Open(b.name).Agent("pair-1").Do(b.ctx, agent.Request{Op: agent.OpHello})
	assert.NoError(t, err)
}
