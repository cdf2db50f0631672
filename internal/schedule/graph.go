// Package schedule is the order of a run: the graph of steps over nodes, what
// may start now, what a lane waits for, and the longest chain. It is pure.
package schedule

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"kettlehole/internal/labfile"
	"kettlehole/internal/plan"
)

// Cell is one step on one node.
type Cell struct {
	Step string `json:"step"`
	Node string `json:"node"`
}

func (c Cell) String() string { return c.Step + " on " + c.Node }

// Graph says which cells must be done before which. It is not changed once
// made and may be read by any number of goroutines.
type Graph struct {
	Cells []Cell
	needs [][]int // indices into Cells
	index map[Cell]int
	taken []map[int]string // for a needed cell, the value that is taken from it
}

// New builds the graph of a plan. Where steps wait for one another in a
// circle the graph is nil and the findings name the circle step by step.
func New(p *plan.Plan) (*Graph, labfile.Findings) {
	g := &Graph{index: map[Cell]int{}}
	steps := map[string]plan.Step{}
	giver := map[string]plan.Step{}
	for _, s := range p.Steps {
		steps[s.Name] = s
		for _, v := range s.Gives {
			giver[v.Name] = s
		}
		for _, node := range s.Nodes {
			g.index[Cell{s.Name, node}] = len(g.Cells)
			g.Cells = append(g.Cells, Cell{s.Name, node})
		}
	}
	g.needs = make([][]int, len(g.Cells))
	g.taken = make([]map[int]string, len(g.Cells))
	before := map[string]int{} // the last cell of each node so far
	at := 0
	for _, s := range p.Steps {
		for _, node := range s.Nodes {
			needs := map[int]bool{}
			if last, any := before[node]; any {
				needs[last] = true
			}
			for _, name := range s.After {
				for _, other := range steps[name].Nodes {
					needs[g.index[Cell{name, other}]] = true
				}
			}
			g.taken[at] = map[int]string{}
			for _, value := range s.Takes {
				for _, other := range giver[value].Nodes {
					need := g.index[Cell{giver[value].Name, other}]
					needs[need] = true
					g.taken[at][need] = value
				}
			}
			for need := range needs {
				g.needs[at] = append(g.needs[at], need)
			}
			slices.Sort(g.needs[at])
			before[node] = at
			at++
		}
	}
	if circle := g.circle(); circle != nil {
		var words []string
		for _, i := range circle {
			words = append(words, g.Cells[i].String())
		}
		return nil, labfile.Findings{{Message: "these steps wait for one another and none can ever start: " + strings.Join(words, " ← "),
			Remedy: "remove an after or a takes, or change the order of the steps in the file"}}
	}
	return g, nil
}

// circle finds cells that need one another, each the need of the one before,
// the first repeated at the end; nil where there are none.
func (g *Graph) circle() []int {
	state := make([]byte, len(g.Cells)) // 0 unseen, 1 on the path, 2 done
	var path []int
	var visit func(int) []int
	visit = func(i int) []int {
		state[i] = 1
		path = append(path, i)
		for _, need := range g.needs[i] {
			switch state[need] {
			case 1:
				return append(slices.Clone(path[slices.Index(path, need):]), need)
			case 0:
				if found := visit(need); found != nil {
					return found
				}
			}
		}
		path = path[:len(path)-1]
		state[i] = 2
		return nil
	}
	for i := range g.Cells {
		if state[i] == 0 {
			if found := visit(i); found != nil {
				return found
			}
		}
	}
	return nil
}

// Index gives the position of a cell in Cells.
func (g *Graph) Index(c Cell) (int, bool) {
	i, ok := g.index[c]
	return i, ok
}

// Needs gives the cells that must be done before the i-th.
func (g *Graph) Needs(i int) []int { return g.needs[i] }

// Ready lists the cells that may start: not yet begun, with all they need done.
func (g *Graph) Ready(begun, done func(i int) bool) []int {
	var ready []int
	for i := range g.Cells {
		if !begun(i) && !slices.ContainsFunc(g.needs[i], func(n int) bool { return !done(n) }) {
			ready = append(ready, i)
		}
	}
	return ready
}

// Waits says what keeps the i-th cell from starting, "" where nothing does. A
// cell of the node's own lane is named by its step alone.
func (g *Graph) Waits(i int, done func(i int) bool) string {
	for _, own := range []bool{false, true} {
		for _, n := range g.needs[i] {
			if done(n) || (g.Cells[n].Node == g.Cells[i].Node) != own {
				continue
			}
			if value := g.taken[i][n]; value != "" {
				return fmt.Sprintf("%s from %s", value, g.Cells[n].Node)
			}
			if own {
				return g.Cells[n].Step
			}
			return g.Cells[n].String()
		}
	}
	return ""
}

// Chain gives the longest chain of cells by the time each takes, first to
// last, and its whole time. cost must not be negative.
func (g *Graph) Chain(cost func(i int) time.Duration) ([]int, time.Duration) {
	ends := make([]time.Duration, len(g.Cells))
	from := make([]int, len(g.Cells))
	done := make([]bool, len(g.Cells))
	var visit func(int)
	visit = func(i int) {
		if done[i] {
			return
		}
		done[i], from[i] = true, -1
		var latest time.Duration
		for _, n := range g.needs[i] {
			visit(n)
			if ends[n] > latest || from[i] < 0 {
				latest, from[i] = ends[n], n
			}
		}
		ends[i] = latest + cost(i)
	}
	last := -1
	for i := range g.Cells {
		visit(i)
		if last < 0 || ends[i] > ends[last] {
			last = i
		}
	}
	if last < 0 {
		return nil, 0
	}
	var chain []int
	for i := last; i >= 0; i = from[i] {
		chain = append(chain, i)
	}
	slices.Reverse(chain)
	return chain, ends[last]
}
