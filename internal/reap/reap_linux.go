// Package reap starts processes in a process that is the parent of all
// orphans: the first of a PID namespace, or a child sub-reaper (prctl(2)).
package reap

import (
	"bytes"
	"os"
	"os/signal"
	"sync"
	"syscall"

	"golang.org/x/sys/unix"
)

// Reaper starts processes and waits for every child of this process, its own
// and those that orphaned processes leave to it. It is safe for concurrent use.
type Reaper struct {
	mu      sync.Mutex // held while forking, so that no exit is seen before its process is known
	waiting map[int]chan int
}

// New begins to wait for every child of this process; nothing else in the
// process may wait for children.
func New() *Reaper {
	r := &Reaper{waiting: map[int]chan int{}}
	signals := make(chan os.Signal, 8)
	signal.Notify(signals, unix.SIGCHLD)
	go func() {
		for range signals {
			r.reap()
		}
	}()
	return r
}

func (r *Reaper) reap() {
	for {
		var status unix.WaitStatus
		r.mu.Lock()
		pid, err := unix.Wait4(-1, &status, unix.WNOHANG, nil)
		if pid <= 0 {
			r.mu.Unlock()
			if err == unix.EINTR {
				continue
			}
			return
		}
		if done := r.waiting[pid]; done != nil {
			done <- exitCode(status)
			delete(r.waiting, pid)
		}
		r.mu.Unlock()
	}
}

// exitCode is the code a shell would show.
func exitCode(status unix.WaitStatus) int {
	if status.Signaled() {
		return 128 + int(status.Signal())
	}
	return status.ExitStatus()
}

// childScore makes the kernel, when memory ends, choose a program before the
// process that keeps them all (proc_pid_oom_score_adj(5)).
const childScore = "500"

// Start runs a program. The channel gives its exit code once.
func (r *Reaper) Start(path string, argv []string, attr *syscall.ProcAttr) (int, <-chan int, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	// The child inherits the score. Where it cannot be set, it is not.
	const score = "/proc/self/oom_score_adj"
	if before, err := os.ReadFile(score); err == nil && os.WriteFile(score, []byte(childScore), 0) == nil {
		defer func() { _ = os.WriteFile(score, bytes.TrimSpace(before), 0) }()
	}
	pid, err := syscall.ForkExec(path, argv, attr)
	if err != nil {
		return 0, nil, &os.PathError{Op: "starting", Path: path, Err: err}
	}
	done := make(chan int, 1)
	r.waiting[pid] = done
	return pid, done, nil
}
