// Package names answers questions for names inside a lab (RFC 1034, RFC 1035):
// nodes, groups, fronts and reserves, and who has an address. What the lab does
// not know it asks outside, for networks with egress alone.
package names

import (
	"net/netip"
	"slices"
	"strings"

	"kettlehole/internal/plan"
)

// Table is what there is to know about a lab's names. It is not changed once
// it is in use.
type Table struct {
	Lab   string `json:"lab"`
	Hosts []Host `json:"hosts"`
	// Spans are names of one or several addresses: fronts and reserves.
	Spans    []Span    `json:"spans,omitempty"`
	Networks []Network `json:"networks"`
}

// Host is a node.
type Host struct {
	Name  string `json:"name"`
	Group string `json:"group"`
	Taps  []Tap  `json:"taps"` // the first is the node's identity
	// Away says that it does not live. Its own name leads to it all the same, its
	// group's name only where none of the group lives.
	Away bool `json:"away,omitempty"`
}

// Tap is a node's place on a network.
type Tap struct {
	Network   string       `json:"network"`
	Addresses []netip.Addr `json:"addresses"`
}

// Span is a name of one or several addresses.
type Span struct {
	Name      string       `json:"name"`
	Addresses []netip.Addr `json:"addresses"`
}

// Network is where questions come from.
type Network struct {
	Name   string         `json:"name"`
	Ranges []netip.Prefix `json:"ranges"`
	Egress bool           `json:"egress,omitempty"`
}

// longestSpan is how many addresses a reserve may have to be a name.
const longestSpan = 64

// Of gives the table of a plan. away tells which nodes do not live.
func Of(p *plan.Plan, away func(node string) bool) Table {
	t := Table{Lab: p.Lab}
	for _, n := range p.Networks {
		t.Networks = append(t.Networks, Network{n.Name, n.Ranges(), n.Egress})
	}
	for _, n := range p.Nodes {
		h := Host{Name: n.Name, Group: n.Group, Away: away(n.Name)}
		for _, tap := range n.Taps {
			h.Taps = append(h.Taps, Tap{tap.Network, tap.Addresses()})
		}
		t.Hosts = append(t.Hosts, h)
	}
	for _, f := range p.Fronts {
		span := Span{f.Name, []netip.Addr{f.Address.Addr()}}
		if f.Address6.IsValid() {
			span.Addresses = append(span.Addresses, f.Address6.Addr())
		}
		t.Spans = append(t.Spans, span)
	}
	for _, r := range p.Reserves {
		if r.Network == "" {
			continue // a range beside the networks is no address
		}
		span := Span{Name: r.Name}
		for a := r.First; a.Compare(r.Last) <= 0 && len(span.Addresses) <= longestSpan; a = a.Next() {
			span.Addresses = append(span.Addresses, a)
		}
		if len(span.Addresses) <= longestSpan {
			t.Spans = append(t.Spans, span)
		}
	}
	return t
}

// label takes the lab's own endings from a name in lower case with a dot at
// its end: "council-1", "council-1.desk" and "council-1.desk.internal" are the
// same. It is false for names of somewhere else.
func (t *Table) label(name string) (string, bool) {
	name = strings.TrimSuffix(name, ".")
	name = strings.TrimSuffix(strings.TrimSuffix(name, ".internal"), "."+t.Lab)
	return name, name != "" && !strings.Contains(name, ".")
}

// owns tells whether a name, which nobody in the lab has, could be nobody
// else's.
func (t *Table) owns(name string) bool {
	if name == "." {
		return false // the root of all names
	}
	name = "." + strings.TrimSuffix(name, ".")
	return strings.HasSuffix(name, "."+t.Lab) || strings.HasSuffix(name, "."+t.Lab+".internal") || strings.Count(name, ".") == 1
}

// find gives the addresses that a name leads to, for the one who asks, and
// whether the lab knows the name. What the asker can reach directly comes
// first for each node.
func (t *Table) find(label string, asker netip.Addr) ([]netip.Addr, bool) {
	for i := range t.Hosts {
		if t.Hosts[i].Name == label {
			return t.view(&t.Hosts[i], asker), true
		}
	}
	for _, s := range t.Spans {
		if s.Name == label {
			return s.Addresses, true
		}
	}
	var all, away []netip.Addr
	known := false
	for i := range t.Hosts {
		h := &t.Hosts[i]
		if h.Group != label {
			continue
		}
		known = true
		if h.Away {
			away = append(away, t.view(h, asker)...)
		} else {
			all = append(all, t.view(h, asker)...)
		}
	}
	if all == nil {
		all = away
	}
	return all, known
}

// view gives the addresses of a node on the first network that it has in
// common with the asker, else its identity's.
func (t *Table) view(h *Host, asker netip.Addr) []netip.Addr {
	if len(h.Taps) == 0 {
		return nil
	}
	for _, network := range t.networksOf(asker) {
		for _, tap := range h.Taps {
			if tap.Network == network {
				return tap.Addresses
			}
		}
	}
	return h.Taps[0].Addresses
}

// networksOf lists the networks that the node with this address is on, in its
// own order.
func (t *Table) networksOf(asker netip.Addr) []string {
	for i := range t.Hosts {
		for _, tap := range t.Hosts[i].Taps {
			if slices.Contains(tap.Addresses, asker) {
				var all []string
				for _, tap := range t.Hosts[i].Taps {
					all = append(all, tap.Network)
				}
				return all
			}
		}
	}
	return nil
}

// reverse gives the name of who has an address; in is false for addresses that
// are not the lab's.
func (t *Table) reverse(address netip.Addr) (name string, in bool) {
	for _, h := range t.Hosts {
		for _, tap := range h.Taps {
			if slices.Contains(tap.Addresses, address) {
				return h.Name, true
			}
		}
	}
	for _, s := range t.Spans {
		if slices.Contains(s.Addresses, address) {
			return s.Name, true
		}
	}
	for _, n := range t.Networks {
		for _, r := range n.Ranges {
			if r.Contains(address) {
				return "", true
			}
		}
	}
	return "", false
}

// mayLeave tells whether the asker's network has egress.
func (t *Table) mayLeave(asker netip.Addr) bool {
	for _, n := range t.Networks {
		for _, r := range n.Ranges {
			if n.Egress && r.Contains(asker) {
				return true
			}
		}
	}
	return false
}
