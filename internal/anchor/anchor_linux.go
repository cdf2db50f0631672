// Package anchor starts, finds and ends the tiny process that holds a lab's
// namespaces. Everything of a lab that lives in the kernel hangs on it: when
// it dies, by whatever hand, the kernel takes all of it back.
//
// The anchor is found by a lock that it keeps on a file in the lab's folder
// (fcntl(2), advisory record locking), so that neither a crash nor a reused
// process number can mislead anybody.
package anchor

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// ErrAbsent says that a lab has no anchor.
var ErrAbsent = errors.New("the lab has no anchor")

// The files of an anchor, in the lab's folder.
const (
	lockFile = "anchor.lock"
	// Socket is where the worker inside the lab's namespaces listens.
	Socket = "inside.sock"
	// Mounts is a folder that only the inside sees filled: a file system in
	// memory with mount points and what else must go with the lab.
	Mounts  = "mnt"
	logFile = "anchor.log"
)

// Mark is the variable in the environment of every process of a lab; its
// value is the lab's id.
const Mark = "KETTLEHOLE_LAB"

const namespaces = unix.CLONE_NEWPID | unix.CLONE_NEWNS | unix.CLONE_NEWIPC | unix.CLONE_NEWUTS | unix.CLONE_NEWNET

// Start starts the anchor of the lab whose folder is given; program is the
// anchor's executable, id marks the lab's processes. Before the anchor does anything at all, record is told
// its process number and may still refuse.
func Start(ctx context.Context, program, folder, id string, record func(pid int) error) error {
	if err := os.MkdirAll(filepath.Join(folder, Mounts), 0o700); err != nil {
		return fmt.Errorf("making the anchor's folder: %w", err)
	}
	log, err := os.OpenFile(filepath.Join(folder, logFile), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return fmt.Errorf("opening the anchor's log: %w", err)
	}
	defer log.Close()
	said, says, err := os.Pipe()
	if err != nil {
		return err
	}
	defer said.Close()
	hears, tell, err := os.Pipe()
	if err != nil {
		return errors.Join(err, says.Close())
	}
	defer tell.Close()
	cmd := exec.Command(program, "hold", folder)
	cmd.Stdout, cmd.Stderr = log, log
	cmd.ExtraFiles = []*os.File{says, hears}
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), Mark + "=" + id}
	cmd.SysProcAttr = &syscall.SysProcAttr{Cloneflags: namespaces, Setsid: true}
	err = cmd.Start()
	_, _ = says.Close(), hears.Close()
	if err != nil {
		return fmt.Errorf("starting the anchor: %w", err)
	}
	go func() { _ = cmd.Wait() }() // it outlives this process, or is reaped when it ends
	stop := context.AfterFunc(ctx, func() { _ = said.SetReadDeadline(time.Unix(1, 0)) })
	defer stop()
	lines := bufio.NewReader(said)
	if err := expect(lines, "locked"); err != nil {
		return errors.Join(err, ctx.Err())
	}
	if err := record(cmd.Process.Pid); err != nil {
		return err // the closing pipe ends the anchor
	}
	if _, err := io.WriteString(tell, "go\n"); err != nil {
		return fmt.Errorf("starting the anchor: %w", err)
	}
	return errors.Join(expect(lines, "ready"), ctx.Err())
}

func expect(from *bufio.Reader, word string) error {
	line, err := from.ReadString('\n')
	if line = strings.TrimSpace(line); line == word {
		return nil
	}
	if line == "" {
		return fmt.Errorf("starting the anchor: it ended before it was %s (%v)", word, err)
	}
	return fmt.Errorf("starting the anchor: %s", line)
}

// Find gives the process number of the lab's anchor, or [ErrAbsent].
func Find(folder string) (int, error) {
	file, err := os.Open(filepath.Join(folder, lockFile))
	if errors.Is(err, os.ErrNotExist) {
		return 0, ErrAbsent
	} else if err != nil {
		return 0, fmt.Errorf("looking for the anchor: %w", err)
	}
	defer file.Close()
	lock := unix.Flock_t{Type: unix.F_WRLCK}
	if err := unix.FcntlFlock(file.Fd(), unix.F_GETLK, &lock); err != nil {
		return 0, fmt.Errorf("looking for the anchor: %w", err)
	}
	if lock.Type == unix.F_UNLCK || lock.Pid <= 0 {
		return 0, ErrAbsent
	}
	return int(lock.Pid), nil
}

// End kills the lab's anchor and waits until every process in its namespaces
// is gone. A lab without an anchor is no error.
func End(ctx context.Context, folder string) error {
	pid, err := Find(folder)
	if errors.Is(err, ErrAbsent) {
		return nil
	} else if err != nil {
		return err
	}
	fd, err := unix.PidfdOpen(pid, 0)
	if errors.Is(err, unix.ESRCH) {
		return nil
	} else if err != nil {
		return fmt.Errorf("ending the anchor: %w", err)
	}
	defer unix.Close(fd)
	if again, err := Find(folder); err != nil || again != pid {
		return nil // it ended in between, and the number may be another's
	}
	if err := unix.PidfdSendSignal(fd, unix.SIGKILL, nil, 0); err != nil && !errors.Is(err, unix.ESRCH) {
		return fmt.Errorf("ending the anchor: %w", err)
	}
	for {
		// The first process of a PID namespace ends after all the others.
		n, err := unix.Poll([]unix.PollFd{{Fd: int32(fd), Events: unix.POLLIN}}, 100)
		if n > 0 {
			return nil
		}
		if err != nil && !errors.Is(err, unix.EINTR) {
			return fmt.Errorf("waiting for the anchor's end: %w", err)
		}
		if ctx.Err() != nil {
			return fmt.Errorf("waiting for the anchor's end: %w", ctx.Err())
		}
	}
}
