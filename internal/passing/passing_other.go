//go:build !unix

package passing

import (
	"errors"
	"net"
	"os"
	"syscall"
)

var errNone = errors.New("this system passes no sockets")

// Send says that this system passes no sockets.
func Send(*net.UnixConn, any, syscall.Conn) error { return errNone }

// Receive says that this system passes no sockets.
func Receive(*net.UnixConn, any) (*os.File, error) { return nil, errNone }
