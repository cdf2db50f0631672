package keeper_test

import (
	"bufio"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kettlehole/internal/api"
)

// echoing is a group whose node answers every line with the same line.
const echoing = `
  page:
    memory: 64M
    networks: [lab]
    services:
      count:
        run: |
          python3 -c 'import socketserver as s; s.ThreadingTCPServer(("", 8000), type("H", (s.StreamRequestHandler,), {"handle": lambda h: [h.wfile.write(l) for l in h.rfile]})).serve_forever()'
`

const counting = `
  %s:
    count: %d
    memory: %s
    networks: %s
    services: {count: {run: "i=0; while :; do i=$((i+1)); echo $i > /run/count; sleep 0.02; done"}}
`

const counted = `
steps:
  prepare: {on: all, run: "echo prepared >> /var/prepared"}
  count: {on: all, start: count}
`

func freePort(t *testing.T) int {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer listener.Close()
	return listener.Addr().(*net.TCPAddr).Port
}

// pids gives the process of each node's service.
func (b *bench) pids(s api.State) map[string]int {
	all := map[string]int{}
	for _, n := range s.Nodes {
		for _, service := range n.Services {
			all[n.Name] = service.PID
		}
	}
	return all
}

// Nodes, networks and forwards come to a living lab and go again, and nothing
// else is touched: the same processes run, connections stay, no step is done
// twice.
func TestLivingLabChanges(t *testing.T) {
	door, other := freePort(t), freePort(t)
	few := "networks: {lab: {}}\ngroups:" + echoing + fmt.Sprintf(counting, "keeper", 1, "64M", "[lab]") + counted + fmt.Sprintf("forwards: {door: %d -> page-1:8000}\n", door)
	more := "networks: {lab: {}, back: {}}\ngroups:" + echoing + fmt.Sprintf(counting, "keeper", 1, "48M", "[lab]") + fmt.Sprintf(counting, "late", 2, "64M", "[lab, back]") + counted +
		fmt.Sprintf("forwards: {door: %d -> page-1:8000, late: %d -> late-2:9000}\n", door, other)
	b := newBench(t, few)
	before := b.pids(b.done())
	require.Len(t, before, 2)
	var conn net.Conn
	require.Eventually(t, func() (ok bool) {
		var err error
		conn, err = net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", door))
		require.NoError(t, err)
		_, err = fmt.Fprintln(conn, "hello")
		require.NoError(t, err)
		line, err := bufio.NewReader(conn).ReadString('\n')
		return err == nil && line == "hello\n"
	}, 20*time.Second, 100*time.Millisecond)
	defer conn.Close()
	answers := bufio.NewReader(conn)
	untouched := func(now map[string]int) {
		t.Helper()
		for node, pid := range before {
			assert.Equal(t, pid, now[node], "%s was touched", node)
			assert.Equal(t, "prepared", b.sh(node, "cat /var/prepared"))
		}
		_, err := fmt.Fprintln(conn, "still there")
		require.NoError(t, err)
		require.NoError(t, conn.SetReadDeadline(time.Now().Add(10*time.Second)))
		line, err := answers.ReadString('\n')
		require.NoError(t, err)
		assert.Equal(t, "still there\n", line)
	}

	b.write(more)
	after := b.done()
	untouched(b.pids(after))
	assert.Len(t, after.Nodes, 4)
	assert.Len(t, after.Forwards, 2)
	assert.Equal(t, "prepared", b.sh("late-2", "cat /var/prepared"))
	address := strings.Fields(b.sh("keeper-1", "getent hosts late-1"))[0]
	reached, err := b.Open(b.name).Agent("keeper-1").Reach(b.ctx, []string{address})
	require.NoError(t, err)
	assert.Positive(t, reached[address])

	// What would be lost is not taken without agreement.
	b.write(few)
	_, err = b.tryProvision()
	require.ErrorContains(t, err, "late-1 goes; late-2 goes")
	last := b.persist()
	untouched(b.pids(last))
	assert.Len(t, last.Nodes, 2)
	assert.Len(t, last.Forwards, 1)
	_, err = net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", other))
	assert.Error(t, err, "a forward that went still listens")
	assert.NoDirExists(t, filepath.Join(b.Home.Lab(b.name), "nodes", "late-1"))

	// One that comes back begins from nothing.
	b.write(more)
	b.done()
	assert.Equal(t, "prepared", b.sh("late-1", "cat /var/prepared"))
	conn.Close()
	b.teardown()
}

// A node with another address is made anew, and its steps with it.
func TestNodeIsMadeAnew(t *testing.T) {
	text := "networks: {lab: {subnet: 10.61.0.0/24}}\ngroups: {a: {memory: 64M, networks: {lab: %s}}, b: {memory: 64M, networks: {lab: .30}}}\nsteps: {mark: {on: all, run: 'echo x >> /var/mark'}}\n"
	b := newBench(t, fmt.Sprintf(text, ".20"))
	b.done()
	b.sh("a-1", "touch /var/mine")
	b.write(fmt.Sprintf(text, ".21"))
	_, err := b.tryProvision()
	require.ErrorContains(t, err, "a-1 made anew: its address on lab is 10.61.0.21 instead of 10.61.0.20")
	b.persist()
	assert.Equal(t, "/var/mark", b.sh("a-1", "ls /var/mark /var/mine 2>/dev/null || true"))
	assert.Equal(t, "x", b.sh("a-1", "cat /var/mark"))
	assert.Equal(t, "x", b.sh("b-1", "cat /var/mark"))
	reached, err := b.Open(b.name).Agent("b-1").Reach(b.ctx, []string{"10.61.0.21"})
	require.NoError(t, err)
	assert.Positive(t, reached["10.61.0.21"])
	b.teardown()
}

// The keeper is killed at every entry of a change that adds and takes away,
// and goes on each time.
func TestKilledAtEveryEntryOfAChange(t *testing.T) {
	text := "networks: {%s}\ngroups: {stay: {memory: 64M, networks: [a]}, %s: {memory: 64M, networks: [%s]}}\nsteps: {mark: {on: all, run: 'echo x >> /var/mark'}}\n"
	one, two := fmt.Sprintf(text, "a: {}, b: {}", "old", "b"), fmt.Sprintf(text, "a: {}, c: {}", "new", "c")
	b := newBench(t, one)
	for at := 1; ; at++ {
		for _, when := range []string{"before", "after"} {
			b.write(one)
			b.done()
			b.killKeeper() // a fresh one counts its writes from the change on
			b.write(two)
			b.killAt(at, when)
			last := b.persist()
			assert.Len(t, last.Nodes, 2)
			assert.Equal(t, "x", b.sh("stay-1", "cat /var/mark"))
			assert.Equal(t, "x", b.sh("new-1", "cat /var/mark"))
			assert.NoDirExists(t, filepath.Join(b.Home.Lab(b.name), "nodes", "old-1"))
			b.teardown()
			if _, err := os.Stat(b.kill); err == nil {
				require.Greater(t, at, 10, "the keeper was never killed")
				t.Logf("%d writes", at-1)
				return
			}
		}
	}
}

// persist provisions with agreement as often as the keeper is killed.
func (b *bench) persist() (last api.State) {
	b.t.Helper()
	lab := b.Open(b.name)
	for range 10 {
		err := lab.Provision(b.ctx, api.Wanted{File: b.file, Agreed: true})
		if err == nil {
			err = lab.Follow(b.ctx, func(s api.State) bool { last = s; return s.Run.Outcome == "" })
		}
		if err == nil && last.Run.Outcome == api.OutcomeDone {
			return last
		}
	}
	b.t.Fatalf("the change does not come to an end: %s\n%s", last.Error, b.keeperLog())
	return last
}
