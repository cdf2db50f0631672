// Package schedule is the order of a run: the graph of steps over nodes, what
// may start now, what a lane waits for, the longest chain, and how a run would
// go in time. It is pure.
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
//
// The cells of a step stand together, and a cell that needs a step needs all
// of them, so that what is needed is kept by step and not by cell: its size
// grows with the cells, not with their square.
type Graph struct {
	Cells []Cell
	steps []step
	of    []int // the step of each cell, an index into steps
	lane  []int // the cell before on the same node, -1 for none
	order []int // all cells, each after what it needs
	index map[Cell]int
}

// step is the part of a graph that the cells of one step share.
type step struct {
	name        string
	first, past int            // its cells, indices into Cells
	needs       []int          // steps, indices into steps
	taken       map[int]string // for a needed step, the value that is taken from it
}

// New builds the graph of a plan. Where steps wait for one another in a
// circle the graph is nil and the findings name the circle step by step.
func New(p *plan.Plan) (*Graph, labfile.Findings) {
	g := &Graph{index: map[Cell]int{}}
	at := map[string]int{}
	giver := map[string]int{}
	before := map[string]int{} // the last cell of each node so far
	for i, s := range p.Steps {
		at[s.Name] = i
		for _, v := range s.Gives {
			giver[v.Name] = i
		}
		one := step{name: s.Name, first: len(g.Cells), taken: map[int]string{}}
		for _, node := range s.Nodes {
			c := Cell{s.Name, node}
			g.index[c] = len(g.Cells)
			last, any := before[node]
			if !any {
				last = -1
			}
			before[node] = len(g.Cells)
			g.Cells, g.of, g.lane = append(g.Cells, c), append(g.of, i), append(g.lane, last)
		}
		one.past = len(g.Cells)
		g.steps = append(g.steps, one)
	}
	for i, s := range p.Steps {
		one := &g.steps[i]
		for _, name := range s.After {
			one.needs = append(one.needs, at[name])
		}
		for _, value := range s.Takes {
			one.needs = append(one.needs, giver[value])
			one.taken[giver[value]] = value
		}
		slices.Sort(one.needs)
		one.needs = slices.Compact(one.needs)
	}
	if circle := g.sort(); circle != nil {
		var words []string
		for _, i := range circle {
			words = append(words, g.Cells[i].String())
		}
		return nil, labfile.Findings{{Message: "these steps wait for one another and none can ever start: " + strings.Join(words, " ← "),
			Remedy: "remove an after or a takes, or change the order of the steps in the file"}}
	}
	return g, nil
}

// sort fills in the order. Where there is none it gives cells that need one
// another, each the need of the one before, the first repeated at the end.
func (g *Graph) sort() []int {
	cells := len(g.Cells)
	state := make([]byte, cells+len(g.steps)) // of cells, then of steps: 0 unseen, 1 on the path, 2 done
	var path []int
	var visit func(int) []int
	visit = func(i int) []int {
		state[i] = 1
		path = append(path, i)
		for need := range g.edges(i) {
			switch state[need] {
			case 1:
				circle := append(slices.Clone(path[slices.Index(path, need):]), need)
				circle = slices.DeleteFunc(circle, func(i int) bool { return i >= cells })
				if need >= cells { // the circle was met at a step
					circle = append(circle, circle[0])
				}
				return circle
			case 0:
				if found := visit(need); found != nil {
					return found
				}
			}
		}
		path = path[:len(path)-1]
		state[i] = 2
		if i < cells {
			g.order = append(g.order, i)
		}
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

// edges gives what a cell, or a step behind the cells, needs directly.
func (g *Graph) edges(i int) func(yield func(int) bool) {
	return func(yield func(int) bool) {
		if i >= len(g.Cells) {
			s := g.steps[i-len(g.Cells)]
			for c := s.first; c < s.past; c++ {
				if !yield(c) {
					return
				}
			}
			return
		}
		if g.lane[i] >= 0 && !yield(g.lane[i]) {
			return
		}
		for _, need := range g.steps[g.of[i]].needs {
			if !yield(len(g.Cells) + need) {
				return
			}
		}
	}
}

// Index gives the position of a cell in Cells.
func (g *Graph) Index(c Cell) (int, bool) {
	i, ok := g.index[c]
	return i, ok
}

// Needs gives the cells that must be done before the i-th, in order.
func (g *Graph) Needs(i int) []int {
	var all []int
	if g.lane[i] >= 0 {
		all = append(all, g.lane[i])
	}
	for _, need := range g.steps[g.of[i]].needs {
		for c := g.steps[need].first; c < g.steps[need].past; c++ {
			all = append(all, c)
		}
	}
	slices.Sort(all)
	return slices.Compact(all)
}

// SameStep gives the cells of the i-th's step, itself among them.
func (g *Graph) SameStep(i int) []int {
	s := g.steps[g.of[i]]
	all := make([]int, 0, s.past-s.first)
	for c := s.first; c < s.past; c++ {
		all = append(all, c)
	}
	return all
}

// Following gives these cells and all that need them, in order.
func (g *Graph) Following(cells []int) []int {
	follows := make([]bool, len(g.Cells))
	for _, i := range cells {
		follows[i] = true
	}
	inStep := make([]bool, len(g.steps)) // whether one of its cells follows
	var all []int
	for _, i := range g.order {
		follows[i] = follows[i] || g.lane[i] >= 0 && follows[g.lane[i]] || slices.ContainsFunc(g.steps[g.of[i]].needs, func(s int) bool { return inStep[s] })
		if follows[i] {
			inStep[g.of[i]] = true
			all = append(all, i)
		}
	}
	slices.Sort(all)
	return all
}

// Ready lists the cells that may start: not yet begun, with all they need done.
func (g *Graph) Ready(begun, done func(i int) bool) []int {
	whole := make([]bool, len(g.steps))
	for i, s := range g.steps {
		whole[i] = true
		for c := s.first; c < s.past && whole[i]; c++ {
			whole[i] = done(c)
		}
	}
	var ready []int
	for i := range g.Cells {
		if begun(i) || g.lane[i] >= 0 && !done(g.lane[i]) {
			continue
		}
		if !slices.ContainsFunc(g.steps[g.of[i]].needs, func(s int) bool { return !whole[s] }) {
			ready = append(ready, i)
		}
	}
	return ready
}

// Waits says what keeps the i-th cell from starting, "" where nothing does. A
// cell of the node's own lane is named by its step alone.
func (g *Graph) Waits(i int, done func(i int) bool) string {
	own := ""
	one := g.steps[g.of[i]]
	for _, need := range one.needs {
		for c := g.steps[need].first; c < g.steps[need].past; c++ {
			switch value := one.taken[need]; {
			case done(c):
			case g.Cells[c].Node == g.Cells[i].Node:
				own = g.Cells[c].Step
			case value != "":
				return fmt.Sprintf("%s from %s", value, g.Cells[c].Node)
			default:
				return g.Cells[c].String()
			}
		}
	}
	if last := g.lane[i]; last >= 0 && !done(last) {
		own = g.Cells[last].Step
	}
	return own
}

// Blocked says for every cell what keeps it from ever starting, "" where
// nothing does. failed says that a cell failed, own what keeps a cell that has
// not begun from starting by itself; both give "" where nothing is wrong.
func (g *Graph) Blocked(failed, own func(i int) string) []string {
	all := make([]string, len(g.Cells))
	broken := make([]int, len(g.steps)) // a cell of the step that keeps others, plus one
	keeps := func(need int) string {
		if words := failed(need); words != "" || all[need] == "" {
			return words
		}
		return g.Cells[need].String() + ", and there " + all[need]
	}
	for _, i := range g.order {
		all[i] = own(i)
		if last := g.lane[i]; last >= 0 && all[i] == "" {
			all[i] = keeps(last)
		}
		for _, s := range g.steps[g.of[i]].needs {
			if all[i] == "" && broken[s] > 0 {
				all[i] = keeps(broken[s] - 1)
			}
		}
		if s := g.of[i]; broken[s] == 0 && (all[i] != "" || failed(i) != "") {
			broken[s] = i + 1
		}
	}
	return all
}

// Chain gives the longest chain of cells by the time each takes, first to
// last, and its whole time. cost must not be negative.
func (g *Graph) Chain(cost func(i int) time.Duration) ([]int, time.Duration) {
	ends := make([]time.Duration, len(g.Cells))
	from := make([]int, len(g.Cells))
	latest := make([]int, len(g.steps)) // the cell of the step that ends last, plus one
	last := -1
	for _, i := range g.order {
		from[i] = g.lane[i]
		for _, s := range g.steps[g.of[i]].needs {
			if c := latest[s] - 1; c >= 0 && (from[i] < 0 || ends[c] > ends[from[i]]) {
				from[i] = c
			}
		}
		if from[i] >= 0 {
			ends[i] = ends[from[i]]
		}
		ends[i] += cost(i)
		if s := g.of[i]; latest[s] == 0 || ends[i] > ends[latest[s]-1] {
			latest[s] = i + 1
		}
		if last < 0 || ends[i] > ends[last] || ends[i] == ends[last] && i < last {
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
