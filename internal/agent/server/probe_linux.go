package server

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"strings"
	"time"

	"kettlehole/internal/agent"
)

const (
	probeTimeout   = time.Second
	commandTimeout = 10 * time.Second
	echoRounds     = 3
	echoWait       = 250 * time.Millisecond
)

// probe looks once at a condition and says what it saw.
func (s *Server) probe(want agent.Probe) agent.ProbeResult {
	switch {
	case want.Port > 0:
		conn, err := s.dialPort(want.Port, probeTimeout)
		if err != nil {
			return agent.ProbeResult{Seen: fmt.Sprintf("port %d: %v", want.Port, err)}
		}
		_ = conn.Close()
	case want.File != "":
		if _, err := os.Stat(want.File); errors.Is(err, os.ErrNotExist) {
			return agent.ProbeResult{Seen: want.File + " is not there"}
		} else if err != nil {
			return agent.ProbeResult{Seen: err.Error()}
		}
	case want.Service != "":
		return s.probeService(want.Service)
	case want.Name != "":
		ctx, cancel := context.WithTimeout(context.Background(), probeTimeout)
		defer cancel()
		if _, err := net.DefaultResolver.LookupHost(ctx, want.Name); err != nil {
			return agent.ProbeResult{Seen: want.Name + " has no address"}
		}
	default:
		return s.probeCommand(want.Run)
	}
	return agent.ProbeResult{Held: true}
}

// steadyAfter is how long a service must have run to count as running.
const steadyAfter = time.Second

func (s *Server) probeService(name string) agent.ProbeResult {
	s.changed.L.Lock()
	defer s.changed.L.Unlock()
	one := s.services[name]
	if one == nil {
		return agent.ProbeResult{Seen: fmt.Sprintf("this node has no service %q", name)}
	}
	if one.status.State != running {
		return agent.ProbeResult{Seen: strings.TrimSpace(fmt.Sprintf("service %s is %s %s", name, one.status.State, one.status.Last))}
	}
	if time.Since(time.UnixMilli(one.status.Since)) < steadyAfter {
		return agent.ProbeResult{Seen: fmt.Sprintf("service %s has only just started", name)}
	}
	return agent.ProbeResult{Held: true}
}

func (s *Server) probeCommand(command string) agent.ProbeResult {
	out := &tail{limit: 512}
	ended := make(chan struct{})
	mark := jobMark + "probe-" + fmt.Sprint(time.Now().UnixNano())
	_, done, err := s.spawn([]string{"/bin/sh", "-c", command}, s.environment(mark), collect(out, ended))
	if err != nil {
		return agent.ProbeResult{Seen: err.Error()}
	}
	select {
	case code := <-done:
		if code == 0 {
			return agent.ProbeResult{Held: true}
		}
		select {
		case <-ended:
		case <-time.After(lingerOutput):
			return agent.ProbeResult{Seen: fmt.Sprintf("exit code %d", code)}
		}
		lines := strings.Split(strings.TrimSpace(strings.ToValidUTF8(string(out.kept), "\uFFFD")), "\n")
		last := s.secrets.Text(lines[len(lines)-1])
		if last == "" {
			last = "no word"
		}
		return agent.ProbeResult{Seen: fmt.Sprintf("exit code %d: %s", code, last)}
	case <-time.After(commandTimeout):
		endMarked(mark, 0)
		<-done
		return agent.ProbeResult{Seen: fmt.Sprintf("no answer within %v", commandTimeout)}
	}
}
