//go:build unix

package cli

import "syscall"

// resized is the signal that says that a terminal has another size.
const resized = syscall.SIGWINCH
