package plan

import (
	"fmt"
	"net/netip"

	"kettlehole/internal/labfile"
)

// own gives the lab itself a place on each network: the first one, or where a
// node has that, the last one that is free. The nodes of a network with egress
// are shown the way out.
func (m *maker) own() {
	for i := range m.plan.Networks {
		n := &m.plan.Networks[i]
		seg := m.segments[n.Name]
		place := uint32(ownPlace)
		if holder := seg.held(place); holder != "" && holder != gateway {
			for place = seg.last(); place > 0 && seg.held(place) != ""; place-- {
			}
		}
		if place == 0 {
			m.say(labfile.Note, m.lab.Networks[i].Pos, len(n.Name), "give it a larger subnet", "network %q is full, so that nobody answers questions for names on it; /etc/hosts has them still", n.Name)
			continue
		}
		seg.owner[place] = gateway
		n.Own, n.Own6 = seg.both(place)
	}
	for i := range m.plan.Nodes {
		taps := m.plan.Nodes[i].Taps
		var four, six bool
		for at := range taps {
			n := m.plan.network(taps[at].Network)
			if !n.Egress {
				continue
			}
			for _, own := range []netip.Prefix{n.Own, n.Own6} {
				switch address := own.Addr(); {
				case address.Is4() && !four:
					taps[at].Gateway, four = address, true
				case address.Is6() && !six && taps[at].Address.Addr().Is6():
					taps[at].Gateway, six = address, true
				case address.Is6() && !six:
					taps[at].Gateway6, six = address, true
				}
			}
		}
	}
}

// network gives the network of this name, the zero value where there is none.
func (p *Plan) network(name string) Network {
	for _, n := range p.Networks {
		if n.Name == name {
			return n
		}
	}
	return Network{}
}

// both is the address at a place, and the IPv6 one beside it, with their
// subnets' lengths.
func (s *segment) both(place uint32) (netip.Prefix, netip.Prefix) {
	tap := s.tap("", "", "", place)
	return tap.Address, tap.Address6
}

// String says what a front is: "10.61.0.5:7000 before council-1..3".
func (f Front) String() string {
	var names []string
	for _, m := range f.Members {
		names = append(names, m.Node)
	}
	return fmt.Sprintf("%s before %s", netip.AddrPortFrom(f.Address.Addr(), f.Port), Short(names))
}

// fronts gives each front its address and its members.
func (m *maker) fronts() {
	for _, f := range m.lab.Fronts {
		seg := m.segments[f.Network]
		if seg == nil {
			continue
		}
		place, inside := seg.place(f.Host)
		if !inside {
			continue // told already
		}
		one := Front{Name: f.Name, Network: f.Network, Port: f.Port, HealthPort: f.HealthPort, HealthPath: f.HealthPath}
		one.Address, one.Address6 = seg.both(place)
		for _, n := range m.plan.Nodes {
			if n.Group != f.Group {
				continue
			}
			if tap, on := n.tap(f.Network); on {
				one.Members = append(one.Members, Member{n.Name, netip.AddrPortFrom(tap.Address.Addr(), f.GroupPort)})
			}
		}
		m.plan.Fronts = append(m.plan.Fronts, one)
	}
}

// tap gives the node's place on a network.
func (n Node) tap(network string) (Tap, bool) {
	for _, tap := range n.Taps {
		if tap.Network == network {
			return tap, true
		}
	}
	return Tap{}, false
}
