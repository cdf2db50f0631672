//go:build !linux

package longpath

import (
	"context"
	"net"
)

// Dial finds nobody: keepers work on Linux alone.
func Dial(context.Context, string) (net.Conn, error) { return nil, ErrNobody }
