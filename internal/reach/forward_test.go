package reach_test

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"io"
	"net"
	"net/netip"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"kettlehole/internal/reach"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// echo listens on loopback, and sends back what it gets.
func echo(t *testing.T) (reach.DialNode, func()) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	var busy sync.WaitGroup
	busy.Go(func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			busy.Go(func() {
				_, _ = io.Copy(conn, conn)
				_ = conn.Close()
			})
		}
	})
	dial := func(ctx context.Context, node string, port uint16) (net.Conn, error) {
		if node != "web-1" || port != 80 {
			return nil, errors.New("another node was asked for")
		}
		var d net.Dialer
		return d.DialContext(ctx, "tcp", listener.Addr().String())
	}
	return dial, func() { require.NoError(t, listener.Close()); busy.Wait() }
}

// free gives an address of loopback on which nobody listens.
func free(t *testing.T) netip.AddrPort {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer listener.Close()
	return netip.MustParseAddrPort(listener.Addr().String())
}

func TestForward(t *testing.T) {
	dial, stop := echo(t)
	defer stop()
	at := free(t)
	f, err := reach.Listen(at, "web-1", 80, dial)
	require.NoError(t, err)
	defer f.Close()
	sent := make([]byte, 3<<20)
	_, _ = rand.Read(sent)
	var all sync.WaitGroup
	for range 20 {
		all.Go(func() {
			conn, err := net.Dial("tcp", at.String())
			if !assert.NoError(t, err) {
				return
			}
			defer conn.Close()
			go func() {
				_, _ = conn.Write(sent)
				_ = conn.(*net.TCPConn).CloseWrite() // half-closed: the rest still comes back
			}()
			got, err := io.ReadAll(conn)
			assert.NoError(t, err)
			assert.True(t, bytes.Equal(sent, got))
		})
	}
	all.Wait()
	assert.Eventually(t, func() bool { open, total, _ := f.Counts(); return open == 0 && total == 20 }, 5*time.Second, 5*time.Millisecond)
}

func TestForwardToNobody(t *testing.T) {
	at := free(t)
	f, err := reach.Listen(at, "web-1", 80, func(context.Context, string, uint16) (net.Conn, error) { return nil, errors.New("connection refused") })
	require.NoError(t, err)
	defer f.Close()
	conn, err := net.Dial("tcp", at.String())
	require.NoError(t, err)
	defer conn.Close()
	got, _ := io.ReadAll(conn) // an end, or a reset
	assert.Empty(t, got)
	assert.Eventually(t, func() bool { _, _, reason := f.Counts(); return reason == "connection refused" }, 5*time.Second, 5*time.Millisecond)
}

// Closing ends connections that hang and waits for all that it began.
func TestForwardCloses(t *testing.T) {
	dial, stop := echo(t)
	defer stop()
	at := free(t)
	f, err := reach.Listen(at, "web-1", 80, dial)
	require.NoError(t, err)
	conn, err := net.Dial("tcp", at.String())
	require.NoError(t, err)
	defer conn.Close()
	_, err = conn.Write([]byte("x"))
	require.NoError(t, err)
	one := make([]byte, 1)
	_, err = io.ReadFull(conn, one)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	_, err = conn.Read(one)
	assert.Error(t, err)
	_, err = net.Dial("tcp", at.String())
	assert.Error(t, err, "nobody listens any more")
	again, err := reach.Listen(at, "web-1", 80, dial)
	require.NoError(t, err, "the port is free at once")
	require.NoError(t, again.Close())
}

func TestForwardOfTakenPort(t *testing.T) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer listener.Close()
	_, err = reach.Listen(netip.MustParseAddrPort(listener.Addr().String()), "web-1", 80, nil)
	assert.ErrorContains(t, err, "address already in use")
}
