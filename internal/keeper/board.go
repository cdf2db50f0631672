package keeper

import (
	"slices"
	"sync"
	"time"

	"kettlehole/internal/api"
	"kettlehole/internal/plan"
)

// board is the state that people look at. Whoever changes it wakes those who
// follow it. It is safe for concurrent use.
type board struct {
	mu      sync.Mutex
	state   api.State
	version int
	changed chan struct{} // closed and replaced at every change
	now     func() time.Time
}

func newBoard(lab string, now func() time.Time) *board {
	return &board{state: api.State{Lab: lab, Phase: api.PhaseMaking}, changed: make(chan struct{}), now: now}
}

// change lets do change the state.
func (b *board) change(do func(s *api.State)) {
	b.mu.Lock()
	defer b.mu.Unlock()
	do(&b.state)
	b.version++
	close(b.changed)
	b.changed = make(chan struct{})
}

// look gives a copy of the state, its version, and a channel that closes at
// the next change.
func (b *board) look() (api.State, int, <-chan struct{}) {
	b.mu.Lock()
	defer b.mu.Unlock()
	s := b.state
	s.Now = b.now()
	s.Nodes, s.Cells, s.Forwards, s.Fronts = slices.Clone(s.Nodes), slices.Clone(s.Cells), slices.Clone(s.Forwards), slices.Clone(s.Fronts)
	for i := range s.Nodes {
		s.Nodes[i].Marks = slices.Clone(s.Nodes[i].Marks)
		s.Nodes[i].Services = slices.Clone(s.Nodes[i].Services)
	}
	return s, b.version, b.changed
}

// next gives a channel that closes at the next change.
func (b *board) next() <-chan struct{} {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.changed
}

// away gives the nodes that do not live.
func (b *board) away() map[string]bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	all := map[string]bool{}
	for _, n := range b.state.Nodes {
		switch n.State {
		case api.Absent, api.Creating, api.Stopped, api.Lost:
			all[n.Name] = true
		}
	}
	return all
}

// lay puts a plan on the board, keeping what is known of its nodes.
func (b *board) lay(p *plan.Plan, file string) {
	b.change(func(s *api.State) {
		s.Plan, s.File, s.Error, s.Fault, s.Run = p, file, "", false, api.Run{}
		before := s.Nodes
		s.Nodes = nil
		for _, n := range p.Nodes {
			node := api.Node{Name: n.Name, State: api.Absent}
			if at := slices.IndexFunc(before, func(b api.Node) bool { return b.Name == n.Name }); at >= 0 {
				node = before[at]
			}
			s.Nodes = append(s.Nodes, node)
		}
	})
}

// node changes the state of one node.
func (b *board) node(name string, do func(n *api.Node)) {
	b.change(func(s *api.State) {
		if at := slices.IndexFunc(s.Nodes, func(n api.Node) bool { return n.Name == name }); at >= 0 {
			do(&s.Nodes[at])
		}
	})
}

// NodeIs records that a node came into a state.
func (b *board) NodeIs(name, state, reason string) {
	b.node(name, func(n *api.Node) {
		n.State, n.Reason = state, reason
		n.Marks = append(n.Marks, api.Mark{State: state, At: b.now()})
	})
}

// CellIs records the state of a step on a node.
func (b *board) CellIs(cell api.Cell) {
	b.change(func(s *api.State) {
		at := slices.IndexFunc(s.Cells, func(c api.Cell) bool { return c.Step == cell.Step && c.Node == cell.Node })
		if at < 0 {
			s.Cells = append(s.Cells, cell)
		} else {
			s.Cells[at] = cell
		}
	})
}
