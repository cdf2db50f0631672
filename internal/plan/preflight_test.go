package plan_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kettlehole/internal/plan"
	"kettlehole/internal/workstation"
)

// A lab adds needs of its own: IPv6 where it carries that, the kernel's
// modules, and whether they are met or cannot be known.
func TestLabNeeds(t *testing.T) {
	p, findings := plan.Make(parse(t, "lab: x\nmodules: [br_netfilter, ip_vs]\nnetworks: {n: {subnet: [auto, fd61::/64]}}\ngroups: {a: {}}\n"), plan.Where{}, station, nil)
	require.NotNil(t, p, findings)
	need := func(f workstation.Facts, name string) plan.Need {
		for _, n := range plan.Preflight(f, p) {
			if n.Name == name {
				return n
			}
		}
		t.Fatalf("no need %q", name)
		return plan.Need{}
	}
	facts := station
	assert.Equal(t, "missing", need(facts, workstation.TryIPv6).Word())
	assert.Equal(t, "lacking", need(facts, "module ip_vs").Word(), "nobody knows")
	assert.Empty(t, need(facts, "module ip_vs").Remedy)
	facts.Trials = []workstation.Trial{{Name: workstation.TryIPv6, Tried: true, Works: true}}
	facts.Modules = []string{"br_netfilter"}
	assert.Equal(t, "met", need(facts, workstation.TryIPv6).Word())
	assert.Equal(t, "met", need(facts, "module br_netfilter").Word())
	assert.Equal(t, "missing", need(facts, "module ip_vs").Word())
	assert.Equal(t, "modprobe ip_vs", need(facts, "module ip_vs").Remedy)
	p, _ = plan.Make(parse(t, "lab: x\ngroups: {a: {}}\n"), plan.Where{}, station, nil)
	for _, n := range plan.Preflight(facts, p) {
		assert.NotEqual(t, workstation.TryIPv6, n.Name)
	}
}
