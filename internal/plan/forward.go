package plan

import (
	"fmt"
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
	chosen := map[netip.AddrPort]bool{}
	for _, f := range m.lab.Forwards {
		if f.Port == 0 {
			continue
		}
		for i := range f.Count {
			listen := netip.AddrPortFrom(f.Bind, f.Port+uint16(i))
			if holder, taken := m.holder(listen); taken {
				m.say(labfile.Error, f.Pos, 0, "end that process, or choose another port, or auto", "port %d of %s is taken by %s", listen.Port(), f.Bind, holder.Holder())
			}
			if chosen[listen] {
				m.say(labfile.Error, f.Pos, 0, "", "port %d of %s is forwarded twice", listen.Port(), f.Bind)
			}
			chosen[listen] = true
		}
	}
	for _, f := range m.lab.Forwards {
		first := f.Port
		if first == 0 {
			first = m.autoPorts(f, chosen)
		}
		for i := range f.Count {
			one := Forward{Name: f.Name, Listen: netip.AddrPortFrom(f.Bind, first+uint16(i)), Auto: f.Port == 0, Node: f.Node, NodePort: f.NodePort + uint16(i)}
			if f.Count > 1 {
				one.Name = fmt.Sprintf("%s:%d", f.Name, one.NodePort)
			}
			m.plan.Forwards = append(m.plan.Forwards, one)
		}
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

// autoPorts chooses the first of a run of free ports.
func (m *maker) autoPorts(f labfile.Forward, chosen map[netip.AddrPort]bool) uint16 {
	name := f.Name
	if f.Count > 1 {
		name = fmt.Sprintf("%s:%d", f.Name, f.NodePort)
	}
	if m.living != nil {
		for _, living := range m.living.Forwards {
			if living.Name == name && living.Auto && living.Listen.Addr() == f.Bind {
				return living.Listen.Port()
			}
		}
	}
	start := hash(m.lab.Name, f.Name) % autoPortCount
	for i := range uint32(autoPortCount) {
		offset := (start + i) % autoPortCount
		if offset+uint32(f.Count) > autoPortCount {
			continue
		}
		first := uint16(autoPortFirst + offset)
		free := true
		for n := range f.Count {
			listen := netip.AddrPortFrom(f.Bind, first+uint16(n))
			if _, taken := m.holder(listen); taken || chosen[listen] {
				free = false
				break
			}
		}
		if free {
			for n := range f.Count {
				chosen[netip.AddrPortFrom(f.Bind, first+uint16(n))] = true
			}
			return first
		}
	}
	m.say(labfile.Error, f.Pos, 0, "", "no port from %d on is free for forward %q", autoPortFirst, f.Name)
	return 0
}
