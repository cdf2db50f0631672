package rehearsal

import (
	"slices"
	"time"

	"kettlehole/internal/api"
	"kettlehole/internal/ledger"
	"kettlehole/internal/plan"
	"kettlehole/internal/schedule"
)

// Forecast is when a run that goes on will end.
type Forecast struct {
	Ends    time.Time
	Guessed int             // how many cells that are left nobody knows the time of
	Chain   []schedule.Cell // what keeps it that long, from the start of the run
}

// Ahead works out the end of the run that the state shows, from what is left
// to be done. identical says of a cell that has not begun that it will only be
// found done; may be nil.
func Ahead(g *schedule.Graph, times Times, s api.State, identical func(i int) bool) Forecast {
	p := s.Plan
	begin := s.Run.Started
	now := s.Now.Sub(begin)
	known := make([]schedule.Span, len(g.Cells))
	seen := Times{}
	for _, c := range s.Cells {
		i, is := g.Index(schedule.Cell{Step: c.Step, Node: c.Node})
		if !is {
			continue
		}
		span := schedule.Span{Begins: c.Started.Sub(begin), Ends: c.Ended.Sub(begin)}
		switch c.State {
		case api.Running:
			span.Stage = schedule.Begun
		case api.Done, api.Skipped:
			span.Stage = schedule.Done
			if c.Run == s.Run.N && !c.Ended.IsZero() {
				seen[c.Step] = append(seen[c.Step], Took(c))
			}
		case api.Reused:
			span = schedule.Span{Stage: schedule.Done}
		case api.Failed:
			span.Stage = schedule.Failed
		}
		known[i] = span
	}
	w := works(p, g, times, seen)
	ground, each, _ := times.raising()
	there := map[string]time.Duration{}
	left := time.Duration(0)
	steps := stepsOf(p)
	base := max(now, ground) + sharedLeft(p, g, known, w, now)
	for _, n := range s.Nodes {
		switch n.State {
		case api.Absent, api.Creating, api.Booting:
			left++
			there[n.Name] = base + left*each
		}
	}
	course := g.Course(schedule.Given{
		Now:    now,
		Node:   func(name string) time.Duration { return there[name] },
		AtOnce: func(name string) int { return steps[name].AtOnce },
		Known:  func(i int) schedule.Span { return known[i] },
		Act: func(i int) schedule.Act {
			if identical != nil && known[i].Stage == schedule.Unbegun && identical(i) {
				return schedule.Act{}
			}
			if steps[g.Cells[i].Step].Shared && known[i].Stage == schedule.Unbegun {
				return schedule.Act{}
			}
			return schedule.Act{Work: w.took[i].Work, Wait: w.took[i].Wait}
		},
	})
	f := Forecast{Ends: begin.Add(max(course.Ends, now))}
	for i := range g.Cells {
		if w.guessed[i] && known[i].Stage < schedule.Done && course.Spans[i].Stage != schedule.Unbegun && (identical == nil || !identical(i)) {
			f.Guessed++
		}
	}
	for _, i := range course.Chain {
		f.Chain = append(f.Chain, g.Cells[i])
	}
	return f
}

// sharedLeft is how long the shared step that is just done will still take.
func sharedLeft(p *plan.Plan, g *schedule.Graph, known []schedule.Span, w work, now time.Duration) time.Duration {
	left := time.Duration(0)
	for _, s := range p.Steps {
		for _, node := range s.Nodes {
			if i, _ := g.Index(schedule.Cell{Step: s.Name, Node: node}); s.Shared && known[i].Stage == schedule.Begun {
				left += max(known[i].Begins+w.took[i].Work-now, 0)
			}
		}
	}
	return left
}

// Took is how long a cell that is done took.
func Took(c api.Cell) ledger.Took {
	if c.Waiting.IsZero() {
		return ledger.Took{Work: c.Ended.Sub(c.Started)}
	}
	return ledger.Took{Work: c.Waiting.Sub(c.Started), Wait: c.Ended.Sub(c.Waiting)}
}

// Learn gathers from a run that ended how long things took in it, for later
// ones.
func Learn(s api.State) Times {
	times := Times{}
	if s.Plan == nil {
		return times
	}
	steps := stepsOf(s.Plan)
	for _, c := range s.Cells {
		node, is := s.Plan.Node(c.Node)
		if !is || c.State != api.Done || c.Run != s.Run.N || c.Ended.IsZero() || c.Ended.Before(c.Started) {
			continue
		}
		key := plan.Likeness(steps[c.Step], node)
		times[key] = append(times[key], Took(c))
	}
	// The nodes that were made in this run, one after the other.
	made, first, last, shared := time.Duration(0), time.Time{}, time.Time{}, time.Duration(0)
	for _, c := range s.Cells {
		if c.Layer != "" && c.State == api.Done && c.Run == s.Run.N {
			shared += c.Ended.Sub(c.Started)
		}
	}
	for _, n := range s.Nodes {
		var created, there time.Time
		for _, m := range n.Marks {
			switch m.State {
			case api.Creating:
				created = m.At
			case api.Provisioning:
				there = m.At
			}
		}
		if created.IsZero() || there.IsZero() {
			continue
		}
		made++
		if first.IsZero() || created.Before(first) {
			first = created
		}
		if there.After(last) {
			last = there
		}
	}
	if made > 0 {
		times[plan.GroundLikeness] = []ledger.Took{{Work: max(first.Sub(s.Run.Started)-shared, 0)}}
		times[plan.NodeLikeness] = []ledger.Took{{Work: last.Sub(first) / made}}
	}
	return times
}

// Traced is the chain that made the newest run of a state as long as it was:
// from the cell that ended last back to what let it begin, what it needs or,
// where only some may run at once, what ran in its place.
func Traced(s api.State) []schedule.Cell {
	if s.Plan == nil {
		return nil
	}
	g, _ := schedule.New(s.Plan)
	if g == nil {
		return nil
	}
	steps := stepsOf(s.Plan)
	cells := make([]*api.Cell, len(g.Cells))
	last := -1
	for at, c := range s.Cells {
		i, is := g.Index(schedule.Cell{Step: c.Step, Node: c.Node})
		if !is || c.Run != s.Run.N || c.State == api.Reused || c.Ended.IsZero() {
			continue
		}
		cells[i] = &s.Cells[at]
		if last < 0 || c.Ended.After(cells[last].Ended) {
			last = i
		}
	}
	var chain []schedule.Cell
	for i := last; i >= 0; {
		chain = append(chain, g.Cells[i])
		before := g.Needs(i)
		if steps[g.Cells[i].Step].AtOnce > 0 {
			before = append(before, g.SameStep(i)...)
		}
		next := -1
		for _, b := range before {
			if c := cells[b]; c != nil && c.Ended.Before(cells[i].Ended) && !c.Ended.After(cells[i].Started) && (next < 0 || c.Ended.After(cells[next].Ended)) {
				next = b
			}
		}
		i = next
	}
	slices.Reverse(chain)
	return chain
}
