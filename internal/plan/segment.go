package plan

import (
	"encoding/binary"
	"net/netip"

	"kettlehole/internal/labfile"
)

// segment hands out the places of one network. A place is a number from 1 on:
// in an IPv4 range how far an address lies behind the first one; in an IPv6
// range its three octets are the last groups, looking the same.
type segment struct {
	subnet   netip.Prefix
	beside   netip.Prefix // the IPv6 range of a network that has both
	owner    map[uint32]string
	chosen   map[uint32]bool // places that the planner chose, and may choose otherwise
	reserves []span
}

// span is a run of places that no node gets.
type span struct {
	first, last uint32
	owner       string
}

func newSegment(n Network) *segment {
	return &segment{subnet: n.Subnet, beside: n.Subnet6, owner: map[uint32]string{}, chosen: map[uint32]bool{}}
}

// held tells who has a place, "" for nobody.
func (s *segment) held(place uint32) string {
	for _, r := range s.reserves {
		if r.first <= place && place <= r.last {
			return r.owner
		}
	}
	return s.owner[place]
}

// free is the first place from there on that nobody has; it may lie behind the
// last.
func (s *segment) free(place uint32) uint32 {
	for place <= s.last() {
		from := place
		for _, r := range s.reserves {
			if r.first <= place && place <= r.last {
				place = r.last + 1
			}
		}
		if s.owner[place] != "" {
			place++
		}
		if place == from {
			break
		}
	}
	return place
}

// ownPlace is where the lab itself stands on a network. One with egress keeps
// it free for that: the way out is there.
const ownPlace = 1

// gateway is who holds that place.
const gateway = "the gateway"

// firstAuto is the number from which the planner places nodes itself; the ones
// below are left to gateways and to people.
const firstAuto = 11

// firstAuto is the number of the first place that may be chosen.
func (s *segment) firstAuto() uint32 {
	if s.last() < firstAuto+4 {
		return 2
	}
	return firstAuto
}

// last is the number of the last place a node may have.
func (s *segment) last() uint32 {
	if s.subnet.Addr().Is6() {
		return 1<<24 - 2
	}
	return uint32(1)<<(32-s.subnet.Bits()) - 2
}

// address is the one at a place.
func (s *segment) address(place uint32) netip.Addr {
	if s.subnet.Addr().Is6() {
		return six(s.subnet, labfile.Host{byte(place >> 16), byte(place >> 8), byte(place)})
	}
	return nth(s.subnet.Addr(), place)
}

// tap is what a node has at a place.
func (s *segment) tap(lab, node, network string, place uint32) Tap {
	address := s.address(place)
	tap := Tap{Network: network, Address: netip.PrefixFrom(address, s.subnet.Bits()), MAC: mac(lab, node, network)}
	if s.beside.IsValid() {
		octets := address.As4()
		tap.Address6 = netip.PrefixFrom(six(s.beside, octets[s.subnet.Bits()/8:]), s.beside.Bits())
	}
	return tap
}

// six puts octets at the end of a /64, which has room for four.
func six(subnet netip.Prefix, octets labfile.Host) netip.Addr {
	address, _ := octets.In(subnet)
	return address
}

// place is the number of a host part, false where it lies outside.
func (s *segment) place(host labfile.Host) (uint32, bool) {
	address, inside := host.In(s.subnet)
	if !inside || s.subnet.Addr().Is4() {
		return offset(s.subnet, address), inside
	}
	place := uint32(0)
	for _, octet := range host {
		place = place<<8 | uint32(octet)
	}
	return place, true
}

// placeOf is the number of an address, false where no place has it.
func (s *segment) placeOf(address netip.Addr) (uint32, bool) {
	if !s.subnet.Contains(address) {
		return 0, false
	}
	place := offset(s.subnet, address)
	if s.subnet.Addr().Is6() {
		groups := address.As16()
		place = 0
		for i := 10; i < 16; i += 2 {
			place = place<<8 | uint32(groups[i])*100 + uint32(groups[i+1]>>4)*10 + uint32(groups[i+1]&15)
		}
	}
	return place, place >= 1 && place <= s.last() && s.address(place) == address
}

// nth gives the address n after base (IPv4).
func nth(base netip.Addr, n uint32) netip.Addr {
	four := base.As4()
	binary.BigEndian.PutUint32(four[:], binary.BigEndian.Uint32(four[:])+n)
	return netip.AddrFrom4(four)
}

// offset tells how far an address lies behind the first of an IPv4 range; 0
// for other ranges.
func offset(subnet netip.Prefix, address netip.Addr) uint32 {
	if !subnet.Addr().Is4() || !address.Is4() {
		return 0
	}
	a, b := subnet.Addr().As4(), address.As4()
	return binary.BigEndian.Uint32(b[:]) - binary.BigEndian.Uint32(a[:])
}

// lastOf is the last address of a range.
func lastOf(p netip.Prefix) netip.Addr {
	octets := p.Addr().AsSlice()
	for bit := p.Bits(); bit < 8*len(octets); bit++ {
		octets[bit/8] |= 0x80 >> (bit % 8)
	}
	address, _ := netip.AddrFromSlice(octets)
	return address
}
