package plan

import (
	"net/netip"
	"slices"

	"kettlehole/internal/labfile"
	"kettlehole/internal/workstation"
)

// Automatic ports come from below the kernel's usual ephemeral range, which
// begins at 32768.
const (
	autoPortFirst = 20000
	autoPortCount = 10000
)

func (m *maker) forwards() {
	var chosen []netip.AddrPort
	for _, f := range m.lab.Forwards {
		if f.Port == 0 {
			continue
		}
		listen := netip.AddrPortFrom(f.Bind, f.Port)
		if holder, taken := m.holder(listen); taken {
			m.say(labfile.Error, f.Pos, 0, "end that process, or choose another port, or auto", "port %d of %s is taken by %s", f.Port, f.Bind, holder.Holder())
		}
		if slices.Contains(chosen, listen) {
			m.say(labfile.Error, f.Pos, 0, "", "port %d of %s is forwarded twice", f.Port, f.Bind)
		}
		chosen = append(chosen, listen)
	}
	for _, f := range m.lab.Forwards {
		forward := Forward{Name: f.Name, Listen: netip.AddrPortFrom(f.Bind, f.Port), Auto: f.Port == 0, Node: f.Node, NodePort: f.NodePort}
		if forward.Auto {
			forward.Listen = m.autoPort(f, chosen)
			chosen = append(chosen, forward.Listen)
		}
		m.plan.Forwards = append(m.plan.Forwards, forward)
	}
}

// holder finds who keeps the lab from listening on addr; what the living lab
// holds itself does not.
func (m *maker) holder(addr netip.AddrPort) (workstation.Listener, bool) {
	if m.living != nil && slices.ContainsFunc(m.living.Forwards, func(f Forward) bool { return f.Listen == addr }) {
		return workstation.Listener{}, false
	}
	at := slices.IndexFunc(m.facts.Listening, func(l workstation.Listener) bool { return l.Holds(addr) })
	if at < 0 {
		return workstation.Listener{}, false
	}
	return m.facts.Listening[at], true
}

func (m *maker) autoPort(f labfile.Forward, chosen []netip.AddrPort) netip.AddrPort {
	if m.living != nil {
		for _, living := range m.living.Forwards {
			if living.Name == f.Name && living.Auto && living.Listen.Addr() == f.Bind {
				return living.Listen
			}
		}
	}
	start := hash(m.lab.Name, f.Name) % autoPortCount
	for i := range uint32(autoPortCount) {
		listen := netip.AddrPortFrom(f.Bind, uint16(autoPortFirst+(start+i)%autoPortCount))
		if _, taken := m.holder(listen); !taken && !slices.Contains(chosen, listen) {
			return listen
		}
	}
	m.say(labfile.Error, f.Pos, 0, "", "no port from %d on is free for forward %q", autoPortFirst, f.Name)
	return netip.AddrPort{}
}
