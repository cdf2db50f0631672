//go:build !unix

package agent

import (
	"errors"
	"net"
)

// receive is not possible here, where no node can live either.
func receive(*net.UnixConn) (net.Conn, error) { return nil, errors.ErrUnsupported }
