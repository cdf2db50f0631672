package reach_test

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kettlehole/internal/reach"
)

// shout answers every datagram with its sender's words, doubled.
func shout(t *testing.T, network string) (netip.AddrPort, func()) {
	socket, err := net.ListenPacket(network, "localhost:0")
	require.NoError(t, err)
	var busy sync.WaitGroup
	busy.Go(func() {
		buffer := make([]byte, 64<<10)
		for {
			n, from, err := socket.ReadFrom(buffer)
			if err != nil {
				return
			}
			_, _ = socket.WriteTo(append(buffer[:n:n], buffer[:n]...), from)
		}
	})
	return netip.MustParseAddrPort(socket.LocalAddr().String()), func() { require.NoError(t, socket.Close()); busy.Wait() }
}

func freeUDP(t *testing.T) netip.AddrPort {
	socket, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	defer socket.Close()
	return netip.MustParseAddrPort(socket.LocalAddr().String())
}

// Many askers at once each get their own answers.
func TestDatagrams(t *testing.T) {
	to, stop := shout(t, "udp4")
	defer stop()
	at := freeUDP(t)
	d, err := reach.ListenUDP(at, func(context.Context) (net.Conn, error) { return net.Dial("udp", to.String()) })
	require.NoError(t, err)
	defer d.Close()
	var all sync.WaitGroup
	for i := range 20 {
		all.Go(func() {
			conn, err := net.Dial("udp", at.String())
			if !assert.NoError(t, err) {
				return
			}
			defer conn.Close()
			for round := range 20 {
				words := fmt.Sprintf("asker %d round %d ", i, round)
				_, err := conn.Write([]byte(words))
				assert.NoError(t, err)
				got := make([]byte, 100)
				assert.NoError(t, conn.SetReadDeadline(time.Now().Add(10*time.Second)))
				n, err := conn.Read(got)
				assert.NoError(t, err)
				assert.Equal(t, words+words, string(got[:n]))
			}
		})
	}
	all.Wait()
	assert.Eventually(t, func() bool {
		c := d.Counts()
		return c.Open == 20 && c.Total == 20 && c.In > 0 && 2*c.In == c.Out
	}, 5*time.Second, 5*time.Millisecond, "%+v", d.Counts())
}

// Where nobody hears, the next datagram may still find somebody.
func TestDatagramsToNobody(t *testing.T) {
	at, nobody := freeUDP(t), freeUDP(t)
	d, err := reach.ListenUDP(at, func(context.Context) (net.Conn, error) { return net.Dial("udp", nobody.String()) })
	require.NoError(t, err)
	defer d.Close()
	conn, err := net.Dial("udp", at.String())
	require.NoError(t, err)
	defer conn.Close()
	assert.Eventually(t, func() bool {
		_, _ = conn.Write([]byte("x"))
		return d.Counts().Failure != ""
	}, 5*time.Second, 5*time.Millisecond)
	late, err := net.ListenUDP("udp", net.UDPAddrFromAddrPort(nobody))
	require.NoError(t, err)
	defer late.Close()
	assert.Eventually(t, func() bool {
		_, _ = conn.Write([]byte("y"))
		_ = late.SetReadDeadline(time.Now().Add(50 * time.Millisecond))
		n, err := late.Read(make([]byte, 10))
		return err == nil && n == 1
	}, 5*time.Second, 5*time.Millisecond)
}

func TestDatagramsThatCannotDial(t *testing.T) {
	at := freeUDP(t)
	d, err := reach.ListenUDP(at, func(context.Context) (net.Conn, error) { return nil, errors.New("the node is away") })
	require.NoError(t, err)
	defer d.Close()
	conn, err := net.Dial("udp", at.String())
	require.NoError(t, err)
	defer conn.Close()
	_, err = conn.Write([]byte("x"))
	require.NoError(t, err)
	assert.Eventually(t, func() bool { c := d.Counts(); return c.Failure == "the node is away" && c.Open == 0 }, 5*time.Second, 5*time.Millisecond)
	_, err = reach.ListenUDP(at, nil)
	assert.ErrorContains(t, err, "address already in use")
}

// Nobody can make the forward remember without bounds.
func TestDatagramsForgetTheOldest(t *testing.T) {
	to, stop := shout(t, "udp4")
	defer stop()
	at := freeUDP(t)
	d, err := reach.ListenUDP(at, func(context.Context) (net.Conn, error) { return net.Dial("udp", to.String()) })
	require.NoError(t, err)
	defer d.Close()
	const askers = 1100
	for range askers {
		conn, err := net.Dial("udp", at.String())
		require.NoError(t, err)
		_, err = conn.Write([]byte("x"))
		require.NoError(t, err)
		_ = conn.SetReadDeadline(time.Now().Add(10 * time.Second))
		_, err = conn.Read(make([]byte, 10))
		require.NoError(t, err)
		defer conn.Close()
	}
	assert.Eventually(t, func() bool { c := d.Counts(); return c.Total == askers && c.Open <= 1024 }, 5*time.Second, 5*time.Millisecond, "%+v", d.Counts())
}
