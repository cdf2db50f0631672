// Package lock locks open files among processes (flock(2)). A lock ends with
// the file's last handle, however its holder ends.
package lock

import "errors"

// ErrHeld says that somebody else holds the lock.
var ErrHeld = errors.New("somebody else holds the lock")
