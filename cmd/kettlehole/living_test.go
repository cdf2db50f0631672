package main_test

import (
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kettlehole/internal/testbed"
)

// Field stations come to the living demo and go again while the others keep
// posting: not one of their readings is lost.
func TestDemoGrowsAndShrinks(t *testing.T) {
	testbed.Kernel(t)
	b := newBench(t)
	demo := filepath.Join(testbed.Root(), "examples/avalanche-desk/avalanche.lab.yaml")
	t.Cleanup(func() { b.run("teardown", "avalanche-desk", "--yes") })
	b.ok("provision", demo)
	posted := func(node string) (good, bad int) {
		log := b.ok("logs", "--lab", "avalanche-desk", node, "station")
		return strings.Count(log, " posted "), strings.Count(log, " failed ")
	}
	require.Eventually(t, func() bool { good, _ := posted("field-2"); return good >= 2 }, 20*time.Second, 100*time.Millisecond)
	_, before := posted("field-1")

	out := b.ok("plan", demo, "-i", "field_count=4")
	assert.Contains(t, out, "node  field-3  new")
	assert.NotContains(t, out, "field-1  changes")
	b.ok("provision", demo, "-i", "field_count=4")
	assert.Contains(t, b.ok("status", "avalanche-desk"), "8 of 8 nodes ready")
	require.Eventually(t, func() bool { good, _ := posted("field-4"); return good >= 2 }, 20*time.Second, 100*time.Millisecond)

	_, errs, code := b.run("provision", demo, "-i", "field_count=2")
	assert.Equal(t, 2, code, "what is lost is asked for")
	assert.Contains(t, errs, "--yes")
	b.ok("provision", demo, "-i", "field_count=2", "--yes")
	assert.Contains(t, b.ok("status", "avalanche-desk"), "6 of 6 nodes ready")
	_, _, code = b.run("exec", "--lab", "avalanche-desk", "field-4", "--", "true")
	assert.NotZero(t, code)

	was, _ := posted("field-1")
	require.Eventually(t, func() bool { good, _ := posted("field-1"); return good > was+1 }, 20*time.Second, 100*time.Millisecond)
	for _, node := range []string{"field-1", "field-2"} {
		_, bad := posted(node)
		assert.LessOrEqual(t, bad, before, "%s lost readings", node)
	}
	assert.Contains(t, b.ok("teardown", "avalanche-desk", "--yes"), "nothing was left behind")
}
