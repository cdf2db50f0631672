package reach_test

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"io"
	"net"
	"net/netip"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"kettlehole/internal/reach"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// echo listens on loopback, and sends back what it gets.
func echo(t *testing.T) (reach.Dial, func()) {
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
	dial := func(ctx context.Context) (net.Conn, error) {
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
	f, err := reach.Listen(at, dial)
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
	want := reach.Counts{Total: 20, In: 20 * int64(len(sent)), Out: 20 * int64(len(sent))}
	assert.Eventually(t, func() bool { return f.Counts() == want }, 5*time.Second, 5*time.Millisecond, "%+v", f.Counts())
}

// What goes on is counted too.
func TestForwardCountsLive(t *testing.T) {
	dial, stop := echo(t)
	defer stop()
	at := free(t)
	f, err := reach.Listen(at, dial)
	require.NoError(t, err)
	defer f.Close()
	conn, err := net.Dial("tcp", at.String())
	require.NoError(t, err)
	defer conn.Close()
	_, err = conn.Write(make([]byte, 1000))
	require.NoError(t, err)
	_, err = io.ReadFull(conn, make([]byte, 1000))
	require.NoError(t, err)
	want := reach.Counts{Open: 1, Total: 1, In: 1000, Out: 1000}
	assert.Eventually(t, func() bool { return f.Counts() == want }, 5*time.Second, 5*time.Millisecond, "%+v", f.Counts())
}

// A server that resets must not look like one that ended well.
func TestForwardPassesResetOn(t *testing.T) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer listener.Close()
	go func() {
		conn, err := listener.Accept()
		if err != nil {
			return
		}
		_, _ = conn.Read(make([]byte, 1))
		reach.Reset(conn)
	}()
	at := free(t)
	f, err := reach.Listen(at, func(ctx context.Context) (net.Conn, error) { return net.Dial("tcp", listener.Addr().String()) })
	require.NoError(t, err)
	defer f.Close()
	conn, err := net.Dial("tcp", at.String())
	require.NoError(t, err)
	defer conn.Close()
	_, err = conn.Write([]byte("x"))
	require.NoError(t, err)
	_, err = io.ReadAll(conn)
	assert.ErrorIs(t, err, syscall.ECONNRESET)
}

// Very many connections, one after the other, each with its own words.
func TestForwardManyInARow(t *testing.T) {
	dial, stop := echo(t)
	defer stop()
	at := free(t)
	f, err := reach.Listen(at, dial)
	require.NoError(t, err)
	defer f.Close()
	const many = 10_000
	word := make([]byte, 8)
	for i := range many {
		conn, err := net.Dial("tcp", at.String())
		require.NoError(t, err, "connection %d", i)
		binary.BigEndian.PutUint64(word, uint64(i))
		_, err = conn.Write(word)
		require.NoError(t, err)
		got := make([]byte, 8)
		_, err = io.ReadFull(conn, got)
		require.NoError(t, err)
		require.Equal(t, word, got)
		reach.Reset(conn) // leaves no port waiting
	}
	assert.Eventually(t, func() bool { c := f.Counts(); return c.Open == 0 && c.Total == many }, 5*time.Second, 5*time.Millisecond)
}

func TestForwardToNobody(t *testing.T) {
	at := free(t)
	f, err := reach.Listen(at, func(context.Context) (net.Conn, error) { return nil, errors.New("connection refused") })
	require.NoError(t, err)
	defer f.Close()
	conn, err := net.Dial("tcp", at.String())
	if err == nil { // else it was reset already
		defer conn.Close()
		_, err = io.ReadAll(conn)
	}
	assert.ErrorIs(t, err, syscall.ECONNRESET, "nobody may take it for an end")
	assert.Eventually(t, func() bool { return f.Counts().Failure == "connection refused" }, 5*time.Second, 5*time.Millisecond)
}

// Closing ends connections that hang and waits for all that it began.
func TestForwardCloses(t *testing.T) {
	dial, stop := echo(t)
	defer stop()
	at := free(t)
	f, err := reach.Listen(at, dial)
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
	again, err := reach.Listen(at, dial)
	require.NoError(t, err, "the port is free at once")
	require.NoError(t, again.Close())
}

func TestForwardOfTakenPort(t *testing.T) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer listener.Close()
	_, err = reach.Listen(netip.MustParseAddrPort(listener.Addr().String()), nil)
	assert.ErrorContains(t, err, "address already in use")
}
