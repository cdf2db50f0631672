package keeper_test

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kettlehole/internal/api"
	"kettlehole/internal/client"
	"kettlehole/internal/ledger"
)

// stop stops the lab, as often as the keeper is killed, and sees that nothing
// of it runs.
func (b *bench) stop() (last api.State) {
	b.t.Helper()
	for range 10 {
		lab := b.Open(b.name)
		err := lab.Stop(b.ctx)
		var problem *client.Problem
		require.False(b.t, errors.As(err, &problem), "%v", err)
		if err == nil {
			err = lab.Follow(b.ctx, func(s api.State) bool { last = s; return s.Phase == api.PhaseStopping })
		}
		if err == nil {
			break
		}
	}
	require.Equal(b.t, api.PhaseStopped, last.Phase, "%s\n%s", last.Error, b.keeperLog())
	for _, n := range last.Nodes {
		assert.Equal(b.t, api.Stopped, n.State, n.Name)
		assert.Empty(b.t, n.Services)
	}
	id := b.Home.ID(b.name)
	require.Eventually(b.t, func() bool { return len(marked(id)) == 0 }, 5*time.Second, 10*time.Millisecond, "processes go on: %v", marked(id))
	groups, err := filepath.Glob("/sys/fs/cgroup/*/kettlehole-" + id)
	require.NoError(b.t, err)
	assert.Empty(b.t, groups)
	for _, f := range last.Forwards {
		_, err := hear(f.Listen.String())
		assert.Error(b.t, err, f.Name)
	}
	return last
}

// start starts the lab, as often as the keeper is killed.
func (b *bench) start() (last api.State) {
	b.t.Helper()
	for range 10 {
		lab := b.Open(b.name)
		err := lab.Start(b.ctx, api.Wanted{})
		var problem *client.Problem
		require.False(b.t, errors.As(err, &problem), "%v", err)
		if err == nil {
			err = lab.Follow(b.ctx, func(s api.State) bool { last = s; return s.Run.Outcome == "" })
		}
		if err == nil {
			break
		}
	}
	require.Equal(b.t, api.OutcomeDone, last.Run.Outcome, "%s\n%s", last.Error, b.keeperLog())
	for _, n := range last.Nodes {
		require.Equal(b.t, api.Ready, n.State, "%s: %s", n.Name, n.Reason)
	}
	return last
}

const restLab = `
networks: {lab: {subnet: auto}}
groups: {n: {count: %d, memory: 64M, services: {page: {run: exec sh /root/page.sh}}}}
forwards: {way: auto -> n-1:7000}
steps:
  page:
    on: all
    run: |
      echo ran >> /root/ran
      cat > /root/hello.py <<'END'
      import os, socket
      with socket.create_server(("", 7000)) as s:
          while True:
              c, _ = s.accept()
              c.sendall((os.environ["NODE"] + "\n").encode()); c.close()
      END
      cat > /root/page.sh <<'END'
      trap 'sleep 0.3; echo orderly >> /root/ended; kill $!; exit 0' TERM
      python3 /root/hello.py & wait
      END
    start: page
    wait: {port: 7000}
`

// A lab that is stopped takes nothing but its disks, and comes back as it was,
// whatever its file says by then.
func TestStopAndStart(t *testing.T) {
	b := newBench(t, fmt.Sprintf(restLab, 2))
	before := b.done()
	lab := b.Open(b.name)
	added, err := lab.AddForward(b.ctx, api.NewForward{Name: "more", Text: "auto -> n-2:7000"})
	require.NoError(t, err)
	require.NoError(t, lab.SetAccess(b.ctx, api.Access{Port: "auto"}))
	b.sh("n-1", "echo kept > /root/kept; (trap '' TERM HUP; sleep 600) >/dev/null 2>&1 &")
	const addresses = "cat /sys/class/net/eth0/address; ip -o addr show eth0 scope global | awk '{print $4}'"
	own := b.sh("n-1", addresses)
	assert.Contains(t, own, "/24")
	b.stop()
	b.stop() // once more changes nothing

	things, err := lab.Things(b.ctx)
	require.NoError(t, err)
	for _, e := range things {
		stays := e.Kind == ledger.Folder || e.Kind == ledger.NodeK || e.Kind == ledger.Layer
		assert.Equal(t, stays, e.State == ledger.Made, "%s %s is %s", e.Kind, e.Ref, e.State)
	}
	var problem *client.Problem
	_, err = lab.AddForward(b.ctx, api.NewForward{Text: "auto -> n-1:9"})
	require.ErrorAs(t, err, &problem)
	assert.Contains(t, problem.Error(), "the lab is stopped; start it")
	_, _, err = lab.Agent("n-1").Run(b.ctx, 100, "true")
	require.ErrorAs(t, err, &problem)
	assert.Contains(t, problem.Error(), "kettlehole start brings it back")
	holds := b.Holds()
	require.Len(t, holds, 1)
	assert.Zero(t, holds[0].MemoryLimit, "others may have its memory")
	assert.Contains(t, holds[0].Ports, added[0].Listen.String(), "nobody else gets its ports")

	// Nobody asks, and nothing runs; asked again, it is known.
	require.Eventually(t, func() bool { return len(keepersOf(b)) == 0 }, 20*time.Second, 50*time.Millisecond, "the keeper goes on")
	assert.NoFileExists(t, b.Home.Keeper(b.name, "sock"))
	state, err := lab.State(b.ctx)
	require.NoError(t, err)
	assert.Equal(t, api.PhaseStopped, state.Phase)
	assert.Equal(t, api.Stopped, state.Nodes[0].State)

	b.write(fmt.Sprintf(restLab, 3))
	after := b.start()
	require.Len(t, after.Nodes, 2, "its file is not read")
	for _, c := range after.Cells {
		assert.Equal(t, api.Reused, c.State)
	}
	require.Len(t, after.Forwards, 2)
	assert.Equal(t, before.Forwards[0].Listen, after.Forwards[0].Listen)
	for i, want := range []string{"n-1\n", "n-2\n"} {
		line, err := hear(after.Forwards[i].Listen.String())
		require.NoError(t, err)
		assert.Equal(t, want, line)
	}
	assert.True(t, after.Plan.Access.IsValid())
	line, err := hear(after.Plan.Access.String())
	require.NoError(t, err)
	assert.Contains(t, line, "SSH-2.0-")
	assert.Equal(t, "kept ran orderly", b.sh("n-1", "echo $(cat /root/kept /root/ran /root/ended)"), "services had their time, and no step ran again")
	assert.Equal(t, own, b.sh("n-1", addresses))

	// Provisioned while it is stopped, it follows its file.
	b.stop()
	b.killKeeper()
	again := b.done()
	assert.Len(t, again.Nodes, 3)
	assert.Equal(t, "ran", b.sh("n-1", "cat /root/ran"))
	b.stop()
	b.teardown()
}

// A run is cancelled by a stop, and gone on with by the start.
func TestStopWhileRunning(t *testing.T) {
	b := newBench(t, "groups: {node: {count: 2, memory: 64M}}\nsteps: {fine: {on: all, run: echo >> /root/ran}, long: {on: node-2, after: [fine], run: \"test -e /root/go || sleep 300\"}}\n")
	lab := b.Open(b.name)
	require.NoError(t, lab.Provision(b.ctx, api.Wanted{File: b.file}))
	running := func(s api.State) bool {
		for _, c := range s.Cells {
			if c.Step == "long" && c.State == api.Running {
				return true
			}
		}
		return false
	}
	require.NoError(t, lab.Follow(b.ctx, func(s api.State) bool { return !running(s) }))
	b.sh("node-2", "touch /root/go")
	last := b.stop()
	assert.Equal(t, api.OutcomeCancelled, last.Run.Outcome)
	assert.Empty(t, last.Error)
	b.start()
	assert.Equal(t, "1", b.sh("node-1", "wc -l < /root/ran"))
}

// The keeper is killed at each of its writes while it stops a lab, and while it
// starts one; the same words again go on.
func TestKilledAtEveryEntryOfStopAndStart(t *testing.T) {
	b := newBench(t, small)
	b.done()
	killed := map[string]int{}
	try := func(what string, do func() api.State) (more bool) {
		for n := 1; ; n++ {
			for _, when := range []string{"before", "after"} {
				if what == "start" {
					b.stop()
				}
				if len(keepersOf(b)) > 0 {
					b.killKeeper()
				}
				b.killAt(n, when)
				do()
				if _, err := os.Stat(b.kill); err == nil {
					require.NoError(t, os.Remove(b.kill))
					return n > 1
				}
				killed[what]++
				if what == "stop" {
					b.start()
				}
			}
		}
	}
	require.True(t, try("stop", b.stop))
	require.True(t, try("start", b.start))
	assert.Equal(t, "first", b.sh("pair-1", "cat /root/ran"))
	assert.Equal(t, "second", b.sh("pair-2", "cat /root/ran"))
	assert.Greater(t, killed["stop"], 6)
	assert.Greater(t, killed["start"], 12)
	t.Logf("killed %v times", killed)
	b.teardown()
}

// A node that ended, and a lab whose anchor did, come back with their disks.
func TestStartBringsBack(t *testing.T) {
	b := newBench(t, small)
	b.done()
	b.killNode("pair-2")
	lab := b.Open(b.name)
	require.NoError(t, lab.Follow(b.ctx, func(s api.State) bool { return s.Nodes[1].State != api.Lost }))
	b.start()
	assert.Equal(t, "second", b.sh("pair-2", "cat /root/ran"))
}
