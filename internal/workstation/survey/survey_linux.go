// Package survey reads facts about this workstation. Reading touches nothing
// and needs no privilege, though without it the holder of another user's port
// stays unknown.
package survey

import (
	"fmt"
	"net/netip"
	"os"
	"os/user"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"

	"github.com/prometheus/procfs"
	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"kettlehole/internal/workstation"
)

// Read gathers the facts. folder is where labs live; it need not exist yet.
func Read(folder string) (workstation.Facts, error) {
	f := workstation.Facts{Cores: runtime.NumCPU()}
	fs, err := procfs.NewFS("/proc")
	if err != nil {
		return f, fmt.Errorf("reading facts of the workstation: %w", err)
	}
	memory, err := fs.Meminfo()
	if err != nil || memory.MemTotal == nil || memory.MemAvailable == nil {
		return f, fmt.Errorf("reading the workstation's memory: %w", err)
	}
	f.MemoryTotal, f.MemoryAvailable = int64(*memory.MemTotal)<<10, int64(*memory.MemAvailable)<<10
	if f.DiskFree, err = diskFree(folder); err != nil {
		return f, err
	}
	if memory.SwapTotal != nil && memory.SwapFree != nil {
		f.SwapTotal, f.SwapFree = int64(*memory.SwapTotal)<<10, int64(*memory.SwapFree)<<10
	}
	f.Root = os.Geteuid() == 0
	whole(fs, &f)
	f.Ephemeral = ephemeral()
	f.Listening, err = listening(fs)
	return f, err
}

// ephemeral reads the range of ports for connections that go out (ip(7)).
func ephemeral() (ports [2]uint16) {
	text, err := os.ReadFile("/proc/sys/net/ipv4/ip_local_port_range")
	if err != nil {
		return ports
	}
	for i, word := range strings.Fields(string(text)) {
		port, err := strconv.ParseUint(word, 10, 16)
		if err != nil || i > 1 {
			return [2]uint16{}
		}
		ports[i] = uint16(port)
	}
	return ports
}

// diskFree gives the bytes free for this user where folder is or will be.
func diskFree(folder string) (int64, error) {
	for {
		var disk unix.Statfs_t
		err := unix.Statfs(folder, &disk)
		if err == nil {
			return int64(disk.Bavail) * disk.Bsize, nil
		}
		cut := strings.LastIndexByte(folder, '/')
		if cut <= 0 {
			return 0, fmt.Errorf("reading the free disk space of %q: %w", folder, err)
		}
		folder = folder[:cut]
	}
}

// listening lists TCP sockets that listen, and UDP sockets that take from
// anybody (sock_diag(7); the states are those of tcp_states.h), with their
// holders.
func listening(fs procfs.FS) ([]workstation.Listener, error) {
	const stateClose, stateListen = 7, 10
	byInode := map[string]int{}
	var all []workstation.Listener
	for _, family := range []uint8{unix.AF_INET, unix.AF_INET6} {
		for _, udp := range []bool{false, true} {
			ask, state := netlink.SocketDiagTCP, uint8(stateListen)
			if udp {
				ask, state = netlink.SocketDiagUDP, stateClose
			}
			sockets, err := ask(family)
			if err != nil {
				return nil, fmt.Errorf("reading listening ports: %w", err)
			}
			for _, s := range sockets {
				addr, ok := netip.AddrFromSlice(s.ID.Source)
				if s.State != state || !ok || s.ID.SourcePort == 0 {
					continue
				}
				byInode[fmt.Sprintf("socket:[%d]", s.INode)] = len(all)
				all = append(all, workstation.Listener{Addr: netip.AddrPortFrom(addr.Unmap(), s.ID.SourcePort), UDP: udp})
			}
		}
	}
	if len(all) == 0 {
		return nil, nil
	}
	processes, err := fs.AllProcs()
	if err != nil {
		return nil, fmt.Errorf("reading processes: %w", err)
	}
	for _, p := range processes {
		targets, err := p.FileDescriptorTargets()
		if err != nil {
			continue // another user's process, or one that has just ended
		}
		for _, target := range targets {
			if at, listens := byInode[target]; listens {
				all[at].PID = p.PID
				all[at].Process, _ = p.Comm()
				all[at].User = owner(p.PID)
			}
		}
	}
	return all, nil
}

// owner is the user whose process it is, by name where that is known.
func owner(pid int) string {
	var info unix.Stat_t
	if unix.Stat(fmt.Sprintf("/proc/%d", pid), &info) != nil {
		return ""
	}
	id := strconv.FormatUint(uint64(info.Uid), 10)
	if known, err := user.LookupId(id); err == nil {
		return known.Username
	}
	return id
}

// ReadPulse reads the pulse. folder is where labs live.
func ReadPulse(folder string) (workstation.Pulse, error) {
	var p workstation.Pulse
	fs, err := procfs.NewFS("/proc")
	if err != nil {
		return p, fmt.Errorf("reading the workstation's pulse: %w", err)
	}
	stat, err := fs.Stat()
	if err != nil {
		return p, fmt.Errorf("reading the workstation's processors: %w", err)
	}
	c := stat.CPUTotal
	idle := c.Idle + c.Iowait
	p.Whole = c.User + c.Nice + c.System + c.IRQ + c.SoftIRQ + c.Steal + idle
	p.Busy = p.Whole - idle
	memory, err := fs.Meminfo()
	if err != nil || memory.MemTotal == nil || memory.MemAvailable == nil {
		return p, fmt.Errorf("reading the workstation's memory: %w", err)
	}
	p.MemoryTotal = int64(*memory.MemTotal) << 10
	p.MemoryUsed = p.MemoryTotal - int64(*memory.MemAvailable)<<10
	p.DiskFree, err = diskFree(folder)
	return p, err
}

// GroupMemory gives the bytes that the processes of a control group use, whose
// path is given from the root of each hierarchy; 0 where there is none.
func GroupMemory(path string) int64 {
	mounts, err := procfs.GetMounts()
	if err != nil {
		return 0
	}
	for _, m := range mounts {
		file := ""
		if _, memory := m.SuperOptions["memory"]; m.FSType == "cgroup" && memory {
			file = "memory.usage_in_bytes"
		} else if m.FSType == "cgroup2" {
			file = "memory.current"
		}
		if file == "" {
			continue
		}
		text, err := os.ReadFile(filepath.Join(m.MountPoint, path, file))
		if err != nil {
			continue
		}
		if used, err := strconv.ParseInt(strings.TrimSpace(string(text)), 10, 64); err == nil {
			return used
		}
	}
	return 0
}
