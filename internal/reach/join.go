package reach

import (
	"errors"
	"io"
	"net"
	"sync"
	"sync/atomic"
	"syscall"
)

// Join passes bytes both ways between two connections until both have ended,
// and closes them. The end of one direction is passed on and leaves the other
// open; a reset is passed on as one, so that nobody takes what was cut short
// for whole. Bare TCP connections make io.Copy splice in the kernel
// (splice(2)).
func Join(a, b net.Conn) (toA, toB int64) {
	var both sync.WaitGroup
	both.Go(func() { toB = pass(b, a) })
	toA = pass(a, b)
	both.Wait()
	_, _ = a.Close(), b.Close()
	return toA, toB
}

// pass copies one direction.
func pass(to, from net.Conn) int64 {
	n, err := io.Copy(to, from)
	if errors.Is(err, syscall.ECONNRESET) {
		Reset(to)
		Reset(from)
		return n
	}
	if half, ok := to.(interface{ CloseWrite() error }); ok {
		_ = half.CloseWrite()
	} else {
		_ = to.Close()
	}
	return n
}

// Reset ends a connection so that the other side hears it was cut, and did not
// end (RFC 9293, section 3.5.2). A connection of another kind is closed.
func Reset(conn net.Conn) {
	if tcp, is := conn.(*net.TCPConn); is {
		_ = tcp.SetLinger(0)
	}
	_ = conn.Close()
}

// traffic counts what went through a way in or out. It is safe for concurrent
// use.
type traffic struct {
	open    atomic.Int64
	total   atomic.Int64
	in, out atomic.Int64 // bytes of connections that have ended
	failure atomic.Pointer[string]
	live    sync.Map // net.Conn on the asker's side, of those that go on
}

// Counts is what went through a way in or out.
type Counts struct {
	Open    int    // connections now
	Total   int64  // connections so far
	In, Out int64  // bytes to the one who answers, and back
	Failure string // why the last connection that failed did
}

// Counts tells what went through until now.
func (t *traffic) Counts() Counts {
	c := Counts{Open: int(t.open.Load()), Total: t.total.Load(), In: t.in.Load(), Out: t.out.Load()}
	t.live.Range(func(conn, _ any) bool {
		in, out := volume(conn.(net.Conn))
		c.In, c.Out = c.In+in, c.Out+out
		return true
	})
	if words := t.failure.Load(); words != nil {
		c.Failure = *words
	}
	return c
}

func (t *traffic) begin() {
	t.open.Add(1)
	t.total.Add(1)
}

func (t *traffic) failed(err error) {
	words := err.Error()
	t.failure.Store(&words)
}

// join is Join, counted.
func (t *traffic) join(asker, answerer net.Conn) {
	t.failure.Store(nil)
	t.live.Store(asker, nil)
	out, in := Join(asker, answerer)
	t.live.Delete(asker)
	t.in.Add(in)
	t.out.Add(out)
}
