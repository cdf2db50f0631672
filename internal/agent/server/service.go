package server

import (
	"fmt"
	"io"
	"path/filepath"
	"time"

	"kettlehole/internal/agent"
	"kettlehole/internal/mask"
)

const (
	serviceLogLimit = 8 << 20 // bytes; as much again is kept put aside
	firstPause      = 200 * time.Millisecond
	longestPause    = 10 * time.Second
	settled         = 10 * time.Second // after running this long, the pause begins anew
	serviceGrace    = 10 * time.Second
)

const serviceMark = "KETTLEHOLE_SERVICE="

// The states of a service.
const (
	stopped = "stopped"
	running = "running"
	pausing = "pausing"
)

// service is a program that is kept running. Its fields are guarded by the
// server's lock.
type service struct {
	server *Server
	want   agent.Service
	status agent.Status
	stop   chan struct{} // closed to end it; nil while it is stopped
	ended  chan struct{} // closed when it has ended
}

func newService(s *Server, want agent.Service) *service {
	return &service{server: s, want: want, status: agent.Status{Service: want.Name, State: stopped, Since: time.Now().UnixMilli()}}
}

func (s *Server) startService(name string) error {
	s.changed.L.Lock()
	defer s.changed.L.Unlock()
	one := s.services[name]
	if one == nil {
		return fmt.Errorf("this node has no service %q", name)
	}
	if one.stop == nil {
		one.stop, one.ended = make(chan struct{}), make(chan struct{})
		go one.keep(one.stop, one.ended)
	}
	return nil
}

// leave ends the service in the background where it runs, and then calls
// after, unless that is nil. The caller holds the server's lock.
func (one *service) leave(after func()) {
	if one.stop == nil {
		return
	}
	ended := one.ended
	close(one.stop)
	one.stop = nil
	go func() {
		<-ended
		if after != nil {
			after()
		}
	}()
}

func (s *Server) stopService(name string) error {
	s.changed.L.Lock()
	one := s.services[name]
	if one == nil || one.stop == nil {
		s.changed.L.Unlock()
		return nil
	}
	ended := make(chan struct{})
	one.leave(func() { close(ended) })
	s.changed.L.Unlock()
	<-ended
	return nil
}

// set changes the status and tells the watchers.
func (one *service) set(state string, pid int, last string) {
	one.server.changed.L.Lock()
	defer one.server.changed.L.Unlock()
	one.status.State, one.status.PID, one.status.Since = state, pid, time.Now().UnixMilli()
	if last != "" {
		one.status.Last = last
	}
	if state == running {
		one.status.Starts++
	}
	one.server.changed.Broadcast()
}

// keep starts the program, and starts it again when it ends, with pauses that
// grow while it keeps ending soon.
func (one *service) keep(stop, ended chan struct{}) {
	defer close(ended)
	defer one.set(stopped, 0, "")
	s := one.server
	pause := firstPause
	for {
		s.changed.L.Lock()
		want := one.want
		s.changed.L.Unlock()
		mark := serviceMark + want.Name
		began := time.Now()
		reason := ""
		pid, done, err := s.spawn([]string{"/bin/sh", "-c", want.Run}, s.environment(mark), s.serviceOutput(want.Name))
		if err != nil {
			reason = err.Error()
		} else {
			one.set(running, pid, "")
			select {
			case code := <-done:
				reason = fmt.Sprintf("ended with code %d after %v", code, time.Since(began).Round(time.Millisecond))
			case <-stop:
				endMarked(mark, serviceGrace)
				<-done
				return
			}
		}
		if time.Since(began) > settled {
			pause = firstPause
		}
		one.set(pausing, 0, reason)
		select {
		case <-time.After(pause):
		case <-stop:
			return
		}
		pause = min(2*pause, longestPause)
	}
}

// serviceOutput takes the program's output to its log.
func (s *Server) serviceOutput(name string) func(io.ReadCloser) {
	return func(from io.ReadCloser) {
		defer from.Close()
		var to io.Writer = io.Discard // a log that cannot be written must not stop the program
		if log, err := openLog(filepath.Join(s.options.Logs, name+".log"), serviceLogLimit); err == nil {
			defer log.Close()
			to = log
		}
		masked := mask.NewWriter(&s.secrets, to)
		buffer := make([]byte, 8<<10)
		for {
			n, err := from.Read(buffer)
			_, _ = masked.Write(buffer[:n])
			if err != nil {
				_ = masked.Flush()
				return
			}
		}
	}
}
