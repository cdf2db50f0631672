// Package passing hands open sockets from one process to another beside a line
// of JSON, over a Unix socket (SCM_RIGHTS, unix(7)).
package passing

// longest is the longest line that may stand beside a socket, in bytes.
const longest = 4 << 10
