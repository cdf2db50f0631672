package run_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"

	"kettlehole/internal/plan"
	"kettlehole/internal/run"
)

// Proxies reach the nodes that can reach them, and never stand between nodes.
func TestProxies(t *testing.T) {
	out := plan.Node{Name: "out-1", Taps: []plan.Tap{{Network: "open", Gateway: netip.MustParseAddr("10.61.0.1")}}}
	in := plan.Node{Name: "in-1", Taps: []plan.Tap{{Network: "shut"}}}
	p := &plan.Plan{Lab: "desk", Nodes: []plan.Node{out, in}, Networks: []plan.Network{{Name: "open", Subnet: netip.MustParsePrefix("10.61.0.0/24")}}}
	given := []string{"HTTP_PROXY=http://proxy.example:3128", "no_proxy=.example", "https_proxy=http://127.0.0.1:3128", "http_proxy=http://localhost:1"}
	const own = "localhost,127.0.0.1,::1,.desk,.desk.internal,out-1,in-1,10.61.0.0/24"
	assert.Equal(t, []string{"HTTP_PROXY=http://proxy.example:3128", "NO_PROXY=" + own, "no_proxy=.example," + own}, run.Proxies(p, out, given))
	assert.Empty(t, run.Proxies(p, in, given))
	assert.Empty(t, run.Proxies(p, out, nil))
	assert.Empty(t, run.Proxies(p, out, given[1:]), "one on the workstation's loopback is none for a node")
}

func TestResolver(t *testing.T) {
	p := &plan.Plan{Lab: "desk", Networks: []plan.Network{{Name: "shut", Own: netip.MustParsePrefix("10.62.0.1/24")}, {Name: "open", Egress: true, Own: netip.MustParsePrefix("10.61.0.1/24")}, {Name: "full"}}}
	node := plan.Node{Taps: []plan.Tap{{Network: "shut"}, {Network: "open"}, {Network: "full"}}}
	assert.Equal(t, "search desk.internal\noptions timeout:1 attempts:3\nnameserver 10.61.0.1\nnameserver 10.62.0.1\n", run.Resolver(p, node), "where the world is known comes first")
	assert.NotContains(t, run.Resolver(p, plan.Node{Taps: []plan.Tap{{Network: "full"}}}), "nameserver ")
}
