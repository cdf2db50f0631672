package trial

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kettlehole/internal/testbed"
	"kettlehole/internal/workstation"
)

// A real QEMU runs the first program; ones that end, refuse or hang are told
// apart, and the last is ended in time.
func TestMachines(t *testing.T) {
	qemu := testbed.Tool(t, "qemu-system-x86_64")
	folder := t.TempDir()
	require.NoError(t, runSector(t.Context(), qemu, folder))
	sector[len(sector)-5] = 0x00 // it leaves with another code
	err := runSector(t.Context(), qemu, folder)
	sector[len(sector)-5] = 0x01
	assert.Error(t, err)

	fake := filepath.Join(folder, "qemu-system-x86_64")
	t.Setenv("PATH", folder+":"+os.Getenv("PATH"))
	try := func(script string) workstation.Trial {
		require.NoError(t, os.WriteFile(fake, []byte("#!/bin/sh\n"+script+"\n"), 0o755))
		facts := workstation.Facts{Trials: machines(t.Context(), folder, folder)}
		_, known := facts.Trial(workstation.TryKVM)
		require.True(t, known)
		one, known := facts.Trial(workstation.TryQEMU)
		require.True(t, known)
		return one
	}
	assert.True(t, try(`[ "$1" = --version ] && { echo version 9; exit; }; exit 33`).Works)
	one := try("exit 0")
	assert.False(t, one.Works)
	assert.Contains(t, one.Why, "ends with code 0")
	assert.Contains(t, try("echo no such machine >&2; exit 1").Why, "no such machine")
	began := time.Now()
	assert.Contains(t, try(`[ "$1" = --version ] && exit; exec sleep 60`).Why, "within 5s")
	assert.Less(t, time.Since(began), 4*machineLimit)
}

// KVM is trusted only when a kernel has booted with it.
func TestKernel(t *testing.T) {
	folder := t.TempDir()
	assert.Empty(t, findKernel(folder))
	old, recent := filepath.Join(folder, "vmlinuz-1"), filepath.Join(folder, "vmlinuz-2")
	for i, file := range []string{old, recent} {
		require.NoError(t, os.WriteFile(file, nil, 0o600))
		when := time.Unix(int64(1000+i), 0)
		require.NoError(t, os.Chtimes(file, when, when))
	}
	assert.Equal(t, recent, findKernel(folder))
	fake := filepath.Join(folder, "qemu")
	try := func(script string) error {
		require.NoError(t, os.WriteFile(fake, []byte("#!/bin/sh\n"+script+"\n"), 0o755))
		return bootKernel(t.Context(), fake, recent)
	}
	assert.NoError(t, try("echo 'Kernel panic - not syncing: VFS: Unable to mount root fs on unknown-block'"))
	assert.ErrorContains(t, try("echo hello"), "before the kernel is up: hello")
	assert.ErrorContains(t, try("echo KVM is not allowed >&2; exit 1"), "KVM is not allowed")
	assert.ErrorContains(t, try("exec sleep 60"), "within 5s")
}
