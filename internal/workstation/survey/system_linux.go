package survey

import (
	"bufio"
	"fmt"
	"net/netip"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/prometheus/procfs"
	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"kettlehole/internal/workstation"
)

// whole reads what preflight tells and a plan seldom needs. What cannot be
// read stays empty.
func whole(fs procfs.FS, f *workstation.Facts) {
	f.System = system()
	f.Pressure = pressure(fs)
	f.Interfaces, f.Routes = network()
	f.Resolvers = resolvers("/etc/resolv.conf")
	f.Cgroup = cgroup()
	f.Limits = limits()
	f.Modules = modules()
	f.SubUIDs, f.SubGIDs = subordinate("/etc/subuid"), subordinate("/etc/subgid")
}

func system() workstation.System {
	s := workstation.System{Distribution: "unknown"}
	if text, err := os.ReadFile("/etc/os-release"); err == nil {
		for line := range strings.Lines(string(text)) {
			if name, found := strings.CutPrefix(strings.TrimSpace(line), "PRETTY_NAME="); found {
				s.Distribution = strings.Trim(name, `"`)
			}
		}
	}
	var name unix.Utsname
	if unix.Uname(&name) == nil {
		s.Kernel, s.Machine = unix.ByteSliceToString(name.Release[:]), unix.ByteSliceToString(name.Machine[:])
	}
	if text, err := os.ReadFile("/sys/hypervisor/type"); err == nil {
		s.Virtual = strings.TrimSpace(string(text))
	} else if text, err := os.ReadFile("/proc/cpuinfo"); err == nil && strings.Contains(string(text), " hypervisor") {
		s.Virtual = "a virtual machine"
	}
	return s
}

// ReadPressure reads how pressed the workstation is.
func ReadPressure() workstation.Pressure {
	fs, err := procfs.NewDefaultFS()
	if err != nil {
		return workstation.Pressure{}
	}
	return pressure(fs)
}

func pressure(fs procfs.FS) workstation.Pressure {
	var p workstation.Pressure
	for resource, into := range map[string]struct {
		share *float64
		total *time.Duration
	}{"cpu": {&p.CPU, &p.Stalled.CPU}, "memory": {&p.Memory, &p.Stalled.Memory}, "io": {&p.IO, &p.Stalled.IO}} {
		stats, err := fs.PSIStatsForResource(resource)
		if err != nil || stats.Some == nil {
			return workstation.Pressure{}
		}
		*into.share, *into.total = stats.Some.Avg10, time.Duration(stats.Some.Total)*time.Microsecond
	}
	p.Known = true
	return p
}

func network() (interfaces []workstation.Interface, routes []workstation.Route) {
	links, err := netlink.LinkList()
	if err != nil {
		return nil, nil
	}
	names := map[int]string{}
	for _, link := range links {
		one := workstation.Interface{Name: link.Attrs().Name}
		names[link.Attrs().Index] = one.Name
		addresses, err := netlink.AddrList(link, netlink.FAMILY_ALL)
		if err == nil {
			for _, a := range addresses {
				if prefix, ok := prefixOf(a.IPNet.IP, a.IPNet.Mask); ok {
					one.Addresses = append(one.Addresses, prefix)
				}
			}
		}
		interfaces = append(interfaces, one)
	}
	all, err := netlink.RouteList(nil, netlink.FAMILY_ALL)
	if err != nil {
		return interfaces, nil
	}
	for _, r := range all {
		if r.Dst == nil {
			continue
		}
		if prefix, ok := prefixOf(r.Dst.IP, r.Dst.Mask); ok {
			routes = append(routes, workstation.Route{To: prefix, Interface: names[r.LinkIndex]})
		}
	}
	return interfaces, routes
}

func prefixOf(ip, mask []byte) (netip.Prefix, bool) {
	addr, ok := netip.AddrFromSlice(ip)
	ones := 0
	for _, b := range mask {
		for ; b != 0; b <<= 1 {
			ones++
		}
	}
	return netip.PrefixFrom(addr.Unmap(), ones), ok
}

// resolvers reads the name servers (resolv.conf(5)).
func resolvers(file string) (all []netip.Addr) {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil
	}
	for line := range strings.Lines(string(text)) {
		if words := strings.Fields(line); len(words) > 1 && words[0] == "nameserver" {
			if addr, err := netip.ParseAddr(words[1]); err == nil {
				all = append(all, addr)
			}
		}
	}
	return all
}

func cgroup() workstation.Cgroup {
	var c workstation.Cgroup
	mounts, err := procfs.GetMounts()
	if err != nil {
		return c
	}
	one, two, top := false, false, ""
	for _, m := range mounts {
		switch m.FSType {
		case "cgroup":
			one = true
			for name := range m.SuperOptions {
				if slices.Contains([]string{"memory", "cpu", "cpuacct", "pids", "devices", "freezer", "blkio", "cpuset"}, name) {
					c.Controllers = append(c.Controllers, name)
				}
				if name == "memory" {
					top = m.MountPoint
				}
			}
		case "cgroup2":
			two = true
			if text, err := os.ReadFile(filepath.Join(m.MountPoint, "cgroup.controllers")); err == nil {
				c.Controllers = append(c.Controllers, strings.Fields(string(text))...)
			}
			if top == "" {
				top = m.MountPoint
			}
		}
	}
	switch {
	case one && two:
		c.Version = "mixed"
	case one:
		c.Version = "1"
	case two:
		c.Version = "2"
	}
	slices.Sort(c.Controllers)
	c.Controllers = slices.Compact(c.Controllers)
	c.Writable = top != "" && unix.Access(top, unix.W_OK) == nil
	return c
}

func limits() workstation.Limits {
	var l workstation.Limits
	var files unix.Rlimit
	if unix.Getrlimit(unix.RLIMIT_NOFILE, &files) == nil {
		l.OpenFiles = files.Max
	}
	l.Processes = uint64(number("/proc/sys/kernel/pid_max"))
	l.InotifyInstances = int(number("/proc/sys/fs/inotify/max_user_instances"))
	l.InotifyWatches = int(number("/proc/sys/fs/inotify/max_user_watches"))
	return l
}

func number(file string) int64 {
	text, err := os.ReadFile(file)
	if err != nil {
		return 0
	}
	n, _ := strconv.ParseInt(strings.TrimSpace(string(text)), 10, 64)
	return n
}

// subordinate reads this user's ranges (subuid(5)).
func subordinate(file string) (all []workstation.IDRange) {
	me, err := user.Current()
	if err != nil {
		return nil
	}
	f, err := os.Open(file)
	if err != nil {
		return nil
	}
	defer f.Close()
	for scanner := bufio.NewScanner(f); scanner.Scan(); {
		parts := strings.Split(scanner.Text(), ":")
		if len(parts) != 3 || parts[0] != me.Username && parts[0] != me.Uid {
			continue
		}
		var r workstation.IDRange
		if _, err := fmt.Sscan(parts[1], &r.First); err != nil {
			continue
		}
		if _, err := fmt.Sscan(parts[2], &r.Count); err == nil {
			all = append(all, r)
		}
	}
	return all
}
