package server

import (
	"context"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"net"
	"net/netip"
	"os"
	"strconv"
	"strings"
	"syscall"
	"time"

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

// hearing lists the addresses on which programs hear datagrams to a port, the
// IPv4 ones first (proc(5), /proc/net/udp). It is read by hand, since the init
// starts with every node and the package that reads all of /proc takes its
// time to start.
func hearing(port uint16) []netip.Addr {
	var all []netip.Addr
	for _, file := range []string{"/proc/net/udp", "/proc/net/udp6"} {
		text, err := os.ReadFile(file)
		if err != nil {
			continue // a kernel may lack one of the two
		}
		for line := range strings.Lines(string(text)) {
			if fields := strings.Fields(line); len(fields) > 1 {
				if at, ok := parseLocal(fields[1]); ok && at.Port() == port {
					all = append(all, at.Addr())
				}
			}
		}
	}
	return all
}

// parseLocal reads an address as it stands there: words of 32 bits in the
// machine's own order, in hexadecimal, and the port.
func parseLocal(text string) (netip.AddrPort, bool) {
	address, number, _ := strings.Cut(text, ":")
	port, err := strconv.ParseUint(number, 16, 16)
	octets, errHex := hex.DecodeString(address)
	if err != nil || errHex != nil || len(octets)%4 != 0 {
		return netip.AddrPort{}, false
	}
	for i := 0; i < len(octets); i += 4 {
		binary.NativeEndian.PutUint32(octets[i:], binary.BigEndian.Uint32(octets[i:]))
	}
	parsed, ok := netip.AddrFromSlice(octets)
	return netip.AddrPortFrom(parsed, uint16(port)), ok
}
