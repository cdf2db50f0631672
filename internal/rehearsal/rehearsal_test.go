package rehearsal_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kettlehole/internal/api"
	"kettlehole/internal/labfile"
	"kettlehole/internal/ledger"
	"kettlehole/internal/plan"
	"kettlehole/internal/rehearsal"
	"kettlehole/internal/schedule"
)

const desk = `
lab: desk
groups: {council: {count: 3, memory: 256M}, gate: {memory: 128M}}
steps:
  prepare: {on: all, run: prepare}
  found: {on: council-1, run: found >> $GIVES, gives: {ticket: secret}}
  join: {on: council-2.., takes: [ticket], run: join, at-once: 1, retry: {times: 1, pause: 4s}, wait: {port: 80}}
  door: {on: gate, after: [join], wait: {port: 80}}
`

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func planned(t testing.TB, text string) (*plan.Plan, *schedule.Graph) {
	lab, findings := labfile.Parse([]byte(text), nil)
	require.NotNil(t, lab, findings)
	p, findings := plan.Make(lab, plan.Where{}, rehearsal.Room, nil)
	require.NotNil(t, p, findings)
	g, findings := schedule.New(p)
	require.NotNil(t, g, findings)
	return p, g
}

// known is what is remembered of the desk: nodes after 1 s and 100 ms each.
func known(p *plan.Plan, works map[string]ledger.Took) rehearsal.Times {
	times := rehearsal.Times{plan.GroundLikeness: {{Work: time.Second}}, plan.NodeLikeness: {{Work: 100 * time.Millisecond}}}
	for _, s := range p.Steps {
		node, _ := p.Node(s.Nodes[0])
		times[plan.Likeness(s, node)] = []ledger.Took{works[s.Name]}
		for _, name := range s.Nodes {
			node, _ := p.Node(name)
			times[plan.Likeness(s, node)] = []ledger.Took{works[s.Name]}
		}
	}
	return times
}

func cellAt(t testing.TB, s api.State, step, node string) api.Cell {
	for _, c := range s.Cells {
		if c.Step == step && c.Node == node {
			return c
		}
	}
	require.Fail(t, "no such cell", "%s on %s", step, node)
	return api.Cell{}
}

var works = map[string]ledger.Took{"prepare": {Work: 2 * time.Second}, "found": {Work: 3 * time.Second}, "join": {Work: time.Second, Wait: 2 * time.Second}, "door": {Wait: 5 * time.Second}}

func TestRehearse(t *testing.T) {
	p, g := planned(t, desk)
	r, err := rehearsal.Rehearse(rehearsal.Request{Plan: p, Graph: g, Times: known(p, works), Start: noon})
	require.NoError(t, err)
	// council-1 is there after 1.1 s, prepares for 2, founds for 3; the two
	// others join one after the other, 3 s each; the door waits 5.
	assert.Equal(t, 1100*time.Millisecond+2*time.Second+3*time.Second+2*3*time.Second+5*time.Second, r.Took)
	assert.Empty(t, r.Guessed)
	assert.Equal(t, "[prepare on council-1 found on council-1 join on council-2 join on council-3 door on gate-1]", fmt.Sprint(r.Chain))
	assert.Equal(t, labfile.Bytes(3*256<<20+128<<20), r.Peak-r.Peak%(128<<20))
	assert.Equal(t, 1400*time.Millisecond, r.PeakAt)
	assert.Equal(t, api.OutcomeDone, r.State.Run.Outcome)
	join := cellAt(t, r.State, "join", "council-3")
	assert.Equal(t, noon.Add(9100*time.Millisecond), join.Started)
	assert.Equal(t, noon.Add(10100*time.Millisecond), join.Waiting)
	for _, n := range r.State.Nodes {
		assert.Equal(t, api.Ready, n.State, n.Name)
	}
	assert.Equal(t, r.Chain, rehearsal.Traced(r.State), "traced from its times, it is the same")
	blind, err := rehearsal.Rehearse(rehearsal.Request{Plan: p, Graph: g, Start: noon})
	require.NoError(t, err)
	assert.Equal(t, []string{"nodes", "prepare", "found", "join", "door"}, blind.Guessed)
}

func TestFaultsAndDrags(t *testing.T) {
	p, g := planned(t, desk)
	rehearse := func(fault int, factor float64) (rehearsal.Result, error) {
		want := rehearsal.Request{Plan: p, Graph: g, Times: known(p, works), Start: noon}
		cell := schedule.Cell{Step: "join", Node: "council-2"}
		if fault != 0 {
			want.Faults = []rehearsal.Fault{{Cell: cell, Times: fault}}
		}
		if factor != 0 {
			want.Drags = []rehearsal.Drag{{Cell: cell, Factor: factor}}
		}
		return rehearsal.Rehearse(want)
	}
	plain, err := rehearse(0, 0)
	require.NoError(t, err)
	slow, err := rehearse(0, 10)
	require.NoError(t, err)
	assert.Equal(t, plain.Took+27*time.Second, slow.Took)
	once, err := rehearse(1, 0)
	require.NoError(t, err)
	assert.Equal(t, plain.Took+5*time.Second, once.Took, "one more try, after its pause")
	assert.Equal(t, api.OutcomeDone, once.State.Run.Outcome)
	always, err := rehearse(-1, 0)
	require.NoError(t, err)
	assert.Equal(t, api.OutcomeFailed, always.State.Run.Outcome)
	broken := cellAt(t, always.State, "join", "council-2")
	assert.Equal(t, api.Failed, broken.State)
	assert.Contains(t, broken.Reason, "the last of 2 tries")
	assert.Equal(t, api.Done, cellAt(t, always.State, "join", "council-3").State, "others go on")
	assert.Equal(t, "join on council-2 failed", cellAt(t, always.State, "door", "gate-1").Reason)
	for _, c := range []schedule.Cell{{Step: "join", Node: "gate-1"}, {Step: "none", Node: "gate-1"}, {Step: "join", Node: "none-1"}} {
		_, err := rehearsal.Rehearse(rehearsal.Request{Plan: p, Graph: g, Faults: []rehearsal.Fault{{Cell: c, Times: 1}}})
		assert.Error(t, err, c)
		_, err = rehearsal.Rehearse(rehearsal.Request{Plan: p, Graph: g, Drags: []rehearsal.Drag{{Cell: c, Factor: 2}}})
		assert.Error(t, err, c)
	}
}

// What a run taught is what the next one is expected to take: cut anywhere, it
// is expected to end when it did.
func TestAhead(t *testing.T) {
	p, g := planned(t, desk)
	r, err := rehearsal.Rehearse(rehearsal.Request{Plan: p, Graph: g, Times: known(p, works), Start: noon})
	require.NoError(t, err)
	learned := rehearsal.Learn(r.State)
	assert.Equal(t, known(p, works)[plan.NodeLikeness], learned[plan.NodeLikeness])
	again, err := rehearsal.Rehearse(rehearsal.Request{Plan: p, Graph: g, Times: learned, Start: noon})
	require.NoError(t, err)
	assert.Equal(t, r.Took, again.Took)
	for at := time.Duration(0); at <= r.Took; at += 700 * time.Millisecond {
		f := rehearsal.Ahead(g, learned, cutAt(r.State, noon.Add(at)), nil)
		assert.Equal(t, noon.Add(r.Took), f.Ends, "at %v", at)
		assert.Zero(t, f.Guessed)
	}
	// Nothing is known: what this run has shown of the step on other nodes counts.
	early := rehearsal.Ahead(g, nil, cutAt(r.State, noon.Add(500*time.Millisecond)), nil)
	late := rehearsal.Ahead(g, nil, cutAt(r.State, noon.Add(9500*time.Millisecond)), nil)
	assert.Greater(t, early.Guessed, late.Guessed)
	reused := rehearsal.Ahead(g, learned, cutAt(r.State, noon.Add(2*time.Second)), func(int) bool { return true })
	assert.True(t, reused.Ends.Before(noon.Add(4*time.Second)), "what will be found done takes no time")
	assert.NotEmpty(t, early.Chain)
}

// cutAt is the state as it was at a moment.
func cutAt(s api.State, now time.Time) api.State {
	s.Now, s.Run.Ended, s.Run.Outcome = now, time.Time{}, ""
	cells := append([]api.Cell{}, s.Cells...)
	for i := range cells {
		switch c := &cells[i]; {
		case c.Started.After(now):
			*c = api.Cell{Step: c.Step, Node: c.Node, State: api.Waiting}
		case c.Ended.After(now):
			c.State, c.Ended = api.Running, time.Time{}
		}
	}
	nodes := append([]api.Node{}, s.Nodes...)
	for i := range nodes {
		nodes[i].State = api.Absent
		for _, m := range s.Nodes[i].Marks {
			if !m.At.After(now) {
				nodes[i].State = m.State
			}
		}
	}
	s.Cells, s.Nodes = cells, nodes
	return s
}

// A shared step is done once, before the nodes, and waits for none of them.
func TestRehearseShared(t *testing.T) {
	p, g := planned(t, "lab: x\ngroups: {a: {count: 3}, b: {cpu: 2}}\nsteps: {common: {on: all, shared: true, run: x}, tools: {on: a, shared: true, run: y}, own: {on: all, run: z}}\n")
	times := rehearsal.Times{plan.GroundLikeness: {{Work: time.Second}}, plan.NodeLikeness: {{Work: 100 * time.Millisecond}}}
	node, _ := p.Node("a-1")
	for i, took := range []time.Duration{4 * time.Second, 2 * time.Second, time.Second} {
		times[plan.Likeness(p.Steps[i], node)] = []ledger.Took{{Work: took}}
	}
	gate, _ := p.Node("b-1")
	times[plan.Likeness(p.Steps[2], gate)] = []ledger.Took{{Work: time.Second}}
	r, err := rehearsal.Rehearse(rehearsal.Request{Plan: p, Graph: g, Times: times, Start: noon})
	require.NoError(t, err)
	assert.Empty(t, r.Guessed)
	assert.Equal(t, 1*time.Second+400*time.Millisecond+6*time.Second+time.Second, r.Took)
	assert.Equal(t, api.Done, cellAt(t, r.State, "common", "a-1").State)
	assert.Equal(t, noon.Add(6*time.Second), cellAt(t, r.State, "tools", "a-1").Ended)
	assert.Equal(t, api.Reused, cellAt(t, r.State, "common", "b-1").State)
	learned := rehearsal.Learn(r.State)
	assert.Equal(t, times[plan.Likeness(p.Steps[0], node)], learned[plan.Likeness(p.Steps[0], node)])
}

func TestLearnOfNothing(t *testing.T) {
	assert.Empty(t, rehearsal.Learn(api.State{}))
	p, _ := planned(t, desk)
	s := api.State{Plan: p, Run: api.Run{N: 2}, Cells: []api.Cell{{Step: "found", Node: "council-1", State: api.Done, Run: 1, Started: noon, Ended: noon.Add(time.Second)},
		{Step: "found", Node: "gone-1", State: api.Done, Run: 2, Started: noon, Ended: noon.Add(time.Second)}, {Step: "prepare", Node: "gate-1", State: api.Failed, Run: 2, Started: noon, Ended: noon.Add(time.Second)}}}
	assert.Empty(t, rehearsal.Learn(s), "what another run did, what failed and what is gone teach nothing")
}

// BenchmarkRehearse goes through 100 steps on 500 nodes.
func BenchmarkRehearse(b *testing.B) {
	var text strings.Builder
	text.WriteString("lab: large\nnetworks: {n: {subnet: 10.0.0.0/16}}\ngroups: {node: {count: 500, memory: 16M}}\nsteps:\n")
	for i := range 100 {
		fmt.Fprintf(&text, "  s%d: {on: all, run: x%d", i, i)
		if i%10 == 9 {
			fmt.Fprintf(&text, ", after: [s%d]", i-5)
		}
		text.WriteString("}\n")
	}
	p, g := planned(b, text.String())
	b.ReportAllocs()
	for b.Loop() {
		r, err := rehearsal.Rehearse(rehearsal.Request{Plan: p, Graph: g, Start: noon})
		if err != nil || len(r.State.Cells) != 50_000 {
			b.Fatal(err)
		}
	}
}
