package plan

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"kettlehole/internal/labfile"
	"kettlehole/internal/workstation"
)

// keepAdded keeps the forwards that a person added to the living lab, unless
// the file has them now, has given their port to another, or their node has
// gone.
func (m *maker) keepAdded() {
	if m.living == nil {
		return
	}
	if access := m.living.Access; !m.ports[port{access, false}] {
		m.plan.Access = access
	}
	for _, f := range m.living.Forwards {
		taken := slices.ContainsFunc(m.plan.Forwards, func(other Forward) bool {
			return base(other.Name) == base(f.Name) || other.Listen == f.Listen && other.UDP == f.UDP
		})
		if _, known := m.plan.Node(f.Node); f.Added && known && !taken {
			m.plan.Forwards = append(m.plan.Forwards, f)
		}
	}
}

// base is the name of the forward in the lab file that one of its ports
// belongs to.
func base(name string) string {
	name, _, _ = strings.Cut(name, ":")
	return name
}

// Add gives a plan with one forward more, and the forwards that were added.
// The plan itself stays as it is. Where findings hold an error there is none.
func (p *Plan) Add(forward labfile.Forward, facts workstation.Facts) (*Plan, []Forward, labfile.Findings) {
	wider := *p
	wider.Forwards = slices.Clone(p.Forwards)
	m := &maker{lab: &labfile.Lab{Name: p.Lab, Forwards: []labfile.Forward{forward}}, facts: facts, living: p, plan: &wider, ports: map[port]bool{}}
	for _, f := range p.Forwards {
		m.ports[port{f.Listen, f.UDP}] = true
	}
	if _, known := p.Node(forward.Node); !known {
		m.say(labfile.Error, labfile.Pos{}, 0, "", "there is no node %q", forward.Node)
	}
	if slices.ContainsFunc(p.Forwards, func(f Forward) bool { return base(f.Name) == forward.Name }) {
		m.say(labfile.Error, labfile.Pos{}, 0, "give this one another name", "the lab has a forward %q already", forward.Name)
	}
	if forward.Port != 0 {
		m.fixedPorts(forward)
	}
	added := m.spread(forward)
	for i := range added {
		added[i].Added = true
	}
	if m.findings.Count(labfile.Error) > 0 {
		return nil, nil, m.findings
	}
	wider.Forwards = append(wider.Forwards, added...)
	return &wider, added, m.findings
}

// Without gives a plan without a forward of that name, and how many ports that
// is. The plan itself stays as it is. The forwards of the lab file are its own,
// and stay with an error.
func (p *Plan) Without(name string) (*Plan, int, error) {
	narrower := *p
	narrower.Forwards = nil
	for _, f := range p.Forwards {
		switch {
		case f.Name != name && base(f.Name) != name:
			narrower.Forwards = append(narrower.Forwards, f)
		case !f.Added:
			return nil, 0, fmt.Errorf("forward %q stands in the lab file; take it out there and provision again", name)
		}
	}
	gone := len(p.Forwards) - len(narrower.Forwards)
	if gone == 0 {
		return nil, 0, fmt.Errorf("there is no forward %q", name)
	}
	return &narrower, gone, nil
}

// Declared gives a forward that was added as a lab file would have it.
func (p *Plan) Declared(name string) (labfile.Forward, error) {
	var f labfile.Forward
	for _, one := range p.Forwards {
		switch {
		case base(one.Name) != base(name):
		case !one.Added:
			return f, fmt.Errorf("forward %q stands in the lab file already", base(name))
		case f.Count > 0:
			f.Count++
		default:
			f = labfile.Forward{Name: base(name), Bind: one.Listen.Addr(), Port: one.Listen.Port(), Count: 1, Protocol: labfile.TCP, Node: one.Node, NodePort: one.NodePort}
			if one.Auto {
				f.Port = 0
			}
			if one.UDP {
				f.Protocol = labfile.UDP
			}
		}
	}
	if f.Count == 0 {
		return f, fmt.Errorf("there is no forward %q", name)
	}
	return f, nil
}

// WithAccess gives a plan whose lab lets ssh in on a port of the workstation's
// loopback: one that is free for "auto", none for "off". The plan itself stays
// as it is.
func (p *Plan) WithAccess(text string, facts workstation.Facts) (*Plan, error) {
	changed := *p
	if changed.Access = (netip.AddrPort{}); text == "off" {
		return &changed, nil
	}
	forward, err := labfile.NewForward("ssh", text+" -> ssh-1:22")
	if err != nil || forward.Count != 1 || !forward.Bind.IsLoopback() {
		return nil, fmt.Errorf("%q is no port of the workstation; write one, auto or off", text)
	}
	m := &maker{lab: &labfile.Lab{Name: p.Lab}, facts: facts, living: p, plan: &changed, ports: map[port]bool{}}
	for _, f := range p.Forwards {
		m.ports[port{f.Listen, f.UDP}] = true
	}
	if forward.Port != 0 && forward.Port != p.Access.Port() {
		m.fixedPorts(forward)
	}
	changed.Access = m.spread(forward)[0].Listen
	if m.findings.Count(labfile.Error) > 0 {
		return nil, errors.New(m.findings.Words(labfile.Error))
	}
	return &changed, nil
}
