package labfile

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"kettlehole/internal/labfile/shape"
)

func (r *reader) network(f field) {
	n := Network{Name: r.key(f, "a network's name"), Pos: f.at.pos}
	owner := fmt.Sprintf("network %q", n.Name)
	for _, e := range r.fields(f.value, owner) {
		switch e.key {
		case "subnet":
			n.Subnet, n.Subnet6 = r.subnets(e.value)
		case "reserve":
			for _, one := range r.fields(e.value, "reserve") {
				n.Reserves = append(n.Reserves, r.hosts(one))
			}
		case "egress":
			n.Egress = r.boolean(e.value, "egress")
		default:
			unknown[shape.Network](&r.tree, e, owner)
		}
	}
	r.lab.Networks = append(r.lab.Networks, n)
}

// subnets reads the range of a network, or the two of one that carries both
// IPv4 and IPv6, in either order.
func (r *reader) subnets(n node) (netip.Prefix, netip.Prefix) {
	if !n.is(yaml.SequenceNode) {
		return r.subnet(n), netip.Prefix{}
	}
	before := len(r.findings)
	var ranges []netip.Prefix
	for _, value := range n.value.Content {
		ranges = append(ranges, r.subnet(r.node(value)))
	}
	switch {
	case len(r.findings) > before:
		return netip.Prefix{}, netip.Prefix{}
	case len(ranges) == 1:
		return ranges[0], netip.Prefix{}
	case len(ranges) == 2 && ranges[0].Addr().Is6() != ranges[1].Addr().Is6():
		if ranges[0].Addr().Is6() {
			slices.Reverse(ranges)
		}
		return ranges[0], ranges[1]
	}
	r.wrong(n, "a network has one subnet, or one of IPv4 and one of IPv6, such as [auto, fd61::/64]")
	return netip.Prefix{}, netip.Prefix{}
}

func (r *reader) subnet(n node) netip.Prefix {
	text, ok := r.scalar(n, "a subnet")
	if !ok || text == "auto" {
		return netip.Prefix{}
	}
	prefix := r.prefix(n, text, "subnet")
	addr := prefix.Addr()
	switch {
	case !prefix.IsValid():
	case addr.Is6() && prefix.Bits() != 64:
		r.wrong(n, "an IPv6 subnet is a /64; %s is not", text)
	case addr.Is4() && (prefix.Bits() < 8 || prefix.Bits() > 30):
		r.wrong(n, "a subnet is between /8 and /30; %s is not", text)
	case addr.IsUnspecified(), addr.IsLoopback(), addr.IsMulticast(), addr.IsLinkLocalUnicast(), addr.Is4() && addr.As4()[0] >= 240:
		r.wrong(n, "no node can have an address in %s, which the standards keep for other things", text)
	}
	return prefix
}

// prefix reads a range (RFC 4632, section 3.1; RFC 4291, section 2.3).
func (r *reader) prefix(n node, text, kind string) netip.Prefix {
	prefix, err := netip.ParsePrefix(text)
	switch {
	case err != nil:
		f := Finding{Pos: n.pos, Width: n.width, Message: fmt.Sprintf("%q is no %s", text, kind), Remedy: "write one such as 10.61.0.0/24"}
		if kind == "subnet" {
			f.Meant, f.Remedy = nearest(text, []string{"auto"}), f.Remedy+", or auto"
		}
		r.add(f)
		return netip.Prefix{}
	case prefix.Addr().Is4In6():
		r.wrong(n, "%s is an IPv4 range in the writing of IPv6; write it plainly", text)
		return netip.Prefix{}
	case prefix.Masked() != prefix:
		r.add(Finding{Pos: n.pos, Width: n.width, Meant: prefix.Masked().String(), Message: fmt.Sprintf("%s has host bits set", text)})
	}
	return prefix
}

// hosts reads the addresses of a reserve, ".200-.219" or ".5".
func (r *reader) hosts(f field) HostReserve {
	h := HostReserve{Name: r.key(f, "a reserve's name"), Pos: f.at.pos}
	text, ok := r.scalar(f.value, "a reserve")
	if !ok {
		return h
	}
	first, last, isRange := strings.Cut(text, "-")
	if !isRange {
		last = first
	}
	var errFirst, errLast error
	h.First, errFirst = parseHost(strings.TrimSpace(first))
	h.Last, errLast = parseHost(strings.TrimSpace(last))
	switch {
	case errFirst != nil || errLast != nil:
		r.wrong(f.value, "%q is no run of addresses; write the last parts of the first and the last, such as .200-.219, or one such as .5", text)
	case len(h.First) != len(h.Last):
		r.wrong(f.value, "%s and %s do not have the same number of parts", h.First, h.Last)
	case strings.Compare(string(h.First), string(h.Last)) > 0:
		r.wrong(f.value, "the range %s ends before it begins", text)
	}
	return h
}

// reserve reads a range used inside the cluster.
func (r *reader) reserve(f field) {
	one := RangeReserve{Name: r.key(f, "a reserve's name"), Pos: f.at.pos}
	if text, ok := r.scalar(f.value, "a reserve"); ok {
		one.Range = r.prefix(f.value, text, "range")
	}
	r.lab.Reserves = append(r.lab.Reserves, one)
}

func (r *reader) taps(n node) []Tap {
	if n.is(yaml.ScalarNode) || n.is(yaml.SequenceNode) {
		taps := []Tap{}
		for _, ref := range r.texts(n, "a network") {
			taps = append(taps, Tap{Network: ref.Name, Pos: ref.Pos})
		}
		return taps
	}
	taps := []Tap{}
	for _, e := range r.fields(n, "networks of a group") {
		tap := Tap{Network: e.key, Pos: e.at.pos}
		if !e.value.empty() {
			if text, ok := r.scalar(e.value, "the place on a network"); ok && text != "auto" {
				host, err := parseHost(text)
				if err != nil {
					r.wrong(e.value, "%v", err)
				}
				tap.Host = host
			}
		}
		taps = append(taps, tap)
	}
	return taps
}

// parseHost reads the host part of an address, ".11" or ".3.11".
func parseHost(text string) (Host, error) {
	var host Host
	parts := strings.Split(strings.TrimPrefix(text, "."), ".")
	if strings.HasPrefix(text, ".") && len(parts) <= 3 {
		for _, part := range parts {
			octet, err := strconv.ParseUint(part, 10, 8)
			if err != nil {
				break
			}
			host = append(host, byte(octet))
		}
	}
	if len(host) != len(parts) || len(host) == 0 {
		return nil, fmt.Errorf("%q is no place on a network; write the last part of the first node's address, such as .11, or auto", text)
	}
	return host, nil
}

// front reads an address that spreads connections.
func (r *reader) front(f field) {
	one := Front{Name: r.key(f, "a front's name"), Pos: f.at.pos}
	owner := fmt.Sprintf("front %q", one.Name)
	at := map[string]node{}
	for _, e := range r.fields(f.value, owner) {
		at[e.key] = e.value
		switch e.key {
		case "address":
			one.AddressPos = e.value.pos
			text, ok := r.scalar(e.value, "address")
			name, rest, found := strings.Cut(text, ".")
			host, err := parseHost("." + rest)
			if ok && (!found || err != nil) {
				name = ""
				r.wrong(e.value, "%q is no address of a front; write a network and a place on it, such as valley.5", text)
			}
			one.Network, one.Host = name, host
		case "port":
			one.Port = value(r, e.value, "port", parsePort)
		case "to":
			one.Group, one.GroupPort, one.ToPos = r.nodePort(e.value, "group", "council:7000")
		case "healthy":
			r.healthy(e, &one)
		default:
			unknown[shape.Front](&r.tree, e, owner)
		}
	}
	for _, key := range []string{"address", "port", "to"} {
		if _, said := at[key]; !said {
			r.wrong(f.at, "%s lacks %q", owner, key)
		}
	}
	if one.HealthPort == 0 {
		one.HealthPort = one.GroupPort
	}
	r.lab.Fronts = append(r.lab.Fronts, one)
}

func (r *reader) healthy(f field, one *Front) {
	for _, e := range r.fields(f.value, "healthy") {
		switch e.key {
		case "port":
			one.HealthPort = value(r, e.value, "port", parsePort)
		case "http":
			if one.HealthPath, _ = r.text(e.value, "http"); !strings.HasPrefix(one.HealthPath, "/") {
				r.wrong(e.value, "http is a path that begins with a slash, such as /healthy")
			}
		default:
			unknown[shape.Healthy](&r.tree, e, "healthy")
		}
	}
}

func (r *reader) forward(f field) {
	name := r.key(f, "a forward's name")
	text, ok := r.scalar(f.value, "a forward")
	if !ok {
		return
	}
	one, column, err := ParseForward(text)
	one.Name, one.Pos, one.width = name, f.value.pos, f.value.width
	if err != nil {
		wrong := err.(*ForwardError)
		pos, width := f.value.span().inside(wrong.Column, wrong.Width)
		r.add(Finding{Pos: pos, Width: width, Message: wrong.Reason, Remedy: wrong.Remedy})
		one.Node = ""
	}
	one.NodePos, _ = f.value.span().inside(column, 0)
	r.lab.Forwards = append(r.lab.Forwards, one)
}
