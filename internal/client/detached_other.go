//go:build !unix

package client

import "syscall"

// detached has nothing to say where no keeper can work.
func detached() *syscall.SysProcAttr { return nil }
