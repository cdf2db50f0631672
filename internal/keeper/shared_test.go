package keeper_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kettlehole/internal/api"
	"kettlehole/internal/client"
	"kettlehole/internal/home"
	"kettlehole/internal/image"
)

const sharing = `
inputs: {word: first}
groups: {node: {count: 2, memory: 64M}, gate: {memory: 64M}}
steps:
  common: {on: all, shared: true, run: "echo $INPUT_WORD > /root/common; date +%N >> /root/common; echo made; rm /opt/lab/bin -r; chown 7:8 /root/common"}
  tools: {on: node, shared: true, run: "cat /root/common > /root/tools"}
  own: {on: all, run: "cat /root/common >> /root/own"}
`

// A shared step is done once, on a node of its own, and every node and every
// later lab finds what it left; only what its hash holds makes it anew.
func TestShared(t *testing.T) {
	b := newBench(t, sharing)
	s := b.done()
	states := func(s api.State) string {
		var all []string
		for _, c := range s.Cells {
			all = append(all, fmt.Sprintf("%s@%s %s", c.Step, c.Node, c.State))
		}
		return strings.Join(all, ", ")
	}
	assert.Equal(t, "common@node-1 done, common@node-2 reused, common@gate-1 reused, tools@node-1 done, tools@node-2 reused, own@node-1 done, own@node-2 done, own@gate-1 done", sorted(s, states))
	common := b.sh("node-1", "cat /root/common")
	assert.True(t, strings.HasPrefix(common, "first\n"))
	for _, node := range []string{"node-2", "gate-1"} {
		assert.Equal(t, common, b.sh(node, "cat /root/common"), "done once for all")
	}
	assert.Equal(t, common, b.sh("node-2", "cat /root/tools"))
	assert.Equal(t, "7 8", b.sh("gate-1", "stat -c '%u %g' /root/common"), "owners are kept")
	assert.Equal(t, "gone", b.sh("gate-1", "test -e /opt/lab/bin || echo gone"), "what a step removes is gone for all")
	assert.Equal(t, "gate-1", b.sh("gate-1", "hostname; test ! -e /root/tools"))
	log, err := b.Open(b.name).Logs(b.ctx, "gate-1", "common.run1", false, false)
	require.NoError(t, err)
	text := make([]byte, 100)
	n, _ := log.Read(text)
	_ = log.Close()
	assert.Contains(t, string(text[:n]), "made")
	layers, err := image.NewStore(b.Home.Images()).List()
	require.NoError(t, err)
	steps := map[string]int{}
	for _, l := range layers {
		steps[l.Step]++
	}
	assert.Equal(t, map[string]int{"": 2, "common": 1, "tools": 1}, steps)
	assert.NoDirExists(t, filepath.Join(b.Home.Lab(b.name), "nodes", "shared."+strings.TrimPrefix(s.Cells[0].Layer, "sha256:")[:8]))

	// Again: nothing is done. A change that was not agreed to is refused.
	again := b.done()
	assert.NotContains(t, sorted(again, states), " done")
	b.write(strings.Replace(sharing, "cat /root/common >", "cp /root/common", 1))
	_, err = b.tryProvision()
	assert.ErrorContains(t, err, "which nobody agreed to: node-1 made anew: shared step tools changed; node-2 made anew")
}

// sorted puts the cells in the order of steps and nodes.
func sorted(s api.State, words func(api.State) string) string {
	var all []api.Cell
	for _, step := range s.Plan.Steps {
		for _, node := range step.Nodes {
			for _, c := range s.Cells {
				if c.Step == step.Name && c.Node == node {
					all = append(all, c)
				}
			}
		}
	}
	s.Cells = all
	return words(s)
}

// Two labs that want the same layer at the same time make it once; one that
// cannot be made says why, leaves nothing, and is made when it is mended.
func TestSharedAmongLabs(t *testing.T) {
	text := "groups: {node: {memory: 64M}}\nsteps: {common: {on: all, shared: true, run: 'sleep 2; date +%N > /root/common'}}\n"
	b := newBench(t, text)
	other := filepath.Join(t.TempDir(), "y.lab.yaml")
	name := b.name + "-b"
	require.NoError(t, os.WriteFile(other, []byte("lab: "+name+"\n"+text), 0o644))
	second := &bench{Station: client.Station{Home: home.Home(b.Home), Keeper: b.Keeper}, t: t, kill: b.kill, file: other, name: name, ctx: b.ctx}
	t.Cleanup(func() {
		if second.ctx = context.Background(); second.LivingPlan(name) != nil {
			second.teardown()
		}
	})
	lab := second.Open(name)
	require.NoError(t, b.Open(b.name).Provision(b.ctx, api.Wanted{File: b.file}))
	require.NoError(t, lab.Provision(b.ctx, api.Wanted{File: other}))
	var waited atomic.Bool // either of the two
	var s api.State
	watch := func(into *api.State) func(api.State) bool {
		return func(now api.State) bool {
			if *into = now; strings.Contains(now.Run.Doing, "another lab is just making") {
				waited.Store(true)
			}
			return now.Run.Outcome == ""
		}
	}
	var both sync.WaitGroup
	both.Go(func() {
		var first api.State
		assert.NoError(t, b.Open(b.name).Follow(b.ctx, watch(&first)))
	})
	require.NoError(t, lab.Follow(b.ctx, watch(&s)))
	both.Wait()
	require.Equal(t, api.OutcomeDone, s.Run.Outcome, s.Error)
	b.done()
	assert.True(t, waited.Load())
	assert.Equal(t, b.sh("node-1", "cat /root/common"), second.sh("node-1", "cat /root/common"))
	require.NoError(t, lab.Teardown(b.ctx))
	require.NoError(t, lab.Follow(b.ctx, func(now api.State) bool { return now.Phase == api.PhaseLeaving }))
	b.teardown()
	b.write("groups: {node: {memory: 64M}}\nsteps: {bad: {on: all, shared: true, run: 'echo the reason; exit 5'}, own: {on: all, run: 'true'}}\n")
	s = b.provision()
	assert.Equal(t, api.OutcomeFailed, s.Run.Outcome)
	assert.Contains(t, s.Error, "step bad, done once for 1 node: exit code 5")
	require.NotEmpty(t, s.Cells)
	assert.Equal(t, "the reason", s.Cells[0].Tail)
	layers, err := filepath.Glob(filepath.Join(b.Home.Images(), "*.part"))
	require.NoError(t, err)
	assert.Empty(t, layers)
	b.write("groups: {node: {memory: 64M}}\nsteps: {bad: {on: all, shared: true, run: 'echo mended > /root/m'}, own: {on: all, run: 'true'}}\n")
	b.done()
	assert.Equal(t, "mended", b.sh("node-1", "cat /root/m"))
}

// The keeper is killed before and after each of its writes while a layer is
// made: the same command goes on, and nothing is left of the builder.
func TestKilledWhileShared(t *testing.T) {
	for at := 2; at <= 14; at += 2 {
		t.Run(fmt.Sprint(at), func(t *testing.T) {
			b := newBench(t, "groups: {node: {memory: 64M}}\nsteps: {common: {on: all, shared: true, run: 'echo x >> /root/common'}, own: {on: all, run: 'cat /root/common >> /root/own'}}\n")
			b.killAt(at, "after")
			b.done()
			assert.Equal(t, "x", b.sh("node-1", "cat /root/own"))
			nodes, err := os.ReadDir(filepath.Join(b.Home.Lab(b.name), "nodes"))
			require.NoError(t, err)
			assert.Len(t, nodes, 1)
			b.teardown()
		})
	}
}

// Layers that nobody uses are removed, those in use and those just used stay.
func TestLayersAreRemoved(t *testing.T) {
	b := newBench(t, sharing)
	b.done()
	store := image.NewStore(b.Home.Images())
	users, err := b.LayerUsers(b.ctx)
	require.NoError(t, err)
	layers, err := store.List()
	require.NoError(t, err)
	for _, l := range layers {
		assert.Equal(t, []string{b.name}, users[l.Path], l.Step)
		assert.Positive(t, l.Size)
	}
	gone, err := store.Remove(layers[0].Digest)
	require.NoError(t, err)
	assert.False(t, gone, "it was used just now")
	b.teardown()
	users, err = b.LayerUsers(b.ctx)
	require.NoError(t, err)
	assert.Empty(t, users)
	for _, l := range layers {
		old := time.Now().Add(-time.Hour)
		require.NoError(t, os.Chtimes(l.Path, old, old))
		gone, err := store.Remove(l.Digest)
		require.NoError(t, err)
		assert.True(t, gone)
		assert.NoDirExists(t, l.Path)
	}
	b.done() // all is made again
}
