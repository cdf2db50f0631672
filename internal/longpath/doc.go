// Package longpath opens Unix sockets whose path may be longer than a socket's
// address has room for (107 bytes, unix(7)): it goes by the open folder.
package longpath

import "errors"

// ErrNobody says that there is no socket, or that nobody listens on it.
var ErrNobody = errors.New("nobody listens")
