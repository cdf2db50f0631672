package reach_test

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kettlehole/internal/reach"
)

// memberServer is a member of a front: it says its name and echoes.
type memberServer struct {
	net.Listener
	busy  sync.WaitGroup
	conns sync.Map
}

func startMember(t *testing.T, at string) *memberServer {
	listener, err := net.Listen("tcp", at)
	require.NoError(t, err)
	m := &memberServer{Listener: listener}
	m.busy.Go(func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			m.conns.Store(conn, nil)
			m.busy.Go(func() {
				_, _ = fmt.Fprintf(conn, "%s\n", at)
				_, _ = io.Copy(conn, conn)
				_ = conn.Close()
			})
		}
	})
	return m
}

// die ends the member with all its connections.
func (m *memberServer) die() {
	_ = m.Close()
	m.conns.Range(func(conn, _ any) bool { _ = conn.(net.Conn).Close(); return true })
	m.busy.Wait()
}

// members starts n of them, on the same port of different loopback addresses.
func members(t *testing.T, n int) (servers []*memberServer, config reach.FrontConfig) {
	port := free(t).Port()
	config = reach.FrontConfig{Name: "site", Listen: []netip.AddrPort{free(t)}, HealthPort: port}
	for i := range n {
		at := netip.AddrPortFrom(netip.AddrFrom4([4]byte{127, 0, 61, byte(11 + i)}), port)
		servers = append(servers, startMember(t, at.String()))
		config.Targets = append(config.Targets, reach.Target{Node: fmt.Sprintf("m-%d", i+1), Address: at})
	}
	return servers, config
}

func healthy(f *reach.Front) (n int) {
	for _, m := range f.State().Members {
		if m.Healthy {
			n++
		}
	}
	return n
}

// whom asks the front who answers.
func whom(at netip.AddrPort) (net.Conn, string, error) {
	conn, err := net.Dial("tcp", at.String())
	if err != nil {
		return nil, "", err
	}
	_ = conn.SetDeadline(time.Now().Add(10 * time.Second))
	buffer := make([]byte, 64)
	n, err := conn.Read(buffer)
	return conn, string(buffer[:n]), err
}

// Connections are spread evenly; a dead member is out within a second, and
// nobody else notices.
func TestFront(t *testing.T) {
	servers, config := members(t, 3)
	f, err := reach.OpenFront(config)
	require.NoError(t, err)
	defer f.Close()
	require.Eventually(t, func() bool { return healthy(f) == 3 }, 5*time.Second, 5*time.Millisecond)
	got := map[string]int{}
	var open []net.Conn
	for range 9 {
		conn, who, err := whom(config.Listen[0])
		require.NoError(t, err)
		got[who]++
		open = append(open, conn)
	}
	assert.Len(t, got, 3)
	for who, n := range got {
		assert.Equal(t, 3, n, who)
	}
	servers[2].die()
	died := time.Now()
	alive := 0
	for _, conn := range open {
		_, err := conn.Write([]byte("still here"))
		if err == nil {
			_, err = io.ReadFull(conn, make([]byte, 10))
		}
		if err == nil {
			alive++
		}
		require.NoError(t, conn.Close())
	}
	assert.Equal(t, 6, alive, "connections to the living go on, those to the dead end")
	for range 20 {
		conn, who, err := whom(config.Listen[0])
		require.NoError(t, err, "no connection is lost, even before the death is known")
		assert.NotContains(t, who, "127.0.61.13")
		require.NoError(t, conn.Close())
	}
	require.Eventually(t, func() bool { return healthy(f) == 2 }, 5*time.Second, time.Millisecond)
	t.Logf("out after %v", time.Since(died))
	again := startMember(t, config.Targets[2].Address.String())
	require.Eventually(t, func() bool { return healthy(f) == 3 }, 5*time.Second, 5*time.Millisecond)
	again.die()
	for _, s := range servers[:2] {
		s.die()
	}
	require.Eventually(t, func() bool { return healthy(f) == 0 }, 5*time.Second, 5*time.Millisecond)
	_, _, err = whom(config.Listen[0])
	assert.Error(t, err, "with nobody left a connection is refused")
	assert.Positive(t, f.State().Refused)
	assert.Contains(t, f.State().Members[0].Reason, "connection refused")
}

// Very many at once, while members die and come back: those that the living
// took end well.
func TestFrontUnderLoad(t *testing.T) {
	servers, config := members(t, 3)
	f, err := reach.OpenFront(config)
	require.NoError(t, err)
	defer f.Close()
	require.Eventually(t, func() bool { return healthy(f) == 3 }, 5*time.Second, 5*time.Millisecond)
	var all sync.WaitGroup
	var cut, well atomic.Int64
	for range 20 {
		all.Go(func() {
			for range 50 {
				conn, who, err := whom(config.Listen[0])
				if err == nil {
					_, err = conn.Write([]byte("word"))
				}
				if err == nil {
					_, err = io.ReadFull(conn, make([]byte, 4))
				}
				if conn != nil {
					reach.Reset(conn)
				}
				if err == nil {
					well.Add(1)
				} else if cut.Add(1); who != "" {
					assert.Contains(t, who, "127.0.61.13", "only the one that died may cut: %v", err)
				}
			}
		})
	}
	time.Sleep(20 * time.Millisecond)
	servers[2].die()
	all.Wait()
	assert.Less(t, cut.Load(), int64(100))
	assert.EqualValues(t, 1000, cut.Load()+well.Load())
	for _, s := range servers[:2] {
		s.die()
	}
}

// A member that is taken out of the front gets nothing new, and keeps what it
// has for a while.
func TestFrontBecomes(t *testing.T) {
	servers, config := members(t, 2)
	defer servers[0].die()
	defer servers[1].die()
	f, err := reach.OpenFront(config)
	require.NoError(t, err)
	defer f.Close()
	require.Eventually(t, func() bool { return healthy(f) == 2 }, 5*time.Second, 5*time.Millisecond)
	first, _, err := whom(config.Listen[0])
	require.NoError(t, err)
	defer first.Close()
	second, _, err := whom(config.Listen[0])
	require.NoError(t, err)
	defer second.Close()
	config.Targets = config.Targets[:1]
	f.Become(config)
	for range 5 {
		conn, who, err := whom(config.Listen[0])
		require.NoError(t, err)
		assert.Contains(t, who, "127.0.61.11")
		require.NoError(t, conn.Close())
	}
	for _, conn := range []net.Conn{first, second} {
		_, err := conn.Write([]byte("x"))
		require.NoError(t, err)
		_, err = io.ReadFull(conn, make([]byte, 1))
		assert.NoError(t, err, "what is open goes on")
	}
}

// A member that accepts and says that it is ill is out all the same.
func TestFrontHealthByHTTP(t *testing.T) {
	var ill atomic.Bool
	server := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/healthy" || ill.Load() {
			w.WriteHeader(http.StatusServiceUnavailable)
		}
	})}
	listener, err := net.Listen("tcp", "127.0.61.21:0")
	require.NoError(t, err)
	defer server.Close()
	go func() { _ = server.Serve(listener) }()
	at := netip.MustParseAddrPort(listener.Addr().String())
	f, err := reach.OpenFront(reach.FrontConfig{Name: "site", Listen: []netip.AddrPort{free(t)}, Targets: []reach.Target{{Node: "m-1", Address: at}}, HealthPort: at.Port(), HealthPath: "/healthy"})
	require.NoError(t, err)
	defer f.Close()
	require.Eventually(t, func() bool { return healthy(f) == 1 }, 5*time.Second, 5*time.Millisecond)
	ill.Store(true)
	require.Eventually(t, func() bool { return healthy(f) == 0 }, 5*time.Second, 5*time.Millisecond)
	assert.Contains(t, f.State().Members[0].Reason, "503")
	ill.Store(false)
	require.Eventually(t, func() bool { return healthy(f) == 1 }, 5*time.Second, 5*time.Millisecond)
	_, err = reach.OpenFront(reach.FrontConfig{Name: "other", Listen: []netip.AddrPort{at}})
	assert.ErrorContains(t, err, "address already in use")
}
