package server

import (
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// start runs a program of the node in the home of its root user.
func (s *Server) start(argv, env []string, files []*os.File, attr *syscall.SysProcAttr) (int, <-chan int, error) {
	path, err := lookPath(argv[0], env)
	if err != nil {
		return 0, nil, err
	}
	fds := make([]uintptr, len(files))
	for i, f := range files {
		fds[i] = f.Fd()
	}
	dir := "/root"
	if _, err := os.Stat(dir); err != nil {
		dir = "/"
	}
	return s.reaper.Start(path, argv, &syscall.ProcAttr{Dir: dir, Env: env, Files: fds, Sys: attr})
}

// lookPath finds a program in the PATH of env.
func lookPath(name string, env []string) (string, error) {
	if strings.Contains(name, "/") {
		return name, nil
	}
	path := defaultPath
	for _, e := range env {
		if value, found := strings.CutPrefix(e, "PATH="); found {
			path = value
		}
	}
	for _, folder := range filepath.SplitList(path) {
		full := filepath.Join(folder, name)
		if info, err := os.Stat(full); err == nil && info.Mode().IsRegular() && info.Mode()&0o111 != 0 {
			return full, nil
		}
	}
	return "", &os.PathError{Op: "finding", Path: name, Err: os.ErrNotExist}
}

// endMarked ends every process that has the mark in its environment, asking
// first and insisting after grace.
func endMarked(mark string, grace time.Duration) {
	end(func(pid string) bool {
		env, err := os.ReadFile("/proc/" + pid + "/environ")
		return err == nil && strings.Contains("\x00"+string(env), "\x00"+mark+"\x00")
	}, grace, unix.SIGTERM)
}

// end ends the processes for which is says so, asking first and insisting after
// grace.
func end(is func(pid string) bool, grace time.Duration, asking ...syscall.Signal) {
	const step = 20 * time.Millisecond
	for waited := time.Duration(0); ; waited += step {
		pids := others(is)
		if len(pids) == 0 || waited > grace+2*time.Second {
			return
		}
		signals := asking
		if waited >= grace {
			signals = []syscall.Signal{unix.SIGKILL}
		}
		if waited == 0 || waited >= grace {
			for _, pid := range pids {
				for _, sig := range signals {
					_ = unix.Kill(pid, sig)
				}
			}
		}
		time.Sleep(step)
	}
}

// others lists the processes beside this one for which is says so.
func others(is func(pid string) bool) []int {
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return nil
	}
	var pids []int
	for _, e := range entries {
		if pid, err := strconv.Atoi(e.Name()); err == nil && pid != os.Getpid() && is(e.Name()) {
			pids = append(pids, pid)
		}
	}
	return pids
}

// haltGrace is how long programs have that nobody counts as services.
const haltGrace = 2 * time.Second

// halt ends everything on the node but its first process: the services, the
// last one first, then what else runs. What shells leave to their terminal
// ends with it (SIGHUP).
func (s *Server) halt() error {
	if os.Getpid() != 1 {
		return errors.New("only the first process of a node may end all others")
	}
	s.changed.L.Lock()
	order := slices.Clone(s.order)
	s.changed.L.Unlock()
	for _, name := range slices.Backward(order) {
		if err := s.stopService(name); err != nil {
			return err
		}
	}
	end(func(pid string) bool {
		stat, err := os.ReadFile("/proc/" + pid + "/stat")
		state := string(stat[strings.LastIndex(string(stat), ")")+1:])
		return err == nil && !strings.HasPrefix(state, " Z") // proc_pid_stat(5); the dead are reaped
	}, haltGrace, unix.SIGTERM, unix.SIGHUP)
	return nil
}
