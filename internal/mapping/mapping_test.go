package mapping_test

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/vishvananda/netlink"

	"kettlehole/internal/mapping"
	"kettlehole/internal/plan"
	"kettlehole/internal/testbed"
)

// mapped lays a lab file on this workstation.
func mapped(t *testing.T, text string) mapping.Result {
	file := filepath.Join(t.TempDir(), "x.lab.yaml")
	require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
	m, err := mapping.Map(mapping.Request{File: file, Home: t.TempDir(), Living: func(string) *plan.Plan { return nil }})
	require.NoError(t, err)
	return m
}

// A port that is really held names its holder, and the nearest that is free;
// once it is free the lab has it.
func TestHeldPort(t *testing.T) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	port := listener.Addr().(*net.TCPAddr).Port
	text := fmt.Sprintf("lab: x\ngroups: {a: {memory: 16M}}\nforwards: {page: %d -> a-1:80}\n", port)
	m := mapped(t, text)
	assert.False(t, m.Good())
	assert.Contains(t, m.Text(), fmt.Sprintf("port %d of 127.0.0.1 is taken by mapping.test", port))
	assert.Contains(t, m.Text(), fmt.Sprintf("(process %d)", os.Getpid()))
	assert.Contains(t, m.Text(), "is free; or write auto")
	require.NoError(t, listener.Close())
	assert.True(t, mapped(t, text).Good())
}

// A route of the workstation that a network with egress would hide is told,
// and an automatic subnet keeps away from it.
func TestRouteThatOverlaps(t *testing.T) {
	if !testbed.Apart(t, mapping.PoolVariable+"=10.64.0.0/23") {
		return
	}
	attrs := netlink.NewLinkAttrs()
	attrs.Name = "far0"
	require.NoError(t, netlink.LinkAdd(&netlink.Bridge{LinkAttrs: attrs}))
	link, err := netlink.LinkByName("far0")
	require.NoError(t, err)
	require.NoError(t, netlink.LinkSetUp(link))
	for _, to := range []string{"10.61.0.0/16", "10.64.0.0/24"} {
		_, network, err := net.ParseCIDR(to)
		require.NoError(t, err)
		require.NoError(t, netlink.RouteAdd(&netlink.Route{LinkIndex: link.Attrs().Index, Dst: network, Scope: netlink.SCOPE_LINK}))
	}
	m := mapped(t, "lab: x\nnetworks: {n: {subnet: 10.61.4.0/24, egress: true}, m: {egress: true}, k: {subnet: 10.61.5.0/24}}\ngroups: {a: {memory: 16M, networks: [n, m, k]}}\n")
	require.True(t, m.Good(), m.Text())
	assert.Contains(t, m.Text(), "cannot reach what this workstation reaches at 10.61.0.0/16 through far0, since their own range 10.61.4.0/24 hides it")
	assert.NotContains(t, m.Text(), "own range 10.61.5.0/24", "a network without egress hides nothing")
	assert.Equal(t, "10.64.1.0/24", m.Plan.Networks[1].Subnet.String(), "the other half of the pool is behind a route")
	assert.Equal(t, "10.61.4.1/24", m.Plan.Networks[0].Own.String())
}
