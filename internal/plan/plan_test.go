package plan_test

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kettlehole/internal/labfile"
	"kettlehole/internal/plan"
	"kettlehole/internal/workstation"
)

var station = workstation.Facts{Cores: 8, MemoryTotal: 16 << 30, MemoryAvailable: 12 << 30, DiskFree: 1 << 40, Ephemeral: [2]uint16{32768, 60999}, Listening: []workstation.Listener{
	{Addr: netip.MustParseAddrPort("0.0.0.0:8080"), PID: 77, Process: "page-server"},
	{Addr: netip.MustParseAddrPort("127.0.0.2:9090")},
}}

func parse(t require.TestingT, text string) *labfile.Lab {
	lab, findings := labfile.Parse([]byte(text), nil)
	require.NotNil(t, lab, findings.Text("x", []byte(text)))
	return lab
}

func mapped(t require.TestingT, text string) (*plan.Plan, labfile.Findings) {
	return plan.Make(parse(t, text), plan.Where{File: "/x.lab.yaml"}, station, nil)
}

func TestAddresses(t *testing.T) {
	p, findings := mapped(t, `
lab: desk
networks: {valley: {subnet: 10.61.0.0/24}, ridge: {subnet: auto}, wide: {subnet: 10.4.0.0/16}}
groups:
  late:    {networks: [valley]}
  council: {count: 3, networks: {valley: .11}}
  field:   {count: 2, networks: {ridge: .21, valley: .21, wide: .3.254}}
`)
	require.NotNil(t, p, findings)
	var got []string
	for _, n := range p.Nodes {
		line := n.Name
		for _, tap := range n.Taps {
			if tap.Network != "ridge" {
				line += " " + tap.Address.String()
			}
		}
		got = append(got, line)
	}
	// The planner places nodes only where no fixed one stands.
	assert.Equal(t, []string{
		"late-1 10.61.0.14/24", "council-1 10.61.0.11/24", "council-2 10.61.0.12/24", "council-3 10.61.0.13/24",
		"field-1 10.61.0.21/24 10.4.3.254/16", "field-2 10.61.0.22/24 10.4.3.255/16",
	}, got)
	field, ok := p.Node("field-1")
	require.True(t, ok)
	assert.Equal(t, "ridge", field.Taps[0].Network, "the first network named is the identity")
	assert.True(t, netip.MustParsePrefix("10.64.0.0/10").Contains(field.Address()))
}

func TestFindings(t *testing.T) {
	for name, c := range map[string]struct{ text, want string }{
		"subnet too small": {"lab: x\nnetworks: {n: {subnet: 10.0.0.0/29}}\ngroups: {a: {count: 6}}", "too small: node a-6 has no place"},
		"past the end":     {"lab: x\nnetworks: {n: {subnet: 10.0.0.0/24}}\ngroups: {a: {count: 3, networks: {n: .253}}}", "too small: node a-3"},
		"outside":          {"lab: x\nnetworks: {n: {subnet: 10.0.0.0/29}}\ngroups: {a: {networks: {n: .80}}}", "outside of 10.0.0.0/29"},
		"same address":     {"lab: x\nnetworks: {n: {subnet: 10.0.0.0/24}}\ngroups: {a: {count: 3, networks: {n: .11}}, b: {networks: {n: .12}}}", "node a-2 and node b-1 would both have address 10.0.0.12"},
		"overlap":          {"lab: x\nnetworks: {n: {subnet: 10.0.0.0/8}, m: {subnet: 10.9.0.0/16}}\ngroups: {a: {networks: [n]}}", "overlaps 10.0.0.0/8"},
		"port taken":       {"lab: x\ngroups: {a: {}}\nforwards: {f: 8080 -> a-1:80}", "port 8080 of 127.0.0.1 is taken by page-server (process 77)\n    3 | forwards: {f: 8080 -> a-1:80}\n      |               ^^^^\n        8081 is free; or write auto, or end that process"},
		"port unseen":      {"lab: x\ngroups: {a: {}}\nforwards: {f: \"127.0.0.2:9090 -> a-1:80\"}", "cannot be seen"},
		"port twice":       {"lab: x\ngroups: {a: {}}\nforwards: {f: 7000 -> a-1:80, g: 7000 -> a-1:81}", "forwarded twice"},
		"no node":          {"lab: x\ngroups: {a: {count: 0}}", "no node"},
	} {
		t.Run(name, func(t *testing.T) {
			p, findings := mapped(t, c.text)
			assert.Nil(t, p)
			assert.Contains(t, findings.Text("x", []byte(c.text)), c.want)
		})
	}
	p, findings := mapped(t, "lab: x\ngroups: {a: {count: 100, memory: 1G}}")
	assert.Nil(t, p, "memory is never promised twice")
	assert.Contains(t, findings.Text("x", nil), "of memory together")
	p, findings = plan.Make(parse(t, "lab: x\ngroups: {a: {count: 100, memory: 1G}}"), plan.Where{Tight: true}, station, nil)
	require.NotNil(t, p, "unless it is asked for")
	assert.Equal(t, 1, findings.Count(labfile.Caution))
	p, _ = mapped(t, "lab: x\ngroups: {a: {}}\nforwards: {f: 9090 -> a-1:80}")
	assert.NotNil(t, p, "the port is taken on another address only")
}

func TestLivingLabKeepsItsOwn(t *testing.T) {
	text := "lab: x\nnetworks: {n: {subnet: auto}}\ngroups: {a: {}}\nforwards: {f: 7000 -> a-1:80, g: auto -> a-1:81}"
	before, _ := mapped(t, text)
	require.NotNil(t, before)
	held := station
	for _, f := range before.Forwards {
		held.Listening = append(held.Listening, workstation.Listener{Addr: f.Listen, PID: 1, Process: "kettlehole"})
	}
	p, findings := plan.Make(parse(t, text), plan.Where{}, held, nil)
	assert.Nil(t, p, "somebody else holds the port")
	assert.Equal(t, 1, findings.Count(labfile.Error))
	p, _ = plan.Make(parse(t, text), plan.Where{File: before.File}, held, before)
	require.NotNil(t, p)
	assert.Equal(t, before, p)
	moved, _ := plan.Make(parse(t, strings.Replace(text, "f: 7000 -> a-1:80, ", "", 1)), plan.Where{}, held, nil)
	require.NotNil(t, moved)
	assert.NotEqual(t, before.Forwards[1].Listen, moved.Forwards[0].Listen, "auto moves on from a port that is taken")
}

// drawLab draws a lab file that the language accepts.
func drawLab(t *rapid.T) string {
	var b strings.Builder
	fmt.Fprintf(&b, "lab: lab-%s\nnetworks:\n", rapid.StringMatching(`[a-z]{1,5}`).Draw(t, "name"))
	networks := rapid.IntRange(1, 4).Draw(t, "networks")
	for i := range networks {
		four, six := "auto", fmt.Sprintf("fd61:0:0:%x::/64", rapid.IntRange(0, 9).Draw(t, "six"))
		if !rapid.Bool().Draw(t, "auto") {
			four = fmt.Sprintf("10.%d.0.0/%d", rapid.IntRange(0, 255).Draw(t, "octet"), rapid.IntRange(16, 28).Draw(t, "bits"))
		}
		subnet := rapid.SampledFrom([]string{four, four, six, "[" + six + ", " + four + "]"}).Draw(t, "families")
		fmt.Fprintf(&b, "  n%d: {subnet: %s}\n", i, subnet)
	}
	b.WriteString("groups:\n")
	groups := rapid.IntRange(1, 5).Draw(t, "groups")
	for i := range groups {
		fmt.Fprintf(&b, "  g%d:\n    count: %d\n    networks: {", i, rapid.IntRange(1, 20).Draw(t, "count"))
		for j := range networks {
			if j > 0 && rapid.Bool().Draw(t, "skip") {
				continue
			}
			place := "auto"
			if rapid.Bool().Draw(t, "fixed") {
				place = fmt.Sprintf(".%d", rapid.IntRange(0, 255).Draw(t, "host"))
			}
			fmt.Fprintf(&b, "n%d: %s, ", j, place)
		}
		b.WriteString("}\n")
	}
	b.WriteString("forwards:\n  first: auto -> g0-1:80\n")
	for i := range rapid.IntRange(0, 5).Draw(t, "forwards") {
		fmt.Fprintf(&b, "  f%d: %s -> g0-1:80\n", i, rapid.SampledFrom([]string{"auto", "7001", "8080", "20500"}).Draw(t, "port"))
	}
	return b.String()
}

// Whatever is planned: no two nodes share an address, none is outside of its
// subnet, its network's or its broadcast address; no two forwards share a port
// and none is another's; and the same input gives the same plan.
func TestProperties(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := drawLab(t)
		lab := parse(t, text)
		p, findings := plan.Make(lab, plan.Where{}, station, nil)
		again, findingsAgain := plan.Make(lab, plan.Where{}, station, nil)
		a, _ := json.Marshal(p)
		b, _ := json.Marshal(again)
		require.Equal(t, string(a), string(b))
		require.Equal(t, findings, findingsAgain)
		if p == nil {
			require.Positive(t, findings.Count(labfile.Error))
			return
		}
		owner, macs := map[netip.Addr]string{}, map[string]string{}
		for i, n := range p.Networks {
			for _, m := range p.Networks[:i] {
				for _, one := range n.Ranges() {
					require.False(t, one.Overlaps(m.Subnet) || one.Overlaps(m.Subnet6), "%s and %s", n.Name, m.Name)
				}
			}
		}
		for _, n := range p.Nodes {
			for _, tap := range n.Taps {
				for _, address := range tap.Addresses() {
					require.Empty(t, owner[address], "%s and %s have %s", owner[address], n.Name, address)
					owner[address] = n.Name
				}
				require.Empty(t, macs[tap.MAC])
				macs[tap.MAC] = n.Name
				for _, network := range p.Networks {
					if network.Name == tap.Network {
						require.Len(t, tap.Addresses(), len(network.Ranges()))
						for i, address := range tap.Addresses() {
							require.True(t, network.Ranges()[i].Contains(address))
							require.NotEqual(t, network.Ranges()[i].Addr(), address)
							require.True(t, network.Ranges()[i].Contains(address.Next()), "%s is the broadcast address", address)
						}
					}
				}
			}
		}
		ports := map[netip.AddrPort]bool{}
		for _, f := range p.Forwards {
			require.False(t, ports[f.Listen])
			require.NotZero(t, f.Listen.Port())
			ports[f.Listen] = true
			for _, l := range station.Listening {
				require.False(t, l.Holds(f.Listen, f.UDP))
			}
		}
	})
}

// Reserves and fronts keep their addresses, and what a network with egress
// would hide is told.
func TestKeptAndHidden(t *testing.T) {
	facts := station
	facts.Routes = []workstation.Route{{To: netip.MustParsePrefix("10.61.0.0/16"), Interface: "eth0"}, {To: netip.MustParsePrefix("0.0.0.0/0"), Interface: "eth0"}}
	facts.Resolvers = []netip.Addr{netip.MustParseAddr("10.62.0.1")}
	make := func(text string) (*plan.Plan, string) {
		p, findings := plan.Make(parse(t, text), plan.Where{}, facts, nil)
		return p, findings.Text("x", []byte(text))
	}
	p, _ := make("lab: x\nnetworks: {n: {subnet: 10.5.0.0/24, reserve: {r: .11-.12, s: .14}}}\nreserve: {inner: 10.64.0.0/10}\ngroups: {a: {count: 3}}\nfronts: {f: {address: n.15, port: 80, to: 'a:80'}}\n")
	require.NotNil(t, p)
	assert.Equal(t, []string{"10.5.0.13", "10.5.0.16", "10.5.0.17"}, []string{p.Nodes[0].Address().String(), p.Nodes[1].Address().String(), p.Nodes[2].Address().String()})
	assert.Equal(t, "10.5.0.11-10.5.0.12", p.Reserves[0].String())
	assert.Equal(t, "10.64.0.0-10.127.255.255", p.Reserves[2].String())
	for text, want := range map[string]string{
		"lab: x\nnetworks: {n: {subnet: 10.5.0.0/24, reserve: {r: .11-.12}}}\ngroups: {a: {networks: {n: .12}}}\n":                              "reserve r and node a-1 would both have address 10.5.0.12",
		"lab: x\nnetworks: {n: {subnet: 10.5.0.0/24}}\ngroups: {a: {networks: {n: .12}}}\nfronts: {f: {address: n.12, port: 80, to: 'a:80'}}\n": "front f and node a-1 would both have address",
		"lab: x\nnetworks: {n: {reserve: {r: .1.11-.1.12}}}\ngroups: {a: {}}\n":                                                                 `reserve "r" is outside of`,
		"lab: x\nnetworks: {n: {subnet: 10.61.4.0/24, egress: true}}\ngroups: {a: {}}\n":                                                        "cannot reach what this workstation reaches at 10.61.0.0/16 through eth0, since",
		"lab: x\nnetworks: {n: {subnet: 10.62.0.0/24, egress: true}}\ngroups: {a: {}}\n":                                                        "resolver 10.62.0.1 lies in 10.62.0.0/24",
		"lab: x\nnetworks: {n: {subnet: 10.9.0.0/24, egress: true}}\ngroups: {a: {networks: {n: .1}}}\n":                                        "the gateway and node a-1 would both have address 10.9.0.1",
		"lab: x\nnetworks: {n: {subnet: 10.9.0.0/24, egress: true}}\ngroups: {a: {}}\nfronts: {f: {address: n.1, port: 80, to: 'a:80'}}\n":      `the gateway and front "f" would both have address 10.9.0.1`,
		"lab: x\nreserve: {inner: 10.64.0.0/10}\ngroups: {a: {}}\n":                                                                             "no range is left",
	} {
		_, said := make(text)
		assert.Contains(t, said, want, text)
	}
	pool, err := plan.ParsePool("172.20.0.0/16")
	require.NoError(t, err)
	elsewhere, _ := plan.Make(parse(t, "lab: x\ngroups: {a: {}}\n"), plan.Where{Pool: pool}, facts, nil)
	assert.True(t, pool.Contains(elsewhere.Nodes[0].Address()))
	for _, wrong := range []string{"", "10.0.0.0/25", "10.0.0.1/16", "fd00::/16", "0.0.0.0/0"} {
		_, err := plan.ParsePool(wrong)
		assert.Error(t, err, wrong)
	}
	_, said := make("lab: x\nnetworks: {n: {subnet: 10.61.4.0/24}}\ngroups: {a: {}}\n")
	assert.Empty(t, said, "a network without egress hides nothing")
}

// BenchmarkLarge plans 1,000 nodes on 20 networks with 5,000 forwards.
func BenchmarkLarge(b *testing.B) {
	var text strings.Builder
	text.WriteString("lab: x\nnetworks:\n")
	for i := range 20 {
		fmt.Fprintf(&text, "  n%d: {subnet: auto}\n", i)
	}
	text.WriteString("groups:\n")
	for i := range 20 {
		fmt.Fprintf(&text, "  g%c: {count: 50, networks: [n%d, n%d]}\n", 'a'+i, i, (i+1)%20)
	}
	text.WriteString("forwards:\n")
	for i := range 5000 {
		fmt.Fprintf(&text, "  f%d: %d -> g%c-%d:80\n", i, 10000+i, 'a'+i%20, i%50+1)
	}
	lab := parse(b, text.String())
	b.ReportAllocs()
	for b.Loop() {
		if p, findings := plan.Make(lab, plan.Where{Tight: true}, station, nil); p == nil {
			b.Fatal(findings.Text("x", nil))
		}
	}
}
