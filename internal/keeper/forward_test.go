package keeper_test

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kettlehole/internal/api"
	"kettlehole/internal/mapping"
	"kettlehole/internal/plan"
)

// helloLab has one node that answers TCP with its name and UDP with what it
// hears, on IPv4 and IPv6.
const helloLab = `
networks: {lab: {subnet: [auto, "fd61::/64"]}}
groups: {n: {count: 2, memory: 64M, services: {hello: {run: exec python3 /root/hello.py}}}}
steps:
  hello:
    on: all
    run: |
      cat > /root/hello.py <<'END'
      import os, socket, threading
      def tcp(port):
          with socket.create_server(("", port), family=socket.AF_INET6, dualstack_ipv6=True) as s:
              while True:
                  c, _ = s.accept()
                  c.sendall(("%s %d\n" % (os.environ["NODE"], port)).encode()); c.close()
      for port in (7000, 7001, 7002):
          threading.Thread(target=tcp, args=(port,)).start()
      u = socket.socket(socket.AF_INET, socket.SOCK_DGRAM); u.bind(("", 53))
      while True:
          data, who = u.recvfrom(2000)
          u.sendto(b"heard " + data, who)
      END
    start: hello
    wait: {port: 7002, within: 30s}
`

// hear reads the line that a forward's far end says.
func hear(address string) (string, error) {
	conn, err := net.Dial("tcp", address)
	if err != nil {
		return "", err
	}
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(10 * time.Second))
	return bufio.NewReader(conn).ReadString('\n')
}

// Forwards come and go while the lab lives; they outlive the keeper and new
// runs, and one of them becomes the lab file's.
func TestForwardsOnALivingLab(t *testing.T) {
	b := newBench(t, helloLab)
	b.done()
	lab := b.Open(b.name)
	add := func(name, text string) []plan.Forward {
		added, err := lab.AddForward(b.ctx, api.NewForward{Name: name, Text: text})
		require.NoError(t, err)
		return added
	}
	plain := add("", "auto -> n-2:7000")
	require.Len(t, plain, 1)
	assert.Equal(t, "n-2-7000", plain[0].Name)
	assert.True(t, plain[0].Added)
	line, err := hear(plain[0].Listen.String())
	require.NoError(t, err)
	assert.Equal(t, "n-2 7000\n", line)
	six := add("six", "[::1]:auto -> n-1:7001")
	line, err = hear(six[0].Listen.String())
	require.NoError(t, err)
	assert.Equal(t, "n-1 7001\n", line)
	run := add("run", "auto -> n-1:7000-7002")
	require.Len(t, run, 3)
	for i, f := range run {
		line, err := hear(f.Listen.String())
		require.NoError(t, err)
		assert.Equal(t, fmt.Sprintf("n-1 700%d\n", i), line)
	}
	words := add("words", "auto -> n-2:53/udp")
	ask := func() string {
		conn, err := net.Dial("udp", words[0].Listen.String())
		require.NoError(t, err)
		defer conn.Close()
		got := make([]byte, 100)
		for range 20 {
			_, err = conn.Write([]byte("hello"))
			require.NoError(t, err)
			_ = conn.SetReadDeadline(time.Now().Add(500 * time.Millisecond))
			if n, err := conn.Read(got); err == nil {
				return string(got[:n])
			}
		}
		return ""
	}
	assert.Equal(t, "heard hello", ask())

	for text, want := range map[string]string{
		"auto -> n-9:80":   `there is no node "n-9"`,
		"auto -> n-1":      "write a workstation port, an arrow",
		"auto -> n-2:7000": `has a forward "n-2-7000" already`,
		fmt.Sprintf("%d -> n-1:80", plain[0].Listen.Port()): "is forwarded twice",
	} {
		_, err := lab.AddForward(b.ctx, api.NewForward{Text: text})
		assert.ErrorContains(t, err, want, text)
	}
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer taken.Close()
	_, err = lab.AddForward(b.ctx, api.NewForward{Text: fmt.Sprintf("%d -> n-1:80", taken.Addr().(*net.TCPAddr).Port)})
	assert.ErrorContains(t, err, "is taken by")

	// The keeper dies; the next one opens them all again.
	b.killKeeper()
	state, err := lab.State(b.ctx)
	require.NoError(t, err)
	assert.Len(t, state.Forwards, 6)
	line, err = hear(plain[0].Listen.String())
	require.NoError(t, err)
	assert.Equal(t, "n-2 7000\n", line)
	assert.Equal(t, "heard hello", ask())

	// A new run leaves them, and a connection through them, alone.
	open, err := net.Dial("tcp", run[1].Listen.String())
	require.NoError(t, err)
	defer open.Close()
	declared, err := state.Plan.Declared("run")
	require.NoError(t, err)
	require.NoError(t, mapping.WriteForward(b.file, declared))
	text, err := os.ReadFile(b.file)
	require.NoError(t, err)
	assert.Contains(t, string(text), "\nforwards:\n  run: auto -> n-1:7000-7002\n")
	state = b.done()
	assert.Len(t, state.Forwards, 6)
	for _, f := range state.Forwards {
		assert.Equal(t, !strings.HasPrefix(f.Name, "run:"), f.Added, f.Name)
		assert.Empty(t, f.Reason, f.Name)
	}
	got, err := io.ReadAll(open)
	require.NoError(t, err)
	assert.Equal(t, "n-1 7001\n", string(got))

	assert.ErrorContains(t, lab.RemoveForward(b.ctx, "run"), "stands in the lab file")
	assert.ErrorContains(t, lab.RemoveForward(b.ctx, "nothing"), "no forward")
	require.NoError(t, lab.RemoveForward(b.ctx, "six"))
	_, err = hear(six[0].Listen.String())
	assert.Error(t, err)

	// A node that goes takes its forwards along.
	b.write(strings.ReplaceAll(strings.SplitN(string(text), "\n", 2)[1], "count: 2", "count: 1"))
	state = b.persist()
	for _, f := range state.Forwards {
		assert.Equal(t, "n-1", f.Node)
	}
	b.teardown()
	_, err = hear(run[0].Listen.String())
	assert.Error(t, err)
	matches, err := filepath.Glob(filepath.Join(filepath.Dir(b.file), ".lab-*"))
	require.NoError(t, err)
	assert.Empty(t, matches)
}
