package plan

import (
	"fmt"
	"strings"

	"kettlehole/internal/labfile"
	"kettlehole/internal/workstation"
)

// Cost is what a substrate takes for a node beside what the node itself may
// use.
type Cost struct {
	Memory labfile.Bytes // outside of the node's own limit
	Disk   labfile.Bytes
}

// Costs are measured with 100 idle nodes on Linux 6.18: of the kernel's memory
// 0.6 MiB a node are charged to nobody; a node's folder holds 54 KiB before its
// programs write anything.
var Costs = map[labfile.Substrate]Cost{labfile.Container: {Memory: labfile.MiB, Disk: 64 * labfile.KiB}}

// Fit compares what a lab may use with what the workstation has for it.
type Fit struct {
	Memory     labfile.Bytes `json:"memory"`     // of all nodes, with their substrate's own
	MemoryFree labfile.Bytes `json:"memoryFree"` // that no other lab was promised
	Disk       labfile.Bytes `json:"disk"`
	DiskFree   labfile.Bytes `json:"diskFree"`
	CPU        labfile.Cores `json:"cpu"`
	Cores      int           `json:"cores"`
	Rooms      []Room        `json:"rooms,omitempty"`  // one for each group, in order
	Others     labfile.Bytes `json:"others,omitempty"` // memory promised to other labs and not used yet
}

// Room is how many more nodes of a group fit, and what stops the next one.
type Room struct {
	Group string `json:"group"`
	More  int    `json:"more"`
	Stops string `json:"stops"`
}

// String says it in words: "11 more fit; memory stops first".
func (r Room) String() string {
	if r.More == 0 {
		return "no more fit; " + r.Stops + " is in the way"
	}
	return fmt.Sprintf("%d more; %s stops first", r.More, r.Stops)
}

// Load is how much processor time the nodes may use, as a share of what there
// is: above 1, they share it.
func (f Fit) Load() float64 {
	if f.Cores == 0 {
		return 0
	}
	return float64(f.CPU) / 1000 / float64(f.Cores)
}

// fit compares what the nodes may use with what the workstation has.
func (m *maker) fit() {
	f := Fit{DiskFree: labfile.Bytes(m.facts.DiskFree), Cores: m.facts.Cores}
	for _, g := range m.lab.Groups {
		n, cost := labfile.Bytes(g.Count), Costs[g.Substrate]
		f.Memory += n * (g.Memory + cost.Memory)
		f.Disk += n * (g.Disk + cost.Disk)
		f.CPU += labfile.Cores(g.Count) * g.CPU
	}
	f.leave(m.facts, m.lab.Name)
	known := m.facts.MemoryTotal > 0
	if known && f.Memory > f.MemoryFree {
		severity, remedy := labfile.Error, "give the groups less memory or fewer nodes, or promise more than there is with --tight"
		if m.where.Tight {
			severity, remedy = labfile.Caution, ""
		}
		m.say(severity, labfile.Pos{}, 0, remedy, "%s", f.short())
	}
	if known && f.Disk > f.DiskFree {
		m.say(labfile.Caution, labfile.Pos{}, 0, "", "the nodes may write %s to their disks together, and the workstation has %s free", f.Disk, f.DiskFree)
	}
	for _, g := range m.lab.Groups {
		f.Rooms = append(f.Rooms, m.room(g, f, known))
	}
	m.plan.Fit = f
}

// leave works out how much memory there is for a lab, beside what others were
// promised.
func (f *Fit) leave(facts workstation.Facts, lab string) {
	var mine labfile.Bytes
	for _, l := range facts.Labs {
		if l.Lab == lab {
			mine += labfile.Bytes(l.MemoryUsed)
		} else {
			f.Others += labfile.Bytes(max(l.MemoryLimit-l.MemoryUsed, 0))
		}
	}
	f.MemoryFree = max(labfile.Bytes(facts.MemoryAvailable)+mine-f.Others, 0)
}

// short says that there is too little memory.
func (f *Fit) short() string {
	also := ""
	if f.Others > 0 {
		also = fmt.Sprintf("; %s more is promised to other labs", f.Others)
	}
	return fmt.Sprintf("the nodes may use %s of memory together, and the workstation has %s for them%s", f.Memory, f.MemoryFree, also)
}

// Lacks says what memory this workstation lacks for a lab that was made before
// and is to come back, "" where it has enough.
func (p *Plan) Lacks(facts workstation.Facts) string {
	var f Fit
	for _, n := range p.Nodes {
		f.Memory += n.Memory + Costs[labfile.Container].Memory
	}
	f.leave(facts, p.Lab)
	if facts.MemoryTotal == 0 || f.Memory <= f.MemoryFree {
		return ""
	}
	return f.short()
}

// room works out how many more nodes of a group could be planned.
func (m *maker) room(g labfile.Group, f Fit, known bool) Room {
	r := Room{Group: g.Name, More: labfile.MaxCount - g.Count, Stops: fmt.Sprintf("the limit of %d nodes", labfile.MaxCount)}
	if each := g.Memory + Costs[g.Substrate].Memory; known && !m.where.Tight && each > 0 {
		if more := int(max(f.MemoryFree-f.Memory, 0) / each); more < r.More {
			r.More, r.Stops = more, "memory"
		}
	}
	for _, tap := range g.Networks {
		if seg, ok := m.segments[tap.Network]; ok {
			if more, stops := m.places(g, tap, seg, r.More); more < r.More {
				r.More, r.Stops = more, stops
			}
		}
	}
	return r
}

// places counts how many more nodes of a group have a place on a network, up
// to a limit, and says what stands in the way of the next.
func (m *maker) places(g labfile.Group, tap labfile.Tap, seg *segment, limit int) (int, string) {
	end := tap.Network + "'s range"
	first := seg.firstAuto()
	free := 0 // places that may be chosen
	for place := seg.free(first); place <= seg.last() && free <= limit; place = seg.free(place + 1) {
		free++
	}
	if tap.Host == nil {
		return min(free, limit), end
	}
	start, ok := seg.place(tap.Host)
	if !ok {
		return 0, end
	}
	chosen := 0 // nodes whose place gives way, and must find another one
	for more := 0; more < limit; more++ {
		place := start + uint32(g.Count+more)
		if place > seg.last() {
			return more, end
		}
		switch owner := seg.held(place); {
		case owner == "" && place >= first:
			free--
		case owner == "":
		case seg.chosen[place]:
			chosen++
		default:
			return more, strings.TrimPrefix(owner, "node ")
		}
		if chosen > free {
			return more, end
		}
	}
	return limit, end
}

// Quorum is what a group of voting members bears.
type Quorum struct {
	Group string `json:"group"`
	Count int    `json:"count"`
	Bears int    `json:"bears"` // how many may be lost while the rest still decides
}

// Quorums lists the groups of voting members.
func (p *Plan) Quorums() []Quorum {
	var all []Quorum
	for _, n := range p.Nodes {
		if n.Quorum && n.Index == 1 {
			all = append(all, Quorum{n.Group, n.Count, (n.Count - 1) / 2})
		}
	}
	return all
}

// String says what the number buys: "1 of 3 may be lost; 5 would bear 2".
func (q Quorum) String() string {
	words := fmt.Sprintf("%d of %d may be lost", q.Bears, q.Count)
	if q.Bears == 0 {
		words = fmt.Sprintf("none of %d may be lost", q.Count)
	}
	if q.Count%2 == 0 {
		return words + fmt.Sprintf(", as with %d; %d would bear %d", q.Count-1, q.Count+1, q.Bears+1)
	}
	return words + fmt.Sprintf("; %d would bear %d", q.Count+2, q.Bears+1)
}
