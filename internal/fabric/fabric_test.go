package fabric_test

import (
	"net"
	"net/netip"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/vishvananda/netlink"
	"github.com/vishvananda/netns"
	"golang.org/x/sys/unix"

	"kettlehole/internal/fabric"
	"kettlehole/internal/testbed"
)

// inside runs the test again in a network and mount namespace of its own, and
// tells whether this is that run.
func inside(t *testing.T) bool {
	if !testbed.Apart(t) {
		return false
	}
	require.NoError(t, fabric.Prepare())
	return true
}

func links(t *testing.T) (names []string) {
	all, err := netlink.LinkList()
	require.NoError(t, err)
	for _, l := range all {
		names = append(names, l.Type()+" "+l.Attrs().Name)
	}
	return names
}

func link(network, name, address string) fabric.Link {
	return fabric.Link{Network: network, Name: name, Address: netip.MustParsePrefix(address), MAC: "02:00:00:00:00:" + strings.Repeat("0", 1) + address[len("10.0.0."):len("10.0.0.")+1]}
}

func TestNetworks(t *testing.T) {
	if !inside(t) {
		return
	}
	long := "a-very-long-name-of-a-network"
	for range 2 { // it may be repeated
		require.NoError(t, fabric.Networks([]fabric.Network{{Name: "valley"}, {Name: long}}))
		all := links(t)
		assert.Contains(t, all, "bridge n-valley")
		assert.Len(t, all, 3)
		for _, name := range all {
			assert.LessOrEqual(t, len(strings.Fields(name)[1]), 15)
		}
	}
	// What is no longer wanted goes; what is not ours stays.
	attrs := netlink.NewLinkAttrs()
	attrs.Name = "other"
	require.NoError(t, netlink.LinkAdd(&netlink.Bridge{LinkAttrs: attrs}))
	require.NoError(t, fabric.Networks([]fabric.Network{{Name: "valley"}}))
	assert.ElementsMatch(t, []string{"device lo", "bridge n-valley", "bridge other"}, links(t))
}

// The lab's own addresses are what was wanted last, also where the one that goes
// was the first on its network.
func TestOwnAddresses(t *testing.T) {
	if !inside(t) {
		return
	}
	for _, want := range [][]string{
		{"10.0.0.5/24", "10.0.0.1/24", "fd61::5/64", "fd61::1/64"},
		{"10.0.0.1/24", "fd61::1/64", "10.0.0.6/24"},
		{"10.0.0.6/24", "10.1.0.1/24", "fd61::6/64"},
		{"10.0.0.5/24", "10.0.0.1/24"},
		{"10.0.0.1/24"},
	} {
		n := fabric.Network{Name: "valley"}
		for _, address := range want {
			n.Addresses = append(n.Addresses, netip.MustParsePrefix(address))
		}
		require.NoError(t, fabric.Networks([]fabric.Network{n}))
		bridge, err := netlink.LinkByName("n-valley")
		require.NoError(t, err)
		all, err := netlink.AddrList(bridge, netlink.FAMILY_ALL)
		require.NoError(t, err)
		var have []string
		for _, a := range all {
			if !a.IP.IsLinkLocalUnicast() {
				have = append(have, a.IPNet.String())
			}
		}
		assert.ElementsMatch(t, want, have)
	}
}

// sixes sees that nodes with IPv6 addresses, alone or beside others, reach one
// another at once.
func sixes(t *testing.T, own netns.NsHandle) {
	both := link("valley", "eth0", "10.0.0.7/24")
	both.Address6 = netip.MustParsePrefix("fd61::7/64")
	three, err := fabric.Namespace("three", []fabric.Link{both})
	require.NoError(t, err)
	four, err := fabric.Namespace("four", []fabric.Link{{Network: "valley", Name: "eth0", Address: netip.MustParsePrefix("fd61::8/64"), MAC: "02:00:00:00:00:08"}})
	require.NoError(t, err)
	require.NoError(t, netns.Set(netns.NsHandle(four.Fd())))
	d := net.Dialer{FallbackDelay: -1, Timeout: 10 * time.Second} // a bridge may take a second to know its ports
	_, err = d.Dial("tcp6", "[fd61::7]:9")
	assert.ErrorIs(t, err, unix.ECONNREFUSED, "the neighbour is reached, and says that nobody listens")
	_, err = d.Dial("tcp4", "10.0.0.7:9")
	assert.ErrorIs(t, err, unix.ENETUNREACH, "a node without IPv4 has none")
	require.NoError(t, netns.Set(own))
	require.NoError(t, three.Close())
	require.NoError(t, four.Close())
}

func TestNamespaces(t *testing.T) {
	if !inside(t) {
		return
	}
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	own, err := netns.Get()
	require.NoError(t, err)
	defer own.Close()
	require.NoError(t, fabric.Networks([]fabric.Network{{Name: "valley"}, {Name: "ridge"}}))
	one, err := fabric.Namespace("one", []fabric.Link{link("valley", "eth0", "10.0.0.1/24"), link("ridge", "eth1", "10.0.1.1/24")})
	require.NoError(t, err)
	two, err := fabric.Namespace("two", []fabric.Link{link("valley", "eth0", "10.0.0.2/24")})
	require.NoError(t, err)
	defer two.Close()
	assert.Len(t, links(t), 1+2+3, "loopback, bridges, the bridges' ends of the links")

	// In the node's namespace its addresses are there, and its neighbour answers.
	require.NoError(t, netns.Set(netns.NsHandle(one.Fd())))
	var addresses []string
	interfaces, err := netlink.LinkList()
	require.NoError(t, err)
	for _, i := range interfaces {
		found, err := netlink.AddrList(i, netlink.FAMILY_V4)
		require.NoError(t, err)
		for _, a := range found {
			addresses = append(addresses, i.Attrs().Name+" "+a.IPNet.String())
		}
		six, err := netlink.AddrList(i, netlink.FAMILY_V6)
		require.NoError(t, err)
		for _, a := range six {
			assert.True(t, a.IP.IsLoopback(), "no address comes by itself: %s", a.IP)
		}
	}
	assert.ElementsMatch(t, []string{"lo 127.0.0.1/8", "eth0 10.0.0.1/24", "eth1 10.0.1.1/24"}, addresses)
	d := net.Dialer{FallbackDelay: -1}
	_, err = d.Dial("tcp4", "10.0.0.2:9")
	assert.ErrorIs(t, err, unix.ECONNREFUSED, "the neighbour is reached, and says that nobody listens")
	require.NoError(t, netns.Set(own))

	// A node made again under its name takes the place of its old link, also
	// while the old namespace is still there.
	again, err := fabric.Namespace("one", []fabric.Link{link("valley", "eth0", "10.0.0.1/24")})
	require.NoError(t, err)
	defer again.Close()
	require.NoError(t, one.Close())
	for _, bad := range [][]fabric.Link{{link("nowhere", "eth0", "10.0.0.3/24")}, {{Network: "valley", Name: "eth0", MAC: "no"}}, {link("valley", "a-name-that-is-too-long", "10.0.0.3/24")}} {
		_, err := fabric.Namespace("bad", bad)
		assert.Error(t, err)
	}
	// The kernel takes namespaces back one after the other, those of all others
	// on this machine among them.
	assert.Eventually(t, func() bool { return len(links(t)) == 1+2+2 }, time.Minute, 10*time.Millisecond, "what failed leaves nothing: %v", links(t))
	sixes(t, own)
}
