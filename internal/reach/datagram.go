package reach

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"
)

const (
	// quiet is how long a conversation may be silent until it is over.
	quiet = 60 * time.Second
	// conversations is how many askers a forward of datagrams remembers.
	conversations = 1024
	// largest is the largest datagram in bytes (RFC 768).
	largest = 65535
)

// Datagrams listens on a UDP port of the workstation. Each asker gets a socket
// of its own where dial goes, so that answers find their way back.
type Datagrams struct {
	traffic
	dial   Dial
	socket *net.UDPConn
	ctx    context.Context
	cancel context.CancelFunc
	busy   sync.WaitGroup

	mu     sync.Mutex
	askers map[netip.AddrPort]*conversation
}

var _ Way = (*Datagrams)(nil)

// conversation is what one asker has to do with the answerer.
type conversation struct {
	inner net.Conn
	heard atomic.Int64 // unix time in nanoseconds of its last datagram
}

// ListenUDP begins to forward datagrams.
func ListenUDP(at netip.AddrPort, dial Dial) (*Datagrams, error) {
	socket, err := net.ListenUDP("udp", net.UDPAddrFromAddrPort(at))
	if err != nil {
		return nil, fmt.Errorf("listening on %s/udp: %w", at, err)
	}
	d := &Datagrams{dial: dial, socket: socket, askers: map[netip.AddrPort]*conversation{}}
	d.ctx, d.cancel = context.WithCancel(context.Background())
	d.busy.Go(d.hear)
	return d, nil
}

// Close stops listening and ends the conversations.
func (d *Datagrams) Close() error {
	d.cancel()
	err := d.socket.Close()
	d.mu.Lock()
	for _, c := range d.askers {
		_ = c.inner.Close()
	}
	d.mu.Unlock()
	d.busy.Wait()
	return err
}

func (d *Datagrams) hear() {
	buffer := make([]byte, largest)
	for {
		n, from, err := d.socket.ReadFromUDPAddrPort(buffer)
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil {
			continue // of one datagram that came back
		}
		c, err := d.conversation(from)
		if err != nil {
			d.failed(err)
			continue
		}
		c.heard.Store(time.Now().UnixNano())
		if _, err := c.inner.Write(buffer[:n]); err == nil {
			d.in.Add(int64(n))
		}
	}
}

// conversation finds what an asker has begun, or begins it. Where there is no
// more room, the one that is silent for the longest ends.
func (d *Datagrams) conversation(from netip.AddrPort) (*conversation, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if c := d.askers[from]; c != nil {
		return c, nil
	}
	ctx, cancel := context.WithTimeout(d.ctx, dialLimit)
	defer cancel()
	inner, err := d.dial(ctx)
	if err != nil {
		return nil, err
	}
	if d.ctx.Err() != nil {
		return nil, errors.Join(d.ctx.Err(), inner.Close())
	}
	if len(d.askers) >= conversations {
		var oldest netip.AddrPort
		for asker, c := range d.askers {
			if !oldest.IsValid() || c.heard.Load() < d.askers[oldest].heard.Load() {
				oldest = asker
			}
		}
		_ = d.askers[oldest].inner.Close()
		delete(d.askers, oldest)
	}
	c := &conversation{inner: inner}
	c.heard.Store(time.Now().UnixNano())
	d.askers[from] = c
	d.begin()
	d.failure.Store(nil)
	d.busy.Go(func() { d.answer(from, c) })
	return c, nil
}

// answer passes back what comes from inside until the conversation is over.
func (d *Datagrams) answer(from netip.AddrPort, c *conversation) {
	defer func() {
		_ = c.inner.Close()
		d.mu.Lock()
		defer d.mu.Unlock()
		if d.askers[from] == c {
			delete(d.askers, from)
		}
		d.open.Add(-1)
	}()
	buffer := make([]byte, largest)
	for {
		last := time.Unix(0, c.heard.Load())
		_ = c.inner.SetReadDeadline(last.Add(quiet))
		n, err := c.inner.Read(buffer)
		var timeout net.Error
		switch {
		case err == nil:
			c.heard.Store(time.Now().UnixNano())
			if _, err := d.socket.WriteToUDPAddrPort(buffer[:n], from); err == nil {
				d.out.Add(int64(n))
			}
		case errors.As(err, &timeout) && timeout.Timeout():
			if time.Since(time.Unix(0, c.heard.Load())) >= quiet {
				return
			}
		case errors.Is(err, net.ErrClosed):
			return
		default:
			d.failed(err) // nobody hears there yet (ICMP port unreachable)
			time.Sleep(time.Millisecond)
		}
	}
}
