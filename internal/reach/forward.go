// Package reach is the ways into a lab.
package reach

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"
)

// DialNode opens a connection to a port of a node, from inside the lab.
type DialNode func(ctx context.Context, node string, port uint16) (net.Conn, error)

// Forward listens on a port of the workstation and leads every connection to
// a port of a node. It touches no route and no firewall rule.
type Forward struct {
	node     string
	port     uint16
	dial     DialNode
	listener net.Listener
	open     atomic.Int64
	total    atomic.Int64
	failure  atomic.Pointer[string]
	ctx      context.Context
	cancel   context.CancelFunc
	busy     sync.WaitGroup
}

// dialLimit is how long a connection into a node may take to come about.
const dialLimit = 10 * time.Second

// Listen begins to forward.
func Listen(at netip.AddrPort, node string, port uint16, dial DialNode) (*Forward, error) {
	listener, err := net.Listen("tcp", at.String())
	if err != nil {
		return nil, fmt.Errorf("listening on %s for %s: %w", at, node, err)
	}
	f := &Forward{node: node, port: port, dial: dial, listener: listener}
	f.ctx, f.cancel = context.WithCancel(context.Background())
	f.busy.Go(f.accept)
	return f, nil
}

// Counts gives the connections now and so far, and why the last one that
// failed did.
func (f *Forward) Counts() (open int, total int64, failure string) {
	if words := f.failure.Load(); words != nil {
		failure = *words
	}
	return int(f.open.Load()), f.total.Load(), failure
}

// Close stops listening, ends the connections and waits for them.
func (f *Forward) Close() error {
	err := f.listener.Close()
	f.cancel()
	f.busy.Wait()
	return err
}

func (f *Forward) accept() {
	for {
		conn, err := f.listener.Accept()
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil {
			time.Sleep(10 * time.Millisecond) // too many open files, for one; the next may fare better
			continue
		}
		f.busy.Go(func() { f.lead(conn) })
	}
}

func (f *Forward) lead(outer net.Conn) {
	f.open.Add(1)
	f.total.Add(1)
	defer f.open.Add(-1)
	defer outer.Close()
	ctx, cancel := context.WithTimeout(f.ctx, dialLimit)
	inner, err := f.dial(ctx, f.node, f.port)
	cancel()
	if err != nil {
		words := err.Error()
		f.failure.Store(&words)
		return
	}
	f.failure.Store(nil)
	defer inner.Close()
	stop := context.AfterFunc(f.ctx, func() { _, _ = outer.Close(), inner.Close() })
	defer stop()
	var both sync.WaitGroup
	both.Go(func() { pass(inner, outer) })
	pass(outer, inner)
	both.Wait()
}

// pass copies until the end and passes the end on. Bare TCP connections make
// io.Copy splice in the kernel (splice(2)).
func pass(to, from net.Conn) {
	_, _ = io.Copy(to, from)
	if half, ok := to.(interface{ CloseWrite() error }); ok {
		_ = half.CloseWrite()
	}
}
