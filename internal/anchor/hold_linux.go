package anchor

import (
	"fmt"
	"net"
	"os"
	"os/signal"
	"path/filepath"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"kettlehole/internal/reap"
)

// restartPause keeps a worker that fails at once from spinning.
const restartPause = 200 * time.Millisecond

// Hold is the anchor's life, as the first process of its namespaces:
//
//  1. take the lock, and say so on file descriptor 3;
//  2. wait on file descriptor 4 for leave to begin; its end is the end;
//  3. make the mounts private, with /proc of the own PID namespace;
//  4. keep the worker running, which does all the work inside;
//  5. reap, until it is killed.
func Hold(folder string) error {
	says, hears := os.NewFile(3, "says"), os.NewFile(4, "hears")
	syscall.CloseOnExec(3)
	syscall.CloseOnExec(4)
	signals := make(chan os.Signal, 1)
	signal.Notify(signals, unix.SIGTERM, unix.SIGINT, unix.SIGHUP)
	lock, err := os.OpenFile(filepath.Join(folder, lockFile), os.O_CREATE|os.O_RDWR, 0o600)
	if err == nil {
		err = unix.FcntlFlock(lock.Fd(), unix.F_SETLK, &unix.Flock_t{Type: unix.F_WRLCK})
	}
	if err != nil {
		err = fmt.Errorf("taking the lock: %w", err)
		fmt.Fprintln(says, err)
		return err
	}
	fmt.Fprintln(says, "locked")
	if n, _ := hears.Read(make([]byte, 3)); n == 0 {
		return nil
	}
	listener, err := prepare(folder)
	if err != nil {
		fmt.Fprintln(says, err)
		return err
	}
	worker := &worker{folder: folder, listener: listener, reaper: reap.New()}
	done, err := worker.start()
	if err != nil {
		fmt.Fprintln(says, err)
		return err
	}
	fmt.Fprintln(says, "ready")
	_, _ = says.Close(), hears.Close()
	for {
		select {
		case <-signals:
			return nil // and the kernel ends everything in here
		case code := <-done:
			fmt.Fprintf(os.Stderr, "the worker ended with code %d and is started again\n", code)
			time.Sleep(restartPause)
			if done, err = worker.start(); err != nil {
				return err
			}
		}
	}
}

// prepare makes the mount namespace the lab's own and opens the worker's
// socket, which outlives any one worker.
func prepare(folder string) (*os.File, error) {
	if err := unix.Mount("", "/", "", unix.MS_SLAVE|unix.MS_REC, ""); err != nil {
		return nil, fmt.Errorf("making mounts private: %w", err)
	}
	if err := unix.Mount("proc", "/proc", "proc", unix.MS_NOSUID|unix.MS_NODEV|unix.MS_NOEXEC, ""); err != nil {
		return nil, fmt.Errorf("mounting /proc: %w", err)
	}
	inside := filepath.Join(folder, Mounts)
	if err := unix.Mount("kettlehole", inside, "tmpfs", unix.MS_NOSUID|unix.MS_NODEV, "mode=0700"); err != nil {
		return nil, fmt.Errorf("mounting %q: %w", inside, err)
	}
	if err := os.Chdir(folder); err != nil {
		return nil, err
	}
	if err := os.Remove(Socket); err != nil && !os.IsNotExist(err) {
		return nil, err
	}
	// Relative, since a socket's path has room for 107 bytes only (unix(7)).
	listener, err := net.ListenUnix("unix", &net.UnixAddr{Name: Socket})
	if err != nil {
		return nil, fmt.Errorf("opening the worker's socket: %w", err)
	}
	listener.SetUnlinkOnClose(false)
	if err := os.Chmod(Socket, 0o600); err != nil {
		return nil, err
	}
	file, err := listener.File()
	if err != nil {
		return nil, err
	}
	return file, listener.Close()
}

// worker is the process that does the work inside.
type worker struct {
	folder   string
	listener *os.File
	reaper   *reap.Reaper
}

func (w *worker) start() (<-chan int, error) {
	_, done, err := w.reaper.Start("/proc/self/exe", []string{"kettlehole-anchor", "inside", w.folder}, &syscall.ProcAttr{
		Dir: w.folder, Env: os.Environ(), Files: []uintptr{0, 1, 2, w.listener.Fd()}, Sys: &syscall.SysProcAttr{Setsid: true}})
	if err != nil {
		return nil, fmt.Errorf("starting the worker: %w", err)
	}
	return done, nil
}
