package login

import (
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"sync/atomic"

	"golang.org/x/crypto/ssh"
	"golang.org/x/sys/unix"

	"kettlehole/internal/agent"
)

// joinChannel passes bytes both ways until both have ended.
func joinChannel(channel ssh.Channel, conn net.Conn) {
	var both sync.WaitGroup
	both.Go(func() {
		_, err := io.Copy(conn, channel)
		if half, is := conn.(interface{ CloseWrite() error }); is && err == nil {
			_ = half.CloseWrite()
		} else {
			_ = conn.Close()
		}
	})
	_, err := io.Copy(channel, conn)
	if err == nil {
		_ = channel.CloseWrite()
	} else {
		_ = channel.Close()
	}
	both.Wait()
	_, _ = conn.Close(), channel.Close()
}

// signals are those that a client may send (RFC 4254, section 6.10).
var signals = map[string]unix.Signal{"ABRT": unix.SIGABRT, "ALRM": unix.SIGALRM, "FPE": unix.SIGFPE, "HUP": unix.SIGHUP, "ILL": unix.SIGILL, "INT": unix.SIGINT, "KILL": unix.SIGKILL,
	"PIPE": unix.SIGPIPE, "QUIT": unix.SIGQUIT, "SEGV": unix.SIGSEGV, "TERM": unix.SIGTERM, "USR1": unix.SIGUSR1, "USR2": unix.SIGUSR2}

// mostVariables bounds what a client may set in a session's environment.
const mostVariables = 128

// session is one program on the node (RFC 4254, section 6).
func (v *visit) session(channel ssh.Channel, requests <-chan *ssh.Request) {
	defer channel.Close()
	var want agent.Exec
	var running atomic.Pointer[agent.Session]
	var program sync.WaitGroup
	for request := range requests {
		session := running.Load()
		switch request.Type {
		case "pty-req":
			var pty struct {
				Term          string
				Cols, Rows    uint32
				Width, Height uint32
				Modes         string
			}
			ok := ssh.Unmarshal(request.Payload, &pty) == nil && session == nil
			if ok {
				want.TTY, want.Cols, want.Rows = true, uint16(pty.Cols), uint16(pty.Rows)
				want.Env = append(want.Env, "TERM="+strings.ReplaceAll(pty.Term, "\x00", ""))
			}
			answer(request, ok, nil)
		case "env":
			var variable struct{ Name, Value string }
			ok := ssh.Unmarshal(request.Payload, &variable) == nil && session == nil && len(want.Env) < mostVariables &&
				variable.Name != "" && !strings.ContainsAny(variable.Name, "=\x00") && !strings.Contains(variable.Value, "\x00")
			if ok {
				want.Env = append(want.Env, variable.Name+"="+variable.Value)
			}
			answer(request, ok, nil)
		case "shell", "exec", "subsystem":
			argv, err := command(request)
			if err == nil && session != nil {
				err = errors.New("a session has one program")
			}
			if err == nil {
				want.Argv = argv
				session, err = v.way.Exec(v.server.ctx, want)
			}
			answer(request, err == nil, nil)
			if err != nil {
				_, _ = fmt.Fprintf(channel.Stderr(), "kettlehole: %v\r\n", err)
				continue
			}
			running.Store(session)
			program.Go(func() { run(channel, session) })
		case "window-change":
			var size struct{ Cols, Rows, Width, Height uint32 }
			if ssh.Unmarshal(request.Payload, &size) == nil && session != nil {
				_ = session.Resize(uint16(size.Rows), uint16(size.Cols))
			}
		case "signal":
			var signal struct{ Name string }
			if ssh.Unmarshal(request.Payload, &signal) == nil && session != nil && signals[signal.Name] != 0 {
				_ = session.Signal(byte(signals[signal.Name]))
			}
		default:
			answer(request, false, nil) // agent and X11 among them
		}
	}
	// The client is gone; what it ran hears of it.
	if session := running.Load(); session != nil {
		_ = session.Close()
	}
	program.Wait()
}

// command is what a request wants to be run.
func command(request *ssh.Request) ([]string, error) {
	var text struct{ Text string }
	if request.Type != "shell" {
		if err := ssh.Unmarshal(request.Payload, &text); err != nil {
			return nil, err
		}
	}
	switch {
	case request.Type == "shell":
		return agent.LoginShell, nil
	case request.Type == "exec":
		return []string{"/bin/sh", "-c", text.Text}, nil
	case text.Text == "sftp":
		return agent.FileServer, nil
	}
	return nil, fmt.Errorf("there is no subsystem %q", text.Text)
}

// run passes the program's streams, and its end.
func run(channel ssh.Channel, session *agent.Session) {
	go func() {
		_, _ = io.Copy(session, channel)
		_ = session.CloseInput()
	}()
	exit, err := session.Wait(channel, channel.Stderr())
	if err != nil {
		exit = 255
	}
	_ = session.Close()
	_ = channel.CloseWrite()
	_, _ = channel.SendRequest("exit-status", false, ssh.Marshal(struct{ Status uint32 }{uint32(exit)}))
	_ = channel.Close()
}
