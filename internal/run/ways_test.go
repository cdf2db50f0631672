package run_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kettlehole/internal/api"
	"kettlehole/internal/mask"
	"kettlehole/internal/run"
	"kettlehole/internal/schedule"
)

// ordered does a run with what a person wants beyond what is due, and gives
// what the nodes were asked to do.
func (w *world) ordered(t *testing.T, n int, text string, ways api.Ways) (ran []string, err error) {
	p := planned(t, text)
	g, findings := schedule.New(p)
	require.NotNil(t, g, findings)
	orders, err := run.NewOrders(p, g, ways)
	if err != nil {
		return nil, err
	}
	w.log = nil
	r := &run.Run{N: n, Plan: p, Graph: g, Image: "image", Substrate: w, Record: w, Values: w, Secrets: &mask.Set{}, Watcher: w, Clock: w, Orders: orders}
	err = r.Do(t.Context())
	for _, line := range w.log {
		if !strings.HasPrefix(line, "start ") && !strings.Contains(line, " sees ") {
			ran = append(ran, line)
		}
	}
	return ran, err
}

const three = `
lab: desk
groups: {a: {count: 2}, b: {}}
steps:
  one: {on: all, run: one}
  gives: {on: a-1, run: gives, gives: {word: secret}}
  takes: {on: a-2, takes: [word], run: takes}
  last: {on: b, after: [takes], run: last}
`

func TestAgainFromOnly(t *testing.T) {
	w := newWorld()
	all, err := w.ordered(t, 1, three, api.Ways{})
	require.NoError(t, err)
	assert.Len(t, all, 6)
	for _, c := range []struct {
		ways api.Ways
		want []string
	}{
		{api.Ways{Again: []string{"takes"}}, []string{"takes on a-2"}},
		{api.Ways{From: "takes"}, []string{"takes on a-2", "last on b-1"}},
		{api.Ways{From: "gives"}, []string{"gives on a-1", "takes on a-2", "last on b-1"}},
		{api.Ways{Again: []string{"one"}, Only: "a"}, []string{"one on a-1", "one on a-2"}},
		{api.Ways{From: "one", Only: "b"}, []string{"one on b-1", "last on b-1"}},
		{api.Ways{}, nil},
	} {
		ran, err := w.ordered(t, w.cells[schedule.Cell{Step: "takes", Node: "a-2"}].Run+10, three, c.ways)
		require.NoError(t, err, c.ways)
		assert.ElementsMatch(t, c.want, ran, "%+v", c.ways)
		for node, state := range w.states {
			assert.Equal(t, api.Ready, state, node)
		}
	}
	for words, ways := range map[string]api.Ways{
		`no step "none"`: {Again: []string{"none"}}, `no step "nothing"`: {From: "nothing"}, `no group "c"`: {Only: "c"}, "on a node": {Skip: []schedule.Cell{{Step: "last", Node: "a-1"}}},
	} {
		_, err := w.ordered(t, 90, three, ways)
		assert.ErrorContains(t, err, words)
	}
}

// The first run of some nodes alone leaves the others as they are, and says
// what could not start because of that.
func TestOnlyAtFirst(t *testing.T) {
	w := newWorld()
	ran, err := w.ordered(t, 1, three, api.Ways{Only: "a-2, b"})
	assert.ErrorContains(t, err, "step takes on a-2 did not start: it needs word from a-1, which was left out")
	assert.ElementsMatch(t, []string{"one on a-2", "one on b-1"}, ran)
	assert.Equal(t, api.Provisioning, w.states["a-1"], "nothing was done there")
	assert.True(t, w.reason[api.LeftOut])
	ran, err = w.ordered(t, 2, three, api.Ways{})
	require.NoError(t, err)
	assert.ElementsMatch(t, []string{"one on a-1", "gives on a-1", "takes on a-2", "last on b-1"}, ran)
}

// What is skipped counts as done, also later, until it changes or is wanted
// again; what should give a value cannot be skipped.
func TestSkip(t *testing.T) {
	w := newWorld()
	w.broken["takes on a-2"] = "it broke"
	_, err := w.ordered(t, 1, three, api.Ways{})
	require.Error(t, err)
	cell := schedule.Cell{Step: "takes", Node: "a-2"}
	ran, err := w.ordered(t, 2, three, api.Ways{Skip: []schedule.Cell{cell}})
	require.NoError(t, err)
	assert.Equal(t, []string{"last on b-1"}, ran)
	assert.Equal(t, api.Skipped, w.cells[cell].State)
	assert.Equal(t, api.Ready, w.states["a-2"])
	ran, err = w.ordered(t, 3, three, api.Ways{})
	require.NoError(t, err)
	assert.Empty(t, ran)
	assert.Equal(t, api.Skipped, w.cells[cell].State)
	delete(w.broken, "takes on a-2")
	ran, err = w.ordered(t, 4, three, api.Ways{Again: []string{"takes"}})
	require.NoError(t, err)
	assert.Equal(t, []string{"takes on a-2"}, ran)
	_, err = newWorld().ordered(t, 1, three, api.Ways{Skip: []schedule.Cell{{Step: "gives", Node: "a-1"}}})
	assert.ErrorContains(t, err, "it cannot be skipped: it gives word")
}

// A keeper that is started again in the middle does what was wanted again just
// once.
func TestAgainAfterRestart(t *testing.T) {
	w := newWorld()
	_, err := w.ordered(t, 1, three, api.Ways{})
	require.NoError(t, err)
	w.broken["last on b-1"] = "it broke"
	_, err = w.ordered(t, 2, three, api.Ways{From: "takes"})
	require.Error(t, err)
	delete(w.broken, "last on b-1")
	ran, err := w.ordered(t, 2, three, api.Ways{From: "takes"})
	require.NoError(t, err)
	assert.Equal(t, []string{"last on b-1"}, ran)
}
