// Package outward is the way out of a lab: what leaves a network with egress
// is taken in the lab's namespace by transparent sockets and led on by sockets
// of the workstation, which the keeper opens. The workstation gets no route and
// no firewall rule, and the way ends with the keeper.
//
// The two sides speak over a Unix socket in the lab's folder: a request is a
// line of JSON, the reply a line of JSON with a socket beside it where one was
// asked for (see package passing).
package outward

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"sync"
	"syscall"
	"time"

	"github.com/miekg/dns"

	"kettlehole/internal/longpath"
	"kettlehole/internal/passing"
)

// Socket is the name of the Unix socket, in the lab's folder.
const Socket = "out.sock"

type request struct {
	Network string `json:"network,omitempty"` // "tcp" or "udp", for a socket
	Address string `json:"address,omitempty"` // literal, with the port
	Message []byte `json:"message,omitempty"` // a question for names (RFC 1035, section 4)
}

type reply struct {
	Error   string `json:"error,omitempty"`
	Message []byte `json:"message,omitempty"`
}

const (
	dialLimit = 10 * time.Second
	askLimit  = 4 * time.Second
)

// Outside opens the workstation's sockets. It is the keeper's side.
type Outside struct {
	// Resolvers gives the workstation's, with their ports.
	Resolvers func() []string
	listener  net.Listener
	ctx       context.Context
	cancel    context.CancelFunc
	busy      sync.WaitGroup
}

// Open begins to answer on the Unix socket of that path.
func Open(path string, resolvers func() []string) (*Outside, error) {
	if err := os.Remove(path); err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("opening the way out: %w", err)
	}
	listener, err := longpath.Listen(path)
	if err != nil {
		return nil, fmt.Errorf("opening the way out: %w", err)
	}
	o := &Outside{Resolvers: resolvers, listener: listener}
	o.ctx, o.cancel = context.WithCancel(context.Background())
	o.busy.Go(func() {
		for {
			conn, err := listener.AcceptUnix()
			if errors.Is(err, net.ErrClosed) {
				return
			} else if err != nil {
				time.Sleep(10 * time.Millisecond)
				continue
			}
			o.busy.Go(func() { o.answer(conn) })
		}
	})
	return o, nil
}

// Close ends the way out. Connections that were led on stay.
func (o *Outside) Close() error {
	o.cancel()
	err := o.listener.Close()
	o.busy.Wait()
	return err
}

func (o *Outside) answer(conn *net.UnixConn) {
	defer conn.Close()
	stop := context.AfterFunc(o.ctx, func() { _ = conn.Close() })
	defer stop()
	var asked request
	line, err := bufio.NewReader(conn).ReadBytes('\n')
	if err == nil {
		err = json.Unmarshal(line, &asked)
	}
	if err != nil {
		return
	}
	if asked.Message != nil {
		message, err := o.ask(asked.Message)
		said := reply{Message: message}
		if err != nil {
			said.Error = err.Error()
		}
		if line, err := json.Marshal(said); err == nil {
			_, _ = conn.Write(append(line, '\n'))
		}
		return
	}
	socket, err := o.dial(asked)
	if err != nil {
		if line, err := json.Marshal(reply{Error: err.Error()}); err == nil {
			_, _ = conn.Write(append(line, '\n'))
		}
		return
	}
	defer socket.Close()
	_ = passing.Send(conn, reply{}, socket.(syscall.Conn)) // the worker may have gone
}

// dial opens a socket of the workstation. Its own loopback is nobody's way
// out.
func (o *Outside) dial(asked request) (net.Conn, error) {
	to, err := netip.ParseAddrPort(asked.Address)
	if err != nil {
		return nil, err
	}
	if address := to.Addr().Unmap(); address.IsLoopback() || address.IsUnspecified() || address.IsMulticast() || address.IsLinkLocalUnicast() {
		return nil, fmt.Errorf("%s is no way out", address)
	}
	if asked.Network != "tcp" && asked.Network != "udp" {
		return nil, fmt.Errorf("nothing of kind %q goes out", asked.Network)
	}
	ctx, cancel := context.WithTimeout(o.ctx, dialLimit)
	defer cancel()
	conn, err := (&net.Dialer{FallbackDelay: -1}).DialContext(ctx, asked.Network, asked.Address)
	if op, is := errors.AsType[*net.OpError](err); is {
		err = op.Err
	}
	return conn, err
}

// ask puts a question to the workstation's resolvers, one after the other.
func (o *Outside) ask(message []byte) ([]byte, error) {
	var question dns.Msg
	if err := question.Unpack(message); err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(o.ctx, askLimit)
	defer cancel()
	last := errors.New("the workstation has no resolver")
	for _, resolver := range o.Resolvers() {
		for _, network := range []string{"udp", "tcp"} {
			client := dns.Client{Net: network, Timeout: askLimit / 2}
			answer, _, err := client.ExchangeContext(ctx, &question, resolver)
			if err != nil {
				last = err
				break
			}
			if answer.Truncated && network == "udp" {
				continue
			}
			return answer.Pack()
		}
	}
	return nil, last
}

// Ways asks the keeper for the workstation's sockets. It is the inner side.
type Ways struct {
	Path string // of the Unix socket
}

// ErrClosed says that no keeper opens the way out.
var ErrClosed = errors.New("the way out is closed: no keeper is there")

func (w Ways) ask(ctx context.Context, asked request) (reply, *os.File, error) {
	conn, err := longpath.Dial(ctx, w.Path)
	if errors.Is(err, longpath.ErrNobody) {
		return reply{}, nil, ErrClosed
	} else if err != nil {
		return reply{}, nil, err
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	line, err := json.Marshal(asked)
	if err != nil {
		return reply{}, nil, err
	}
	if _, err := conn.Write(append(line, '\n')); err != nil {
		return reply{}, nil, fmt.Errorf("asking for the way out: %w", err)
	}
	var said reply
	if asked.Message != nil {
		line, err := bufio.NewReader(conn).ReadBytes('\n')
		if err == nil {
			err = json.Unmarshal(bytes.TrimSpace(line), &said)
		}
		if err == nil && said.Error != "" {
			err = errors.New(said.Error)
		}
		return said, nil, err
	}
	file, err := passing.Receive(conn.(*net.UnixConn), &said)
	switch {
	case err == nil && said.Error != "":
		err = errors.New(said.Error)
	case err == nil && file == nil:
		err = errors.New("asking for the way out: no socket came")
	}
	return said, file, err
}

// Dial opens a connection, "tcp" or "udp", from the workstation to a literal
// address and port.
func (w Ways) Dial(ctx context.Context, network string, to netip.AddrPort) (net.Conn, error) {
	_, file, err := w.ask(ctx, request{Network: network, Address: to.String()})
	if err != nil {
		return nil, err
	}
	defer file.Close()
	return net.FileConn(file)
}

// Ask puts a question for names to the workstation's resolvers.
func (w Ways) Ask(ctx context.Context, question *dns.Msg) (*dns.Msg, error) {
	message, err := question.Pack()
	if err != nil {
		return nil, err
	}
	said, _, err := w.ask(ctx, request{Message: message})
	if err != nil {
		return nil, err
	}
	answer := new(dns.Msg)
	return answer, answer.Unpack(said.Message)
}
