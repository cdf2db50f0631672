package schedule_test

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kettlehole/internal/labfile"
	"kettlehole/internal/plan"
	"kettlehole/internal/schedule"
)

func demo() *plan.Plan {
	return &plan.Plan{Steps: []plan.Step{
		{Name: "prepare", Nodes: []string{"a-1", "a-2", "b-1"}},
		{Name: "found", Nodes: []string{"a-1"}, Gives: []labfile.Value{{Name: "ticket"}}},
		{Name: "join", Nodes: []string{"a-2"}, Takes: []string{"ticket"}},
		{Name: "door", Nodes: []string{"b-1"}, After: []string{"join"}},
	}}
}

func TestOrder(t *testing.T) {
	g, findings := schedule.New(demo())
	require.NotNil(t, g, findings)
	done := map[string]bool{}
	isDone := func(i int) bool { return done[g.Cells[i].String()] }
	var waves []string
	for range 10 {
		ready := g.Ready(isDone, isDone)
		if len(ready) == 0 {
			break
		}
		wave := ""
		for _, i := range ready {
			wave += g.Cells[i].String() + "; "
		}
		waves = append(waves, wave)
		for _, i := range ready {
			done[g.Cells[i].String()] = true
		}
	}
	assert.Equal(t, []string{"prepare on a-1; prepare on a-2; prepare on b-1; ", "found on a-1; ", "join on a-2; ", "door on b-1; "}, waves)
}

func TestWaits(t *testing.T) {
	g, _ := schedule.New(demo())
	at := func(step, node string) int {
		i, ok := g.Index(schedule.Cell{Step: step, Node: node})
		require.True(t, ok)
		return i
	}
	none := func(int) bool { return false }
	assert.Empty(t, g.Waits(at("prepare", "a-1"), none))
	assert.Equal(t, "ticket from a-1", g.Waits(at("join", "a-2"), none))
	assert.Equal(t, "join on a-2", g.Waits(at("door", "b-1"), none))
	assert.Equal(t, "prepare", g.Waits(at("found", "a-1"), none), "a step of the own lane is named alone")
}

func TestCircle(t *testing.T) {
	g, findings := schedule.New(&plan.Plan{Steps: []plan.Step{
		{Name: "one", Nodes: []string{"a-1"}, After: []string{"three"}},
		{Name: "two", Nodes: []string{"b-1"}, After: []string{"one"}},
		{Name: "three", Nodes: []string{"c-1"}, After: []string{"two"}},
	}})
	assert.Nil(t, g)
	require.Len(t, findings, 1)
	assert.Contains(t, findings[0].Message, "one on a-1 ← three on c-1 ← two on b-1 ← one on a-1")
	g, _ = schedule.New(&plan.Plan{Steps: []plan.Step{{Name: "one", Nodes: []string{"a-1"}, After: []string{"two"}}, {Name: "two", Nodes: []string{"a-1"}}}})
	assert.Nil(t, g, "a step after a later one of the same lane")
}

// drawPlan draws a plan whose steps come after earlier ones only.
func drawPlan(t *rapid.T) *plan.Plan {
	p := &plan.Plan{}
	for i := range rapid.IntRange(1, 7).Draw(t, "steps") {
		s := plan.Step{Name: fmt.Sprintf("s%d", i)}
		for n := range 3 {
			if rapid.Bool().Draw(t, "on") {
				s.Nodes = append(s.Nodes, fmt.Sprintf("n-%d", n+1))
			}
		}
		for j := range i {
			if rapid.IntRange(0, 3).Draw(t, "after") == 0 {
				s.After = append(s.After, fmt.Sprintf("s%d", j))
			}
		}
		p.Steps = append(p.Steps, s)
	}
	return p
}

// Run in waves, every cell runs once, none before what it needs; and the
// longest chain is as long as the longest of all chains that there are.
func TestProperties(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		g, findings := schedule.New(drawPlan(t))
		require.NotNil(t, g, findings)
		done := make([]bool, len(g.Cells))
		isDone := func(i int) bool { return done[i] }
		for ran := 0; ran < len(g.Cells); {
			ready := g.Ready(isDone, isDone)
			require.NotEmpty(t, ready, "cells are left that never start")
			for _, i := range ready {
				for _, need := range g.Needs(i) {
					require.True(t, done[need])
				}
			}
			for _, i := range ready {
				done[i] = true
			}
			ran += len(ready)
		}
		cost := make([]time.Duration, len(g.Cells))
		for i := range cost {
			cost[i] = time.Duration(rapid.IntRange(0, 9).Draw(t, "cost"))
		}
		chain, whole := g.Chain(func(i int) time.Duration { return cost[i] })
		var longest func(i int) time.Duration
		longest = func(i int) time.Duration {
			best := time.Duration(0)
			for _, need := range g.Needs(i) {
				best = max(best, longest(need))
			}
			return best + cost[i]
		}
		want, sum := time.Duration(0), time.Duration(0)
		for i := range g.Cells {
			want = max(want, longest(i))
		}
		require.Equal(t, want, whole)
		for at, i := range chain {
			sum += cost[i]
			if at > 0 {
				require.True(t, slices.Contains(g.Needs(i), chain[at-1]), "the chain is one")
			}
		}
		require.Equal(t, whole, sum)
	})
}
