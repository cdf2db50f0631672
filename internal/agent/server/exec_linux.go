package server

import (
	"bufio"
	"encoding/binary"
	"errors"
	"io"
	"net"
	"os"
	"sync"
	"syscall"
	"time"

	"github.com/creack/pty"
	"golang.org/x/sys/unix"

	"kettlehole/internal/agent"
)

// exec runs a program with its streams on the connection.
func (s *Server) exec(conn net.Conn, reader *bufio.Reader, want *agent.Exec) {
	if want == nil || len(want.Argv) == 0 {
		_ = answer(conn, agent.Reply{Error: "a program is needed"})
		return
	}
	p, err := s.open(want)
	if err != nil {
		_ = answer(conn, agent.Reply{Error: err.Error()})
		return
	}
	defer s.rest.Reset(restAfter)
	if answer(conn, agent.Reply{}) != nil {
		p.hangUp()
	}
	send := &frames{conn: conn}
	var streams sync.WaitGroup
	for kind, from := range p.outputs {
		streams.Go(func() { send.copy(kind, from) })
	}
	go p.input(reader)
	exit := <-p.done
	drained := make(chan struct{})
	go func() { streams.Wait(); close(drained) }()
	select {
	case <-drained:
	case <-time.After(lingerOutput): // a program left in the background holds the output
	}
	_ = send.frame(agent.FrameExit, binary.BigEndian.AppendUint32(nil, uint32(exit)))
	for _, from := range p.outputs {
		_ = from.Close()
	}
	streams.Wait()
}

// program is a started program with its ends of the streams.
type program struct {
	pid     int
	done    <-chan int
	in      *os.File
	outputs map[byte]*os.File
	tty     bool
}

func (s *Server) open(want *agent.Exec) (*program, error) {
	env := s.environment(want.Env...)
	if want.TTY {
		return s.openTerminal(want, env)
	}
	var mine, theirs [3]*os.File
	closeAll := func(files [3]*os.File) {
		for _, f := range files {
			if f != nil {
				_ = f.Close()
			}
		}
	}
	for i := range mine {
		r, w, err := os.Pipe()
		if err != nil {
			closeAll(mine)
			closeAll(theirs)
			return nil, err
		}
		if mine[i], theirs[i] = r, w; i == 0 {
			mine[i], theirs[i] = w, r
		}
	}
	pid, done, err := s.start(want.Argv, env, theirs[:], &syscall.SysProcAttr{Setsid: true})
	closeAll(theirs)
	if err != nil {
		closeAll(mine)
		return nil, err
	}
	return &program{pid: pid, done: done, in: mine[0], outputs: map[byte]*os.File{agent.FrameOutput: mine[1], agent.FrameErrors: mine[2]}}, nil
}

func (s *Server) openTerminal(want *agent.Exec, env []string) (*program, error) {
	master, terminal, err := pty.Open()
	if err != nil {
		return nil, err
	}
	defer terminal.Close()
	if want.Rows > 0 && want.Cols > 0 {
		_ = pty.Setsize(master, &pty.Winsize{Rows: want.Rows, Cols: want.Cols})
	}
	pid, done, err := s.start(want.Argv, env, []*os.File{terminal, terminal, terminal}, &syscall.SysProcAttr{Setsid: true, Setctty: true})
	if err != nil {
		return nil, errors.Join(err, master.Close())
	}
	return &program{pid: pid, done: done, in: master, outputs: map[byte]*os.File{agent.FrameOutput: master}, tty: true}, nil
}

// input serves the client's frames until the connection ends.
func (p *program) input(from io.Reader) {
	var buffer []byte // grows with what comes, which for most programs is nothing
	for {
		kind, content, err := agent.ReadFrame(from, buffer)
		if err != nil {
			p.hangUp()
			return
		}
		buffer = content[:cap(content)]
		switch {
		case kind == agent.FrameInput:
			_, _ = p.in.Write(content) // a program that does not read is no error of the connection
		case kind == agent.FrameEOF && p.tty:
			_, _ = p.in.Write([]byte{4})
		case kind == agent.FrameEOF:
			_ = p.in.Close()
		case kind == agent.FrameSize && p.tty && len(content) == 4:
			_ = pty.Setsize(p.in, &pty.Winsize{Rows: binary.BigEndian.Uint16(content), Cols: binary.BigEndian.Uint16(content[2:])})
		case kind == agent.FrameSignal && len(content) == 1:
			_ = unix.Kill(-p.pid, unix.Signal(content[0]))
		}
	}
}

// hangUp is what the program sees when its client goes away.
func (p *program) hangUp() {
	_ = unix.Kill(-p.pid, unix.SIGHUP)
	if !p.tty {
		_ = p.in.Close()
	}
}

// frames writes frames of several streams, one at a time.
type frames struct {
	mu   sync.Mutex
	conn net.Conn
}

func (f *frames) frame(kind byte, content []byte) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	return agent.WriteFrame(f.conn, kind, content)
}

// outputs are buffers that programs' output passes through.
var outputs = sync.Pool{New: func() any { b := make([]byte, 16<<10); return &b }}

// copy sends a stream until its end; a terminal's ends with an error.
func (f *frames) copy(kind byte, from *os.File) {
	pooled := outputs.Get().(*[]byte)
	defer outputs.Put(pooled)
	buffer := *pooled
	for {
		n, err := from.Read(buffer)
		if n > 0 && f.frame(kind, buffer[:n]) != nil {
			return
		}
		if err != nil {
			return
		}
	}
}
