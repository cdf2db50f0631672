package container_test

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"kettlehole/internal/agent"
	"kettlehole/internal/anchor"
	"kettlehole/internal/fabric"
	"kettlehole/internal/home"
	"kettlehole/internal/image"
	"kettlehole/internal/substrate"
	"kettlehole/internal/substrate/container"
	"kettlehole/internal/testbed"
)

// lab is an anchor with nodes, made without a keeper.
type lab struct {
	*container.Containers
	t      *testing.T
	folder string
	cgroup *container.Cgroup
	layers []string
	pid    int // of the anchor
}

func newLab(t *testing.T, programs string) *lab {
	testbed.Kernel(t)
	built := testbed.Programs(t)
	l := &lab{t: t, folder: filepath.Join(t.TempDir(), "lab")}
	id := fmt.Sprintf("test-%d-%d", os.Getpid(), time.Now().UnixNano())
	var err error
	l.cgroup, err = container.NewCgroup(home.Group(id))
	require.NoError(t, err)
	t.Cleanup(l.end)
	require.NoError(t, anchor.Start(t.Context(), filepath.Join(built, "kettlehole-anchor"), l.folder, id, func(pid int) error { l.pid = pid; return nil }))
	l.Containers = container.New(l.folder, container.FindRuntime, l.cgroup)
	store := image.NewStore(filepath.Join(t.TempDir(), "images"))
	root, err := image.Workstation(filepath.Join(built, "kettlehole-init"), filepath.Join(built, "kettlehole-files"))
	require.NoError(t, err)
	own, err := image.Programs(programs)
	require.NoError(t, err)
	for _, entries := range [][]image.Entry{own, root} {
		layer, err := store.Layer(t.Context(), entries, func(image.Layer) error { return nil })
		require.NoError(t, err)
		l.layers = append(l.layers, layer.Path)
	}
	require.NoError(t, l.Networks(t.Context(), []fabric.Network{{Name: "valley"}, {Name: "a-network-with-a-long-name"}}))
	return l
}

// end takes the lab away and sees that nothing of it is left.
func (l *lab) end() {
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	assert.NoError(l.t, anchor.End(ctx, l.folder))
	assert.NoError(l.t, anchor.End(ctx, l.folder), "twice is no error")
	assert.NoError(l.t, l.cgroup.Remove(ctx))
	for _, n := range []string{"pids", "memory", "unified", ""} {
		_, err := os.Stat(filepath.Join("/sys/fs/cgroup", n, l.cgroup.Path()))
		assert.ErrorIs(l.t, err, os.ErrNotExist)
	}
	_, err := anchor.Find(l.folder)
	assert.ErrorIs(l.t, err, anchor.ErrAbsent)
}

func (l *lab) node(n int) substrate.Node {
	link := func(network, name string, octet int) fabric.Link {
		return fabric.Link{Network: network, Name: name, MAC: fmt.Sprintf("02:00:00:00:%02x:%02x", octet, n), Address: netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 61, byte(octet), byte(n)}), 24)}
	}
	return substrate.Node{Name: fmt.Sprintf("node-%d", n), Layers: l.layers, CPU: 500, Memory: 64 << 20, Hosts: "127.0.0.1 localhost\n10.61.0.2 node-2\n",
		Links: []fabric.Link{link("valley", "eth0", 0), link("a-network-with-a-long-name", "eth1", 1)}}
}

func (l *lab) make(n int) string {
	node := l.node(n)
	_, err := l.Make(l.t.Context(), node)
	require.NoError(l.t, err)
	require.NoError(l.t, l.ask(node.Name, agent.Request{Op: agent.OpConfigure, Configure: &agent.Configure{Env: []string{"ADDRESS=" + node.Links[0].Address.Addr().String()}}}))
	return node.Name
}

func (l *lab) ask(node string, r agent.Request) error {
	_, err := l.Agent(node).Do(l.t.Context(), r)
	return err
}

func (l *lab) sh(node, script string) (string, int) {
	out, code, err := l.Agent(node).Run(l.t.Context(), 1<<20, "sh", "-c", script)
	require.NoError(l.t, err)
	return strings.TrimSpace(out), code
}

func (l *lab) says(node, script string) string {
	out, code := l.sh(node, script)
	require.Zero(l.t, code, "%s: %s", script, out)
	return out
}

func TestNodes(t *testing.T) {
	folder := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(folder, "own-program"), []byte("#!/bin/sh\necho our own\n"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "notes.txt"), []byte("no program"), 0o644))
	l := newLab(t, folder)
	one, two := l.make(1), l.make(2)

	t.Run("names and addresses", func(t *testing.T) {
		assert.Equal(t, "node-1", l.says(one, "hostname"))
		assert.Equal(t, "node-2", l.says(two, "cat /etc/hostname"))
		assert.Equal(t, "10.61.0.1/24 10.61.1.1/24", l.says(one, "ip -4 -o addr show scope global | awk '{print $4}' | xargs"))
		assert.Equal(t, "10.61.0.2", l.says(one, "getent hosts node-2 | awk '{print $1}'"))
	})
	t.Run("reach one another", func(t *testing.T) {
		times, err := l.Agent(one).Reach(t.Context(), []string{"10.61.0.2", "10.61.1.2", "10.61.0.99"})
		require.NoError(t, err)
		assert.GreaterOrEqual(t, times["10.61.0.2"], int64(0))
		assert.GreaterOrEqual(t, times["10.61.1.2"], int64(0))
		assert.Equal(t, int64(-1), times["10.61.0.99"])
	})
	t.Run("programs work", func(t *testing.T) {
		assert.Equal(t, "our own", l.says(one, "own-program"))
		assert.Equal(t, "own-program", l.says(one, "ls /opt/lab/bin"), "only programs are taken")
		assert.Equal(t, "3", l.says(one, "awk 'BEGIN{print 1+2}'"))
		assert.Equal(t, "3", l.says(one, "bash -c 'echo $((1+2))'"))
		assert.Equal(t, "True", l.says(one, "/usr/bin/python3 -c 'import json,socket; print(socket.gethostbyname(\"node-2\")==\"10.61.0.2\")'"))
		assert.Contains(t, l.says(one, "openssl version"), "OpenSSL")
		assert.NotEmpty(t, l.says(one, "openssl verify -CAfile /etc/ssl/certs/ca-certificates.crt $(ls /etc/ssl/certs/*.pem | head -1)"))
		assert.Equal(t, "7", l.says(one, "curl -s -o /dev/null http://127.0.0.1:9/; echo $?"), "curl starts and says that nobody listens")
		assert.Equal(t, "root", l.says(one, "id -un"))
		assert.Equal(t, "http 80/tcp", l.says(one, "getent services http | awk '{print $1, $2}'"))
	})
	t.Run("no secret of the workstation", func(t *testing.T) {
		assert.Empty(t, l.says(one, "ls -A /root /home | grep -v ':$' | grep . || true"))
		assert.Equal(t, "kettlehole", l.says(one, "ls /var/log"))
		for _, path := range []string{"/etc/ssh", "/etc/ssl/private", "/etc/sudoers", "/etc/gshadow", "/var/lib/dpkg", "/var/lib/kettlehole", "/work"} {
			_, code := l.sh(one, "test -e "+path)
			assert.Equal(t, 1, code, "%s is there", path)
		}
		assert.NotContains(t, l.says(one, "cat /etc/shadow"), "$", "no password")
		_, code := l.sh(one, "touch /usr/x")
		assert.NotZero(t, code, "/usr is read-only")
		assert.Equal(t, "0", l.says(one, "find / -xdev -name init.sock 2>/dev/null | wc -l"), "the management socket is out of sight")
		assert.Equal(t, l.says(one, "cat /proc/1/comm"), "init")
		fds := l.says(one, "for f in /proc/1/fd/*; do readlink $f || true; done")
		assert.NotContains(t, fds, l.folder)
	})
	t.Run("privileges", func(t *testing.T) {
		status := l.says(one, "cat /proc/self/status")
		assert.Contains(t, status, "CapEff:\t00000000a80425fb")
		assert.Contains(t, status, "CapBnd:\t00000000a80425fb")
		assert.Contains(t, status, "Seccomp:\t2")
		for _, forbidden := range []string{"mount -t tmpfs x /mnt", "unshare -n true", "mknod /tmp/disk b 8 0 && head -c1 /tmp/disk", "echo 1 > /proc/sys/kernel/panic", "date -s 2020-01-01"} {
			_, code := l.sh(one, forbidden)
			assert.NotZero(t, code, forbidden)
		}
	})
	t.Run("limits hold", func(t *testing.T) {
		_, code := l.sh(two, "head -c 200M /dev/zero | tail -c 150M > /dev/null")
		assert.NotZero(t, code, "more memory than the node has")
		assert.Equal(t, "still there", l.says(two, "echo still there"))
		roomy := l.node(3)
		roomy.Memory = 512 << 20
		_, err := l.Make(t.Context(), roomy)
		require.NoError(t, err)
		out, _ := l.sh(roomy.Name, "i=0; while [ $i -lt 1100 ]; do sleep 3 & i=$((i+1)); done 2>&1; echo $(ls -d /proc/[0-9]* | wc -l)")
		assert.Regexp(t, "fork|Resource", out, "more processes than a node may have")
		assert.Eventually(t, func() bool {
			_, code, err := l.Agent(roomy.Name).Run(t.Context(), 100, "true")
			return err == nil && code == 0
		}, 20*time.Second, 100*time.Millisecond)
		before, err := l.Usage(one)
		require.NoError(t, err)
		began := time.Now()
		l.sh(one, "timeout 1 sh -c 'while :; do :; done' & timeout 1 sh -c 'while :; do :; done' & wait")
		after, err := l.Usage(one)
		require.NoError(t, err)
		share := float64(after.CPU-before.CPU) / float64(time.Since(began))
		assert.Less(t, share, 0.75, "half a core is the limit")
		assert.Positive(t, after.Memory)
	})
	t.Run("management does not use the lab's networks", func(t *testing.T) {
		l.sh(one, "true")
		pid := l.says(one, "cat /proc/net/tcp /proc/net/tcp6 | grep -c ' 0A ' || true")
		assert.Equal(t, "0", pid, "init listens on no port")
	})
	t.Run("a dialled port", func(t *testing.T) {
		require.NoError(t, l.ask(one, agent.Request{Op: agent.OpConfigure, Configure: &agent.Configure{Env: []string{"ADDRESS=10.61.0.1"},
			Services: []agent.Service{{Name: "page", Run: "python3 -m http.server --bind 10.61.0.1 8000"}}}}))
		require.NoError(t, l.ask(one, agent.Request{Op: agent.OpStart, Service: "page"}))
		var conn net.Conn
		require.Eventually(t, func() bool { var err error; conn, err = l.Agent(one).DialPort(t.Context(), 8000); return err == nil }, 15*time.Second, 50*time.Millisecond)
		defer conn.Close()
		_, err := fmt.Fprint(conn, "GET / HTTP/1.0\r\n\r\n")
		require.NoError(t, err)
		var page bytes.Buffer
		_, err = page.ReadFrom(conn)
		require.NoError(t, err)
		assert.Contains(t, page.String(), "200 OK")
	})
	t.Run("init is small", func(t *testing.T) {
		kib, err := strconv.Atoi(l.says(one, "awk '/VmRSS/ {print $2}' /proc/1/status"))
		require.NoError(t, err)
		t.Logf("resident memory of a node's init: %d KiB", kib)
		assert.Less(t, kib, 16<<10)
	})
}

// A node that runs is left alone; one that died is made again with its disk.
func TestNodeDies(t *testing.T) {
	l := newLab(t, "")
	one := l.make(1)
	two := l.make(2)
	l.says(one, "echo kept > /root/file; touch /run/lost")
	boot := l.says(one, "stat -c %Y%i /proc/1/ns/net")
	l.make(1)
	assert.Equal(t, boot, l.says(one, "stat -c %Y%i /proc/1/ns/net"))
	require.NoError(t, unix.Kill(initOf(t, l, one), unix.SIGKILL))
	require.Eventually(t, func() bool { living, err := l.Living(t.Context()); return err == nil && len(living) == 1 }, 10*time.Second, 10*time.Millisecond)
	l.make(1)
	assert.Equal(t, "kept", l.says(one, "cat /root/file"))
	_, code := l.sh(one, "test -e /run/lost")
	assert.NotZero(t, code)
	times, err := l.Agent(two).Reach(t.Context(), []string{"10.61.0.1", "10.61.1.1"})
	require.NoError(t, err)
	for address, took := range times {
		assert.GreaterOrEqual(t, took, int64(0), address)
	}
}

// initOf finds a node's first process on the workstation, by its control group.
func initOf(t *testing.T, l *lab, node string) int {
	for _, h := range []string{"pids", "", "unified"} {
		text, err := os.ReadFile(filepath.Join("/sys/fs/cgroup", h, l.cgroup.Node(node), "cgroup.procs"))
		if fields := strings.Fields(string(text)); err == nil && len(fields) > 0 {
			pid, err := strconv.Atoi(fields[0])
			require.NoError(t, err)
			return pid
		}
	}
	t.Fatal("the node has no process")
	return 0
}

// The worker inside may be killed at any time: nodes go on, and the next
// request is served by its successor.
func TestWorkerDies(t *testing.T) {
	l := newLab(t, "")
	one := l.make(1)
	processes, err := filepath.Glob("/proc/[0-9]*/cmdline")
	require.NoError(t, err)
	worker := 0
	for _, process := range processes {
		cmdline, _ := os.ReadFile(process)
		if string(cmdline) == "kettlehole-anchor\x00inside\x00"+l.folder+"\x00" {
			worker, _ = strconv.Atoi(filepath.Base(filepath.Dir(process)))
		}
	}
	require.NotZero(t, worker)
	require.NoError(t, unix.Kill(worker, unix.SIGKILL))
	assert.Equal(t, "node-1", l.says(one, "hostname"))
	require.Eventually(t, func() bool { living, err := l.Living(t.Context()); return err == nil && len(living) == 1 }, 10*time.Second, 20*time.Millisecond)
	l.make(2)
}

// Killing the one process that holds the lab takes everything back.
func TestAnchorDies(t *testing.T) {
	l := newLab(t, "")
	var all sync.WaitGroup
	for i := range 5 {
		all.Go(func() { _, err := l.Make(t.Context(), l.node(i+1)); assert.NoError(t, err) })
	}
	all.Wait()
	pids := []int{initOf(t, l, "node-1"), initOf(t, l, "node-5")}
	require.NoError(t, unix.Kill(l.pid, unix.SIGKILL))
	for _, pid := range pids {
		assert.Eventually(t, func() bool { return unix.Kill(pid, 0) == unix.ESRCH || zombie(pid) }, 5*time.Second, time.Millisecond)
	}
	_, err := anchor.Find(l.folder)
	assert.ErrorIs(t, err, anchor.ErrAbsent)
}

func zombie(pid int) bool {
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	return err == nil && strings.Contains(string(stat), ") Z ")
}

// An anchor that nobody gave leave to begin ends, and makes nothing.
func TestAnchorIsRefused(t *testing.T) {
	testbed.Kernel(t)
	folder := filepath.Join(t.TempDir(), "lab")
	err := anchor.Start(t.Context(), filepath.Join(testbed.Programs(t), "kettlehole-anchor"), folder, "refused", func(int) error { return assert.AnError })
	assert.ErrorIs(t, err, assert.AnError)
	assert.Eventually(t, func() bool { _, err := anchor.Find(folder); return err == anchor.ErrAbsent }, 5*time.Second, time.Millisecond)
	entries, err := os.ReadDir(filepath.Join(folder, anchor.Mounts))
	require.NoError(t, err)
	assert.Empty(t, entries)
}

func TestBadNodes(t *testing.T) {
	l := newLab(t, "")
	broken := l.node(1)
	broken.Links[0].Network = "nowhere"
	assert.ErrorContains(t, failed(l.Make(t.Context(), broken)), `bridge of network "nowhere"`)
	broken = l.node(1)
	broken.Layers = []string{"/no/such/layer"}
	assert.ErrorContains(t, failed(l.Make(t.Context(), broken)), "mounting the disk")
	broken = l.node(1)
	broken.Memory = 1
	assert.ErrorIs(t, failed(l.Make(t.Context(), broken)), substrate.ErrWorkstation)
	l.make(1) // and after all that, it can be made
	none := container.New(l.folder, func() string { return "" }, l.cgroup)
	assert.ErrorIs(t, failed(none.Make(t.Context(), l.node(2))), substrate.ErrWorkstation)
}

// failed is the error of a making.
func failed(_ substrate.Made, err error) error { return err }
