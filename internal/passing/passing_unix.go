//go:build unix

package passing

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"syscall"

	"golang.org/x/sys/unix"
)

// Send writes words as a line of JSON, with a copy of the socket beside it.
// The caller keeps its own.
func Send(conn *net.UnixConn, words any, socket syscall.Conn) error {
	line, err := json.Marshal(words)
	if err != nil {
		return err
	}
	raw, err := socket.SyscallConn()
	if err != nil {
		return fmt.Errorf("passing a socket: %w", err)
	}
	var sent error
	err = raw.Control(func(fd uintptr) {
		_, _, sent = conn.WriteMsgUnix(append(line, '\n'), unix.UnixRights(int(fd)), nil)
	})
	if err == nil {
		err = sent
	}
	if err != nil {
		return fmt.Errorf("passing a socket: %w", err)
	}
	return nil
}

// Receive reads a line of JSON into words, and the socket beside it, nil where
// there is none. The caller closes it.
func Receive(conn *net.UnixConn, words any) (*os.File, error) {
	data, control := make([]byte, longest), make([]byte, unix.CmsgSpace(4))
	n, cn, _, _, err := conn.ReadMsgUnix(data, control)
	if err != nil {
		return nil, fmt.Errorf("receiving a socket: %w", err)
	}
	var fds []int
	if messages, err := unix.ParseSocketControlMessage(control[:cn]); err == nil && len(messages) == 1 {
		fds, _ = unix.ParseUnixRights(&messages[0])
	}
	if err := json.Unmarshal(bytes.TrimSpace(data[:n]), words); err != nil || len(fds) > 1 {
		for _, fd := range fds {
			_ = unix.Close(fd)
		}
		return nil, fmt.Errorf("receiving a socket: %d came, with %q: %w", len(fds), data[:n], err)
	}
	if len(fds) == 0 {
		return nil, nil
	}
	unix.CloseOnExec(fds[0])
	return os.NewFile(uintptr(fds[0]), "received"), nil
}
