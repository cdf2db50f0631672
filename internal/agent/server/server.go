// Package server is the node's side of the agent protocol: what our init, the
// first process of a node, does. It reaps, runs scripts, keeps services
// running and keeps their logs.
package server

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"time"

	"kettlehole/internal/agent"
	"kettlehole/internal/mask"
	"kettlehole/internal/reap"
)

// Options say where the init keeps what it needs.
type Options struct {
	Run  string // folder for scripts and facts, gone when the node ends
	Logs string // folder for logs
}

// Server answers requests. Its methods are safe for concurrent use.
type Server struct {
	options Options
	reaper  *reap.Reaper
	secrets mask.Set
	rest    *time.Timer // gives memory back once nothing has been asked for a while
	changed *sync.Cond  // guards what follows; tells watchers of a change

	env      []string
	services map[string]*service
	order    []string
	jobs     map[string]*job
}

// New makes a server and begins to reap: every child of this process is
// waited for by it, so that nothing else in the process may start children.
func New(options Options) (*Server, error) {
	for _, folder := range []string{options.Run, filepath.Join(options.Run, "jobs"), options.Logs} {
		if err := os.MkdirAll(folder, 0o755); err != nil {
			return nil, fmt.Errorf("making the init's folder: %w", err)
		}
	}
	rest := time.AfterFunc(restAfter, func() {
		debug.SetGCPercent(gcPercent)
		debug.FreeOSMemory()
	})
	debug.SetMemoryLimit(memoryLimit)
	return &Server{options: options, rest: rest, reaper: reap.New(), changed: sync.NewCond(&sync.Mutex{}),
		env: []string{"PATH=" + defaultPath}, services: map[string]*service{}, jobs: map[string]*job{}}, nil
}

// An init is to stay small: it collects often, and always before it has taken
// this many bytes.
const (
	gcPercent   = 10
	memoryLimit = 8 << 20
)

// restAfter is how long after a program ended the init gives memory back.
const restAfter = 2 * time.Second

const defaultPath = "/opt/lab/bin:/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"

// Serve answers connections until the listener is closed.
func (s *Server) Serve(listener net.Listener) error {
	for {
		conn, err := listener.Accept()
		if err != nil {
			return fmt.Errorf("accepting management connections: %w", err)
		}
		go s.serve(conn)
	}
}

// serve answers the requests of one connection.
func (s *Server) serve(conn net.Conn) {
	defer conn.Close()
	reader := bufio.NewReaderSize(conn, 4<<10)
	for {
		line, err := reader.ReadBytes('\n')
		if err != nil {
			return
		}
		var request agent.Request
		if err := json.Unmarshal(line, &request); err != nil {
			_ = answer(conn, agent.Reply{Error: "the request is not understood: " + err.Error()})
			return
		}
		switch request.Op {
		case agent.OpExec:
			s.exec(conn, reader, request.Exec)
			return
		case agent.OpWatch:
			s.watch(conn)
			return
		case agent.OpTake:
			s.take(conn, reader, request)
			return
		case agent.OpSend:
			s.send(conn, request)
			return
		case agent.OpDial, agent.OpListen:
			s.socket(conn, request)
			return
		}
		reply, err := s.handle(conn, request)
		if err != nil {
			reply.Error = err.Error()
		}
		if answer(conn, reply) != nil {
			return
		}
	}
}

func answer(w io.Writer, reply any) error {
	line, err := json.Marshal(reply)
	if err != nil {
		return err
	}
	_, err = w.Write(append(line, '\n'))
	return err
}

func (s *Server) handle(conn net.Conn, request agent.Request) (reply agent.Reply, err error) {
	switch {
	case request.Op == agent.OpHello:
	case request.Op == agent.OpConfigure && request.Configure != nil:
		err = s.configure(*request.Configure)
	case request.Op == agent.OpStart:
		err = s.startService(request.Service)
	case request.Op == agent.OpStop:
		err = s.stopService(request.Service)
	case request.Op == agent.OpHalt:
		err = s.halt()
	case request.Op == agent.OpJob && request.Job != nil:
		reply.Job, err = s.job(*request.Job)
	case request.Op == agent.OpCancel && request.Job != nil:
		err = s.cancel(request.Job.ID)
	case request.Op == agent.OpProbe && request.Probe != nil:
		result := s.probe(*request.Probe)
		reply.Probe = &result
	case request.Op == agent.OpPut:
		err = put(request.Files)
	case request.Op == agent.OpReach:
		reply.Reach, err = reach(request.Reach)
	default:
		err = fmt.Errorf("this init does not know the request %q", request.Op)
	}
	return reply, err
}

func (s *Server) configure(c agent.Configure) error {
	s.secrets.Add(c.Secrets...)
	facts := filepath.Join(s.options.Run, "lab.json")
	if err := os.WriteFile(facts, c.Facts, 0o644); err != nil {
		return fmt.Errorf("writing the facts: %w", err)
	}
	s.changed.L.Lock()
	defer s.changed.L.Unlock()
	s.env = c.Env
	if !slices.ContainsFunc(s.env, func(e string) bool { return strings.HasPrefix(e, "PATH=") }) {
		s.env = append(slices.Clone(s.env), "PATH="+defaultPath)
	}
	for name, have := range s.services {
		if !slices.ContainsFunc(c.Services, func(want agent.Service) bool { return want.Name == name }) {
			delete(s.services, name)
			s.order = slices.DeleteFunc(s.order, func(other string) bool { return other == name })
			have.leave(nil)
		}
	}
	for _, want := range c.Services {
		if have := s.services[want.Name]; have != nil {
			if have.want.Run != want.Run {
				have.leave(func() { _ = s.startService(want.Name) }) // nothing waits for it; its state tells how it goes
			}
			have.want = want
			continue
		}
		s.services[want.Name] = newService(s, want)
		s.order = append(s.order, want.Name)
	}
	s.changed.Broadcast()
	return nil
}

// environment is what every program sees, and more.
func (s *Server) environment(more ...string) []string {
	s.changed.L.Lock()
	defer s.changed.L.Unlock()
	return append(append([]string{"HOME=/root", "LANG=C.UTF-8"}, s.env...), more...)
}

// addresses are the node's own on its first network, none before it is
// configured.
func (s *Server) addresses() []string {
	var all []string
	for _, e := range s.environment() {
		if name, value, _ := strings.Cut(e, "="); name == "ADDRESS" || name == "ADDRESS6" {
			all = append(all, value)
		}
	}
	return all
}

// watch streams the state of services until the connection ends.
func (s *Server) watch(conn net.Conn) {
	if answer(conn, agent.Reply{}) != nil {
		return
	}
	ctx, cancel := context.WithCancel(context.Background())
	go func() {
		_, _ = conn.Read(make([]byte, 1)) // returns when the client is gone
		cancel()
		s.changed.L.Lock()
		defer s.changed.L.Unlock()
		s.changed.Broadcast()
	}()
	sent := map[string]agent.Status{}
	for {
		var due []agent.Status
		s.changed.L.Lock()
		for ctx.Err() == nil {
			for _, name := range s.order {
				if now := s.services[name].status; sent[name] != now {
					due = append(due, now)
					sent[name] = now
				}
			}
			if len(due) > 0 {
				break
			}
			s.changed.Wait()
		}
		s.changed.L.Unlock()
		for _, status := range due {
			if answer(conn, status) != nil {
				cancel()
			}
		}
		if ctx.Err() != nil {
			return
		}
	}
}

var errNoPort = errors.New("a port is needed")

// dialPort connects to a port of this node, where a program may listen on the
// node's address or on its loopback alone.
func (s *Server) dialPort(port uint16, timeout time.Duration) (net.Conn, error) {
	if port == 0 {
		return nil, errNoPort
	}
	dialer := net.Dialer{Timeout: timeout, FallbackDelay: -1, KeepAlive: -1}
	var first error
	for _, host := range append(s.addresses(), "127.0.0.1", "::1") {
		conn, err := dialer.Dial("tcp", net.JoinHostPort(host, fmt.Sprint(port)))
		if err == nil {
			return conn, nil
		}
		if first == nil {
			first = err
		}
	}
	return nil, plainError(first)
}

// plainError leaves out of a failed dial what the asker knows.
func plainError(err error) error {
	var inner *net.OpError
	if !errors.As(err, &inner) || inner.Err == nil {
		return err
	}
	var call *os.SyscallError
	if errors.As(inner.Err, &call) {
		return call.Err
	}
	return inner.Err
}
