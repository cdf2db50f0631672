//go:build !unix

package cli

import "syscall"

// resized stands for a signal that never comes here.
const resized = syscall.Signal(0)
