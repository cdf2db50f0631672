package workstation

import (
	"net/netip"
	"slices"
	"time"
)

// System says which machine this is.
type System struct {
	Distribution string `json:"distribution,omitempty"`
	Kernel       string `json:"kernel,omitempty"`
	Machine      string `json:"machine,omitempty"` // the processor's architecture
	Virtual      string `json:"virtual,omitempty"` // what the machine itself runs on, as far as it shows; "" for hardware
}

// Pressure is the share of the last ten seconds in which something waited for
// a resource, in percent (PSI, Documentation/accounting/psi.rst of the kernel).
// Known is false where the kernel does not tell.
type Pressure struct {
	Known  bool    `json:"known"`
	CPU    float64 `json:"cpu"`
	Memory float64 `json:"memory"`
	IO     float64 `json:"io"`
	// Stalled is the time in which something waited, since boot.
	Stalled Stalled `json:"-"`
}

// Stalled is time in which something waited for a resource.
type Stalled struct{ CPU, Memory, IO time.Duration }

// Over gives the pressure of the time since an earlier look, which is sooner
// true than the average of ten seconds.
func (p Pressure) Over(earlier Pressure, elapsed time.Duration) Pressure {
	if !p.Known || !earlier.Known || elapsed <= 0 {
		return Pressure{}
	}
	share := func(now, before time.Duration) float64 { return 100 * float64(now-before) / float64(elapsed) }
	return Pressure{Known: true, CPU: share(p.Stalled.CPU, earlier.Stalled.CPU), Memory: share(p.Stalled.Memory, earlier.Stalled.Memory),
		IO: share(p.Stalled.IO, earlier.Stalled.IO), Stalled: p.Stalled}
}

// Bounds of pressure above which no more should be begun, in percent of the
// time looked at.
const (
	muchCPU    = 85
	muchMemory = 15
	muchIO     = 60
)

// Holds says what speaks against beginning more, "" where nothing does.
func (p Pressure) Holds() string {
	switch {
	case !p.Known:
		return ""
	case p.Memory > muchMemory:
		return "memory is short"
	case p.IO > muchIO:
		return "the disk is busy"
	case p.CPU > muchCPU:
		return "the processors are busy"
	}
	return ""
}

// Interface is a network interface with its addresses.
type Interface struct {
	Name      string         `json:"name"`
	Addresses []netip.Prefix `json:"addresses,omitempty"`
}

// Route is a route of the main table.
type Route struct {
	To        netip.Prefix `json:"to"`
	Interface string       `json:"interface,omitempty"`
}

// Cgroup says how control groups are laid out (cgroups(7)).
type Cgroup struct {
	Version     string   `json:"version"` // "1", "2", or "mixed"
	Controllers []string `json:"controllers,omitempty"`
	Writable    bool     `json:"writable"` // this user may make groups at the top
}

// Limits bound what processes may have.
type Limits struct {
	OpenFiles        uint64 `json:"openFiles"` // of one process, at most
	Processes        uint64 `json:"processes"` // of the kernel in all
	InotifyInstances int    `json:"inotifyInstances"`
	InotifyWatches   int    `json:"inotifyWatches"`
}

// IDRange is a range of subordinate ids.
type IDRange struct {
	First int64 `json:"first"`
	Count int64 `json:"count"`
}

// Trial is something that was tried on the workstation, since that it is there
// proves nothing.
type Trial struct {
	Name    string `json:"name"` // "overlay", "OCI runtime"
	Path    string `json:"path,omitempty"`
	Version string `json:"version,omitempty"`
	Tried   bool   `json:"tried"` // false: found, and not tried
	Works   bool   `json:"works"`
	Why     string `json:"why,omitempty"` // why it does not
}

// Trial finds what was tried by its name.
func (f Facts) Trial(name string) (Trial, bool) {
	at := slices.IndexFunc(f.Trials, func(t Trial) bool { return t.Name == name })
	if at < 0 {
		return Trial{}, false
	}
	return f.Trials[at], true
}

// The names of what is tried.
const (
	TryNamespaces = "namespaces"
	TryUser       = "user namespaces"
	TryOverlay    = "overlay"
	TryBridge     = "bridge"
	TryVeth       = "links between namespaces"
	TryNftables   = "nftables"
	TryNetem      = "netem"
	TryIPv6       = "IPv6"
	TryTun        = "tun"
	TryVsock      = "vsock"
	TryRuntime    = "OCI runtime"
	TryQEMU       = "QEMU"
	TryKVM        = "KVM"
)
