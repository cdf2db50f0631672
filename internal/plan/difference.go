package plan

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"kettlehole/internal/labfile"
)

// ChangeKind says what happens to a thing between two plans.
type ChangeKind string

// What may happen to a thing. What stays as it is has no Change.
const (
	New     ChangeKind = "new"
	Changes ChangeKind = "changes"   // in place
	Anew    ChangeKind = "made anew" // what it holds is lost
	Goes    ChangeKind = "goes"      // what it holds is lost
	Due     ChangeKind = "is due"    // a step
)

// Thing is what a [Change] is about.
type Thing string

// The things of a plan.
const (
	NetworkT Thing = "network"
	NodeT    Thing = "node"
	FrontT   Thing = "front"
	ForwardT Thing = "forward"
	StepT    Thing = "step"
)

// Change is one difference between how a lab lives and what its file says.
type Change struct {
	Thing Thing      `json:"thing"`
	Name  string     `json:"name"`
	Kind  ChangeKind `json:"kind"`
	Why   []string   `json:"why,omitempty"`
}

// Losses are those of the changes after which something is gone that a person
// may want: what is on a node that was made and goes, or is made anew.
func Losses(changes []Change, made func(node string) bool) []Change {
	var all []Change
	for _, c := range changes {
		if c.Thing == NodeT && (c.Kind == Goes || c.Kind == Anew) && made(c.Name) {
			all = append(all, c)
		}
	}
	return all
}

// Difference lists what must happen to a lab that lives by one plan so that it
// lives by another: networks, nodes, fronts, forwards, steps, each in the order of the
// wanted plan, what goes at the end. living may be nil, for a lab that does not
// live.
func Difference(living, wanted *Plan) []Change {
	if living == nil {
		living = &Plan{}
	}
	var all []Change
	networks := compare(living.Networks, wanted.Networks, func(n Network) string { return n.Name }, func(a, b Network) (ChangeKind, []string) {
		if a, b := Words(a.Ranges()), Words(b.Ranges()); a != b {
			return Changes, []string{fmt.Sprintf("its range is %s instead of %s", b, a)}
		}
		return "", nil
	})
	all = add(all, NetworkT, networks)
	all = add(all, NodeT, compare(living.Nodes, wanted.Nodes, func(n Node) string { return n.Name }, func(a, b Node) (ChangeKind, []string) {
		return nodeChange(a, b, sharedChange(living, wanted, a.Name))
	}))
	all = add(all, FrontT, compare(living.Fronts, wanted.Fronts, func(f Front) string { return f.Name }, func(a, b Front) (ChangeKind, []string) {
		var why []string
		if a.Address != b.Address || a.Port != b.Port {
			why = append(why, fmt.Sprintf("it answers on %s instead of %s", netip.AddrPortFrom(b.Address.Addr(), b.Port), netip.AddrPortFrom(a.Address.Addr(), a.Port)))
		}
		if !slices.Equal(a.Members, b.Members) {
			why = append(why, fmt.Sprintf("it leads to %d nodes instead of %d, or to another port", len(b.Members), len(a.Members)))
		}
		if a.HealthPort != b.HealthPort || a.HealthPath != b.HealthPath {
			why = append(why, "how the health of its nodes is told")
		}
		return Changes, why
	}))
	all = add(all, ForwardT, compare(living.Forwards, wanted.Forwards, func(f Forward) string { return f.Name }, func(a, b Forward) (ChangeKind, []string) {
		var why []string
		if a.Listen != b.Listen {
			why = append(why, fmt.Sprintf("from %s instead of %s", b.Listen, a.Listen))
		}
		if a.Node != b.Node || a.NodePort != b.NodePort {
			why = append(why, fmt.Sprintf("to %s:%d instead of %s:%d", b.Node, b.NodePort, a.Node, a.NodePort))
		}
		return Changes, why
	}))
	return append(all, stepChanges(living, wanted, all)...)
}

func add(all []Change, thing Thing, changes []Change) []Change {
	for _, c := range changes {
		c.Thing = thing
		all = append(all, c)
	}
	return all
}

// compare finds what is new, different or gone among named things. change says
// how two of the same name differ; no reasons mean that they do not.
func compare[T any](before, after []T, name func(T) string, change func(a, b T) (ChangeKind, []string)) []Change {
	old := map[string]T{}
	for _, thing := range before {
		old[name(thing)] = thing
	}
	var changes []Change
	for _, thing := range after {
		was, lived := old[name(thing)]
		delete(old, name(thing))
		if !lived {
			changes = append(changes, Change{Name: name(thing), Kind: New})
		} else if kind, why := change(was, thing); len(why) > 0 {
			changes = append(changes, Change{Name: name(thing), Kind: kind, Why: why})
		}
	}
	for _, thing := range before {
		if _, goes := old[name(thing)]; goes {
			changes = append(changes, Change{Name: name(thing), Kind: Goes})
		}
	}
	return changes
}

// Words names ranges or addresses: "10.61.0.11 and fd61::11".
func Words[T fmt.Stringer](all []T) string {
	var texts []string
	for _, one := range all {
		texts = append(texts, one.String())
	}
	return strings.Join(texts, " and ")
}

// sharedChange says which shared steps of a node are other ones now.
func sharedChange(living, wanted *Plan, node string) []string {
	was, before := living.shares(node)
	is, now := wanted.shares(node)
	for i := range max(len(was), len(is)) {
		switch {
		case i >= len(is):
			return []string{"it lies on shared step " + was[i] + " no more"}
		case i >= len(was) || before[i] != now[i] && was[i] != is[i]:
			return []string{"it comes to lie on shared step " + is[i]}
		case before[i] != now[i]:
			return []string{"shared step " + is[i] + " changed"}
		}
	}
	return nil
}

// nodeChange compares two nodes. anew says why it must be made anew already.
func nodeChange(a, b Node, anew []string) (ChangeKind, []string) {
	var why []string
	if a.Image != b.Image {
		anew = append(anew, fmt.Sprintf("it starts as image %s instead of %s", b.Image, a.Image))
	}
	for _, tap := range b.Taps {
		at := slices.IndexFunc(a.Taps, func(t Tap) bool { return t.Network == tap.Network })
		switch {
		case at < 0:
			anew = append(anew, "it joins network "+tap.Network)
		case a.Taps[at].Address != tap.Address || a.Taps[at].Address6 != tap.Address6:
			anew = append(anew, fmt.Sprintf("its address on %s is %s instead of %s", tap.Network, Words(tap.Addresses()), Words(a.Taps[at].Addresses())))
		}
	}
	for _, tap := range a.Taps {
		if !slices.ContainsFunc(b.Taps, func(t Tap) bool { return t.Network == tap.Network }) {
			anew = append(anew, "it leaves network "+tap.Network)
		}
	}
	for _, tap := range b.Taps {
		if at := slices.IndexFunc(a.Taps, func(t Tap) bool { return t.Network == tap.Network }); anew == nil && at >= 0 && (a.Taps[at].Gateway != tap.Gateway || a.Taps[at].Gateway6 != tap.Gateway6) {
			anew = append(anew, "its way out is another")
		}
	}
	if anew == nil && !same(a.Taps, b.Taps) {
		anew = append(anew, "the order of its networks is another")
	}
	if anew != nil {
		return Anew, anew
	}
	if a.CPU != b.CPU {
		why = append(why, fmt.Sprintf("%s cores instead of %s", b.CPU, a.CPU))
	}
	if a.Memory != b.Memory {
		why = append(why, fmt.Sprintf("%s of memory instead of %s", b.Memory, a.Memory))
	}
	for _, c := range compare(a.Services, b.Services, func(s labfile.Service) string { return s.Name }, func(a, b labfile.Service) (ChangeKind, []string) {
		if a.Run != b.Run {
			return Changes, []string{"what it runs"}
		}
		return "", nil
	}) {
		why = append(why, fmt.Sprintf("service %s %s", c.Name, c.Kind))
	}
	return Changes, why
}

func same(a, b any) bool {
	x, errX := json.Marshal(a)
	y, errY := json.Marshal(b)
	return errX == nil && errY == nil && string(x) == string(y)
}

// stepChanges says which steps are due where, so far as the plans tell: the
// values that steps take are known only when they run.
func stepChanges(living, wanted *Plan, before []Change) []Change {
	fresh := map[string]bool{} // nodes on which nothing is done yet
	for _, c := range before {
		if c.Thing == NodeT && (c.Kind == New || c.Kind == Anew) {
			fresh[c.Name] = true
		}
	}
	var all []Change
	for _, s := range wanted.Steps {
		at := slices.IndexFunc(living.Steps, func(old Step) bool { return old.Name == s.Name })
		var due []string
		reason := ""
		switch {
		case at < 0:
			due, reason = s.Nodes, "it is new"
		case !same(essence(living.Steps[at]), essence(s)):
			due, reason = s.Nodes, "what it does is another"
		default:
			for _, node := range s.Nodes {
				if fresh[node] || !slices.Contains(living.Steps[at].Nodes, node) {
					due = append(due, node)
				}
			}
		}
		if len(due) == 0 || s.Shared && reason == "" {
			continue // what is shared is there when a new node is
		}
		change := Change{Thing: StepT, Name: s.Name, Kind: Due, Why: []string{"on " + strings.Join(due, ", ")}}
		if reason != "" && len(living.Nodes) > 0 {
			change.Why = append(change.Why, reason)
		}
		if at >= 0 && !s.Shared && reason != "" {
			if on := builtOn(living, wanted, s, fresh); len(on) > 0 {
				change.Why = append(change.Why, fmt.Sprintf("%s stands on what it did before; --from %s does all again", strings.Join(on, ", "), s.Name))
			}
		}
		all = append(all, change)
	}
	return all
}

// builtOn lists the steps that were done after a step, on a node of it or
// because of it, and that nothing makes due again.
func builtOn(living, wanted *Plan, s Step, fresh map[string]bool) []string {
	var on []string
	later := false
	for _, other := range wanted.Steps {
		if other.Name == s.Name {
			later = true
			continue
		}
		at := slices.IndexFunc(living.Steps, func(old Step) bool { return old.Name == other.Name })
		if at < 0 || !same(essence(living.Steps[at]), essence(other)) {
			continue
		}
		follows := slices.Contains(other.After, s.Name) || slices.ContainsFunc(s.Gives, func(v labfile.Value) bool { return slices.Contains(other.Takes, v.Name) })
		shares := later && slices.ContainsFunc(other.Nodes, func(node string) bool { return slices.Contains(s.Nodes, node) && !fresh[node] })
		if follows || shares {
			on = append(on, other.Name)
		}
	}
	return on
}

// essence is what a step does, without where.
func essence(s Step) Step {
	s.Nodes, s.After, s.AtOnce, s.Retry, s.Limit = nil, nil, 0, nil, 0
	return s
}
