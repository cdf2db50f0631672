package server

import (
	"bufio"
	"net"
	"path/filepath"

	"kettlehole/internal/agent"
	"kettlehole/internal/bundle"
)

// base is where relative paths begin.
const base = "/root"

func absolute(path string) string {
	if filepath.IsAbs(path) {
		return path
	}
	return base + "/" + path // what ends with a slash keeps it
}

// take writes the bundle that follows to the node's disk.
func (s *Server) take(conn net.Conn, reader *bufio.Reader, request agent.Request) {
	defer s.rest.Reset(restAfter)
	if len(request.Paths) != 1 {
		_ = answer(conn, agent.Reply{Error: "a target is needed"})
		return
	}
	into, rename, err := bundle.Open(absolute(request.Paths[0]), request.Several)
	if err != nil {
		_ = answer(conn, agent.Reply{Error: err.Error()})
		return
	}
	defer into.Close()
	if answer(conn, agent.Reply{}) != nil {
		return
	}
	count, err := bundle.Receive(reader, into, rename, nil)
	reply := agent.Reply{Count: &count}
	if err != nil {
		reply.Error = err.Error()
	}
	_ = answer(conn, reply) // a client that went away is no concern
}

// send sends files of the node's disk.
func (s *Server) send(conn net.Conn, request agent.Request) {
	defer s.rest.Reset(restAfter)
	if answer(conn, agent.Reply{}) != nil {
		return
	}
	var count bundle.Count
	var err error
	w := bufio.NewWriterSize(conn, 64<<10)
	for _, path := range request.Paths {
		path = filepath.Clean(absolute(path))
		if err = bundle.Send(w, path, filepath.Base(path), &count, nil); err != nil {
			break
		}
	}
	if bundle.Finish(w, err) == nil {
		_ = w.Flush()
	}
}
