package run_test

import (
	"fmt"
	"maps"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kettlehole/internal/api"
	"kettlehole/internal/schedule"
)

// What was done before is not done again, but where nodes were started again
// its services must answer before others are ready, or build on them.
func TestStands(t *testing.T) {
	text := func(word string) string {
		return fmt.Sprintf(`
lab: desk
groups: {council: {count: 2, services: {cairn: {run: cairn}}}, gate: {networks: {lab: .80}}}
steps:
  found: {on: council, start: cairn, run: found, wait: {port: 7000, within: 30s}}
  between: {on: council-1, after: [found], run: between}
  asks: {on: gate, after: [between], run: %s}
`, word)
	}
	w := newWorld()
	require.NoError(t, w.do(t.Context(), t, 1, text("one")))

	w.probes["council-2"] = 5
	require.NoError(t, w.do(t.Context(), t, 2, text("two")))
	w.before(t, "start cairn on council-2", "held on council-2")
	w.before(t, "held on council-2", "asks on gate-1")
	assert.NotContains(t, w.log, "found on council-2")
	assert.Equal(t, []string{api.Waiting, api.Reused}, w.seen[schedule.Cell{Step: "found", Node: "council-2"}])
	assert.True(t, slices.ContainsFunc(slices.Collect(maps.Keys(w.reason)), func(r string) bool { return r == "connection refused, 0 s of 30" }))
	for node, state := range w.states {
		assert.Equal(t, api.Ready, state, node)
	}

	// What does not stand is said, and nothing is built on it.
	w.probes["council-2"] = 1_000_000
	err := w.do(t.Context(), t, 3, text("three"))
	require.ErrorContains(t, err, "step found on council-2: waited 30s, and still: connection refused")
	assert.NotContains(t, w.log, "asks on gate-1")
	assert.True(t, w.reason["found on council-2 failed"])
	assert.Equal(t, api.Failed, w.states["council-2"])
	assert.Equal(t, api.Failed, w.cells[schedule.Cell{Step: "found", Node: "council-2"}].State)
	assert.Equal(t, 3, w.cells[schedule.Cell{Step: "found", Node: "council-2"}].Run)
	assert.Equal(t, api.Done, w.cells[schedule.Cell{Step: "found", Node: "council-1"}].State)

	// It is due again then; what ran all the time is not looked at.
	w.probes["council-2"], w.stayed = 0, true
	w.probes["council-1"] = 1_000_000
	require.NoError(t, w.do(t.Context(), t, 4, text("three")))
	assert.Contains(t, w.log, "found on council-2")
	assert.Contains(t, w.log, "asks on gate-1")
	assert.NotContains(t, w.log, "found on council-1")
	assert.Equal(t, 1_000_000, w.probes["council-1"])
}
