package plan

import (
	"fmt"
	"slices"

	"kettlehole/internal/labfile"
	"kettlehole/internal/workstation"
)

// Need is one thing that a workstation, or a lab on it, needs.
type Need struct {
	Name   string `json:"name"`
	Met    bool   `json:"met"`
	Must   bool   `json:"must"`  // without it nothing can be provisioned; otherwise something is lacking
	Found  string `json:"found"` // what there is
	Remedy string `json:"remedy,omitempty"`
}

// Word says how the need stands: "met", "missing" or "lacking".
func (n Need) Word() string {
	switch {
	case n.Met:
		return "met"
	case n.Must:
		return "missing"
	}
	return "lacking"
}

// Preflight lists what a workstation needs to hold labs, each met or not. p
// adds what that lab needs; nil for the workstation alone.
func Preflight(f workstation.Facts, p *Plan) []Need {
	all := []Need{
		{Name: "root", Must: true, Met: f.Root, Found: map[bool]string{true: "this user is root", false: "this user is not root"}[f.Root],
			Remedy: "run kettlehole as root, for instance with sudo"},
	}
	trial := func(name, wanted, remedy string, must bool) {
		all = append(all, tryNeed(f, name, wanted, remedy, must))
	}
	trial(workstation.TryNamespaces, "network, mount, ipc, host name and control group namespaces work", "run as root, on a kernel and in a container that allow namespaces", true)
	trial(workstation.TryOverlay, "layers lie over one another", "modprobe overlay", true)
	trial(workstation.TryBridge, "networks can be made", "modprobe bridge", true)
	trial(workstation.TryVeth, "nodes can be linked to networks", "modprobe veth", true)
	trial(workstation.TryRuntime, "it runs containers", "on Debian: apt-get install runc", true)
	groups := Need{Name: "control groups", Must: true, Met: f.Cgroup.Writable && has(f.Cgroup.Controllers, "memory", "cpu", "pids"),
		Found: "version " + f.Cgroup.Version, Remedy: "mount control groups with memory, cpu and pids, writable for this user"}
	if !f.Cgroup.Writable {
		groups.Found += ", not writable"
	}
	all = append(all, groups)
	all = append(all, Need{Name: "open files", Met: f.Limits.OpenFiles >= 4096, Found: fmt.Sprintf("%d for one process", f.Limits.OpenFiles), Remedy: "ulimit -n 65536"})
	all = append(all, Need{Name: "memory", Must: true, Met: f.MemoryAvailable >= 256<<20, Found: fmt.Sprintf("%s of %s available", labfile.Bytes(f.MemoryAvailable), labfile.Bytes(f.MemoryTotal)),
		Remedy: "end something that uses much memory"})
	all = append(all, Need{Name: "disk", Must: true, Met: f.DiskFree >= 256<<20, Found: labfile.Bytes(f.DiskFree).String() + " free where labs live", Remedy: "free some space, or move the state folder with KETTLEHOLE_HOME"})
	trial(workstation.TryNftables, "links can be cut", "install a kernel with nf_tables", false)
	trial(workstation.TryNetem, "links can be slow", "modprobe sch_netem", false)
	if p != nil {
		all = append(all, labNeeds(f, p)...)
	}
	return all
}

// tryNeed is the need for something that was tried. wanted says what it is
// good for.
func tryNeed(f workstation.Facts, name, wanted, remedy string, must bool) Need {
	t, known := f.Trial(name)
	n := Need{Name: name, Must: must, Met: t.Works, Found: wanted, Remedy: remedy}
	switch {
	case !known:
		n.Found = "not tried"
	case !t.Works:
		n.Found = t.Why
	case t.Version != "":
		n.Found = t.Version
	}
	return n
}

// modules tells which modules of the lab the kernel lacks.
func (m *maker) modules() {
	for _, one := range m.lab.Modules {
		if m.facts.Modules != nil && !slices.Contains(m.facts.Modules, one.Name) {
			m.say(labfile.Caution, one.Pos, len(one.Name), "modprobe "+one.Name+", if the lab's programs shall find it", "kernel module %s is not loaded, and not built into this kernel", one.Name)
		}
	}
}

func has(all []string, wanted ...string) bool {
	for _, one := range wanted {
		found := false
		for _, have := range all {
			found = found || have == one
		}
		if !found {
			return false
		}
	}
	return true
}

// labNeeds are those of one lab that can be planned.
func labNeeds(f workstation.Facts, p *Plan) []Need {
	processes := uint64(len(p.Nodes)) * nodeProcesses
	needs := []Need{
		{Name: "memory for " + p.Lab, Must: true, Met: p.Fit.Memory <= p.Fit.MemoryFree, Found: fmt.Sprintf("%s wanted, %s there for it", p.Fit.Memory, p.Fit.MemoryFree), Remedy: "fewer or smaller nodes, or --tight"},
		{Name: "disk for " + p.Lab, Met: p.Fit.Disk <= p.Fit.DiskFree, Found: fmt.Sprintf("%s if all is written, %s free", p.Fit.Disk, p.Fit.DiskFree), Remedy: "free some space, or fewer nodes"},
		{Name: "cores for " + p.Lab, Met: p.Fit.Load() <= 4, Found: fmt.Sprintf("%s wanted of %d", p.Fit.CPU, p.Fit.Cores), Remedy: "fewer nodes, or less cpu for each: they share what there is"},
		{Name: "processes for " + p.Lab, Met: processes < f.Limits.Processes, Found: fmt.Sprintf("%d wanted at least, %d possible", processes, f.Limits.Processes), Remedy: "sysctl kernel.pid_max=4194304"},
	}
	if slices.ContainsFunc(p.Networks, func(n Network) bool { return n.Ranges()[len(n.Ranges())-1].Addr().Is6() }) {
		needs = append(needs, tryNeed(f, workstation.TryIPv6, "links carry it", "boot without ipv6.disable=1", true))
	}
	for _, name := range p.Modules {
		n := Need{Name: "module " + name, Must: f.Modules != nil, Met: slices.Contains(f.Modules, name), Found: "the kernel has it", Remedy: "modprobe " + name}
		if f.Modules == nil {
			n.Found, n.Remedy = "this kernel does not tell which modules it has", ""
		} else if !n.Met {
			n.Found = "it is not loaded, and not built into the kernel"
		}
		needs = append(needs, n)
	}
	if len(p.Forwards) > 0 {
		needs = append(needs, Need{Name: "ports for " + p.Lab, Must: true, Met: true, Found: fmt.Sprintf("%d are free", len(p.Forwards))})
	}
	return needs
}

// nodeProcesses is how many processes a node has when nothing runs on it but
// its init and one service, with their threads.
const nodeProcesses = 16
