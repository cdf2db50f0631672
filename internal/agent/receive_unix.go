//go:build unix

package agent

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"

	"golang.org/x/sys/unix"
)

// receive reads a reply with a socket beside it.
func receive(conn *net.UnixConn) (net.Conn, error) {
	data, control := make([]byte, 4<<10), make([]byte, unix.CmsgSpace(4))
	n, cn, _, _, err := conn.ReadMsgUnix(data, control)
	if err != nil {
		return nil, fmt.Errorf("receiving a socket: %w", err)
	}
	var fds []int
	if messages, err := unix.ParseSocketControlMessage(control[:cn]); err == nil && len(messages) == 1 {
		fds, _ = unix.ParseUnixRights(&messages[0])
	}
	var reply Reply
	err = json.Unmarshal(bytes.TrimSpace(data[:n]), &reply)
	if err == nil && reply.Error != "" {
		err = &Refused{reply.Error}
	}
	if err == nil && len(fds) != 1 {
		err = errors.New("receiving a socket: the node sent none")
	}
	if err != nil {
		for _, fd := range fds {
			_ = unix.Close(fd)
		}
		return nil, err
	}
	unix.CloseOnExec(fds[0])
	file := os.NewFile(uintptr(fds[0]), "dialled")
	defer file.Close()
	passed, err := net.FileConn(file)
	if err != nil {
		return nil, fmt.Errorf("receiving a socket: %w", err)
	}
	if _, isTCP := passed.(*net.TCPConn); !isTCP {
		return nil, errors.Join(errors.New("receiving a socket: the node sent something else"), passed.Close())
	}
	return passed, nil
}
