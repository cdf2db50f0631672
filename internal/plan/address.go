package plan

import (
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"kettlehole/internal/labfile"
)

// DefaultPool holds the subnets that 'auto' chooses from, one /24 each. Nothing
// of a lab is visible outside its namespaces, so that labs may share a range.
var DefaultPool = netip.MustParsePrefix("10.64.0.0/10")

// ParsePool reads a pool for automatic subnets: an IPv4 range of /8 to /24.
func ParsePool(text string) (netip.Prefix, error) {
	pool, err := netip.ParsePrefix(text)
	if err != nil || !pool.Addr().Is4() || pool.Bits() < 8 || pool.Bits() > autoBits || pool.Masked() != pool {
		return netip.Prefix{}, fmt.Errorf("%q is no pool of subnets; write an IPv4 range from /8 to /24, such as %s", text, DefaultPool)
	}
	return pool, nil
}

const autoBits = 24

func (m *maker) networks() {
	for _, n := range m.lab.Networks {
		network := Network{Name: n.Name, Subnet: n.Subnet, Subnet6: n.Subnet6, Auto: n.Auto(), Egress: n.Egress}
		if network.Auto {
			network.Subnet = m.autoSubnet(n.Name, n.Egress)
			if !network.Subnet.IsValid() {
				m.say(labfile.Error, n.Pos, len(n.Name), "give it a fixed subnet, or choose from another pool with KETTLEHOLE_POOL", "no range is left for network %q in the pool %s", n.Name, m.pool())
				continue
			}
		}
		for _, other := range m.lab.Networks {
			if other.Pos == n.Pos {
				break
			}
			for _, theirs := range []netip.Prefix{other.Subnet, other.Subnet6} {
				for _, ours := range []netip.Prefix{n.Subnet, n.Subnet6} {
					if theirs.Overlaps(ours) {
						m.say(labfile.Error, n.Pos, len(n.Name), "", "subnet %s of network %q overlaps %s of network %q", ours, n.Name, theirs, other.Name)
					}
				}
			}
		}
		seg := newSegment(network)
		m.segments[n.Name] = seg
		if n.Egress {
			seg.owner[ownPlace] = gateway
		}
		m.plan.Networks = append(m.plan.Networks, network)
		if n.Egress {
			m.outside(n, network.Subnet)
			m.outside(n, network.Subnet6)
		}
		for _, h := range n.Reserves {
			first, here := seg.place(h.First)
			last, there := seg.place(h.Last)
			if !here || !there {
				m.say(labfile.Error, h.Pos, len(h.Name), "", "reserve %q is outside of %s, the range of network %q", h.Name, network.Subnet, n.Name)
				continue
			}
			seg.reserves = append(seg.reserves, span{first, last, "reserve " + h.Name})
			m.plan.Reserves = append(m.plan.Reserves, Reserve{h.Name, n.Name, seg.address(first), seg.address(last)})
		}
	}
	for _, one := range m.lab.Reserves {
		m.plan.Reserves = append(m.plan.Reserves, Reserve{Name: one.Name, First: one.Range.Addr(), Last: lastOf(one.Range)})
	}
}

// outside tells what of the outer world a network with egress would hide from
// its nodes. Other networks hide nothing: nothing leaves them.
func (m *maker) outside(n labfile.Network, subnet netip.Prefix) {
	for _, r := range m.facts.Routes {
		if r.To.Bits() > 0 && r.To.Overlaps(subnet) {
			m.say(labfile.Caution, n.Pos, len(n.Name), "give the network another range, or auto", "nodes on network %q cannot reach what this workstation reaches at %s through %s, since their own range %s hides it", n.Name, r.To, r.Interface, subnet)
		}
	}
	for _, resolver := range m.facts.Resolvers {
		if subnet.Contains(resolver) {
			m.say(labfile.Error, n.Pos, len(n.Name), "give the network another range, or auto", "the workstation's resolver %s lies in %s, the range of network %q, so that its nodes could resolve no name", resolver, subnet, n.Name)
		}
	}
}

// autoSubnet chooses by hash of the lab's and the network's name and moves on
// only from a range that the lab uses already.
func (m *maker) autoSubnet(network string, egress bool) netip.Prefix {
	if m.living != nil {
		for _, n := range m.living.Networks {
			if n.Name == network && n.Auto {
				return n.Subnet
			}
		}
	}
	pool := m.pool()
	slots := uint32(1) << (autoBits - pool.Bits())
	slot := hash(m.lab.Name, network) % slots
	for range slots {
		subnet := netip.PrefixFrom(nth(pool.Addr(), slot<<(32-autoBits)), autoBits)
		if !m.taken(subnet, egress) {
			return subnet
		}
		slot = (slot + 1) % slots
	}
	return netip.Prefix{}
}

func (m *maker) pool() netip.Prefix {
	if m.where.Pool.IsValid() {
		return m.where.Pool
	}
	return DefaultPool
}

func (m *maker) taken(subnet netip.Prefix, egress bool) bool {
	for _, n := range m.lab.Networks {
		if !n.Auto() && n.Subnet.Overlaps(subnet) {
			return true
		}
	}
	for _, n := range m.plan.Networks {
		if n.Subnet.Overlaps(subnet) {
			return true
		}
	}
	for _, one := range m.lab.Reserves {
		if one.Range.Overlaps(subnet) {
			return true
		}
	}
	for _, r := range m.facts.Routes {
		if egress && r.To.Bits() > 0 && r.To.Overlaps(subnet) {
			return true
		}
	}
	return slices.ContainsFunc(m.facts.Resolvers, func(a netip.Addr) bool { return egress && subnet.Contains(a) })
}

func hash(words ...string) uint32 {
	h := sha256.New()
	for _, w := range words {
		fmt.Fprintf(h, "%d:%s", len(w), w)
	}
	return binary.BigEndian.Uint32(h.Sum(nil))
}

func (m *maker) nodes() {
	for _, f := range m.lab.Fronts {
		if seg, is := m.segments[f.Network]; is {
			place, inside := seg.place(f.Host)
			switch other := seg.held(place); {
			case !inside:
				m.say(labfile.Error, f.AddressPos, len(f.Network), "", "the address of front %q is outside of %s, the range of network %q", f.Name, seg.subnet, f.Network)
			case strings.HasPrefix(other, "front "), other == gateway:
				m.say(labfile.Error, f.AddressPos, len(f.Network), "", "%s and front %q would both have address %s on network %q", other, f.Name, seg.address(place), f.Network)
			default:
				seg.owner[place] = "front " + f.Name
			}
		}
	}
	for _, g := range m.lab.Groups {
		for i := range g.Count {
			m.plan.Nodes = append(m.plan.Nodes, Node{Name: labfile.NodeName(g.Name, i+1), Group: g.Name, Index: i + 1, Count: g.Count,
				Image: g.Image, CPU: g.CPU, Memory: g.Memory, Disk: g.Disk, Quorum: g.Quorum, Taps: make([]Tap, len(g.Networks)), Services: g.Services})
		}
	}
	if len(m.plan.Nodes) == 0 {
		m.say(labfile.Error, labfile.Pos{Line: 1, Column: 1}, 0, "give a group a count of 1 or more", "the lab has no node")
	}
	// Places that the file fixes come first, then those that living nodes have,
	// so that a chosen one never takes them.
	for _, fixed := range []bool{true, false} {
		if !fixed {
			m.keepPlaces()
		}
		first := 0
		for _, g := range m.lab.Groups {
			for at, tap := range g.Networks {
				if seg, known := m.segments[tap.Network]; known && (tap.Host != nil) == fixed {
					m.place(g, first, at, tap, seg)
				}
			}
			first += g.Count
		}
	}
}

// place gives the nodes of a group their addresses on one network. first is
// the index of the group's first node, at that of the tap.
func (m *maker) place(g labfile.Group, first, at int, tap labfile.Tap, seg *segment) {
	next := seg.firstAuto()
	base := next
	if tap.Host != nil {
		start, ok := seg.place(tap.Host)
		if !ok {
			m.say(labfile.Error, tap.Pos, len(tap.Network), "", "the place of group %q is outside of %s, the range of network %q", g.Name, seg.subnet, tap.Network)
			return
		}
		base = start
	}
	for i := range g.Count {
		node := &m.plan.Nodes[first+i]
		place := base + uint32(i)
		if tap.Host == nil {
			if node.Taps[at].Address.IsValid() {
				continue // it keeps the one that it lives with
			}
			place = seg.free(next)
			next = place + 1
		}
		if place < 1 || place > seg.last() {
			m.say(labfile.Error, tap.Pos, len(tap.Network), fmt.Sprintf("give network %q a larger subnet, or the group fewer nodes or an earlier first address", tap.Network),
				"subnet %s of network %q is too small: node %s has no place in it", seg.subnet, tap.Network, node.Name)
			return
		}
		if other := seg.held(place); other != "" {
			m.say(labfile.Error, tap.Pos, len(tap.Network), "", "%s and node %s would both have address %s on network %q", other, node.Name, seg.address(place), tap.Network)
			return
		}
		seg.owner[place] = "node " + node.Name
		seg.chosen[place] = tap.Host == nil
		node.Taps[at] = seg.tap(m.lab.Name, node.Name, tap.Network, place)
	}
}

// keepPlaces gives living nodes the places that were chosen for them, where
// these are still free.
func (m *maker) keepPlaces() {
	if m.living == nil {
		return
	}
	lived := map[string]Node{}
	for _, n := range m.living.Nodes {
		lived[n.Name] = n
	}
	first := 0
	for _, g := range m.lab.Groups {
		for at, tap := range g.Networks {
			seg, known := m.segments[tap.Network]
			if !known || tap.Host != nil {
				continue
			}
			for i := range g.Count {
				node := &m.plan.Nodes[first+i]
				for _, old := range lived[node.Name].Taps {
					place, inside := seg.placeOf(old.Address.Addr())
					if old.Network != tap.Network || !inside || seg.held(place) != "" {
						continue
					}
					seg.owner[place], seg.chosen[place] = "node "+node.Name, true
					node.Taps[at] = seg.tap(m.lab.Name, node.Name, tap.Network, place)
				}
			}
		}
		first += g.Count
	}
}

// mac derives a locally administered unicast address (IEEE 802, U/L bit set).
func mac(words ...string) string {
	h := sha256.Sum256(fmt.Append(nil, words))
	return fmt.Sprintf("%02x:%02x:%02x:%02x:%02x:%02x", h[0]&0xfc|0x02, h[1], h[2], h[3], h[4], h[5])
}
