// Package plan is the mapping: it works out, from a lab and the facts of a
// workstation, which nodes there will be, with which addresses and ports, and
// says what will not work before anything is made.
//
// The package is pure. The same lab, facts and living plan give the same
// plan, byte for byte.
package plan

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"kettlehole/internal/labfile"
	"kettlehole/internal/workstation"
)

// Plan is a lab laid on a workstation. It is not changed once made.
type Plan struct {
	Lab      string    `json:"lab"`
	About    string    `json:"about,omitempty"`
	File     string    `json:"file"`               // the lab file, an absolute path
	Programs string    `json:"programs,omitempty"` // the folder of the lab's own programs, an absolute path
	Modules  []string  `json:"modules,omitempty"`  // of the workstation's kernel
	Inputs   []Input   `json:"inputs,omitempty"`
	Reserves []Reserve `json:"reserves,omitempty"`
	Networks []Network `json:"networks"`
	Nodes    []Node    `json:"nodes"`
	Fronts   []Front   `json:"fronts,omitempty"`
	Forwards []Forward `json:"forwards,omitempty"`
	// Access is where the workstation's ssh may come in without a socket, the
	// zero value for nowhere. No lab file has it: people add it to a living lab.
	Access netip.AddrPort `json:"access,omitzero"`
	Steps  []Step         `json:"steps,omitempty"`
	// Retrieves are files wanted on the workstation after a run.
	Retrieves []Retrieve `json:"retrieves,omitempty"`
	// Fit speaks of this workstation at this moment, and is no part of what the
	// plan is.
	Fit Fit `json:"-"`
}

// Input is a value that scripts see as INPUT_<NAME>.
type Input struct {
	Name  string `json:"name"`
	Value string `json:"value"`
	Given bool   `json:"given,omitempty"` // by a person, and not the default of the file
}

// Reserve is a range that no node gets: a run of addresses of a network, or a
// range beside the networks, which has no Network.
type Reserve struct {
	Name    string     `json:"name"`
	Network string     `json:"network,omitempty"`
	First   netip.Addr `json:"first"`
	Last    netip.Addr `json:"last"`
}

// String gives the range as scripts see it: "10.61.0.200-10.61.0.219".
func (r Reserve) String() string { return r.First.String() + "-" + r.Last.String() }

// Network is a layer-2 segment with its range.
type Network struct {
	Name    string       `json:"name"`
	Subnet  netip.Prefix `json:"subnet"`
	Subnet6 netip.Prefix `json:"subnet6,omitzero"` // of a network that carries both, beside the IPv4 one
	Auto    bool         `json:"auto,omitempty"`   // the planner chose Subnet
	Egress  bool         `json:"egress,omitempty"`
	// Own is the lab's own address on it, with the subnet's length, and Own6 an
	// IPv6 one beside that: names are answered there, and what may leave the
	// network leaves through it. A network that is full has none.
	Own  netip.Prefix `json:"own,omitzero"`
	Own6 netip.Prefix `json:"own6,omitzero"`
}

// Front is one address of the lab that spreads connections over the healthy
// nodes of a group.
type Front struct {
	Name       string       `json:"name"`
	Network    string       `json:"network"`
	Address    netip.Prefix `json:"address"`           // with the subnet's length
	Address6   netip.Prefix `json:"address6,omitzero"` // of a network that carries both, beside the IPv4 one
	Port       uint16       `json:"port"`
	Members    []Member     `json:"members"`
	HealthPort uint16       `json:"healthPort"`
	HealthPath string       `json:"healthPath,omitempty"` // of an HTTP request; "" where an open port is enough
}

// Member is a node that a front leads to.
type Member struct {
	Node    string         `json:"node"`
	Address netip.AddrPort `json:"address"` // on the front's network
}

// Node is one machine of the lab.
type Node struct {
	Name     string            `json:"name"`
	Group    string            `json:"group"`
	Index    int               `json:"index"` // from 1
	Count    int               `json:"count"` // of its group
	Image    string            `json:"image"`
	CPU      labfile.Cores     `json:"cpu"`    // thousandths of a core
	Memory   labfile.Bytes     `json:"memory"` // bytes
	Taps     []Tap             `json:"taps"`   // the first is the node's identity
	Disk     labfile.Bytes     `json:"disk"`   // bytes
	Quorum   bool              `json:"quorum,omitempty"`
	Services []labfile.Service `json:"services,omitempty"`
}

// Tap is a node's place on a network.
type Tap struct {
	Network  string       `json:"network"`
	Address  netip.Prefix `json:"address"`           // with the subnet's length
	Address6 netip.Prefix `json:"address6,omitzero"` // of a network that carries both, beside the IPv4 one
	MAC      string       `json:"mac"`
	// Gateway is the way out of the node, on the first of its networks that has
	// egress.
	Gateway  netip.Addr `json:"gateway,omitzero"`
	Gateway6 netip.Addr `json:"gateway6,omitzero"`
}

// Address is the node's identity: its address on the first network it names.
func (n Node) Address() netip.Addr {
	if len(n.Taps) == 0 {
		return netip.Addr{}
	}
	return n.Taps[0].Address.Addr()
}

// Six is the node's IPv6 address on a network, the zero Addr where it has none
// there.
func (t Tap) Six() netip.Addr {
	if t.Address.Addr().Is6() {
		return t.Address.Addr()
	}
	return t.Address6.Addr()
}

// Addresses lists the node's addresses on a network, the IPv4 one first.
func (t Tap) Addresses() []netip.Addr {
	if t.Address6.IsValid() {
		return []netip.Addr{t.Address.Addr(), t.Address6.Addr()}
	}
	return []netip.Addr{t.Address.Addr()}
}

// Ranges lists the ranges of the network, the IPv4 one first.
func (n Network) Ranges() []netip.Prefix {
	if n.Subnet6.IsValid() {
		return []netip.Prefix{n.Subnet, n.Subnet6}
	}
	return []netip.Prefix{n.Subnet}
}

// Forward leads from a workstation port to a node's port. A range of the lab
// file is one Forward for each port, named "range:30000".
type Forward struct {
	Name     string         `json:"name"`
	Listen   netip.AddrPort `json:"listen"`
	UDP      bool           `json:"udp,omitempty"` // TCP otherwise
	Auto     bool           `json:"auto,omitempty"`
	Added    bool           `json:"added,omitempty"` // to the living lab by a person; the lab file does not have it
	Node     string         `json:"node"`
	NodePort uint16         `json:"nodePort"`
}

// String writes the forward as a lab file does.
func (f Forward) String() string {
	from := f.Listen.String()
	if f.Listen.Addr() == loopback {
		from = strconv.Itoa(int(f.Listen.Port()))
	}
	protocol := ""
	if f.UDP {
		protocol = "/udp"
	}
	return fmt.Sprintf("%s -> %s:%d%s", from, f.Node, f.NodePort, protocol)
}

// loopback is where a forward listens that says nothing else.
var loopback = netip.AddrFrom4([4]byte{127, 0, 0, 1})

// Step is a step with the nodes that it runs on.
type Step struct {
	Name   string           `json:"name"`
	Nodes  []string         `json:"nodes"`
	After  []string         `json:"after,omitempty"`
	Takes  []string         `json:"takes,omitempty"`
	Gives  []labfile.Value  `json:"gives,omitempty"`
	Start  []string         `json:"start,omitempty"`
	Script string           `json:"script,omitempty"`
	Source string           `json:"source,omitempty"`
	Put    []labfile.File   `json:"put,omitempty"`
	Env    []labfile.Var    `json:"env,omitempty"`
	Shared bool             `json:"shared,omitempty"`
	AtOnce int              `json:"atOnce,omitempty"` // on how many nodes at the same time; 0 for all
	Retry  *labfile.Retry   `json:"retry,omitempty"`
	Wait   *labfile.Wait    `json:"wait,omitempty"`
	Limit  labfile.Duration `json:"limit"` // how long the script may run
}

// Retrieve is a file wanted on the workstation after a run.
type Retrieve struct {
	Name    string    `json:"name"` // on the workstation, below the folder of what is retrieved
	Node    string    `json:"node"`
	Path    string    `json:"path"`              // on the node, absolute
	Replace []Replace `json:"replace,omitempty"` // in the order of the lab file
}

// Replace is a text of a retrieved file and what stands there instead.
type Replace struct {
	Text string `json:"text"`
	By   string `json:"by"`
}

func (m *maker) retrieves() {
	for _, one := range m.lab.Retrieves {
		r := Retrieve{Name: one.Name, Node: one.Node, Path: one.Path}
		for _, pair := range one.Replace {
			r.Replace = append(r.Replace, Replace{pair.Text, m.plan.address(pair.By)})
		}
		m.plan.Retrieves = append(m.plan.Retrieves, r)
	}
}

// address puts the addresses of forwards in the place of their names in a
// text: {forward.debug}. A forward to all addresses is reached on loopback.
func (p *Plan) address(text string) string {
	for _, f := range p.Forwards {
		at := f.Listen
		switch {
		case at.Addr() == netip.IPv4Unspecified():
			at = netip.AddrPortFrom(loopback, at.Port())
		case at.Addr() == netip.IPv6Unspecified():
			at = netip.AddrPortFrom(netip.IPv6Loopback(), at.Port())
		}
		for _, name := range []string{f.Name, base(f.Name)} {
			text = strings.ReplaceAll(text, "{forward."+name+"}", at.String())
		}
	}
	return text
}

// Node gives the node of this name.
func (p *Plan) Node(name string) (Node, bool) {
	at := slices.IndexFunc(p.Nodes, func(n Node) bool { return n.Name == name })
	if at < 0 {
		return Node{}, false
	}
	return p.Nodes[at], true
}

// Groups gives the names of the groups that have nodes, in order.
func (p *Plan) Groups() []string {
	var groups []string
	for _, n := range p.Nodes {
		if !slices.Contains(groups, n.Group) {
			groups = append(groups, n.Group)
		}
	}
	return groups
}

// Where says where a lab file lives, for what cannot be known from its text.
type Where struct {
	File     string       // absolute path of the lab file
	Programs string       // absolute path of the folder of programs, "" for none
	Tight    bool         // memory may be promised that is not there
	Pool     netip.Prefix // for automatic subnets; the zero value for [DefaultPool]
}

// Make lays the lab on the workstation. living is the plan by which the lab
// lives now, nil if it does not: its forwards are its own and not taken, and
// its automatic choices stay. The plan is nil where findings hold an error.
func Make(lab *labfile.Lab, where Where, facts workstation.Facts, living *Plan) (*Plan, labfile.Findings) {
	m := &maker{lab: lab, where: where, facts: facts, living: living, segments: map[string]*segment{},
		plan: &Plan{Lab: lab.Name, About: strings.TrimSpace(lab.About), File: where.File, Programs: where.Programs, Modules: refs(lab.Modules)}}
	for _, in := range lab.Inputs {
		m.plan.Inputs = append(m.plan.Inputs, Input{in.Name, in.Value, in.From != ""})
	}
	m.networks()
	m.nodes()
	m.own()
	m.fronts()
	m.forwards()
	m.keepAdded()
	m.steps()
	m.retrieves()
	m.fit()
	m.shared()
	m.modules()
	m.unbuilt()
	m.findings.Sort()
	if m.findings.Count(labfile.Error) > 0 {
		return nil, m.findings
	}
	return m.plan, m.findings
}

type maker struct {
	lab      *labfile.Lab
	facts    workstation.Facts
	where    Where
	living   *Plan
	plan     *Plan
	segments map[string]*segment
	ports    map[port]bool // that forwards of the lab have
	findings labfile.Findings
}

func (m *maker) say(s labfile.Severity, pos labfile.Pos, width int, remedy, format string, args ...any) {
	m.findings = append(m.findings, labfile.Finding{Severity: s, Pos: pos, Width: width, Message: fmt.Sprintf(format, args...), Remedy: remedy})
}

func (m *maker) steps() {
	for _, s := range m.lab.Steps {
		nodes, err := s.On.Nodes(m.lab.Groups)
		if err != nil {
			m.say(labfile.Error, s.On.Pos, 0, "", "step %q: %v", s.Name, err)
			continue
		}
		step := Step{Name: s.Name, Nodes: nodes, Gives: s.Gives, Script: s.Script, Source: s.Source, Put: s.Put, Env: s.Env, Shared: s.Shared, AtOnce: s.AtOnce, Retry: s.Retry, Wait: s.Wait, Limit: s.Within}
		step.After, step.Takes, step.Start = refs(s.After), refs(s.Takes), refs(s.Start)
		m.plan.Steps = append(m.plan.Steps, step)
	}
}

func refs(from []labfile.Ref) []string {
	var all []string
	for _, ref := range from {
		all = append(all, ref.Name)
	}
	return all
}
