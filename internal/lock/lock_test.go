package lock_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kettlehole/internal/lock"
)

func TestLock(t *testing.T) {
	path := filepath.Join(t.TempDir(), "lock")
	open := func() *os.File {
		file, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
		require.NoError(t, err)
		return file
	}
	first, second := open(), open()
	defer second.Close()
	require.NoError(t, lock.Try(first))
	assert.ErrorIs(t, lock.Try(second), lock.ErrHeld)
	waited := make(chan error)
	go func() { waited <- lock.Wait(second) }()
	require.NoError(t, first.Close())
	require.NoError(t, <-waited, "a lock ends with its file")
}
