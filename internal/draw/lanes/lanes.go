// Package lanes reads off a lab's state what every node did in a run, and
// when: the same for the screen and for paper.
package lanes

import (
	"slices"
	"time"

	"kettlehole/internal/api"
	"kettlehole/internal/draw"
	"kettlehole/internal/schedule"
)

// Of gives a lane for every node of the plan, and how long the run has taken
// so far.
func Of(s api.State) ([]draw.Lane, time.Duration) {
	if s.Plan == nil || s.Run.N == 0 {
		return nil, 0
	}
	begin, end := s.Run.Started, s.Now
	if !s.Run.Ended.IsZero() {
		end = s.Run.Ended
	}
	elapsed := max(end.Sub(begin), 0)
	chain := map[schedule.Cell]bool{}
	for _, c := range s.Run.Chain {
		chain[c] = true
	}
	steps := map[string]int{}
	for i, step := range s.Plan.Steps {
		steps[step.Name] = i
	}
	cells := map[string][]*api.Cell{} // of each node, by the step
	for i, c := range s.Cells {
		at, known := steps[c.Step]
		if !known {
			continue
		}
		if cells[c.Node] == nil {
			cells[c.Node] = make([]*api.Cell, len(s.Plan.Steps))
		}
		cells[c.Node][at] = &s.Cells[i]
	}
	nodes := map[string]api.Node{}
	for _, n := range s.Nodes {
		nodes[n.Name] = n
	}
	lanes := make([]draw.Lane, 0, len(s.Plan.Nodes))
	for _, planned := range s.Plan.Nodes {
		l := lane{begin: begin, elapsed: elapsed, going: s.Run.Outcome == ""}
		l.Name, l.Group, l.State = planned.Name, planned.Group, nodes[planned.Name].State
		l.making(nodes[planned.Name], s.Run.Doing)
		for _, c := range cells[planned.Name] {
			if c != nil {
				l.cell(*c, s.Run.N, chain[schedule.Cell{Step: c.Step, Node: c.Node}])
			}
		}
		l.rest()
		lanes = append(lanes, l.Lane)
	}
	return lanes, elapsed
}

// lane is one that is being put together.
type lane struct {
	draw.Lane
	begin   time.Time
	elapsed time.Duration
	going   bool
}

func (l *lane) add(kind draw.PieceKind, name, state string, from, until time.Duration, chain bool) {
	l.Pieces = append(l.Pieces, draw.Piece{Kind: kind, Name: name, State: state, From: from, Until: until, Chain: chain})
}

// making adds how the node was made in this run.
func (l *lane) making(n api.Node, doing string) {
	for i, m := range n.Marks {
		if m.State != api.Creating && m.State != api.Booting {
			continue
		}
		until := l.elapsed
		if i+1 < len(n.Marks) {
			until = n.Marks[i+1].At.Sub(l.begin)
		}
		l.add(draw.Making, m.State, m.State, m.At.Sub(l.begin), until, false)
	}
	if len(n.Marks) == 0 && l.going && doing != "" {
		l.Waits = doing
	}
}

// cell adds what a step did in this run.
func (l *lane) cell(c api.Cell, run int, chain bool) {
	switch {
	case c.State == api.Waiting:
		if l.Waits == "" && c.Reason != "" {
			l.Waits, l.Hindered = c.Reason, Hindered(c)
		}
		return
	case c.State == api.Reused && !c.Waiting.IsZero():
		// It was done before, and its wait is looked at again.
		until := l.elapsed
		if c.Ended.After(c.Waiting) {
			until = c.Ended.Sub(l.begin)
		}
		l.add(draw.Wait, c.Step, c.State, c.Waiting.Sub(l.begin), until, false)
		return
	case c.State == api.Reused, c.Run != run:
		return
	}
	from, until := c.Started.Sub(l.begin), l.elapsed
	if !c.Ended.IsZero() {
		until = c.Ended.Sub(l.begin)
	}
	worked := until
	if !c.Waiting.IsZero() {
		worked = min(max(c.Waiting.Sub(l.begin), from), until)
	}
	l.add(draw.Work, c.Step, c.State, from, worked, chain)
	if worked < until {
		l.add(draw.Wait, c.Step, c.State, worked, until, chain)
	}
}

// rest puts the pieces in order, since a step that is done once for all may be
// done before its nodes are made, and fills in the time in which the lane waits.
func (l *lane) rest() {
	slices.SortStableFunc(l.Pieces, func(a, b draw.Piece) int { return int(a.From - b.From) })
	var all []draw.Piece
	last := time.Duration(0)
	for _, p := range l.Pieces {
		if p.From > last {
			all = append(all, draw.Piece{Kind: draw.Idle, From: last, Until: p.From})
		}
		all = append(all, p)
		last = max(last, p.Until)
	}
	if l.going && l.Waits != "" && l.elapsed > last {
		all = append(all, draw.Piece{Kind: draw.Idle, From: last, Until: l.elapsed})
	}
	l.Pieces = all
}

// Hindered tells whether a cell cannot start in this run.
func Hindered(c api.Cell) bool { return c.State == api.Waiting && api.Hinders(c.Reason) }
