package audit

import (
	"bytes"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/google/nftables"
	"github.com/prometheus/procfs"
	"github.com/vishvananda/netlink"

	"kettlehole/internal/anchor"
	"kettlehole/internal/workstation/survey"
)

// Take looks at the workstation, from the namespaces of the calling process.
// It needs to be root to see all.
func Take(lab Lab) (Snapshot, error) {
	s := Snapshot{}
	for kind, take := range map[Kind]func(Lab) (map[string]string, error){
		Links: takeLinks, Routes: takeRoutes, Rules: takeRules, Mounts: takeMounts, Sysctls: takeSysctls,
		Processes: takeProcesses, Cgroups: takeCgroups, Ports: takePorts, Files: takeFiles,
	} {
		things, err := take(lab)
		if err != nil {
			return nil, fmt.Errorf("auditing %s: %w", kind, err)
		}
		s[kind] = things
	}
	return s, nil
}

// Marked tells whether a thing on this workstation bears a sign of the lab.
func (lab Lab) Marked(kind Kind, name, state string) bool {
	switch kind {
	case Processes:
		return strings.HasSuffix(state, markOfLab)
	case Ports:
		for _, port := range lab.Ports {
			if strings.HasPrefix(name, port+" ") {
				return true
			}
		}
		return false
	}
	if name == lab.Folder {
		return true
	}
	base := filepath.Base(name)
	if strings.Contains(base, "kettlehole") || strings.Contains(base, lab.ID) {
		return true
	}
	info, err := os.Lstat(name)
	if err != nil || !info.Mode().IsRegular() || info.Size() > 1<<20 {
		return false
	}
	text, err := os.ReadFile(name)
	return err == nil && (bytes.Contains(text, []byte(lab.ID)) || bytes.Contains(text, []byte(lab.Name+".internal")) || bytes.Contains(text, []byte("kettlehole")))
}

func takeLinks(Lab) (map[string]string, error) {
	links, err := netlink.LinkList()
	things := map[string]string{}
	for _, link := range links {
		things[link.Attrs().Name] = link.Type()
	}
	return things, err
}

func takeRoutes(Lab) (map[string]string, error) {
	things := map[string]string{}
	for _, family := range []int{netlink.FAMILY_V4, netlink.FAMILY_V6} {
		routes, err := netlink.RouteListFiltered(family, &netlink.Route{}, netlink.RT_FILTER_TABLE)
		if err != nil {
			return nil, err
		}
		for _, r := range routes {
			where := "default"
			if r.Dst != nil {
				where = r.Dst.String()
			}
			things[fmt.Sprintf("%s via %v interface %d table %d", where, r.Gw, r.LinkIndex, r.Table)] = ""
		}
	}
	return things, nil
}

func takeRules(Lab) (map[string]string, error) {
	things := map[string]string{}
	conn, err := nftables.New()
	if err != nil {
		return nil, err
	}
	tables, err := conn.ListTables()
	if err != nil {
		return nil, err
	}
	for _, table := range tables {
		things[fmt.Sprintf("table %s of family %d", table.Name, table.Family)] = ""
	}
	chains, err := conn.ListChains()
	if err != nil {
		return nil, err
	}
	for _, chain := range chains {
		rules, err := conn.GetRules(chain.Table, chain)
		if err != nil {
			return nil, err
		}
		things[fmt.Sprintf("chain %s of table %s of family %d", chain.Name, chain.Table.Name, chain.Table.Family)] = fmt.Sprintf("with %d rules", len(rules))
	}
	for _, name := range []string{"ip_tables_names", "ip6_tables_names"} {
		text, err := os.ReadFile("/proc/net/" + name)
		if err != nil {
			continue // this kernel has no tables of that sort
		}
		for _, table := range strings.Fields(string(text)) {
			things[name+" "+table] = ""
		}
	}
	return things, nil
}

func takeMounts(lab Lab) (map[string]string, error) {
	mounts, err := procfs.GetMounts()
	things := map[string]string{}
	for _, m := range mounts {
		things[m.MountPoint] = m.FSType
	}
	return things, err
}

// sysctlFolders hold what a program that makes networks could be tempted to
// turn, without counters that turn by themselves.
var sysctlFolders = []string{"net/core", "net/ipv4", "net/ipv4/conf/all", "net/ipv4/conf/default", "net/ipv4/neigh/default",
	"net/ipv6", "net/ipv6/conf/all", "net/ipv6/conf/default", "net/bridge", "user", "fs/inotify", "vm"}

func takeSysctls(Lab) (map[string]string, error) {
	things := map[string]string{}
	for _, folder := range sysctlFolders {
		entries, err := os.ReadDir("/proc/sys/" + folder)
		if err != nil {
			continue // this kernel has none
		}
		for _, e := range entries {
			path := "/proc/sys/" + folder + "/" + e.Name()
			if e.IsDir() || e.Name() == "stat_refresh" {
				continue
			}
			if text, err := os.ReadFile(path); err == nil {
				things[strings.ReplaceAll(folder+"/"+e.Name(), "/", ".")] = strings.Join(strings.Fields(string(text)), " ")
			}
		}
	}
	return things, nil
}

// markOfLab ends the state of a process that belongs to the lab.
const markOfLab = "of the lab"

func takeProcesses(lab Lab) (map[string]string, error) {
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return nil, err
	}
	things := map[string]string{}
	for _, e := range entries {
		if e.Name()[0] < '0' || e.Name()[0] > '9' {
			continue
		}
		stat, err := os.ReadFile("/proc/" + e.Name() + "/stat")
		if err != nil {
			continue // it has just ended
		}
		at := bytes.LastIndexByte(stat, ')')
		fields := strings.Fields(string(stat[at+1:]))
		if at < 0 || len(fields) < 20 || fields[0] == "Z" {
			continue
		}
		state := string(stat[bytes.IndexByte(stat, '('):at+1]) + " "
		env, _ := os.ReadFile("/proc/" + e.Name() + "/environ")
		cgroup, _ := os.ReadFile("/proc/" + e.Name() + "/cgroup")
		if bytes.Contains(env, []byte(anchor.Mark+"="+lab.ID+"\x00")) || bytes.Contains(cgroup, []byte("/kettlehole-"+lab.ID+"/")) {
			state += markOfLab
		}
		// The start time keeps a reused number apart (proc_pid_stat(5), field 22).
		things["process "+e.Name()+" started at "+fields[19]] = state
	}
	return things, nil
}

func takeCgroups(lab Lab) (map[string]string, error) {
	mounts, err := procfs.GetMounts()
	if err != nil {
		return nil, err
	}
	things := map[string]string{}
	for _, m := range mounts {
		if m.FSType != "cgroup" && m.FSType != "cgroup2" {
			continue
		}
		group := filepath.Join(m.MountPoint, "kettlehole-"+lab.ID)
		if _, err := os.Stat(group); err == nil {
			things[group] = ""
		}
	}
	return things, nil
}

func takePorts(lab Lab) (map[string]string, error) {
	facts, err := survey.Read(lab.Home)
	things := map[string]string{}
	for _, l := range facts.Listening {
		things[fmt.Sprintf("%s held by %s", l.Addr, l.Holder())] = ""
	}
	return things, err
}

// takeFiles looks where a program that makes labs could leave something:
// folder and how deep.
func takeFiles(lab Lab) (map[string]string, error) {
	things := map[string]string{}
	places := map[string]int{"/etc": 8, "/run": 2, "/tmp": 1, "/var/tmp": 1, "/dev/shm": 2, "/var/lib": 1, "/var/cache": 1, "/usr/local": 2, "/opt": 2}
	if home, err := os.UserHomeDir(); err == nil {
		places[home], places[filepath.Join(home, ".ssh")], places[filepath.Join(home, ".config")] = 1, 2, 1
	}
	for root, depth := range places {
		err := filepath.WalkDir(root, func(path string, e fs.DirEntry, err error) error {
			if err != nil {
				return nil // what cannot be read, or has just gone, is not ours
			}
			if path == lab.Home || path == "/run/lock" && e.IsDir() {
				return fs.SkipDir
			}
			level := strings.Count(strings.TrimPrefix(path, root), "/")
			if info, err := e.Info(); err == nil && path != root {
				state := info.Mode().Type().String()
				if info.Mode().IsRegular() {
					state = fmt.Sprintf("%v %d %d", info.Mode(), info.Size(), info.ModTime().UnixNano())
				}
				things[path] = state
			}
			if e.IsDir() && level >= depth {
				return fs.SkipDir
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	if _, err := os.Lstat(lab.Folder); err == nil {
		things[lab.Folder] = ""
	}
	return things, nil
}
