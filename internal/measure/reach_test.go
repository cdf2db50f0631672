package measure_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"kettlehole/internal/home"
	"kettlehole/internal/reach"
)

// sink takes what comes on port 7000 and says at its end that it has all; it
// says a word at once on port 7001, and echoes on port 7002.
const sink = `
import asyncio, socket, threading
def serve(port, do):
    s = socket.create_server(("", port), backlog=4096)
    while True:
        c, _ = s.accept()
        do(c)
def take(c):
    def run():
        room = bytearray(1 << 20)
        while c.recv_into(room): pass
        c.sendall(b"!"); c.close()
    threading.Thread(target=run).start()
def say(c):
    c.sendall(b"!"); c.close()
threading.Thread(target=serve, args=(7000, take)).start()
threading.Thread(target=serve, args=(7001, say)).start()
async def echo(r, w):
    while data := await r.read(100):
        w.write(data); await w.drain()
    w.close()
async def main():
    s = await asyncio.start_server(echo, "", 7002, backlog=4096)
    await s.serve_forever()
asyncio.run(main())
`

// TestMeasureReach: the ways into a lab, beside the plain loopback.
func TestMeasureReach(t *testing.T) {
	ready(t)
	folder := t.TempDir()
	s := station{t, filepath.Join(folder, "home")}
	file := filepath.Join(folder, "x.lab.yaml")
	require.NoError(t, os.WriteFile(filepath.Join(folder, "sink.py"), []byte(sink), 0o644))
	require.NoError(t, os.WriteFile(file, []byte(`
lab: measured
groups: {n: {count: 50, cpu: 2, memory: 128M, disk: 4G, services: {sink: {run: exec python3 /root/sink.py}}}}
forwards: {take: auto -> n-1:7000, say: auto -> n-1:7001, echo: auto -> n-1:7002}
steps: {sink: {on: n-1, put: {sink.py: /root/sink.py}, start: sink, wait: {port: 7002}}}
`), 0o644))
	s.provision(file)
	defer s.run("teardown", "measured", "--yes")
	var env map[string]string
	require.NoError(t, json.Unmarshal(s.run("env", "--json"), &env))
	// The same program on the workstation itself, in ports of its own.
	plain := strings.NewReplacer("7000", "27000", "7001", "27001", "7002", "27002").Replace(sink)
	local := exec.Command("/usr/bin/python3", "-c", plain)
	require.NoError(t, local.Start())
	defer func() { _ = local.Process.Kill(); _ = local.Wait() }()
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", "127.0.0.1:27002")
		if err == nil {
			_ = c.Close()
		}
		return err == nil
	}, 10*time.Second, 20*time.Millisecond)

	t.Run("stream", func(t *testing.T) { measureStream(t, "127.0.0.1:27000", env["LAB_FORWARD_TAKE"]) })
	t.Run("connect", func(t *testing.T) { measureConnect(t, "127.0.0.1:27001", env["LAB_FORWARD_SAY"]) })
	t.Run("many", func(t *testing.T) { measureMany(t, env["LAB_FORWARD_ECHO"]) })
	var execs, logins, copies []time.Duration
	config := filepath.Join(folder, "ssh.conf")
	require.NoError(t, os.WriteFile(config, s.run("access"), 0o600))
	big := filepath.Join(folder, "big")
	require.NoError(t, os.WriteFile(big, make([]byte, 0), 0o600))
	fill(t, big, 1_000_000_000)
	for i := range 2 * rounds {
		began := time.Now()
		s.run("exec", "all", "--", "true")
		execs = append(execs, time.Since(began))
		began = time.Now()
		out, err := exec.Command("ssh", "-n", "-o", "ControlMaster=no", "-F", config, fmt.Sprintf("n-%d.measured", i+1), "true").CombinedOutput()
		require.NoError(t, err, "%s", out)
		logins = append(logins, time.Since(began))
		if i%2 == 0 {
			began = time.Now()
			s.run("copy", big, fmt.Sprintf("n-%d:/root/", i+2))
			copies = append(copies, time.Since(began))
			s.run("exec", fmt.Sprintf("n-%d", i+2), "--", "rm", "/root/big")
		}
	}
	report("exec on 50 nodes, by the command", "150 ms", execs)
	report("login with ssh, and out again", "150 ms", logins)
	report("copy of 1 GB to a node", "3333 ms (300 MB/s)", copies)
	t.Run("names", func(t *testing.T) { measureNames(t, home.Home(s.home).ID("measured")) })
}

func fill(t *testing.T, path string, size int) {
	file, err := os.Create(path)
	require.NoError(t, err)
	block := make([]byte, 1_000_000)
	for i := range block {
		block[i] = byte(i*7 + i>>8)
	}
	for range size / len(block) {
		_, err := file.Write(block)
		require.NoError(t, err)
	}
	require.NoError(t, file.Close())
}

// measureStream sends 2 GB on one connection in parts of 1 MiB, by turns to
// each.
func measureStream(t *testing.T, plain, forwarded string) {
	const size = 2_000_000_000
	block := make([]byte, 1<<20)
	send := func(at string) float64 {
		conn, err := net.Dial("tcp", at)
		require.NoError(t, err)
		defer conn.Close()
		began := time.Now()
		for sent := 0; sent < size; sent += len(block) {
			_, err := conn.Write(block)
			require.NoError(t, err)
		}
		require.NoError(t, conn.(*net.TCPConn).CloseWrite())
		_, err = io.ReadFull(conn, make([]byte, 1))
		require.NoError(t, err)
		return size / time.Since(began).Seconds() / 1e6
	}
	var shares []float64
	var last [2]float64
	for range 3 * rounds {
		last[0], last[1] = send(plain), send(forwarded)
		shares = append(shares, last[1]/last[0])
	}
	reportNumbers(fmt.Sprintf("a forward's share of plain loopback (last: %.0f of %.0f MB/s)", last[1], last[0]), "%8.2f", "0.70", shares)
}

// measureConnect opens connections and hears a byte, by turns on each.
func measureConnect(t *testing.T, plain, forwarded string) {
	open := func(at string) time.Duration {
		began := time.Now()
		conn, err := net.Dial("tcp", at)
		require.NoError(t, err)
		_, err = io.ReadFull(conn, make([]byte, 1))
		require.NoError(t, err)
		took := time.Since(began)
		reach.Reset(conn)
		return took
	}
	var extra []time.Duration
	for range 500 {
		direct := open(plain)
		extra = append(extra, open(forwarded)-direct)
	}
	report("a connection through a forward, above a plain one", "1 ms", extra)
}

// measureMany holds 1,000 connections open at once, each in use.
func measureMany(t *testing.T, at string) {
	var wrong atomic.Int64
	began := time.Now()
	var all sync.WaitGroup
	var open sync.WaitGroup
	open.Add(1000)
	for i := range 1000 {
		all.Go(func() {
			conn, err := net.Dial("tcp", at)
			open.Done()
			if err != nil {
				wrong.Add(1)
				return
			}
			defer conn.Close()
			open.Wait()
			word := []byte(fmt.Sprintf("%8d", i))
			got := make([]byte, len(word))
			for range 3 {
				_, err := conn.Write(word)
				if err == nil {
					_, err = io.ReadFull(conn, got)
				}
				if err != nil || string(got) != string(word) {
					wrong.Add(1)
					return
				}
			}
		})
	}
	all.Wait()
	fmt.Printf("%-62s %d errors after %.1f s   to reach 0 errors\n", "1,000 connections at once through a forward, 3 words each", wrong.Load(), time.Since(began).Seconds())
}

// measureNames asks from inside a node as fast as 32 askers can.
func measureNames(t *testing.T, id string) {
	pids := ""
	for _, h := range []string{"pids", "", "unified"} {
		if text, err := os.ReadFile(filepath.Join("/sys/fs/cgroup", h, "kettlehole-"+id, "n-1", "cgroup.procs")); err == nil && len(text) > 0 {
			pids = strings.Fields(string(text))[0]
		}
	}
	namespace, err := os.Open(filepath.Join("/proc", pids, "ns", "net"))
	require.NoError(t, err)
	defer namespace.Close()
	server, err := exec.Command("nsenter", "-t", pids, "-m", "awk", "/^nameserver/ {print $2; exit}", "/etc/resolv.conf").Output()
	require.NoError(t, err)
	at := netip.AddrPortFrom(netip.MustParseAddr(strings.TrimSpace(string(server))), 53)
	const askers = 32
	var conns []net.Conn
	made := make(chan error)
	go func() {
		// Never unlocked: the thread ends in the node's namespace.
		runtime.LockOSThread()
		if err := unix.Setns(int(namespace.Fd()), unix.CLONE_NEWNET); err != nil {
			made <- err // nothing is asked from anywhere else
			return
		}
		for range askers {
			conn, err := net.Dial("udp", at.String())
			if err != nil {
				made <- err
				return
			}
			conns = append(conns, conn)
		}
		made <- nil
	}()
	require.NoError(t, <-made)
	var rates []float64
	for range rounds {
		var answered atomic.Int64
		began := time.Now()
		var busy sync.WaitGroup
		for i, conn := range conns {
			busy.Go(func() {
				question, err := new(dns.Msg).SetQuestion("n-"+strconv.Itoa(i+1)+".measured.internal.", dns.TypeA).Pack()
				if err != nil {
					return
				}
				buffer := make([]byte, 512)
				for time.Since(began) < time.Second {
					_ = conn.SetDeadline(time.Now().Add(time.Second))
					if _, err := conn.Write(question); err != nil {
						return
					}
					if n, err := conn.Read(buffer); err == nil && n > len(question) {
						answered.Add(1)
					}
				}
			})
		}
		busy.Wait()
		rates = append(rates, float64(answered.Load())/time.Since(began).Seconds())
	}
	for _, conn := range conns {
		_ = conn.Close()
	}
	reportNumbers("answers to questions for names, a second", "%8.0f", "20000", rates)
}

// TestMeasureFront: how long a front leads to a member that has died.
func TestMeasureFront(t *testing.T) {
	ready(t)
	var all []time.Duration
	for range 2 * rounds {
		var config reach.FrontConfig
		var servers []net.Listener
		at, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		config.Listen = []netip.AddrPort{netip.MustParseAddrPort(at.Addr().String())}
		require.NoError(t, at.Close())
		for i := range 3 {
			host := fmt.Sprintf("127.0.61.%d:%d", 31+i, config.HealthPort)
			server, err := net.Listen("tcp", host)
			require.NoError(t, err)
			go func() {
				for {
					conn, err := server.Accept()
					if err != nil {
						return
					}
					_ = conn.Close()
				}
			}()
			address := netip.MustParseAddrPort(server.Addr().String())
			config.HealthPort = address.Port()
			config.Targets = append(config.Targets, reach.Target{Node: fmt.Sprint(i), Address: address})
			servers = append(servers, server)
		}
		f, err := reach.OpenFront(config)
		require.NoError(t, err)
		state := func(i int) bool { return f.State().Members[i].Healthy }
		require.Eventually(t, func() bool { return state(0) && state(1) && state(2) }, 5*time.Second, time.Millisecond)
		require.NoError(t, servers[1].Close())
		died := time.Now()
		for state(1) {
			time.Sleep(time.Millisecond)
		}
		all = append(all, time.Since(died))
		require.NoError(t, f.Close())
		for _, s := range servers {
			_ = s.Close()
		}
	}
	report("a member that died is out of its front", "1000 ms", all)
}
