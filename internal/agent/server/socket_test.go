package server

import (
	"fmt"
	"net"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What programs hear on is found, whatever they bound.
func TestHearing(t *testing.T) {
	for _, at := range []string{"127.0.0.1:0", "[::1]:0", "0.0.0.0:0"} {
		socket, err := net.ListenPacket("udp", at)
		require.NoError(t, err)
		own := netip.MustParseAddrPort(socket.LocalAddr().String())
		found := hearing(own.Port())
		assert.Contains(t, fmt.Sprint(found), own.Addr().Unmap().String(), "%s is not among %v", own, found)
		require.NoError(t, socket.Close())
		assert.Empty(t, hearing(own.Port()))
	}
}

func TestParseLocal(t *testing.T) {
	for _, wrong := range []string{"", ":", "0100007F", "0100007F:", "0100007F:10000", "0100:0035", "xyz:0035", "0100007F0100007F:0035"} {
		_, ok := parseLocal(wrong)
		assert.False(t, ok, wrong)
	}
}
