package agent

import (
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"sync"
	"time"

	"kettlehole/internal/bundle"
	"kettlehole/internal/passing"
)

// Dialer opens a connection to a node's init.
type Dialer func(ctx context.Context) (net.Conn, error)

// Client speaks to one node. It holds no connection between calls and is safe
// for concurrent use.
type Client struct{ Dial Dialer }

// Refused is an error that the node itself answered.
type Refused struct{ Reason string }

func (r *Refused) Error() string { return r.Reason }

// Do sends one request and reads its reply.
func (c Client) Do(ctx context.Context, request Request) (Reply, error) {
	conn, reply, _, err := c.open(ctx, request)
	if err != nil {
		return reply, err
	}
	return reply, conn.Close()
}

// open sends a request and reads its reply, and leaves the connection open
// for what follows. The caller closes it; cancelling ctx does too until stop
// is called.
func (c Client) open(ctx context.Context, request Request) (conn net.Conn, reply Reply, reader *bufio.Reader, err error) {
	conn, err = c.Dial(ctx)
	if err != nil {
		return nil, reply, nil, fmt.Errorf("reaching the node's init: %w", err)
	}
	stop := context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	line, err := json.Marshal(request)
	if err == nil {
		_, err = conn.Write(append(line, '\n'))
	}
	if err == nil {
		reader = bufio.NewReaderSize(conn, 4<<10)
		line, err = reader.ReadBytes('\n')
	}
	if err == nil {
		err = json.Unmarshal(line, &reply)
	}
	if err == nil && reply.Error != "" {
		err = &Refused{reply.Error}
	}
	if err != nil {
		_ = conn.Close()
		if ctx.Err() != nil {
			err = ctx.Err()
		}
		return nil, reply, nil, fmt.Errorf("asking the node to %s: %w", request.Op, err)
	}
	return conn, reply, reader, nil
}

// Job runs a script to its end, or waits for the run that has the same id.
func (c Client) Job(ctx context.Context, job Job) (JobResult, error) {
	reply, err := c.Do(ctx, Request{Op: OpJob, Job: &job})
	if err != nil || reply.Job == nil {
		return JobResult{}, err
	}
	return *reply.Job, nil
}

// Probe looks once at a condition.
func (c Client) Probe(ctx context.Context, probe Probe) (ProbeResult, error) {
	reply, err := c.Do(ctx, Request{Op: OpProbe, Probe: &probe})
	if err != nil || reply.Probe == nil {
		return ProbeResult{}, err
	}
	return *reply.Probe, nil
}

// Reach sends an echo request to each address from the node and gives the
// round-trip times in microseconds, -1 where no answer came.
func (c Client) Reach(ctx context.Context, addresses []string) (map[string]int64, error) {
	reply, err := c.Do(ctx, Request{Op: OpReach, Reach: addresses})
	return reply.Reach, err
}

// Watch calls each for the state of every service and again for each change,
// until ctx ends or the node is gone, which is its error.
func (c Client) Watch(ctx context.Context, each func(Status)) error {
	conn, _, reader, err := c.open(ctx, Request{Op: OpWatch})
	if err != nil {
		return err
	}
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	defer stop()
	defer conn.Close()
	for {
		line, err := reader.ReadBytes('\n')
		if err != nil {
			return errors.Join(ctx.Err(), err)
		}
		var status Status
		if err := json.Unmarshal(line, &status); err != nil {
			return fmt.Errorf("reading the state of services: %w", err)
		}
		each(status)
	}
}

// DialPort opens a TCP connection to a port of the node, made by the node
// itself, so that it starts inside the lab.
func (c Client) DialPort(ctx context.Context, port uint16) (net.Conn, error) {
	return c.dial(ctx, Request{Op: OpDial, Port: port})
}

// DialUDP opens a socket that sends to and hears from a UDP port of the node,
// made by the node itself.
func (c Client) DialUDP(ctx context.Context, port uint16) (net.Conn, error) {
	return c.dial(ctx, Request{Op: OpDial, Port: port, UDP: true})
}

// DialAddress opens a TCP connection from the node to a host and port, which
// the node resolves.
func (c Client) DialAddress(ctx context.Context, address string) (net.Conn, error) {
	return c.dial(ctx, Request{Op: OpDial, Address: address})
}

// Listen listens for TCP connections on an address and port of the node; port
// 0 is any that is free.
func (c Client) Listen(ctx context.Context, address string) (net.Listener, error) {
	file, err := c.socket(ctx, Request{Op: OpListen, Address: address})
	if err != nil {
		return nil, err
	}
	defer file.Close()
	listener, err := net.FileListener(file)
	if err != nil {
		return nil, fmt.Errorf("receiving a socket: %w", err)
	}
	return listener, nil
}

func (c Client) dial(ctx context.Context, request Request) (net.Conn, error) {
	file, err := c.socket(ctx, request)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	conn, err := net.FileConn(file)
	if err != nil {
		return nil, fmt.Errorf("receiving a socket: %w", err)
	}
	switch conn.(type) {
	case *net.TCPConn, *net.UDPConn:
		return conn, nil
	}
	return nil, errors.Join(errors.New("receiving a socket: the node sent something else"), conn.Close())
}

// socket asks for a socket and receives it.
func (c Client) socket(ctx context.Context, request Request) (*os.File, error) {
	conn, err := c.Dial(ctx)
	if err != nil {
		return nil, fmt.Errorf("reaching the node's init: %w", err)
	}
	defer conn.Close()
	unixConn, ok := conn.(*net.UnixConn)
	if !ok {
		return nil, errors.New("this node cannot pass a socket")
	}
	stop := context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	line, err := json.Marshal(request)
	if err != nil {
		return nil, err
	}
	if _, err := conn.Write(append(line, '\n')); err != nil {
		return nil, fmt.Errorf("asking the node to %s: %w", request.Op, err)
	}
	var reply Reply
	file, err := passing.Receive(unixConn, &reply)
	switch {
	case ctx.Err() != nil:
		err = ctx.Err()
	case err == nil && reply.Error != "":
		err = &Refused{reply.Error}
	case err == nil && file == nil:
		err = errors.New("receiving a socket: the node sent none")
	}
	if err != nil && file != nil {
		_ = file.Close()
	}
	if err != nil {
		return nil, err
	}
	return file, nil
}

// Session is a program that runs on a node with its streams here.
type Session struct {
	conn   net.Conn
	reader *bufio.Reader
	mu     sync.Mutex // one frame at a time
}

// Exec starts a program on the node.
func (c Client) Exec(ctx context.Context, exec Exec) (*Session, error) {
	conn, _, reader, err := c.open(ctx, Request{Op: OpExec, Exec: &exec})
	if err != nil {
		return nil, err
	}
	return &Session{conn: conn, reader: reader}, nil
}

func (s *Session) send(kind byte, content []byte) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return WriteFrame(s.conn, kind, content)
}

// Write sends input to the program.
func (s *Session) Write(p []byte) (int, error) {
	sent := 0
	for sent < len(p) {
		part := p[sent:min(len(p), sent+MaxFrame)]
		if err := s.send(FrameInput, part); err != nil {
			return sent, err
		}
		sent += len(part)
	}
	return sent, nil
}

// CloseInput tells the program that no more input comes.
func (s *Session) CloseInput() error { return s.send(FrameEOF, nil) }

// Resize tells the program's terminal its size.
func (s *Session) Resize(rows, cols uint16) error {
	content := binary.BigEndian.AppendUint16(binary.BigEndian.AppendUint16(nil, rows), cols)
	return s.send(FrameSize, content)
}

// Signal sends a signal to the program.
func (s *Session) Signal(number byte) error { return s.send(FrameSignal, []byte{number}) }

// Close ends the session; the program, if it still runs, gets a hang-up.
func (s *Session) Close() error { return s.conn.Close() }

// Wait copies output until the program ends and gives its exit code.
func (s *Session) Wait(output, errorsTo io.Writer) (int, error) {
	buffer := make([]byte, MaxFrame)
	for {
		kind, content, err := ReadFrame(s.reader, buffer)
		if err != nil {
			return -1, fmt.Errorf("the node went away while the program ran: %w", err)
		}
		switch kind {
		case FrameOutput:
			_, err = output.Write(content)
		case FrameErrors:
			_, err = errorsTo.Write(content)
		case FrameExit:
			if len(content) != 4 {
				return -1, errors.New("reading the exit code: the node sent something else")
			}
			return int(int32(binary.BigEndian.Uint32(content))), nil
		}
		if err != nil {
			return -1, fmt.Errorf("writing the program's output: %w", err)
		}
	}
}

// Run executes a program with no input and gives all that it printed, which
// is cut after limit bytes, and its exit code.
func (c Client) Run(ctx context.Context, limit int, argv ...string) (string, int, error) {
	session, err := c.Exec(ctx, Exec{Argv: argv})
	if err != nil {
		return "", -1, err
	}
	defer session.Close()
	stop := context.AfterFunc(ctx, func() { _ = session.Close() })
	defer stop()
	_ = session.CloseInput() // a program that has ended already needs none
	out := NewLimited(limit)
	exit, err := session.Wait(out, out)
	if ctx.Err() != nil {
		err = ctx.Err()
	}
	return out.String(), exit, err
}

// Take writes files and folders of this machine to a path of the node. It ends
// when ctx does, with what is whole until then.
func (c Client) Take(ctx context.Context, from []string, target string, several bool, progress bundle.Progress) (bundle.Count, error) {
	var count bundle.Count
	conn, _, reader, err := c.open(ctx, Request{Op: OpTake, Paths: []string{target}, Several: several || len(from) > 1})
	if err != nil {
		return count, err
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	defer stop()
	w := bufio.NewWriterSize(conn, 64<<10)
	for _, path := range from {
		if err = bundle.Send(w, path, filepath.Base(path), &count, progress); err != nil {
			break
		}
	}
	sent := errors.Join(bundle.Finish(w, err), w.Flush())
	var reply Reply
	line, heard := reader.ReadBytes('\n')
	if heard == nil {
		heard = json.Unmarshal(line, &reply)
	}
	switch {
	case ctx.Err() != nil:
		return count, ctx.Err()
	case err != nil:
		return count, err
	case heard == nil && reply.Error != "":
		return count, &Refused{reply.Error}
	case sent != nil || heard != nil:
		return count, fmt.Errorf("the node went away while files went there: %w", errors.Join(sent, heard))
	}
	return count, nil
}

// Fetch writes files and folders of the node into a folder of this machine.
// rename is another name for the one that comes, "" for its own.
func (c Client) Fetch(ctx context.Context, paths []string, into *os.Root, rename string, progress bundle.Progress) (bundle.Count, error) {
	conn, _, reader, err := c.open(ctx, Request{Op: OpSend, Paths: paths})
	if err != nil {
		return bundle.Count{}, err
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	defer stop()
	count, err := bundle.Receive(bufio.NewReaderSize(reader, 64<<10), into, rename, progress)
	if ctx.Err() != nil {
		err = ctx.Err()
	}
	return count, err
}

// Limited keeps the first bytes that are written to it.
type Limited struct {
	bytes.Buffer
	limit int
}

// NewLimited keeps so many bytes.
func NewLimited(limit int) *Limited { return &Limited{limit: limit} }

// Write takes all and keeps what there is room for.
func (l *Limited) Write(p []byte) (int, error) {
	l.Buffer.Write(p[:min(len(p), max(0, l.limit-l.Len()))])
	return len(p), nil
}
