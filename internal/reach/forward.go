// Package reach is the ways into a lab and out of it: forwards, fronts,
// proxies, the way out. What they connect they are given as functions that
// dial, so that none of them knows what a node is.
package reach

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"sync"
	"time"
)

// Dial opens a connection to where a way leads.
type Dial func(ctx context.Context) (net.Conn, error)

// Way is a forward of either kind.
type Way interface {
	// Counts tells what went through until now.
	Counts() Counts
	// Close stops listening, ends the connections and waits for them.
	Close() error
}

// Forward listens on a port of the workstation and leads every connection to
// where dial goes. It touches no route and no firewall rule.
type Forward struct {
	traffic
	dial     Dial
	listener net.Listener
	ctx      context.Context
	cancel   context.CancelFunc
	busy     sync.WaitGroup
}

var _ Way = (*Forward)(nil)

// dialLimit is how long a connection into a node may take to come about.
const dialLimit = 10 * time.Second

// Listen begins to forward TCP connections.
func Listen(at netip.AddrPort, dial Dial) (*Forward, error) {
	listener, err := net.Listen("tcp", at.String())
	if err != nil {
		return nil, fmt.Errorf("listening on %s: %w", at, err)
	}
	f := &Forward{dial: dial, listener: listener}
	f.ctx, f.cancel = context.WithCancel(context.Background())
	f.busy.Go(func() { accept(listener, func(conn net.Conn) { f.busy.Go(func() { f.lead(conn) }) }) })
	return f, nil
}

// Close stops listening, ends the connections and waits for them.
func (f *Forward) Close() error {
	err := f.listener.Close()
	f.cancel()
	f.busy.Wait()
	return err
}

// accept calls each with every connection until the listener is closed.
func accept(listener net.Listener, each func(net.Conn)) {
	for {
		conn, err := listener.Accept()
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil {
			time.Sleep(10 * time.Millisecond) // too many open files, for one; the next may fare better
			continue
		}
		each(conn)
	}
}

func (f *Forward) lead(outer net.Conn) {
	f.begin()
	defer f.open.Add(-1)
	ctx, cancel := context.WithTimeout(f.ctx, dialLimit)
	inner, err := f.dial(ctx)
	cancel()
	if err != nil {
		f.failed(err)
		Reset(outer)
		return
	}
	stop := context.AfterFunc(f.ctx, func() { _, _ = outer.Close(), inner.Close() })
	defer stop()
	f.join(outer, inner)
}
