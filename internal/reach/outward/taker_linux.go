package outward

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"kettlehole/internal/fabric"
	"kettlehole/internal/reach"
)

// Dial opens a connection, "tcp" or "udp", from the outside.
type Dial func(ctx context.Context, network string, to netip.AddrPort) (net.Conn, error)

// Taker takes what leaves the lab's networks, on transparent sockets in the
// namespace of its process, and leads it on.
type Taker struct {
	Ports fabric.Ports
	dial  Dial

	streams   []net.Listener
	datagrams []*net.UDPConn
	ctx       context.Context
	cancel    context.CancelFunc

	mu    sync.Mutex
	talks map[talk]*led
}

// talk is who sends datagrams to whom.
type talk struct{ from, to netip.AddrPort }

// led is a talk that is led on.
type led struct {
	outer net.Conn // from the workstation
	inner net.Conn // as if from the one who was asked
	heard atomic.Int64
}

const (
	quiet   = 60 * time.Second
	talks   = 4096
	largest = 65535
)

// Take opens the sockets and begins.
func Take(dial Dial) (*Taker, error) {
	t := &Taker{dial: dial, talks: map[talk]*led{}}
	t.ctx, t.cancel = context.WithCancel(context.Background())
	for _, way := range []struct {
		network string
		port    *uint16
	}{{"tcp4", &t.Ports.TCP4}, {"tcp6", &t.Ports.TCP6}} {
		config := net.ListenConfig{Control: transparent(false)}
		config.SetMultipathTCP(false) // cannot be transparent
		listener, err := config.Listen(t.ctx, way.network, ":0")
		if err != nil && way.network == "tcp6" {
			continue // a kernel without IPv6
		} else if err != nil {
			return nil, errors.Join(fmt.Errorf("opening the way out: %w", err), t.Close())
		}
		*way.port = listener.Addr().(*net.TCPAddr).AddrPort().Port()
		t.streams = append(t.streams, listener)
		go t.accept(listener)
	}
	for _, way := range []struct {
		network string
		port    *uint16
	}{{"udp4", &t.Ports.UDP4}, {"udp6", &t.Ports.UDP6}} {
		config := net.ListenConfig{Control: transparent(true)}
		socket, err := config.ListenPacket(t.ctx, way.network, ":0")
		if err != nil && way.network == "udp6" {
			continue
		} else if err != nil {
			return nil, errors.Join(fmt.Errorf("opening the way out: %w", err), t.Close())
		}
		udp := socket.(*net.UDPConn)
		*way.port = udp.LocalAddr().(*net.UDPAddr).AddrPort().Port()
		t.datagrams = append(t.datagrams, udp)
		go t.hear(udp)
	}
	return t, nil
}

// Close ends the way out for what is new.
func (t *Taker) Close() error {
	t.cancel()
	var all []error
	for _, one := range t.streams {
		all = append(all, one.Close())
	}
	for _, one := range t.datagrams {
		all = append(all, one.Close())
	}
	return errors.Join(all...)
}

// transparent makes a socket take what was sent to others, and tell to whom
// (IP_TRANSPARENT and IP_RECVORIGDSTADDR, ip(7)).
func transparent(datagrams bool) func(network, address string, raw syscall.RawConn) error {
	return func(network, _ string, raw syscall.RawConn) error {
		var failed error
		err := raw.Control(func(fd uintptr) {
			level, see, tell := unix.SOL_IP, unix.IP_TRANSPARENT, unix.IP_RECVORIGDSTADDR
			if network[len(network)-1] == '6' {
				level, see, tell = unix.SOL_IPV6, unix.IPV6_TRANSPARENT, unix.IPV6_RECVORIGDSTADDR
			}
			failed = unix.SetsockoptInt(int(fd), level, see, 1)
			if failed == nil && datagrams {
				failed = unix.SetsockoptInt(int(fd), level, tell, 1)
			}
			if failed == nil {
				failed = unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_REUSEADDR, 1)
			}
		})
		return errors.Join(err, failed)
	}
}

func (t *Taker) accept(listener net.Listener) {
	for {
		conn, err := listener.Accept()
		if errors.Is(err, net.ErrClosed) {
			return
		} else if err != nil {
			time.Sleep(10 * time.Millisecond)
			continue
		}
		go t.lead(conn)
	}
}

// lead joins a connection to one from the outside to where it was meant for.
func (t *Taker) lead(inner net.Conn) {
	to := inner.LocalAddr().(*net.TCPAddr).AddrPort()
	outer, err := t.dial(t.ctx, "tcp", netip.AddrPortFrom(to.Addr().Unmap(), to.Port()))
	if err != nil {
		reach.Reset(inner)
		return
	}
	reach.Join(inner, outer)
}

func (t *Taker) hear(socket *net.UDPConn) {
	buffer, beside := make([]byte, largest), make([]byte, 256)
	for {
		n, besideN, _, from, err := socket.ReadMsgUDPAddrPort(buffer, beside)
		if errors.Is(err, net.ErrClosed) {
			return
		} else if err != nil {
			continue
		}
		to, ok := meantFor(beside[:besideN])
		if !ok {
			continue
		}
		if l := t.led(talk{netip.AddrPortFrom(from.Addr().Unmap(), from.Port()), to}); l != nil {
			l.heard.Store(time.Now().UnixNano())
			_, _ = l.outer.Write(buffer[:n])
		}
	}
}

// meantFor reads to whom a datagram was sent.
func meantFor(beside []byte) (netip.AddrPort, bool) {
	messages, err := unix.ParseSocketControlMessage(beside)
	if err != nil {
		return netip.AddrPort{}, false
	}
	for i := range messages {
		address, err := unix.ParseOrigDstAddr(&messages[i])
		if err != nil {
			continue
		}
		switch address := address.(type) {
		case *unix.SockaddrInet4:
			return netip.AddrPortFrom(netip.AddrFrom4(address.Addr), uint16(address.Port)), true
		case *unix.SockaddrInet6:
			return netip.AddrPortFrom(netip.AddrFrom16(address.Addr), uint16(address.Port)), true
		}
	}
	return netip.AddrPort{}, false
}

// led finds the talk, or begins to lead it on; nil where that cannot be.
func (t *Taker) led(who talk) *led {
	t.mu.Lock()
	defer t.mu.Unlock()
	if l := t.talks[who]; l != nil {
		return l
	}
	if len(t.talks) >= talks {
		return nil // they end by themselves; a datagram may be lost
	}
	outer, err := t.dial(t.ctx, "udp", who.to)
	if err != nil {
		return nil
	}
	network := "udp4"
	if who.to.Addr().Is6() {
		network = "udp6"
	}
	dialer := net.Dialer{LocalAddr: net.UDPAddrFromAddrPort(who.to), Control: transparent(false)}
	inner, err := dialer.DialContext(t.ctx, network, who.from.String())
	if err != nil {
		_ = outer.Close()
		return nil
	}
	l := &led{outer: outer, inner: inner}
	l.heard.Store(time.Now().UnixNano())
	t.talks[who] = l
	done := func() {
		_, _ = outer.Close(), inner.Close()
		t.mu.Lock()
		defer t.mu.Unlock()
		if t.talks[who] == l {
			delete(t.talks, who)
		}
	}
	// Once both ends are known to the kernel, further datagrams come to the
	// inner socket itself.
	go func() { l.copy(outer, inner); done() }()
	go func() { l.copy(inner, outer); done() }()
	return l
}

// copy leads datagrams on in one direction until both have been quiet.
func (l *led) copy(to, from net.Conn) {
	buffer := make([]byte, largest)
	for {
		_ = from.SetReadDeadline(time.Unix(0, l.heard.Load()).Add(quiet))
		n, err := from.Read(buffer)
		if err == nil {
			l.heard.Store(time.Now().UnixNano())
			_, _ = to.Write(buffer[:n])
			continue
		}
		timeout, is := errors.AsType[net.Error](err)
		if is && timeout.Timeout() && time.Since(time.Unix(0, l.heard.Load())) < quiet || errors.Is(err, syscall.ECONNREFUSED) {
			continue
		}
		return
	}
}
