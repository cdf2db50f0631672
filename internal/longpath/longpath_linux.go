package longpath

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strconv"

	"golang.org/x/sys/unix"
)

// through calls do with a short name of path.
func through(path string, do func(short string) error) error {
	folder, err := os.Open(filepath.Dir(path))
	if err != nil {
		return err
	}
	defer folder.Close()
	raw, err := folder.SyscallConn()
	if err != nil {
		return err
	}
	controlErr := raw.Control(func(fd uintptr) {
		err = do(filepath.Join("/proc/self/fd", strconv.Itoa(int(fd)), filepath.Base(path)))
	})
	return errors.Join(controlErr, err)
}

// Dial connects to the socket at path. Its error is [ErrNobody] where nobody
// listens there.
func Dial(ctx context.Context, path string) (conn net.Conn, err error) {
	err = through(path, func(short string) error {
		var d net.Dialer
		conn, err = d.DialContext(ctx, "unix", short)
		return err
	})
	if errors.Is(err, unix.ENOENT) || errors.Is(err, unix.ECONNREFUSED) {
		err = fmt.Errorf("%w at %q", ErrNobody, path)
	}
	return conn, err
}

// Listen opens a socket at path, for its own user alone. The socket stays on
// disk when the listener is closed.
func Listen(path string) (listener *net.UnixListener, err error) {
	err = through(path, func(short string) error {
		listener, err = net.ListenUnix("unix", &net.UnixAddr{Name: short})
		if err != nil {
			return err
		}
		listener.SetUnlinkOnClose(false)
		return os.Chmod(short, 0o600)
	})
	return listener, err
}
