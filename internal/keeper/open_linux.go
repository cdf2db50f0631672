package keeper

import "golang.org/x/sys/unix"

// nonBlocking keeps the opening of what has just become a named pipe from
// waiting for a writer.
const nonBlocking = unix.O_NONBLOCK | unix.O_NOFOLLOW
