package audit_test

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/google/nftables"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"kettlehole/internal/anchor"
	"kettlehole/internal/audit"
	"kettlehole/internal/testbed"
)

func TestCompare(t *testing.T) {
	before := audit.Snapshot{audit.Links: {"lo": "device"}, audit.Sysctls: {"net.x": "0"}, audit.Files: {"/a": "1", "/b": "1"}, audit.Processes: {"process 1": ""}}
	after := audit.Snapshot{audit.Links: {"lo": "device", "br0": "bridge"}, audit.Sysctls: {"net.x": "1"}, audit.Files: {"/a": "2", "/c": "1"}, audit.Processes: {"process 2": ""}}
	ours := func(_ audit.Kind, name, _ string) bool { return name == "/c" }
	report := audit.Compare(before, after, ours)
	assert.Equal(t, []string{"br0 bridge", "net.x is 1 and was 0", "/c"}, report.Left())
	assert.False(t, report.Clean())
	assert.Contains(t, report.Text(), "left: br0 bridge")
	for _, line := range report.Lines {
		if line.Kind == audit.Files {
			assert.Equal(t, []string{"/a was changed", "/b is gone"}, line.Others)
		}
	}
	assert.True(t, audit.Compare(before, before, ours).Clean())
	assert.Len(t, audit.Compare(nil, nil, ours).Lines, len(audit.Kinds))
}

// A leftover of each kind is planted, seen by the audit, taken away, and no
// longer seen. The test runs in network and mount namespaces of its own.
func TestPlanted(t *testing.T) {
	if !testbed.Apart(t) {
		return
	}
	loopback, err := netlink.LinkByName("lo")
	require.NoError(t, err)
	require.NoError(t, unix.Mount("planted", "/var/tmp", "tmpfs", 0, ""))
	lab := audit.Lab{Name: "planted-lab", ID: fmt.Sprintf("planted-lab-%d", os.Getpid()), Home: t.TempDir(), Ports: []string{"127.0.0.1:18080"}}
	lab.Folder = filepath.Join(lab.Home, "labs", "planted-lab")
	type plant func(t *testing.T) (take func())
	ok := func(t *testing.T, err error) { t.Helper(); require.NoError(t, err) }
	file := func(t *testing.T, path, text string) func() {
		ok(t, os.MkdirAll(filepath.Dir(path), 0o755))
		ok(t, os.WriteFile(path, []byte(text), 0o644))
		return func() { ok(t, os.Remove(path)) }
	}
	plants := []struct {
		kind  audit.Kind
		name  string
		plant plant
	}{
		{audit.Links, "a bridge", func(t *testing.T) func() {
			attrs := netlink.NewLinkAttrs()
			attrs.Name = "planted"
			link := &netlink.Bridge{LinkAttrs: attrs}
			ok(t, netlink.LinkAdd(link))
			return func() { ok(t, netlink.LinkDel(link)) }
		}},
		{audit.Routes, "a route", func(t *testing.T) func() {
			_, to, err := net.ParseCIDR("10.99.0.0/24")
			ok(t, err)
			route := &netlink.Route{LinkIndex: loopback.Attrs().Index, Dst: to}
			ok(t, netlink.RouteAdd(route))
			return func() { ok(t, netlink.RouteDel(route)) }
		}},
		{audit.Rules, "a table", func(t *testing.T) func() {
			conn, err := nftables.New()
			ok(t, err)
			table := conn.AddTable(&nftables.Table{Family: nftables.TableFamilyIPv4, Name: "planted"})
			ok(t, conn.Flush())
			return func() { conn.DelTable(table); ok(t, conn.Flush()) }
		}},
		{audit.Mounts, "a mount", func(t *testing.T) func() {
			ok(t, unix.Mount("planted", "/mnt", "tmpfs", 0, ""))
			return func() { ok(t, unix.Unmount("/mnt", 0)) }
		}},
		{audit.Sysctls, "a sysctl", func(t *testing.T) func() {
			const path = "/proc/sys/net/ipv4/ip_forward"
			before, err := os.ReadFile(path)
			ok(t, err)
			ok(t, os.WriteFile(path, []byte("1"), 0))
			return func() { ok(t, os.WriteFile(path, before, 0)) }
		}},
		{audit.Processes, "a process", func(t *testing.T) func() {
			cmd := exec.Command("sleep", "60")
			cmd.Env = []string{anchor.Mark + "=" + lab.ID}
			ok(t, cmd.Start())
			return func() { ok(t, cmd.Process.Kill()); _ = cmd.Wait() }
		}},
		{audit.Cgroups, "a control group", func(t *testing.T) func() {
			group := filepath.Join(hierarchy(t), "kettlehole-"+lab.ID)
			ok(t, os.Mkdir(group, 0o755))
			return func() { ok(t, unix.Rmdir(group)) }
		}},
		{audit.Ports, "a port", func(t *testing.T) func() {
			listener, err := net.Listen("tcp", "127.0.0.1:18080")
			ok(t, err)
			return func() { ok(t, listener.Close()) }
		}},
		{audit.Files, "a file by its name", func(t *testing.T) func() { return file(t, "/var/tmp/kettlehole-left", "") }},
		{audit.Files, "a file by what it says", func(t *testing.T) func() {
			return file(t, "/var/tmp/hosts", "10.0.0.1 a-1.planted-lab.internal\n")
		}},
		{audit.Files, "the lab's folder", func(t *testing.T) func() {
			ok(t, os.MkdirAll(lab.Folder, 0o755))
			return func() { ok(t, os.RemoveAll(filepath.Join(lab.Home, "labs"))) }
		}},
	}
	runtime.LockOSThread()
	before, err := audit.Take(lab)
	require.NoError(t, err)
	see := func(t *testing.T) audit.Report {
		after, err := audit.Take(lab)
		require.NoError(t, err)
		return audit.Compare(before, after, lab.Marked)
	}
	seen := map[audit.Kind]bool{}
	for _, p := range plants {
		t.Run(strings.ReplaceAll(string(p.kind), " ", "-")+"/"+p.name, func(t *testing.T) {
			take := p.plant(t)
			// A new process needs a moment until its environment is its own.
			assert.Eventually(t, func() bool { return !see(t).Clean() }, 5*time.Second, 20*time.Millisecond)
			for _, line := range see(t).Lines {
				assert.Equal(t, line.Kind == p.kind, len(line.Left) > 0, "%s: %v", line.Kind, line.Left)
			}
			take()
			assert.True(t, see(t).Clean(), "%v", see(t).Left())
		})
		seen[p.kind] = true
	}
	assert.Len(t, seen, len(audit.Kinds), "a leftover of each kind was planted")
	// What others do is told, and counts for nothing.
	take := file(t, "/var/tmp/somebody-elses", "nothing of interest")
	report := see(t)
	take()
	assert.True(t, report.Clean(), "%v", report.Left())
}

// hierarchy is the first hierarchy of control groups that is there.
func hierarchy(t *testing.T) string {
	for _, candidate := range []string{"/sys/fs/cgroup/pids", "/sys/fs/cgroup/unified", "/sys/fs/cgroup"} {
		if _, err := os.Stat(filepath.Join(candidate, "cgroup.procs")); err == nil {
			return candidate
		}
	}
	t.Fatal("no control group hierarchy")
	return ""
}
