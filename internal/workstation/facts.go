// Package workstation holds facts about a machine, as plain values. Package
// survey reads them.
package workstation

import (
	"fmt"
	"net/netip"
)

// Facts is what a plan needs to know about a workstation. It is a plain value:
// it loads from JSON, and is safe to read from any number of goroutines.
type Facts struct {
	Cores           int        `json:"cores"`
	MemoryTotal     int64      `json:"memoryTotal"`     // bytes
	MemoryAvailable int64      `json:"memoryAvailable"` // bytes
	DiskFree        int64      `json:"diskFree"`        // bytes, where labs live
	Listening       []Listener `json:"listening,omitempty"`
	Labs            []Hold     `json:"labs,omitempty"` // that live
	// Ephemeral are the first and the last port that the kernel gives to
	// connections that go out (ip(7)); zero where that is not known.
	Ephemeral [2]uint16 `json:"ephemeral,omitzero"`
	Root      bool      `json:"root,omitempty"` // this user is root

	System     System       `json:"system"`
	SwapTotal  int64        `json:"swapTotal,omitempty"` // bytes
	SwapFree   int64        `json:"swapFree,omitempty"`  // bytes
	Pressure   Pressure     `json:"pressure"`
	Interfaces []Interface  `json:"interfaces,omitempty"`
	Routes     []Route      `json:"routes,omitempty"`
	Resolvers  []netip.Addr `json:"resolvers,omitempty"`
	Cgroup     Cgroup       `json:"cgroup"`
	Limits     Limits       `json:"limits"`
	SubUIDs    []IDRange    `json:"subUIDs,omitempty"` // of this user (subuid(5))
	SubGIDs    []IDRange    `json:"subGIDs,omitempty"`
	// Modules are those of the kernel that are loaded or built in, sorted; nil
	// where the kernel does not tell.
	Modules []string `json:"modules,omitempty"`
	// Trials tell what was tried and what came of it; empty where nothing was.
	Trials []Trial `json:"trials,omitempty"`
}

// Hold is what a living lab holds of the workstation.
type Hold struct {
	Lab         string   `json:"lab"`
	MemoryLimit int64    `json:"memoryLimit"`     // bytes, of all nodes
	MemoryUsed  int64    `json:"memoryUsed"`      // bytes, now
	Ports       []string `json:"ports,omitempty"` // addresses and ports of its forwards
}

// Listener is a port of the workstation that is taken.
type Listener struct {
	Addr    netip.AddrPort `json:"addr"`
	UDP     bool           `json:"udp,omitempty"` // TCP otherwise
	PID     int            `json:"pid,omitempty"` // 0 where the holder cannot be seen
	Process string         `json:"process,omitempty"`
	User    string         `json:"user,omitempty"`
}

// Holder names who holds the port, for a message.
func (l Listener) Holder() string {
	if l.PID == 0 {
		return "a process that cannot be seen from here"
	}
	if l.User != "" {
		return fmt.Sprintf("%s of %s (process %d)", l.Process, l.User, l.PID)
	}
	return fmt.Sprintf("%s (process %d)", l.Process, l.PID)
}

// Holds tells whether the listener keeps others from listening on addr: on
// the same port of the same address, or of every address, with the same
// protocol.
func (l Listener) Holds(addr netip.AddrPort, udp bool) bool {
	mine, other := l.Addr.Addr().Unmap(), addr.Addr().Unmap()
	return l.UDP == udp && l.Addr.Port() == addr.Port() && (mine == other || mine.IsUnspecified() || other.IsUnspecified())
}

// Pulse is how busy the workstation is at one moment.
type Pulse struct {
	Busy, Whole float64 // seconds of processor time since boot, of all cores
	MemoryUsed  int64   // bytes
	MemoryTotal int64   // bytes
	DiskFree    int64   // bytes, where labs live
}

// Share gives how much of the processors was in use since an earlier pulse,
// from 0 to 1.
func (p Pulse) Share(earlier Pulse) float64 {
	if p.Whole <= earlier.Whole {
		return 0
	}
	return min(max((p.Busy-earlier.Busy)/(p.Whole-earlier.Whole), 0), 1)
}
