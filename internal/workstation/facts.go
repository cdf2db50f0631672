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
}

// Listener is a TCP port of the workstation that is taken.
type Listener struct {
	Addr    netip.AddrPort `json:"addr"`
	PID     int            `json:"pid,omitempty"` // 0 where the holder cannot be seen
	Process string         `json:"process,omitempty"`
}

// Holder names who holds the port, for a message.
func (l Listener) Holder() string {
	if l.PID == 0 {
		return "a process that cannot be seen from here"
	}
	return fmt.Sprintf("%s (process %d)", l.Process, l.PID)
}

// Holds tells whether the listener keeps others from listening on addr: on
// the same port of the same address, or of every address.
func (l Listener) Holds(addr netip.AddrPort) bool {
	mine, other := l.Addr.Addr().Unmap(), addr.Addr().Unmap()
	return l.Addr.Port() == addr.Port() && (mine == other || mine.IsUnspecified() || other.IsUnspecified())
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
