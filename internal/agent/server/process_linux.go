package server

import (
	"os"
	"path/filepath"
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
	const step = 20 * time.Millisecond
	for waited := time.Duration(0); ; waited += step {
		sig := unix.SIGTERM
		if waited >= grace {
			sig = unix.SIGKILL
		}
		pids := marked(mark)
		if len(pids) == 0 || waited > grace+2*time.Second {
			return
		}
		if waited == 0 || sig == unix.SIGKILL {
			for _, pid := range pids {
				_ = unix.Kill(pid, sig)
			}
		}
		time.Sleep(step)
	}
}

// marked lists the processes, zombies left out, that have the mark in their
// environment.
func marked(mark string) []int {
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return nil
	}
	var pids []int
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil || pid == os.Getpid() {
			continue
		}
		env, err := os.ReadFile("/proc/" + e.Name() + "/environ")
		if err == nil && strings.Contains("\x00"+string(env), "\x00"+mark+"\x00") {
			pids = append(pids, pid)
		}
	}
	return pids
}
