package server

import (
	"fmt"
	"maps"
	"net"
	"net/netip"
	"time"

	"golang.org/x/net/icmp"
	"golang.org/x/net/ipv4"
	"golang.org/x/net/ipv6"
)

// family is how a version of IP asks for an echo.
type family struct {
	network, any   string
	protocol       int // IANA's number of the ICMP of this version
	request, reply icmp.Type
}

var (
	four = family{"ip4:icmp", "0.0.0.0", 1, ipv4.ICMPTypeEcho, ipv4.ICMPTypeEchoReply}
	six  = family{"ip6:ipv6-icmp", "::", 58, ipv6.ICMPTypeEchoRequest, ipv6.ICMPTypeEchoReply}
)

// reach sends an ICMP echo request (RFC 792, RFC 4443) to every address, again
// to those that do not answer, and gives round-trip times in microseconds.
func reach(addresses []string) (map[string]int64, error) {
	of := map[bool]map[netip.Addr]int64{false: {}, true: {}}
	for _, text := range addresses {
		address, err := netip.ParseAddr(text)
		if err != nil {
			return nil, fmt.Errorf("reaching %q: not an address", text)
		}
		of[address.Is6()][address] = -1
	}
	times := map[string]int64{}
	for is6, wanted := range of {
		f := four
		if is6 {
			f = six
		}
		if err := f.reach(wanted); err != nil {
			return nil, err
		}
		for address, took := range wanted {
			times[address.String()] = took
		}
	}
	return times, nil
}

// reach fills in the times of the addresses, all of this family.
func (f family) reach(times map[netip.Addr]int64) error {
	if len(times) == 0 {
		return nil
	}
	conn, err := icmp.ListenPacket(f.network, f.any)
	if err != nil {
		return fmt.Errorf("opening a raw socket: %w", err)
	}
	defer conn.Close()
	id := int(time.Now().UnixNano() & 0xffff)
	sent := map[netip.Addr]time.Time{}
	missing := maps.Clone(times)
	buffer := make([]byte, 512)
	for round := range echoRounds {
		packet, err := (&icmp.Message{Type: f.request, Body: &icmp.Echo{ID: id, Seq: round, Data: []byte("kettlehole")}}).Marshal(nil)
		if err != nil {
			return err
		}
		for address := range missing {
			sent[address] = time.Now()
			_, _ = conn.WriteTo(packet, &net.IPAddr{IP: address.AsSlice()}) // an unreachable one shows as no answer
		}
		_ = conn.SetReadDeadline(time.Now().Add(echoWait))
		for len(missing) > 0 {
			n, from, err := conn.ReadFrom(buffer)
			if err != nil {
				break
			}
			message, err := icmp.ParseMessage(f.protocol, buffer[:n])
			if err != nil || message.Type != f.reply {
				continue
			}
			address, _ := netip.ParseAddr(from.String())
			echo, isEcho := message.Body.(*icmp.Echo)
			if _, asked := missing[address]; isEcho && echo.ID == id && asked {
				times[address] = time.Since(sent[address]).Microseconds()
				delete(missing, address)
			}
		}
	}
	return nil
}
