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

// port is one of the workstation's.
type port struct {
	netip.AddrPort
	udp bool
}

func (m *maker) forwards() {
	m.ports = map[port]bool{}
	for _, f := range m.lab.Forwards {
		if f.Port != 0 {
			m.fixedPorts(f)
		}
	}
	for _, f := range m.lab.Forwards {
		m.plan.Forwards = append(m.plan.Forwards, m.spread(f)...)
	}
}

// spread is a forward of a lab file, port by port.
func (m *maker) spread(f labfile.Forward) []Forward {
	first := f.Port
	if first == 0 {
		first = m.autoPorts(f)
	}
	var all []Forward
	for i := range f.Count {
		one := Forward{Name: f.Name, Listen: netip.AddrPortFrom(f.Bind, first+uint16(i)), UDP: f.Protocol == labfile.UDP, Auto: f.Port == 0, Node: f.Node, NodePort: f.NodePort + uint16(i)}
		if f.Count > 1 {
			one.Name = fmt.Sprintf("%s:%d", f.Name, one.NodePort)
		}
		all = append(all, one)
	}
	return all
}

// fixedPorts takes the ports that the file names, and tells what stands
// against them.
func (m *maker) fixedPorts(f labfile.Forward) {
	for i := range f.Count {
		number := f.Port + uint16(i)
		listen := port{netip.AddrPortFrom(f.Bind, number), f.Protocol == labfile.UDP}
		holder, taken := m.holder(listen)
		switch {
		case m.ports[listen]:
			m.say(labfile.Error, f.Pos, portWidth, "", "port %d of %s is forwarded twice", number, f.Bind)
		case taken:
			m.say(labfile.Error, f.Pos, portWidth, m.nearestFree(listen)+"or write auto, or end that process", "port %d of %s is taken by %s", number, f.Bind, m.whose(listen, holder))
		case number < 1024 && !m.facts.Root && m.facts.Cores > 0:
			m.say(labfile.Caution, f.Pos, portWidth, "", "port %d is below 1024, and this user may not listen there on most workstations", number)
		case m.facts.Ephemeral[0] > 0 && number >= m.facts.Ephemeral[0] && number <= m.facts.Ephemeral[1] && i == 0:
			m.say(labfile.Note, f.Pos, portWidth, "", "port %d lies where the kernel takes ports for connections that go out (%d to %d), and may be taken on another day", number, m.facts.Ephemeral[0], m.facts.Ephemeral[1])
		}
		m.ports[listen] = true
	}
}

// portWidth is how much of a forward's text a finding about its port marks.
const portWidth = 4

// nearestFree proposes a port near one that is taken.
func (m *maker) nearestFree(taken port) string {
	for distance := 1; distance < 1000; distance++ {
		for _, number := range []int{int(taken.Port()) + distance, int(taken.Port()) - distance} {
			if number < 1024 || number > 65535 {
				continue
			}
			listen := port{netip.AddrPortFrom(taken.Addr(), uint16(number)), taken.udp}
			if _, held := m.holder(listen); !held && !m.ports[listen] {
				return fmt.Sprintf("%d is free; ", number)
			}
		}
	}
	return ""
}

// whose names who holds a port: another lab, or a process.
func (m *maker) whose(listen port, holder workstation.Listener) string {
	for _, l := range m.facts.Labs {
		if l.Lab != m.lab.Name && slices.Contains(l.Ports, listen.String()) {
			return fmt.Sprintf("lab %q", l.Lab)
		}
	}
	return holder.Holder()
}

// holder finds who keeps the lab from listening on addr; what the living lab
// holds itself does not.
func (m *maker) holder(addr port) (workstation.Listener, bool) {
	if m.living != nil && slices.ContainsFunc(m.living.Forwards, func(f Forward) bool { return f.Listen == addr.AddrPort && f.UDP == addr.udp }) {
		return workstation.Listener{}, false
	}
	at := slices.IndexFunc(m.facts.Listening, func(l workstation.Listener) bool { return l.Holds(addr.AddrPort, addr.udp) })
	if at < 0 {
		return workstation.Listener{}, false
	}
	return m.facts.Listening[at], true
}

// autoPorts chooses the first of a run of free ports.
func (m *maker) autoPorts(f labfile.Forward) uint16 {
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
			listen := port{netip.AddrPortFrom(f.Bind, first+uint16(n)), f.Protocol == labfile.UDP}
			if _, taken := m.holder(listen); taken || m.ports[listen] {
				free = false
				break
			}
		}
		if free {
			for n := range f.Count {
				m.ports[port{netip.AddrPortFrom(f.Bind, first+uint16(n)), f.Protocol == labfile.UDP}] = true
			}
			return first
		}
	}
	m.say(labfile.Error, f.Pos, 0, "", "no port from %d on is free for forward %q", autoPortFirst, f.Name)
	return 0
}
