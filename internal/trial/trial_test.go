package trial_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kettlehole/internal/home"
	"kettlehole/internal/testbed"
	"kettlehole/internal/trial"
	"kettlehole/internal/workstation"
)

// Where kernel tests run, what nodes need works; nothing of a trial stays; and
// what was found out is remembered until it may be another.
func TestAll(t *testing.T) {
	testbed.Kernel(t)
	folder := filepath.Join(t.TempDir(), "home")
	all, err := trial.All(t.Context(), home.Home(folder), false)
	require.NoError(t, err)
	facts := workstation.Facts{Trials: all}
	for _, name := range []string{workstation.TryNamespaces, workstation.TryOverlay, workstation.TryBridge, workstation.TryVeth, workstation.TryNftables, workstation.TryRuntime} {
		one, known := facts.Trial(name)
		require.True(t, known, name)
		assert.True(t, one.Tried && one.Works, "%s: %s", name, one.Why)
	}
	for _, name := range []string{workstation.TryNetem, workstation.TryTun, workstation.TryVsock, workstation.TryUser, workstation.TryQEMU, workstation.TryKVM} {
		one, known := facts.Trial(name)
		require.True(t, known, name)
		assert.True(t, one.Works || one.Why != "", "%s does not work, and nobody knows why", name)
	}
	left, err := filepath.Glob(filepath.Join(folder, "trial-*"))
	require.NoError(t, err)
	assert.Empty(t, left)
	groups, err := filepath.Glob("/sys/fs/cgroup/*/kettlehole-trial-*")
	require.NoError(t, err)
	assert.Empty(t, groups)

	began := time.Now()
	again, err := trial.All(t.Context(), home.Home(folder), false)
	require.NoError(t, err)
	assert.Equal(t, all, again)
	t.Logf("from memory in %v", time.Since(began))
	file := filepath.Join(folder, "tried.json")
	before, err := os.Stat(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, []byte("{"), 0o600))
	_, err = trial.All(t.Context(), home.Home(folder), false)
	require.NoError(t, err)
	after, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, before.Size(), after.Size(), "what is broken is found out anew")
}

func TestRuntimeThatIsNone(t *testing.T) {
	testbed.Kernel(t)
	folder := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(folder, "runc"), []byte("#!/bin/sh\necho this is no runtime >&2\nexit 1\n"), 0o755))
	t.Setenv("PATH", folder+":"+os.Getenv("PATH"))
	all, err := trial.All(t.Context(), home.Home(filepath.Join(folder, "home")), false)
	require.NoError(t, err)
	one, _ := workstation.Facts{Trials: all}.Trial(workstation.TryRuntime)
	assert.False(t, one.Works)
	assert.Contains(t, one.Why, "this is no runtime")
}
