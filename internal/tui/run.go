package tui

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"kettlehole/internal/api"
	"kettlehole/internal/draw"
	"kettlehole/internal/draw/lanes"
	"kettlehole/internal/plan"
	"kettlehole/internal/schedule"
	"kettlehole/internal/tui/cell"
)

// runView shows a run: a lane for each node on one time axis, and below it the
// output of the chosen cell. It shows the newest run, an earlier one, or a
// rehearsal.
type runView struct {
	past   *api.State // what is looked at in place of the newest run
	node   string     // the chosen node, "" for a folded group
	group  string     // of the chosen lane
	step   string     // the chosen step
	moved  bool       // whether a person chose; else the view follows what happens
	whole  bool       // output has the whole screen
	beside bool       // the same step on other nodes stands beside it
	back   int        // lines that the output is scrolled back
	search search
	open   map[string]bool // groups that a person unfolded, or folded
	rows   int             // rows of a lane when last drawn
	top    int             // the first lane in sight
	lanes  []runLane       // when last drawn
}

var _ view = (*runView)(nil)

func (*runView) name() string { return "run" }

const (
	laneLabel = 31 // columns before the time axis
	laneTop   = 3  // rows above the first lane
)

// state is what the view shows.
func (v *runView) state(w *world) *api.State {
	if v.past != nil {
		return v.past
	}
	return &w.state
}

// shows tells whether there is a run to look at.
func (v *runView) shows(w *world) bool {
	return v.past != nil || w.lives() && w.state.Run.N > 0
}

func (v *runView) elapsed(w *world) time.Duration {
	if v.past != nil {
		return v.past.Run.Ended.Sub(v.past.Run.Started)
	}
	return w.elapsed()
}

// going tells whether the run that is shown goes on.
func (v *runView) going(w *world) bool { return v.past == nil && w.running() }

// cells gives the cells of a node in the order of the plan's steps.
func cells(s *api.State, node string) []api.Cell {
	var all []api.Cell
	if s.Plan == nil {
		return nil
	}
	for _, step := range s.Plan.Steps {
		at := slices.IndexFunc(s.Cells, func(c api.Cell) bool { return c.Node == node && c.Step == step.Name })
		if at >= 0 {
			all = append(all, s.Cells[at])
		}
	}
	return all
}

// cell gives the chosen cell. Until a person chooses, it is one that failed,
// or else the one that began last. Of a folded group there is none.
func (v *runView) cell(w *world) (api.Cell, bool) {
	s := v.state(w)
	if s.Plan == nil || len(s.Plan.Nodes) == 0 {
		return api.Cell{}, false
	}
	if !v.moved {
		best := -1
		for i, c := range s.Cells {
			if c.State == api.Failed {
				best = i
				break
			}
			if !c.Started.IsZero() && c.Run == s.Run.N && (best < 0 || c.Started.After(s.Cells[best].Started)) {
				best = i
			}
		}
		if best >= 0 {
			v.step, v.node = s.Cells[best].Step, s.Cells[best].Node
		}
	}
	if v.node == "" && v.group != "" {
		return api.Cell{}, false
	}
	planned, known := s.Plan.Node(v.node)
	if !known {
		planned = s.Plan.Nodes[0]
	}
	v.node, v.group = planned.Name, planned.Group
	of := cells(s, v.node)
	at := slices.IndexFunc(of, func(c api.Cell) bool { return c.Step == v.step })
	if at < 0 && len(of) > 0 {
		at = 0
		v.step = of[0].Step
	}
	if at < 0 {
		return api.Cell{Node: v.node}, true
	}
	return of[at], true
}

func (v *runView) draw(w *world, g *cell.Grid) {
	if !v.shows(w) {
		v.drawNothing(w, g)
		return
	}
	chosen, one := v.cell(w)
	if v.whole && one {
		v.drawOutput(w, g, chosen, g.Width)
		return
	}
	now := *v.state(w)
	if v.going(w) {
		now.Now = now.Run.Started.Add(v.elapsed(w)) // states come when something changes
	}
	all, elapsed := lanes.Of(now)
	room := g.Height * 6 / 10
	v.lay(all, room)
	shown := min(len(v.lanes), max((room-laneTop-2)/v.rows, 3))
	at := v.chosenLane()
	v.top = max(min(min(max(v.top, at-shown+1), at), len(v.lanes)-shown), 0)
	axis := draw.NewAxis(g.Width-laneLabel-2, v.span(w, elapsed))
	v.drawAxis(w, g, axis, elapsed, shown)
	for i, l := range v.lanes[v.top : v.top+shown] {
		v.drawLane(w, g, axis, laneTop+i*v.rows, l, v.top+i == at)
	}
	y := laneTop + shown*v.rows
	v.drawSummary(w, g, y, shown)
	g.Line(0, y+1, g.Width, w.faint(), "─")
	below := cell.New(g.Width, g.Height-y-2)
	switch side := 46; {
	case !one:
		v.drawGroup(w, below)
	case v.beside:
		v.drawBeside(w, below, chosen)
	case g.Width < 110:
		v.drawOutput(w, below, chosen, g.Width)
	default:
		v.drawOutput(w, below, chosen, g.Width-side)
		v.drawAbout(w, below, chosen, g.Width-side)
	}
	g.Draw(0, y+2, below)
}

// span is the time that the axis shows: what passed, and what is expected.
func (v *runView) span(w *world, elapsed time.Duration) time.Duration {
	if run := v.state(w).Run; v.going(w) && !run.Expected.IsZero() {
		return max(elapsed, run.Expected.Sub(run.Started))
	}
	return elapsed
}

func (v *runView) drawNothing(w *world, g *cell.Grid) {
	if w.state.Phase == api.PhaseGone {
		g.Text(2, 1, w.text().Strong(), "The lab is gone.")
	} else {
		g.Text(2, 1, w.text().Strong(), "Nothing has run yet.")
	}
	x := g.Text(2, 3, w.key(), "p")
	if w.file == "" {
		g.Text(x, 3, w.dim(), " provisions an open lab file; none is open")
		return
	}
	g.Text(x, 3, w.dim(), " provisions "+filepath.Base(w.file))
	x = g.Text(2, 4, w.key(), "r")
	g.Text(x, 4, w.dim(), " rehearses it in virtual time; nothing is made")
}

// drawSummary says in words how the run goes.
func (v *runView) drawSummary(w *world, g *cell.Grid, y, shown int) {
	s := v.state(w)
	counts := map[string]int{}
	for _, c := range s.Cells {
		counts[c.State]++
	}
	x := 1
	if hidden := len(v.lanes) - shown; hidden > 0 {
		x = g.Text(x, y, w.dim(), fmt.Sprintf("%d of %d lanes, ↑↓ shows the others", shown, len(v.lanes))) + 3
	}
	settled := counts[api.Done] + counts[api.Reused] + counts[api.Skipped]
	x = g.Text(x, y, w.dim(), fmt.Sprintf("%d of %d steps done", settled, len(s.Cells)))
	if n := counts[api.Reused]; n > 0 {
		x = g.Text(x, y, w.dim(), fmt.Sprintf(", %d of them reused", n))
	}
	if n := counts[api.Skipped]; n > 0 {
		x = g.Text(x, y, cell.Fore(w.theme.Ochre), fmt.Sprintf(", %d skipped", n))
	}
	if n := counts[api.Running]; n > 0 {
		x = g.Text(x+3, y, cell.Fore(w.theme.Motion), fmt.Sprintf("%d running", n))
	}
	if n := counts[api.Failed]; n > 0 {
		x = g.Text(x+3, y, cell.Fore(w.theme.Brick), fmt.Sprintf("%d failed", n))
	}
	if words, style := v.outcome(w); words != "" {
		x = g.Text(x+3, y, style, words)
	}
	if chain := chainWords(s.Run.Chain); chain != "" && x+20 < g.Width {
		x = g.Text(x+3, y, w.dim(), "█ longest chain ")
		g.Clip(x, y, g.Width-x-1, w.dim(), chain)
	}
}

// outcome says how the run ended, or when it will.
func (v *runView) outcome(w *world) (string, cell.Style) {
	run := v.state(w).Run
	took := v.elapsed(w).Seconds()
	switch {
	case run.Rehearsed && run.Outcome == api.OutcomeDone:
		return fmt.Sprintf("rehearsed: done after %.1f s; nothing was made", took), cell.Fore(w.theme.Moss)
	case run.Rehearsed:
		return fmt.Sprintf("rehearsed: %s after %.1f s; nothing was made", run.Outcome, took), cell.Fore(w.theme.Brick)
	case run.Outcome == api.OutcomeDone:
		return fmt.Sprintf("run %d done after %.1f s", run.N, took), cell.Fore(w.theme.Moss)
	case run.Outcome != "":
		return fmt.Sprintf("run %d %s after %.1f s", run.N, run.Outcome, took), cell.Fore(w.theme.Brick)
	}
	return ahead(run, v.elapsed(w)), w.dim()
}

// ahead says when a run that goes on is expected to end.
func ahead(run api.Run, elapsed time.Duration) string {
	if run.Expected.IsZero() {
		return ""
	}
	left := max(run.Expected.Sub(run.Started)-elapsed, 0)
	words := fmt.Sprintf("about %.0f s more", left.Seconds())
	if left < 10*time.Second {
		words = fmt.Sprintf("about %.1f s more", left.Seconds())
	}
	if run.Guessed > 0 {
		words += fmt.Sprintf(", with %s never seen here", count(run.Guessed, "step"))
	}
	return words
}

// chainWords names a chain, node by node: "council-1: prepare, found → gate-1:
// door".
func chainWords(chain []schedule.Cell) string {
	var b strings.Builder
	last := ""
	for _, c := range chain {
		switch {
		case c.Node == last:
			b.WriteString(", " + c.Step)
		case last == "":
			b.WriteString(c.Node + ": " + c.Step)
		default:
			b.WriteString(" → " + c.Node + ": " + c.Step)
		}
		last = c.Node
	}
	return b.String()
}

// planned gives the step of a cell.
func (v *runView) planned(w *world, c api.Cell) (plan.Step, bool) {
	s := v.state(w)
	if s.Plan == nil {
		return plan.Step{}, false
	}
	at := slices.IndexFunc(s.Plan.Steps, func(s plan.Step) bool { return s.Name == c.Step })
	if at < 0 {
		return plan.Step{}, false
	}
	return s.Plan.Steps[at], true
}

// source is the file that holds the cell's script.
func (v *runView) source(w *world, c api.Cell) string {
	if s, ok := v.planned(w, c); ok && s.Source != "" {
		return s.Source
	}
	return filepath.Base(v.state(w).File)
}

func (v *runView) wheel(_ *App, lines int) { v.back -= lines }
