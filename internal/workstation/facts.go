// Package workstation reads facts about this machine. Reading touches nothing
// and needs no privilege, though without it the holder of another user's port
// stays unknown.
package workstation

import (
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"runtime"
	"strings"

	"github.com/prometheus/procfs"
	"golang.org/x/sys/unix"
)

// Facts is what a plan needs to know about a workstation. It is a plain value:
// it loads from JSON, and is safe to read from any number of goroutines.
type Facts struct {
	Cores           int        `json:"cores"`
	MemoryTotal     int64      `json:"memoryTotal"`     // bytes
	MemoryAvailable int64      `json:"memoryAvailable"` // bytes
	DiskFree        int64      `json:"diskFree"`        // bytes, where labs live
	Root            bool       `json:"root"`
	MergedUsr       bool       `json:"mergedUsr"` // /bin, /lib and /sbin are links into /usr
	Cgroup          int        `json:"cgroup"`    // version of the resource controllers: 1, 2, or 0 for none
	Runtime         string     `json:"runtime"`   // path of the OCI runtime, "" where there is none
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

// Read gathers the facts. folder is where labs live; it need not exist yet.
func Read(folder string) (Facts, error) {
	f := Facts{Cores: runtime.NumCPU(), Root: os.Geteuid() == 0, MergedUsr: mergedUsr(), Cgroup: cgroupVersion()}
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
	if path, err := exec.LookPath("runc"); err == nil {
		f.Runtime = path
	}
	f.Listening, err = listening(fs)
	return f, err
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

func mergedUsr() bool {
	for _, name := range []string{"/bin", "/lib", "/sbin"} {
		if target, err := os.Readlink(name); err != nil || !strings.HasPrefix(strings.TrimPrefix(target, "/"), "usr/") {
			return false
		}
	}
	return true
}

func cgroupVersion() int {
	mounts, err := procfs.GetMounts()
	if err != nil {
		return 0
	}
	version := 0
	for _, m := range mounts {
		switch {
		case m.FSType == "cgroup" && strings.Contains(m.SuperOptions["memory"]+m.MountPoint, "memory"):
			return 1
		case m.FSType == "cgroup2":
			version = 2
		}
	}
	return version
}

// listening lists TCP sockets in state LISTEN with their holders, read from
// /proc/net/tcp and /proc/net/tcp6 (proc(5)).
func listening(fs procfs.FS) ([]Listener, error) {
	const stateListen = 10
	byInode := map[uint64]int{}
	var all []Listener
	four, err := fs.NetTCP()
	if err != nil {
		return nil, fmt.Errorf("reading listening ports: %w", err)
	}
	six, err := fs.NetTCP6()
	if err != nil && !os.IsNotExist(err) {
		return nil, fmt.Errorf("reading listening ports: %w", err)
	}
	for _, line := range append(four, six...) {
		addr, ok := netip.AddrFromSlice(line.LocalAddr)
		if line.St != stateListen || !ok {
			continue
		}
		byInode[line.Inode] = len(all)
		all = append(all, Listener{Addr: netip.AddrPortFrom(addr.Unmap(), uint16(line.LocalPort))})
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
			var inode uint64
			if n, _ := fmt.Sscanf(target, "socket:[%d]", &inode); n != 1 {
				continue
			}
			if at, listens := byInode[inode]; listens {
				all[at].PID = p.PID
				all[at].Process, _ = p.Comm()
			}
		}
	}
	return all, nil
}
