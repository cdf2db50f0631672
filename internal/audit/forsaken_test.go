package audit

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The group of all labs is left behind only if it stays without a lab.
func TestForsaken(t *testing.T) {
	top := filepath.Join(t.TempDir(), "kettlehole")
	assert.False(t, forsaken(top), "it is not there")
	require.NoError(t, os.Mkdir(top, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(top, "cgroup.procs"), nil, 0o644))
	assert.True(t, forsaken(top))
	require.NoError(t, os.Mkdir(filepath.Join(top, "a-lab"), 0o755))
	assert.False(t, forsaken(top), "a lab lives")
	require.NoError(t, os.RemoveAll(top))
	require.NoError(t, os.Mkdir(top, 0o755))
	go func() {
		time.Sleep(15 * time.Millisecond)
		_ = os.Remove(top)
	}()
	assert.False(t, forsaken(top), "its last lab was just going")
}
