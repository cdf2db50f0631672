package reach

import (
	"net"

	"golang.org/x/sys/unix"
)

// volume tells how many bytes a connection that goes on has received and sent,
// as the kernel counts them (TCP_INFO, tcp(7)), since bytes that are spliced
// never pass through here. A connection of another kind tells nothing.
func volume(conn net.Conn) (received, sent int64) {
	tcp, is := conn.(*net.TCPConn)
	if !is {
		return 0, 0
	}
	raw, err := tcp.SyscallConn()
	if err != nil {
		return 0, 0
	}
	_ = raw.Control(func(fd uintptr) {
		if info, err := unix.GetsockoptTCPInfo(int(fd), unix.IPPROTO_TCP, unix.TCP_INFO); err == nil {
			received, sent = int64(info.Bytes_received), int64(info.Bytes_acked)
		}
	})
	return received, sent
}
