//go:build unix

package lock

import (
	"os"

	"golang.org/x/sys/unix"
)

// Wait takes the lock, and waits for it as long as it takes.
func Wait(file *os.File) error { return unix.Flock(int(file.Fd()), unix.LOCK_EX) }

// Try takes the lock, or gives [ErrHeld] at once.
func Try(file *os.File) error {
	err := unix.Flock(int(file.Fd()), unix.LOCK_EX|unix.LOCK_NB)
	if err == unix.EWOULDBLOCK {
		return ErrHeld
	}
	return err
}
