package server

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"syscall"
	"time"

	"github.com/prometheus/procfs"

	"kettlehole/internal/agent"
	"kettlehole/internal/passing"
)

// dialTimeout is how long a connection for somebody else may take.
const dialTimeout = 5 * time.Second

// socket opens the socket that is asked for, and passes it.
func (s *Server) socket(conn net.Conn, request agent.Request) {
	opened, err := s.openSocket(request)
	if err != nil {
		_ = answer(conn, agent.Reply{Error: plainError(err).Error()})
		return
	}
	defer opened.Close()
	unixConn, isUnix := conn.(*net.UnixConn)
	socket, isSocket := opened.(syscall.Conn)
	if !isUnix || !isSocket {
		_ = answer(conn, agent.Reply{Error: "this connection cannot pass a socket"})
		return
	}
	_ = passing.Send(unixConn, agent.Reply{}, socket) // a client that went away is no concern
}

func (s *Server) openSocket(request agent.Request) (interface{ Close() error }, error) {
	switch {
	case request.Op == agent.OpListen:
		var config net.ListenConfig
		return config.Listen(context.Background(), "tcp", request.Address)
	case request.Address != "":
		return (&net.Dialer{Timeout: dialTimeout, KeepAlive: -1}).Dial("tcp", request.Address)
	case request.UDP:
		return s.dialUDP(request.Port)
	}
	return s.dialPort(request.Port, dialTimeout)
}

// dialUDP opens a socket to where a program of this node hears on a port, or
// to the node's own address where none does yet.
func (s *Server) dialUDP(port uint16) (net.Conn, error) {
	if port == 0 {
		return nil, errNoPort
	}
	var own []netip.Addr
	for _, text := range s.addresses() {
		if address, err := netip.ParseAddr(text); err == nil {
			own = append(own, address)
		}
	}
	if len(own) == 0 {
		return nil, errors.New("the node has no address yet")
	}
	to := own[0]
	for _, heard := range hearing(port) {
		to = heard
		if !heard.IsUnspecified() {
			break
		}
		for _, address := range own {
			if address.Is4() == heard.Is4() {
				to = address
			}
		}
	}
	return net.Dial("udp", netip.AddrPortFrom(to, port).String())
}

// hearing lists the addresses on which programs hear datagrams to a port
// (proc(5), /proc/net/udp), the IPv4 ones first.
func hearing(port uint16) []netip.Addr {
	proc, err := procfs.NewFS("/proc")
	if err != nil {
		return nil
	}
	var all []netip.Addr
	four, _ := proc.NetUDP() // a kernel may lack one of the two
	six, _ := proc.NetUDP6()
	for _, lines := range []procfs.NetUDP{four, six} {
		for _, line := range lines {
			if address, ok := netip.AddrFromSlice(line.LocalAddr); ok && line.LocalPort == uint64(port) {
				all = append(all, address)
			}
		}
	}
	return all
}
