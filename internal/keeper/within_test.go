package keeper_test

import (
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"kettlehole/internal/api"
	"kettlehole/internal/reach"
	"kettlehole/internal/testbed"
)

// The addresses of the outer world of the tests (RFC 5737, RFC 3849), in a
// namespace that has no way anywhere else.
var outer = []string{"198.51.100.7/32", "2001:db8::7/128"}

// apart runs the test again in network and mount namespaces of its own, where
// the outer world is the test itself, and tells whether this is that run.
func apart(t *testing.T) bool {
	if !testbed.Apart(t) {
		return false
	}
	loopback, err := netlink.LinkByName("lo")
	require.NoError(t, err)
	for _, text := range outer {
		address, err := netlink.ParseAddr(text)
		require.NoError(t, err)
		address.Flags = unix.IFA_F_NODAD
		require.NoError(t, netlink.AddrAdd(loopback, address))
	}
	file := filepath.Join(t.TempDir(), "resolv.conf")
	require.NoError(t, os.WriteFile(file, []byte("nameserver 198.51.100.7\n"), 0o644))
	require.NoError(t, unix.Mount(file, "/etc/resolv.conf", "", unix.MS_BIND, ""))
	return true
}

// world is what answers in the outer world: TCP and UDP on port 4000, names on
// port 53.
func world(t *testing.T) {
	for _, host := range []string{"198.51.100.7", "2001:db8::7"} {
		stream, err := net.Listen("tcp", net.JoinHostPort(host, "4000"))
		require.NoError(t, err)
		go func() {
			for {
				conn, err := stream.Accept()
				if err != nil {
					return
				}
				go func() { _, _ = io.Copy(conn, conn); _ = conn.Close() }()
			}
		}()
		datagrams, err := net.ListenPacket("udp", net.JoinHostPort(host, "4000"))
		require.NoError(t, err)
		go func() {
			buffer := make([]byte, 1000)
			for {
				n, from, err := datagrams.ReadFrom(buffer)
				if err != nil {
					return
				}
				_, _ = datagrams.WriteTo([]byte(fmt.Sprintf("%s from %s", buffer[:n], from.(*net.UDPAddr).AddrPort().Addr())), from)
			}
		}()
		t.Cleanup(func() { _, _ = stream.Close(), datagrams.Close() })
	}
	started := make(chan struct{})
	server := &dns.Server{Addr: "198.51.100.7:53", Net: "udp", NotifyStartedFunc: func() { close(started) }, Handler: dns.HandlerFunc(func(w dns.ResponseWriter, q *dns.Msg) {
		m := new(dns.Msg).SetReply(q)
		if q.Question[0].Name == "far.example." && q.Question[0].Qtype == dns.TypeA {
			m.Answer = []dns.RR{&dns.A{Hdr: dns.RR_Header{Name: "far.example.", Rrtype: dns.TypeA, Class: dns.ClassINET}, A: net.ParseIP("198.51.100.7")}}
		} else {
			m.Rcode = dns.RcodeNameError
		}
		_ = w.WriteMsg(m)
	})}
	go func() { _ = server.ListenAndServe() }()
	<-started
	t.Cleanup(func() { _ = server.Shutdown() })
}

const wayOutLab = `
networks:
  open: {subnet: [auto, "fd61::/64"], egress: true}
  shut: {subnet: auto}
groups:
  out: {count: 2, memory: 64M, networks: [shut, open]}
  in: {memory: 64M, networks: [shut]}
`

// talk says a word over TCP or UDP from a node and prints the answer.
const talk = `
import socket, sys
kind, host, word = sys.argv[1:]
info = socket.getaddrinfo(host, 4000, type=socket.SOCK_STREAM if kind == "tcp" else socket.SOCK_DGRAM)[0]
s = socket.socket(info[0], info[1]); s.settimeout(3)
try:
    s.connect(info[4])
    for i in range(3):
        s.send(word.encode()); got = s.recv(100).decode()
    print(got)
except OSError as e:
    print("no:", type(e).__name__)
`

// Networks with egress reach the world through the keeper, by TCP, UDP and
// name, on IPv4 and IPv6; others reach nothing. The workstation gets no route
// and no rule.
func TestWayOut(t *testing.T) {
	if !apart(t) {
		return
	}
	world(t)
	routes, err := netlink.RouteList(nil, netlink.FAMILY_ALL)
	require.NoError(t, err)
	b := newBench(t, wayOutLab)
	b.done()
	say := func(node, kind, host string) string {
		t.Helper()
		return strings.TrimSpace(b.sh(node, "python3 - "+kind+" "+host+" hello <<'END'\n"+talk+"END"))
	}
	assert.Equal(t, "hello", say("out-1", "tcp", "198.51.100.7"))
	assert.Equal(t, "hello", say("out-2", "tcp", "2001:db8::7"))
	assert.Equal(t, "hello", say("out-2", "tcp", "far.example"))
	assert.Equal(t, "hello from 198.51.100.7", say("out-1", "udp", "198.51.100.7"), "it comes from the workstation")
	assert.Equal(t, "hello from 2001:db8::7", say("out-1", "udp", "2001:db8::7"))
	assert.Contains(t, say("in-1", "tcp", "198.51.100.7"), "no:")
	assert.Contains(t, say("in-1", "udp", "198.51.100.7"), "no:")
	assert.Contains(t, b.sh("in-1", "getent hosts far.example || echo unknown"), "unknown")
	assert.Contains(t, b.sh("out-1", "curl -s -m 3 telnet://198.51.100.7:9 </dev/null; echo exit $?"), "exit ", "nobody listens there")
	// A large stream comes through whole.
	assert.Equal(t, "same", b.sh("out-1", `python3 - <<'END'
import hashlib, os, socket, threading
data = os.urandom(5_000_000)
s = socket.create_connection(("198.51.100.7", 4000))
threading.Thread(target=lambda: (s.sendall(data), s.shutdown(socket.SHUT_WR))).start()
got = bytearray()
while True:
    part = s.recv(1 << 16)
    if not part: break
    got += part
print("same" if bytes(got) == data else "%d of %d" % (len(got), len(data)))
END`))
	// Networks do not meet in the lab itself, whatever routes a node makes.
	assert.Contains(t, b.sh("in-1", `ip route add default via "$(awk '/^nameserver/ {print $2}' /etc/resolv.conf)" 2>/dev/null; python3 - tcp 198.51.100.7 hello <<'END'
`+talk+"END"), "no:")
	now, err := netlink.RouteList(nil, netlink.FAMILY_ALL)
	require.NoError(t, err)
	assert.Equal(t, len(routes), len(now))

	// Without a keeper the way is shut, and open again with the next one.
	b.killKeeper()
	assert.Contains(t, b.hold(func() string { return say("out-1", "tcp", "198.51.100.7") }), "hello")
	b.teardown()
}

// hold tries until an answer is right, once the keeper is back.
func (b *bench) hold(try func() string) (got string) {
	_, err := b.Open(b.name).State(b.ctx)
	require.NoError(b.t, err)
	for deadline := time.Now().Add(10 * time.Second); time.Now().Before(deadline); {
		if got = try(); !strings.Contains(got, "no:") {
			return got
		}
	}
	return got
}

const namesLab = `
networks:
  valley: {subnet: 10.61.0.0/24, reserve: {vip: .200}}
  ridge: {subnet: [10.62.0.0/24, "fd62::/64"]}
groups:
  web:
    count: 3
    memory: 64M
    networks: {valley: .11, ridge: .11}
    services: {page: {run: 'mkdir -p /srv; cd /srv; echo $NODE > index.html; exec python3 -m http.server 80'}}
  far: {memory: 64M, networks: {ridge: .21}}
fronts:
  site: {address: valley.5, port: 8000, to: "web:80", healthy: {http: /}}
`

// Programs that know no hosts file resolve names; fronts spread over what
// lives, also while the keeper is away.
func TestNamesAndFronts(t *testing.T) {
	b := newBench(t, namesLab)
	b.done()
	dig := func(node, question string) string {
		t.Helper()
		return strings.Join(strings.Fields(b.sh(node, "dig +short "+question+" | sort")), " ")
	}
	assert.Equal(t, "10.61.0.12", dig("web-1", "web-2"), "with the ending that is searched")
	assert.Equal(t, "10.61.0.11 10.61.0.12 10.61.0.13", dig("web-1", "web."+b.name+".internal"))
	assert.Equal(t, "10.61.0.11 10.61.0.12 10.61.0.13", dig("web-1", "+tcp web"))
	assert.Equal(t, "fd62::12", dig("far-1", "AAAA web-2"))
	assert.Equal(t, "10.62.0.12", dig("far-1", "web-2"), "the address that can be reached from there")
	assert.Equal(t, "10.61.0.5", dig("web-1", "site"))
	assert.Equal(t, "10.61.0.200", dig("web-1", "vip"))
	assert.Equal(t, "web-2."+b.name+".internal.", dig("web-1", "-x 10.61.0.12"))
	assert.Equal(t, "web-2."+b.name+".internal.", dig("far-1", "-x fd62::12"))
	assert.Contains(t, b.sh("web-1", "dig nothing"), "status: NXDOMAIN")
	assert.Contains(t, b.sh("web-1", "dig example.com"), "status: NXDOMAIN")
	all := func(s api.State) bool {
		return len(s.Fronts) == 1 && !slices.ContainsFunc(s.Fronts[0].States, func(m reach.MemberState) bool { return !m.Healthy })
	}
	b.eventually(all)
	assert.Equal(t, "web-1\nweb-2\nweb-3", b.sh("web-1", "for i in 1 2 3 4 5 6; do curl -s -m 5 http://site:8000/; done | sort -u"))
	b.eventually(func(s api.State) bool {
		return len(s.Fronts) == 1 && len(s.Fronts[0].States) == 3 && s.Fronts[0].States[0].Healthy && s.Fronts[0].States[1].Total > 0
	})

	settles := func(want, node, question string) {
		t.Helper()
		for deadline := time.Now().Add(10 * time.Second); dig(node, question) != want && time.Now().Before(deadline); {
			time.Sleep(20 * time.Millisecond)
		}
		assert.Equal(t, want, dig(node, question))
	}
	// A node dies: its group's name and the front do without it at once.
	b.killNode("web-3")
	settles("10.61.0.11 10.61.0.12", "web-1", "web")
	b.eventually(func(s api.State) bool {
		return len(s.Fronts) == 1 && !s.Fronts[0].States[2].Healthy && s.Fronts[0].States[2].Reason != ""
	})
	assert.Equal(t, "web-1\nweb-2", b.sh("web-1", "for i in 1 2 3 4 5 6; do curl -s -m 5 http://site:8000/ || echo failed; done | sort -u"))

	// The keeper's death is not noticed inside.
	b.killKeeper()
	out, err := exec.Command("nsenter", "-t", fmt.Sprint(b.pid("web-1")), "-n", "dig", "+short", "@10.61.0.1", "site."+b.name+".internal").CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Equal(t, "10.61.0.5\n", string(out))

	// The worker that does it may die too, and comes back by itself.
	b.killWorker()
	settles("10.61.0.5", "web-1", "site")
	b.eventually(func(s api.State) bool {
		return len(s.Fronts) == 1 && s.Fronts[0].States[0].Healthy && s.Fronts[0].States[1].Healthy
	})
	assert.Equal(t, "web-1\nweb-2", b.sh("web-1", "for i in 1 2 3 4 5 6; do curl -s -m 5 http://site:8000/ || echo failed; done | sort -u"))

	// Provisioned again, all are back; another file, other names.
	b.done()
	settles("10.61.0.11 10.61.0.12 10.61.0.13", "web-1", "web")
	b.write(strings.ReplaceAll(strings.ReplaceAll(namesLab, "site:", "place:"), "valley.5", "valley.6"))
	b.done()
	assert.Equal(t, "10.61.0.6", dig("web-1", "place"))
	assert.Empty(t, dig("web-1", "site"))
	assert.Equal(t, "10.61.0.6", b.sh("far-1", "awk '$2 == \"place\" {print $1}' /etc/hosts"))
	b.teardown()
}

// eventually follows the lab until the state is as it should be.
func (b *bench) eventually(want func(api.State) bool) {
	b.t.Helper()
	ctx, cancel := context.WithTimeout(b.ctx, 30*time.Second)
	defer cancel()
	var last api.State
	err := b.Open(b.name).Follow(ctx, func(s api.State) bool { last = s; return !want(s) })
	require.NoError(b.t, err, "%+v", last.Fronts)
}

// killWorker kills the process that works inside the lab.
func (b *bench) killWorker() {
	b.t.Helper()
	processes, err := filepath.Glob("/proc/[0-9]*/cmdline")
	require.NoError(b.t, err)
	killed := 0
	for _, path := range processes {
		text, _ := os.ReadFile(path)
		if words := strings.Split(string(text), "\x00"); len(words) > 2 && words[1] == "inside" && words[2] == b.Home.Lab(b.name) {
			var pid int
			_, err := fmt.Sscanf(path, "/proc/%d/cmdline", &pid)
			require.NoError(b.t, err)
			require.NoError(b.t, unix.Kill(pid, unix.SIGKILL))
			killed++
		}
	}
	require.Equal(b.t, 1, killed)
}
