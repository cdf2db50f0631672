package labfile

import (
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"
)

// check looks at what refers to something else in the file.
func (r *reader) check() {
	lab := r.lab
	r.counts = make(map[string]int, len(lab.Groups))
	for _, g := range lab.Groups {
		r.counts[g.Name] = g.Count
	}
	networks := names(lab.Networks, func(n Network) string { return n.Name })
	for i := range lab.Groups {
		r.checkTaps(&lab.Groups[i], networks)
	}
	r.checkNames()
	r.checkReserves()
	for _, f := range lab.Forwards {
		if f.Node != "" {
			r.checkNode(Ref{f.Node, f.NodePos})
		}
	}
	for _, f := range lab.Fronts {
		if f.Network != "" && !slices.Contains(networks, f.Network) {
			r.missing(Ref{f.Network, f.AddressPos}, "network", networks)
		}
		groups := names(lab.Groups, func(g Group) string { return g.Name })
		at := slices.Index(groups, f.Group)
		switch {
		case f.Group == "":
		case at < 0:
			r.missing(Ref{f.Group, f.ToPos}, "group", groups)
		case slices.Contains(networks, f.Network) && !slices.ContainsFunc(lab.Groups[at].Networks, func(t Tap) bool { return t.Network == f.Network }):
			r.add(Finding{Pos: f.AddressPos, Width: len(f.Network), Message: fmt.Sprintf("group %q is not on network %q, so that front %q cannot reach it", f.Group, f.Network, f.Name)})
		}
	}
	r.checkSteps()
	r.checkRetrieves()
	r.checkProof(networks)
}

func names[T any](things []T, name func(T) string) []string {
	all := make([]string, len(things))
	for i, thing := range things {
		all[i] = name(thing)
	}
	return all
}

// missing reports a name that refers to nothing.
func (r *reader) missing(ref Ref, kind string, known []string) {
	r.add(Finding{Pos: ref.Pos, Width: utf8.RuneCountInString(ref.Name), Message: fmt.Sprintf("%s %q is not declared", kind, ref.Name),
		Meant: nearest(ref.Name, known)})
}

// checkNode sees that a node of this name is there.
func (r *reader) checkNode(ref Ref) {
	group, number := splitNode(ref.Name)
	if count, known := r.counts[group]; known && number > 0 && number <= count {
		return
	}
	var groups []string
	for _, g := range r.lab.Groups {
		if g.Name == group && number > 0 {
			f := Finding{Pos: ref.Pos, Width: utf8.RuneCountInString(ref.Name), Message: fmt.Sprintf("group %q has %s, and %s is none of them", group, quantity(g.Count, "node"), ref.Name)}
			if g.Count > 0 {
				f.Meant = NodeName(group, g.Count)
			}
			r.add(f)
			return
		}
		if g.Name == ref.Name && g.Count > 0 {
			r.add(Finding{Pos: ref.Pos, Width: utf8.RuneCountInString(ref.Name), Message: fmt.Sprintf("%q is a group, and a node is needed here", ref.Name), Meant: NodeName(g.Name, 1)})
			return
		}
		groups = append(groups, g.Name)
	}
	f := Finding{Pos: ref.Pos, Width: utf8.RuneCountInString(ref.Name), Message: fmt.Sprintf("node %q is not declared", ref.Name)}
	if near := nearest(group, groups); near != "" && number > 0 {
		f.Meant = NodeName(near, number)
	} else {
		for _, g := range r.lab.Groups {
			if nearest(ref.Name, []string{NodeName(g.Name, 1)}) != "" && g.Count > 0 {
				f.Meant = NodeName(g.Name, 1)
			}
		}
	}
	r.add(f)
}

// checkNames sees that a name inside the lab leads to one thing, and that each
// variable of the scripts does.
func (r *reader) checkNames() {
	lab := r.lab
	for _, f := range lab.Fronts {
		if slices.ContainsFunc(lab.Groups, func(g Group) bool { return g.Name == f.Name || g.has(f.Name) }) {
			r.add(Finding{Pos: f.Pos, Width: len(f.Name), Message: fmt.Sprintf("%q is the name of a group or a node already, and a front's name resolves too", f.Name)})
		}
	}
	first := map[string]string{}
	for _, n := range lab.Networks {
		for _, h := range n.Reserves {
			if other, twice := first[h.Name]; twice {
				r.add(Finding{Pos: h.Pos, Width: len(h.Name), Message: fmt.Sprintf("there is a reserve %q %s already, and scripts see one RESERVE_%s", h.Name, other, VariableName(h.Name))})
			}
			first[h.Name] = fmt.Sprintf("of network %q", n.Name)
		}
	}
	for _, one := range lab.Reserves {
		if other, twice := first[one.Name]; twice {
			r.add(Finding{Pos: one.Pos, Width: len(one.Name), Message: fmt.Sprintf("there is a reserve %q %s already, and scripts see one RESERVE_%s", one.Name, other, VariableName(one.Name))})
		}
	}
}

// VariableName turns a name into a part of the name of an environment
// variable: "my-net" is MY_NET.
func VariableName(name string) string { return strings.ReplaceAll(strings.ToUpper(name), "-", "_") }

// checkReserves sees that fixed ranges do not overlap and that reserves lie in
// theirs.
func (r *reader) checkReserves() {
	lab := r.lab
	for i, one := range lab.Reserves {
		for _, n := range lab.Networks {
			for _, subnet := range []netip.Prefix{n.Subnet, n.Subnet6} {
				if one.Range.Overlaps(subnet) {
					r.add(Finding{Pos: one.Pos, Width: len(one.Name), Message: fmt.Sprintf("reserve %q, %s, overlaps %s of network %q", one.Name, one.Range, subnet, n.Name)})
				}
			}
		}
		for _, other := range lab.Reserves[:i] {
			if one.Range.Overlaps(other.Range) {
				r.add(Finding{Pos: one.Pos, Width: len(one.Name), Message: fmt.Sprintf("reserve %q, %s, overlaps %s of reserve %q", one.Name, one.Range, other.Range, other.Name)})
			}
		}
	}
	for _, n := range lab.Networks {
		for i, h := range n.Reserves {
			if n.Subnet.IsValid() && h.First != nil && h.Last != nil {
				for _, host := range []Host{h.First, h.Last} {
					if _, ok := host.In(n.Subnet); !ok {
						r.add(Finding{Pos: h.Pos, Width: len(h.Name), Message: fmt.Sprintf("%s of reserve %q is outside of %s, the range of network %q", host, h.Name, n.Subnet, n.Name)})
						break
					}
				}
			}
			for _, other := range n.Reserves[:i] {
				if len(h.First) == len(other.First) && string(h.First) <= string(other.Last) && string(other.First) <= string(h.Last) {
					r.add(Finding{Pos: h.Pos, Width: len(h.Name), Message: fmt.Sprintf("reserve %q overlaps reserve %q", h.Name, other.Name)})
				}
			}
		}
	}
}

// In gives the address in subnet that ends in the host part; false where
// there is none. In an IPv6 range each octet becomes a group that looks the
// same: .3.11 of fd61::/64 is fd61::3:11.
func (h Host) In(subnet netip.Prefix) (netip.Addr, bool) {
	if subnet.Addr().Is6() {
		sixteen := subnet.Addr().As16()
		for i, octet := range h {
			group := sixteen[16-2*(len(h)-i):]
			group[0], group[1] = octet/100, octet/10%10<<4|octet%10
		}
		addr := netip.AddrFrom16(sixteen)
		return addr, subnet.Contains(addr)
	}
	four := subnet.Addr().As4()
	copy(four[4-len(h):], h)
	addr := netip.AddrFrom4(four)
	return addr, subnet.Contains(addr)
}

func (r *reader) checkTaps(g *Group, networks []string) {
	if g.Networks == nil {
		if len(networks) == 1 {
			g.Networks = []Tap{{Network: networks[0], Pos: g.Pos}}
			return
		}
	}
	if len(g.Networks) == 0 {
		r.add(Finding{Pos: g.Pos, Width: len(g.Name), Message: fmt.Sprintf("group %q does not say on which network it is", g.Name),
			Remedy: fmt.Sprintf("add networks: [%s]", networks[0])})
	}
	for i, tap := range g.Networks {
		if !slices.Contains(networks, tap.Network) {
			r.missing(Ref{tap.Network, tap.Pos}, "network", networks)
		}
		if slices.ContainsFunc(g.Networks[:i], func(t Tap) bool { return t.Network == tap.Network }) {
			r.add(Finding{Pos: tap.Pos, Width: len(tap.Network), Message: fmt.Sprintf("group %q is on network %q already", g.Name, tap.Network)})
		}
	}
}

// placeholder is where an address of a forward stands in a retrieved file.
var placeholder = regexp.MustCompile(`\{([^{}]*)\}`)

func (r *reader) checkRetrieves() {
	forwards := names(r.lab.Forwards, func(f Forward) string { return f.Name })
	for _, one := range r.lab.Retrieves {
		if one.Node != "" {
			r.checkNode(Ref{one.Node, one.FromPos})
		}
		for _, pair := range one.Replace {
			for _, m := range placeholder.FindAllStringSubmatch(pair.By, -1) {
				name, is := strings.CutPrefix(m[1], "forward.")
				if is && !slices.Contains(forwards, name) {
					r.missing(Ref{name, pair.Pos}, "forward", forwards)
				}
			}
		}
	}
}

func (r *reader) checkProof(networks []string) {
	lab := r.lab
	some := func(s Selection, owner string) {
		nodes, err := s.Nodes(lab.Groups)
		if err != nil {
			r.selectionError(s, err)
		} else if len(nodes) == 0 && s.Include != nil {
			r.add(Finding{Severity: Caution, Pos: s.Pos, Width: len(s.Text), Message: owner + " means no node"})
		}
	}
	over := func(name string, pos Pos) {
		if name != "" && !slices.Contains(networks, name) {
			r.missing(Ref{name, pos}, "network", networks)
		}
	}
	checks := names(lab.Checks, func(c Check) string { return c.Name })
	for i := range lab.Checks {
		c := &lab.Checks[i]
		owner := fmt.Sprintf("check %q", c.Name)
		if c.From != Workstation && c.From != "" {
			r.checkNode(Ref{c.From, c.FromAt})
		}
		if c.Node != "" {
			r.checkNode(Ref{c.Node, c.PortAt})
		}
		over(c.Over, c.OverAt)
		if c.Kind != CheckReach {
			continue
		}
		some(c.Reach, owner)
		if c.Over == "" && len(networks) == 1 {
			c.Over = networks[0]
		} else if c.Over == "" {
			r.add(Finding{Pos: c.Pos, Width: len(c.Name), Message: owner + " does not say over which network", Remedy: "add over: " + networks[0]})
		}
	}
	for _, d := range lab.Drills {
		owner := fmt.Sprintf("drill %q", d.Name)
		if d.Fault != "" {
			some(d.On, owner)
		}
		if d.From != nil {
			some(*d.From, owner)
		}
		over(d.Over, d.OverAt)
		for _, ref := range slices.Concat(d.Holds, d.Breaks) {
			if !slices.Contains(checks, ref.Name) {
				r.missing(ref, "check", checks)
			}
		}
		for _, ref := range d.Breaks {
			if slices.ContainsFunc(d.Holds, func(h Ref) bool { return h.Name == ref.Name }) {
				r.add(Finding{Pos: ref.Pos, Width: len(ref.Name), Message: fmt.Sprintf("check %q cannot both hold and break", ref.Name)})
			}
		}
	}
}
