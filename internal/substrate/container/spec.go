package container

import (
	"fmt"
	"sync"

	"github.com/moby/profiles/seccomp"
	"github.com/opencontainers/runtime-spec/specs-go"

	"kettlehole/internal/substrate"
)

// InitPath is where an image keeps our init, and LogFolder where the init
// keeps logs, both on the node.
const (
	InitPath  = "/opt/kettlehole/init"
	LogFolder = "/var/log/kettlehole"
)

// processes is how many processes a node may have at once.
const processes = 1024

// cpuPeriod is over which time a share of the processors is counted, in
// microseconds (the kernel's default).
const cpuPeriod = 100_000

// capabilities are what the programs of a node may be given: the set that OCI
// engines commonly leave to the root user of a container (capabilities(7)).
var capabilities = []string{
	"CAP_AUDIT_WRITE", "CAP_CHOWN", "CAP_DAC_OVERRIDE", "CAP_FOWNER", "CAP_FSETID", "CAP_KILL", "CAP_MKNOD",
	"CAP_NET_BIND_SERVICE", "CAP_NET_RAW", "CAP_SETFCAP", "CAP_SETGID", "CAP_SETPCAP", "CAP_SETUID", "CAP_SYS_CHROOT",
}

// place is what the spec of a node must know of its surroundings.
type place struct {
	root      string // the mounted root file system
	namespace string // path of the network namespace
	logs      string // folder on the workstation for the node's logs
	cgroup    string // path of its control group, from the root of each hierarchy
	mark      string // variable that marks the lab's processes
	files     uint64 // how many files a process may have open
}

// spec describes a node to the OCI runtime (OCI Runtime Specification 1.0).
func spec(node substrate.Node, at place) (*specs.Spec, error) {
	period := uint64(cpuPeriod)
	quota := node.CPU * cpuPeriod / 1000
	s := &specs.Spec{
		Version:  "1.0.2",
		Hostname: node.Name,
		Root:     &specs.Root{Path: at.root},
		Process: &specs.Process{
			Args: []string{InitPath}, Cwd: "/", Env: []string{"PATH=/usr/sbin:/usr/bin:/sbin:/bin", "GOMAXPROCS=1", at.mark},
			Capabilities: &specs.LinuxCapabilities{Bounding: capabilities, Effective: capabilities, Permitted: capabilities},
			Rlimits:      []specs.POSIXRlimit{{Type: "RLIMIT_NOFILE", Soft: at.files, Hard: at.files}},
		},
		Mounts: []specs.Mount{
			{Destination: "/proc", Type: "proc", Source: "proc", Options: []string{"nosuid", "noexec", "nodev"}},
			{Destination: "/dev", Type: "tmpfs", Source: "tmpfs", Options: []string{"nosuid", "strictatime", "mode=755", "size=1024k"}},
			{Destination: "/dev/pts", Type: "devpts", Source: "devpts", Options: []string{"nosuid", "noexec", "newinstance", "ptmxmode=0666", "mode=0620", "gid=5"}},
			{Destination: "/dev/shm", Type: "tmpfs", Source: "shm", Options: []string{"nosuid", "noexec", "nodev", "mode=1777", "size=65536k"}},
			{Destination: "/dev/mqueue", Type: "mqueue", Source: "mqueue", Options: []string{"nosuid", "noexec", "nodev"}},
			{Destination: "/sys", Type: "sysfs", Source: "sysfs", Options: []string{"nosuid", "noexec", "nodev", "ro"}},
			{Destination: "/run", Type: "tmpfs", Source: "tmpfs", Options: []string{"nosuid", "nodev", "mode=755"}},
			{Destination: "/usr", Type: "bind", Source: "/usr", Options: []string{"rbind", "ro", "nodev"}},
			{Destination: LogFolder, Type: "bind", Source: at.logs, Options: []string{"bind", "rw", "nosuid", "nodev", "noexec"}},
		},
		Linux: &specs.Linux{
			CgroupsPath: at.cgroup,
			Namespaces: []specs.LinuxNamespace{
				{Type: specs.PIDNamespace}, {Type: specs.IPCNamespace}, {Type: specs.UTSNamespace}, {Type: specs.MountNamespace},
				{Type: specs.CgroupNamespace}, {Type: specs.NetworkNamespace, Path: at.namespace},
			},
			Resources: &specs.LinuxResources{
				Devices: deviceRules(),
				Memory:  &specs.LinuxMemory{Limit: &node.Memory},
				CPU:     &specs.LinuxCPU{Quota: &quota, Period: &period},
				Pids:    &specs.LinuxPids{Limit: processes},
			},
			MaskedPaths: []string{"/proc/acpi", "/proc/asound", "/proc/kcore", "/proc/keys", "/proc/latency_stats", "/proc/timer_list",
				"/proc/timer_stats", "/proc/sched_debug", "/proc/scsi", "/sys/firmware", "/sys/devices/virtual/powercap"},
			ReadonlyPaths: []string{"/proc/bus", "/proc/fs", "/proc/irq", "/proc/sys", "/proc/sysrq-trigger"},
		},
	}
	filter, err := commonFilter()
	if err != nil {
		return nil, fmt.Errorf("making the system call filter: %w", err)
	}
	s.Linux.Seccomp = filter
	return s, nil
}

// commonFilter is the system call filter that OCI engines commonly set for
// these capabilities. The runtime compiles it at every start, once for each
// architecture; with the native one alone a start costs a third. A program for
// another architecture is ended by the filter.
var commonFilter = sync.OnceValues(func() (*specs.LinuxSeccomp, error) {
	filter, err := seccomp.GetDefaultProfile(&specs.Spec{Process: &specs.Process{Capabilities: &specs.LinuxCapabilities{Bounding: capabilities}}})
	if err == nil {
		filter.Architectures = filter.Architectures[:min(1, len(filter.Architectures))]
	}
	return filter, err
})

// deviceRules deny every device but those that hold nothing of the
// workstation: null, zero, full, random, urandom, tty, console, pts.
func deviceRules() []specs.LinuxDeviceCgroup {
	rules := []specs.LinuxDeviceCgroup{{Allow: false, Access: "rwm"}}
	for _, d := range [][2]int64{{1, 3}, {1, 5}, {1, 7}, {1, 8}, {1, 9}, {5, 0}, {5, 1}, {5, 2}, {136, -1}} {
		major, minor := d[0], d[1]
		rule := specs.LinuxDeviceCgroup{Allow: true, Type: "c", Major: &major, Access: "rwm"}
		if minor >= 0 {
			rule.Minor = &minor
		}
		rules = append(rules, rule)
	}
	return append(rules, specs.LinuxDeviceCgroup{Allow: true, Type: "c", Access: "m"}, specs.LinuxDeviceCgroup{Allow: true, Type: "b", Access: "m"})
}
