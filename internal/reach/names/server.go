package names

import (
	"errors"
	"fmt"
	"net"
	"net/netip"
	"strconv"

	"github.com/miekg/dns"
)

// port is where questions for names are asked (RFC 1035, section 4.2).
const port = 53

// Server asks nothing and listens on some addresses for questions. It is not
// safe for concurrent use.
type Server struct {
	handler dns.Handler
	open    map[netip.Addr][]*dns.Server
}

// NewServer makes a server that listens nowhere yet.
func NewServer(handler dns.Handler) *Server {
	return &Server{handler, map[netip.Addr][]*dns.Server{}}
}

// Listen listens on these addresses, by UDP and TCP, and on no others.
func (s *Server) Listen(addresses []netip.Addr) error {
	wanted := map[netip.Addr]bool{}
	var all []error
	for _, a := range addresses {
		wanted[a] = true
		if s.open[a] == nil {
			servers, err := s.start(a)
			if err != nil {
				all = append(all, err)
				continue
			}
			s.open[a] = servers
		}
	}
	for a, servers := range s.open {
		if !wanted[a] {
			for _, one := range servers {
				_ = one.Shutdown()
			}
			delete(s.open, a)
		}
	}
	return errors.Join(all...)
}

func (s *Server) start(a netip.Addr) ([]*dns.Server, error) {
	at := net.JoinHostPort(a.String(), strconv.Itoa(port))
	packets, err := net.ListenPacket("udp", at)
	if err != nil {
		return nil, fmt.Errorf("listening for names on %s: %w", a, err)
	}
	streams, err := net.Listen("tcp", at)
	if err != nil {
		return nil, errors.Join(fmt.Errorf("listening for names on %s: %w", a, err), packets.Close())
	}
	servers := []*dns.Server{{PacketConn: packets, Handler: s.handler}, {Listener: streams, Handler: s.handler}}
	for _, one := range servers {
		started, ended := make(chan struct{}), make(chan error, 1)
		one.NotifyStartedFunc = func() { close(started) }
		go func() { ended <- one.ActivateAndServe() }() // until it is shut down
		select {
		case <-started:
		case err := <-ended:
			return nil, errors.Join(fmt.Errorf("listening for names on %s: %w", a, err), packets.Close(), streams.Close())
		}
	}
	return servers, nil
}
