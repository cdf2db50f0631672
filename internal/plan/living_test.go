package plan_test

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kettlehole/internal/labfile"
	"kettlehole/internal/plan"
	"kettlehole/internal/workstation"
)

// group is a group of a lab that a property edits.
type group struct {
	count  int
	memory int // MiB
	taps   map[string]string
}

// drawn is a lab in parts, so that it can be edited.
type drawn struct {
	networks map[string]string // name to what stands behind it
	groups   map[string]group
}

func (d drawn) text() string {
	var b strings.Builder
	b.WriteString("lab: edited\nnetworks:\n")
	for _, name := range slices.Sorted(maps.Keys(d.networks)) {
		fmt.Fprintf(&b, "  %s: %s\n", name, d.networks[name])
	}
	b.WriteString("groups:\n")
	for _, name := range slices.Sorted(maps.Keys(d.groups)) {
		g := d.groups[name]
		fmt.Fprintf(&b, "  %s: {count: %d, memory: %dM, networks: {", name, g.count, g.memory)
		for _, network := range slices.Sorted(maps.Keys(g.taps)) {
			fmt.Fprintf(&b, "%s: %s, ", network, g.taps[network])
		}
		b.WriteString("}}\n")
	}
	fmt.Fprintf(&b, "forwards: {one: auto -> %s-1:80, two: auto -> %s-1:81}\n", slices.Min(slices.Collect(maps.Keys(d.groups))), slices.Min(slices.Collect(maps.Keys(d.groups))))
	return b.String()
}

func drawGroup(t *rapid.T, networks map[string]string) group {
	g := group{count: rapid.IntRange(1, 12).Draw(t, "count"), memory: rapid.SampledFrom([]int{16, 64, 512}).Draw(t, "memory"), taps: map[string]string{}}
	for i, name := range slices.Sorted(maps.Keys(networks)) {
		if i == 0 || rapid.Bool().Draw(t, "tap") {
			g.taps[name] = rapid.SampledFrom([]string{"auto", "auto", ".20", ".40", ".100", ".240"}).Draw(t, "place")
		}
	}
	return g
}

func drawParts(t *rapid.T) drawn {
	d := drawn{networks: map[string]string{"na": "{subnet: auto}"}, groups: map[string]group{}}
	for _, name := range []string{"nb", "nc"} {
		if rapid.Bool().Draw(t, "network") {
			d.networks[name] = rapid.SampledFrom([]string{"{subnet: 10.5.0.0/24}", "{subnet: auto}", "{subnet: 10.6.0.0/27}", "{subnet: 10.7.0.0/24, reserve: {r: .30-.60}}"}).Draw(t, "subnet")
			if strings.Contains(d.networks["nb"], "10.") && d.networks["nb"] == d.networks["nc"] {
				d.networks["nc"] = "{subnet: auto}"
			}
		}
	}
	for i := range rapid.IntRange(1, 4).Draw(t, "groups") {
		d.groups["g"+string(rune('a'+i))] = drawGroup(t, d.networks)
	}
	return d
}

// How many more nodes of a group fit is exact: that many more plan, one more
// does not.
func TestRoomIsExact(t *testing.T) {
	facts := workstation.Facts{Cores: 2, MemoryTotal: 4 << 30, MemoryAvailable: 3 << 30, DiskFree: 1 << 40}
	rapid.Check(t, func(t *rapid.T) {
		d := drawParts(t)
		p, _ := plan.Make(parse(t, d.text()), plan.Where{}, facts, nil)
		if p == nil {
			t.Skip("it does not plan")
		}
		for _, room := range p.Fit.Rooms {
			grown := drawn{d.networks, maps.Clone(d.groups)}
			for _, more := range []int{0, 1} {
				g := d.groups[room.Group]
				g.count += room.More + more
				if g.count > labfile.MaxCount {
					continue
				}
				grown.groups[room.Group] = g
				planned, findings := plan.Make(parse(t, grown.text()), plan.Where{}, facts, nil)
				require.Equal(t, more == 0, planned != nil, "%s: %s, and with %d more\n%s%s", room.Group, room, room.More+more, d.text(), findings.Text("x", nil))
			}
		}
	})
}

// Whatever is added or removed around it, a thing keeps its address, port and
// range as long as its own declaration stays; and the difference, applied to
// the old plan, gives the new one.
func TestStabilityAndDifference(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		d := drawParts(t)
		living, _ := plan.Make(parse(t, d.text()), plan.Where{}, station, nil)
		if living == nil {
			t.Skip("it does not plan")
		}
		edited := drawn{maps.Clone(d.networks), maps.Clone(d.groups)}
		touched := map[string]bool{}
		for range rapid.IntRange(1, 4).Draw(t, "edits") {
			switch name := rapid.SampledFrom([]string{"ga", "gb", "gc", "gz", "g0"}).Draw(t, "group"); rapid.IntRange(0, 2).Draw(t, "edit") {
			case 0:
				if len(edited.groups) > 1 && name != slices.Min(slices.Collect(maps.Keys(edited.groups))) {
					delete(edited.groups, name)
				}
			case 1:
				if g, is := edited.groups[name]; is {
					g.count = rapid.IntRange(1, 15).Draw(t, "new count")
					edited.groups[name] = g
				}
			case 2:
				if _, is := edited.groups[name]; !is && name != "g0" {
					edited.groups[name] = drawGroup(t, edited.networks)
					for network, place := range edited.groups[name].taps {
						if place != "auto" { // a place that the file fixes takes it from one that was chosen
							edited.groups[name].taps[network] = "auto"
						}
					}
					touched[name] = true
				}
			}
		}
		wanted, _ := plan.Make(parse(t, edited.text()), plan.Where{}, station, living)
		if wanted == nil {
			t.Skip("the edited one does not plan")
		}
		for _, n := range living.Nodes {
			now, there := wanted.Node(n.Name)
			if !there || touched[n.Group] {
				continue
			}
			for i, tap := range n.Taps {
				if d.groups[n.Group].taps[tap.Network] == "auto" && grew(d, edited, tap.Network) {
					continue // a fixed run that grew over it has the right of way
				}
				require.Equal(t, tap, now.Taps[i], n.Name)
			}
		}
		for _, n := range living.Networks {
			for _, now := range wanted.Networks {
				if n.Name == now.Name {
					require.Equal(t, n.Subnet, now.Subnet)
				}
			}
		}
		if living.Forwards[0].Node == wanted.Forwards[0].Node {
			require.Equal(t, living.Forwards, wanted.Forwards)
		}
		applied(t, living, wanted)
	})
}

// grew tells whether a group with a fixed place on the network grew.
func grew(before, after drawn, network string) bool {
	for name, g := range after.groups {
		if place := g.taps[network]; place != "" && place != "auto" && g.count > before.groups[name].count {
			return true
		}
	}
	return false
}

// applied applies the difference to the living plan's nodes, forwards and
// networks, and compares with the wanted ones.
func applied(t require.TestingT, living, wanted *plan.Plan) {
	nodes, forwards, networks := map[string]plan.Node{}, map[string]plan.Forward{}, map[string]plan.Network{}
	for _, n := range living.Nodes {
		nodes[n.Name] = n
	}
	for _, f := range living.Forwards {
		forwards[f.Name] = f
	}
	for _, n := range living.Networks {
		networks[n.Name] = n
	}
	for _, c := range plan.Difference(living, wanted) {
		switch {
		case c.Thing == plan.NodeT && c.Kind == plan.Goes:
			delete(nodes, c.Name)
		case c.Thing == plan.NodeT:
			nodes[c.Name], _ = wanted.Node(c.Name)
		case c.Thing == plan.ForwardT && c.Kind == plan.Goes:
			delete(forwards, c.Name)
		case c.Thing == plan.ForwardT:
			forwards[c.Name] = wanted.Forwards[slices.IndexFunc(wanted.Forwards, func(f plan.Forward) bool { return f.Name == c.Name })]
		case c.Thing == plan.NetworkT && c.Kind == plan.Goes:
			delete(networks, c.Name)
		case c.Thing == plan.NetworkT:
			networks[c.Name] = wanted.Networks[slices.IndexFunc(wanted.Networks, func(n plan.Network) bool { return n.Name == c.Name })]
		}
	}
	require.Len(t, nodes, len(wanted.Nodes))
	for _, n := range wanted.Nodes {
		have := nodes[n.Name]
		have.Count = n.Count // what its group counts is a fact for scripts, and nothing of the node
		require.Equal(t, n, have)
	}
	require.Len(t, forwards, len(wanted.Forwards))
	for _, f := range wanted.Forwards {
		require.Equal(t, f, forwards[f.Name])
	}
	require.Len(t, networks, len(wanted.Networks))
	for _, n := range wanted.Networks {
		require.Equal(t, n, networks[n.Name])
	}
}

func TestDifference(t *testing.T) {
	const before = "lab: x\nnetworks: {n: {subnet: 10.5.0.0/24}, m: {}}\ngroups:\n" +
		"  a: {count: 2, networks: {n: .10}, services: {s: {run: one}}}\n  b: {networks: {n: .20, m: auto}}\n  c: {networks: [m]}\n" +
		"forwards: {one: 7001 -> a-1:80, two: 7002 -> a-1:81, three: 7003 -> a-1:82}\n" +
		"steps: {first: {on: all, run: x}, second: {on: a, run: y}}\n"
	const after = "lab: x\nnetworks: {n: {subnet: 10.5.0.0/24}, k: {}}\ngroups:\n" +
		"  a: {count: 3, memory: 64M, networks: {n: .10}, services: {s: {run: two}}}\n  b: {networks: {n: .21, k: auto}}\n" +
		"forwards: {one: 7001 -> a-1:80, two: 7002 -> a-2:81, four: 7004 -> a-1:82}\n" +
		"steps: {first: {on: all, run: x}, second: {on: a, run: z}, third: {on: b, run: w}}\n"
	living, _ := mapped(t, before)
	wanted, _ := plan.Make(parse(t, after), plan.Where{}, station, living)
	require.NotNil(t, wanted)
	var got []string
	var lost []string
	for _, c := range plan.Losses(plan.Difference(living, wanted), func(node string) bool { return node != "c-1" }) {
		lost = append(lost, c.Name)
	}
	assert.Equal(t, []string{"b-1"}, lost, "c-1 goes, and was never made")
	for _, c := range plan.Difference(living, wanted) {
		got = append(got, strings.TrimSpace(fmt.Sprintf("%s %s %s: %s", c.Thing, c.Name, c.Kind, strings.Join(c.Why, "; "))))
	}
	assert.Equal(t, []string{
		"network k new:", "network m goes:",
		"node a-1 changes: 64 MiB of memory instead of 128 MiB; service s changes", "node a-2 changes: 64 MiB of memory instead of 128 MiB; service s changes",
		"node a-3 new:", "node b-1 made anew: its address on n is 10.5.0.21 instead of 10.5.0.20; it joins network k; it leaves network m", "node c-1 goes:",
		"forward two changes: to a-2:81 instead of a-1:81", "forward four new:", "forward three goes:",
		"step first is due: on a-3, b-1", "step second is due: on a-1, a-2, a-3; what it does is another", "step third is due: on b-1; it is new",
	}, got)
	// What stands on a step that changed is told, and how to do it again.
	steps := "lab: x\ngroups: {a: {count: 2}, b: {}}\nsteps: {first: {on: a, run: x}, second: {on: a-1, run: y}, third: {on: b, after: [first], run: z}, other: {on: b, run: w}}\n"
	old, _ := mapped(t, steps)
	changed, _ := mapped(t, strings.Replace(steps, "run: x", "run: xx", 1))
	difference := plan.Difference(old, changed)
	require.Len(t, difference, 1)
	assert.Equal(t, []string{"on a-1, a-2", "what it does is another", "second, third stands on what it did before; --from first does all again"}, difference[0].Why)
	assert.Empty(t, plan.Difference(living, living))
	for _, c := range plan.Difference(nil, living) {
		assert.Contains(t, []plan.ChangeKind{plan.New, plan.Due}, c.Kind)
	}
}

func TestFit(t *testing.T) {
	facts := workstation.Facts{Cores: 2, MemoryTotal: 4 << 30, MemoryAvailable: 1 << 30, DiskFree: 1 << 30,
		Labs: []workstation.Hold{{Lab: "other", MemoryLimit: 300 << 20, MemoryUsed: 100 << 20}, {Lab: "x", MemoryLimit: 900 << 20, MemoryUsed: 50 << 20}}}
	lab := parse(t, "lab: x\nnetworks: {n: {subnet: 10.5.0.0/28}, m: {}}\ngroups: {a: {count: 3, quorum: true, cpu: 1, memory: 99M, networks: [m]}, b: {networks: {n: .5}, memory: 16M}}\n")
	p, findings := plan.Make(lab, plan.Where{}, facts, nil)
	require.NotNil(t, p)
	assert.Equal(t, 1, findings.Count(labfile.Caution), "the disks") // 4 GiB of 1 GiB
	assert.Equal(t, labfile.Bytes(317<<20), p.Fit.Memory)
	assert.Equal(t, labfile.Bytes((1024+50-200)<<20), p.Fit.MemoryFree)
	assert.InDelta(t, 1.75, p.Fit.Load(), 1e-9)
	assert.Equal(t, "5 more; memory stops first", p.Fit.Rooms[0].String())
	assert.Equal(t, "9 more; n's range stops first", p.Fit.Rooms[1].String())
	require.Len(t, p.Quorums(), 1)
	assert.Equal(t, "1 of 3 may be lost; 5 would bear 2", p.Quorums()[0].String())
	assert.Equal(t, "1 of 4 may be lost, as with 3; 5 would bear 2", plan.Quorum{Group: "a", Count: 4, Bears: 1}.String())
	assert.Equal(t, "none of 1 may be lost; 3 would bear 1", plan.Quorum{Group: "a", Count: 1}.String())

	lab = parse(t, "lab: x\ngroups: {a: {memory: 2G}}\n")
	p, findings = plan.Make(lab, plan.Where{}, facts, nil)
	assert.Nil(t, p)
	assert.Contains(t, findings.Text("x", nil), "200 MiB more is promised to other labs")
}
