package run

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"kettlehole/internal/labfile"
	"kettlehole/internal/plan"
)

// Environment is what every program on a node sees, sorted.
func Environment(p *plan.Plan, node plan.Node) []string {
	env := []string{
		"LAB=" + p.Lab, "NODE=" + node.Name, "GROUP=" + node.Group, "INDEX=" + strconv.Itoa(node.Index),
		"COUNT=" + strconv.Itoa(node.Count), "ADDRESS=" + node.Address().String(),
	}
	for _, in := range p.Inputs {
		env = append(env, "INPUT_"+labfile.VariableName(in.Name)+"="+in.Value)
	}
	for _, one := range p.Reserves {
		env = append(env, "RESERVE_"+labfile.VariableName(one.Name)+"="+one.String())
	}
	for i, tap := range node.Taps {
		network := labfile.VariableName(tap.Network)
		env = append(env, "ADDRESS_"+network+"="+tap.Address.Addr().String())
		if six := tap.Six(); six.IsValid() {
			env = append(env, "ADDRESS6_"+network+"="+six.String())
			if i == 0 {
				env = append(env, "ADDRESS6="+six.String())
			}
		}
	}
	for _, group := range p.Groups() {
		var names, addresses, sixes []string
		for _, n := range p.Nodes {
			if n.Group != group {
				continue
			}
			names, addresses = append(names, n.Name), append(addresses, n.Address().String())
			if six := n.Taps[0].Six(); six.IsValid() {
				sixes = append(sixes, six.String())
			}
		}
		name := labfile.VariableName(group)
		env = append(env, "NODES_"+name+"="+strings.Join(names, " "), "ADDRESSES_"+name+"="+strings.Join(addresses, " "))
		if sixes != nil {
			env = append(env, "ADDRESSES6_"+name+"="+strings.Join(sixes, " "))
		}
	}
	slices.Sort(env)
	return env
}

// Proxies is what programs on a node are told of the person's HTTP proxies:
// nothing where the node has no way out to them, or where the proxy is the
// workstation's own loopback, which no node reaches. Hosts of the lab never go
// through one.
func Proxies(p *plan.Plan, node plan.Node, given []string) []string {
	if !slices.ContainsFunc(node.Taps, func(t plan.Tap) bool { return t.Gateway.IsValid() || t.Gateway6.IsValid() }) {
		return nil
	}
	own := []string{"localhost", "127.0.0.1", "::1", "." + p.Lab, "." + p.Lab + ".internal"}
	for _, n := range p.Nodes {
		own = append(own, n.Name)
	}
	for _, n := range p.Networks {
		for _, r := range n.Ranges() {
			own = append(own, r.String())
		}
	}
	var all []string
	spared := map[string]string{}
	for _, variable := range given {
		name, value, _ := strings.Cut(variable, "=")
		if strings.EqualFold(name, "no_proxy") {
			spared[name] = value
			continue
		}
		if at, err := url.Parse(value); err != nil || at.Host == "" || isLoopback(at.Hostname()) {
			continue
		}
		all = append(all, variable)
	}
	if all == nil {
		return nil
	}
	for _, name := range []string{"NO_PROXY", "no_proxy"} {
		list := own
		if spared[name] != "" {
			list = append([]string{spared[name]}, own...)
		}
		all = append(all, name+"="+strings.Join(list, ","))
	}
	return all
}

func isLoopback(host string) bool {
	address, err := netip.ParseAddr(host)
	return host == "localhost" || err == nil && address.IsLoopback()
}

// Facts is the content of /run/kettlehole/lab.json on a node: version 1.
func Facts(p *plan.Plan, node plan.Node) []byte {
	type fact struct {
		Name      string                `json:"name"`
		Group     string                `json:"group"`
		Index     int                   `json:"index"`
		Addresses map[string]netip.Addr `json:"addresses"` // by network
		// IPv6 addresses by network, of those that have it.
		Addresses6 map[string]netip.Addr `json:"addresses6,omitempty"`
	}
	facts := struct {
		Version  int               `json:"version"`
		Lab      string            `json:"lab"`
		Node     string            `json:"node"`
		Group    string            `json:"group"`
		Index    int               `json:"index"`
		Count    int               `json:"count"`   // of the node's group
		Address  netip.Addr        `json:"address"` // the node's identity
		Nodes    []fact            `json:"nodes"`
		Networks map[string]string `json:"networks"` // name to subnet
		// IPv6 ranges of the networks that carry both.
		Networks6 map[string]string `json:"networks6,omitempty"`
		Inputs    map[string]string `json:"inputs"`
		Reserves  map[string]string `json:"reserves"` // name to first-last
	}{Version: 1, Lab: p.Lab, Node: node.Name, Group: node.Group, Index: node.Index, Count: node.Count, Address: node.Address(),
		Networks: map[string]string{}, Networks6: map[string]string{}, Inputs: map[string]string{}, Reserves: map[string]string{}}
	for _, in := range p.Inputs {
		facts.Inputs[in.Name] = in.Value
	}
	for _, one := range p.Reserves {
		facts.Reserves[one.Name] = one.String()
	}
	for _, n := range p.Networks {
		facts.Networks[n.Name] = n.Subnet.String()
		if n.Subnet6.IsValid() {
			facts.Networks6[n.Name] = n.Subnet6.String()
		}
	}
	for _, n := range p.Nodes {
		one := fact{Name: n.Name, Group: n.Group, Index: n.Index, Addresses: map[string]netip.Addr{}, Addresses6: map[string]netip.Addr{}}
		for _, tap := range n.Taps {
			one.Addresses[tap.Network] = tap.Address.Addr()
			if six := tap.Six(); six.IsValid() {
				one.Addresses6[tap.Network] = six
			}
		}
		facts.Nodes = append(facts.Nodes, one)
	}
	text, err := json.MarshalIndent(facts, "", "  ")
	if err != nil {
		panic(err) // strings and numbers alone
	}
	return append(text, '\n')
}

// Hosts is the content of /etc/hosts on a node. Each node stands there by its
// name and by name.lab.internal; a group's name leads to all its nodes.
func Hosts(p *plan.Plan, node plan.Node) string {
	var b strings.Builder
	b.WriteString("127.0.0.1 localhost\n::1 localhost ip6-localhost ip6-loopback\n")
	for _, n := range p.Nodes {
		// The addresses on the first network that both nodes are on, so that a
		// name always leads somewhere that can be reached.
		shared := n.Taps[0]
		for _, tap := range node.Taps {
			if at := slices.IndexFunc(n.Taps, func(t plan.Tap) bool { return t.Network == tap.Network }); at >= 0 {
				shared = n.Taps[at]
				break
			}
		}
		for _, address := range shared.Addresses() {
			fmt.Fprintf(&b, "%s %s %s.%s.internal %s %s.%s.internal\n", address, n.Name, n.Name, p.Lab, n.Group, n.Group, p.Lab)
		}
	}
	for _, f := range p.Fronts {
		for _, address := range []netip.Prefix{f.Address, f.Address6} {
			if address.IsValid() {
				fmt.Fprintf(&b, "%s %s %s.%s.internal\n", address.Addr(), f.Name, f.Name, p.Lab)
			}
		}
	}
	return b.String()
}

// Resolver is the content of /etc/resolv.conf on a node (resolv.conf(5)): the
// lab's own addresses on its networks, those with egress first, since what is
// asked elsewhere stays in the lab.
func Resolver(p *plan.Plan, node plan.Node) string {
	var out, in []string
	for _, tap := range node.Taps {
		at := slices.IndexFunc(p.Networks, func(n plan.Network) bool { return n.Name == tap.Network })
		if at < 0 || !p.Networks[at].Own.IsValid() {
			continue
		}
		line := "nameserver " + p.Networks[at].Own.Addr().String() + "\n"
		if p.Networks[at].Egress {
			out = append(out, line)
		} else {
			in = append(in, line)
		}
	}
	all := append(out, in...)
	if len(all) == 0 {
		return "# No network has room for a name server; names stand in /etc/hosts.\n"
	}
	return fmt.Sprintf("search %s.internal\noptions timeout:1 attempts:3\n%s", p.Lab, strings.Join(all[:min(len(all), mostServers)], ""))
}

// mostServers is how many name servers a program looks at (MAXNS,
// resolv.conf(5)).
const mostServers = 3
