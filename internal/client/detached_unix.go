//go:build unix

package client

import "syscall"

// detached lets a keeper live on when the one who started it ends.
func detached() *syscall.SysProcAttr { return &syscall.SysProcAttr{Setsid: true} }
