package tui

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"kettlehole/internal/api"
	"kettlehole/internal/draw"
	"kettlehole/internal/plan"
	"kettlehole/internal/tui/cell"
)

// runView shows the newest run: a lane for each node on one time axis, and
// below it the output of the chosen cell.
type runView struct {
	lanes list   // the chosen node
	step  string // the chosen step
	moved bool   // whether a person chose; else the view follows what happens
	whole bool   // output has the whole screen
	back  int    // lines that the output is scrolled back
	rows  int    // rows of a lane when last drawn
}

var _ view = (*runView)(nil)

func (*runView) name() string { return "run" }

const (
	laneLabel = 31 // columns before the time axis
	laneTop   = 3  // rows above the first lane
)

// cells gives the cells of a node in the order of the plan's steps.
func cells(w *world, node string) []api.Cell {
	var all []api.Cell
	if w.state.Plan == nil {
		return nil
	}
	for _, s := range w.state.Plan.Steps {
		at := slices.IndexFunc(w.state.Cells, func(c api.Cell) bool { return c.Node == node && c.Step == s.Name })
		if at >= 0 {
			all = append(all, w.state.Cells[at])
		}
	}
	return all
}

// cell gives the chosen cell. Until a person chooses, it is one that failed,
// or else the one that began last.
func (v *runView) cell(w *world) (api.Cell, bool) {
	if w.state.Plan == nil || len(w.state.Plan.Nodes) == 0 {
		return api.Cell{}, false
	}
	if !v.moved {
		best := -1
		for i, c := range w.state.Cells {
			if c.State == api.Failed {
				best = i
				break
			}
			if !c.Started.IsZero() && (best < 0 || c.Started.After(w.state.Cells[best].Started)) {
				best = i
			}
		}
		if best >= 0 {
			c := w.state.Cells[best]
			v.step = c.Step
			v.lanes.chosen = slices.IndexFunc(w.state.Plan.Nodes, func(n plan.Node) bool { return n.Name == c.Node })
		}
	}
	v.lanes.move(0, len(w.state.Plan.Nodes))
	node := w.state.Plan.Nodes[v.lanes.chosen].Name
	of := cells(w, node)
	at := slices.IndexFunc(of, func(c api.Cell) bool { return c.Step == v.step })
	if at < 0 && len(of) > 0 {
		at = 0
		v.step = of[0].Step
	}
	if at < 0 {
		return api.Cell{Node: node}, true
	}
	return of[at], true
}

func (v *runView) draw(w *world, g *cell.Grid) {
	if !w.lives() || w.state.Run.N == 0 {
		v.drawNothing(w, g)
		return
	}
	chosen, _ := v.cell(w)
	nodes := w.state.Plan.Nodes
	if v.whole {
		v.drawOutput(w, g, chosen, g.Width)
		return
	}
	v.rows = 2
	room := g.Height * 6 / 10
	if len(nodes)*2+laneTop+2 > room {
		v.rows = 1
	}
	shown := min(len(nodes), max((room-laneTop-2)/v.rows, 3))
	v.lanes.fit(len(nodes), shown)
	axis := draw.NewAxis(g.Width-laneLabel-2, w.elapsed())
	v.drawAxis(w, g, axis)
	for i, n := range nodes[v.lanes.top : v.lanes.top+shown] {
		v.drawLane(w, g, axis, laneTop+i*v.rows, n.Name, v.lanes.top+i == v.lanes.chosen)
	}
	y := laneTop + shown*v.rows
	if hidden := len(nodes) - shown; hidden > 0 {
		g.Text(1, y, w.dim(), fmt.Sprintf("%d of %d lanes; ↑↓ shows the others", shown, len(nodes)))
	} else {
		v.drawSummary(w, g, y)
	}
	g.Line(0, y+1, g.Width, w.faint(), "─")
	below := cell.New(g.Width, g.Height-y-2)
	side := 46
	if g.Width < 110 {
		side = 0
	}
	v.drawOutput(w, below, chosen, g.Width-side)
	if side > 0 {
		v.drawAbout(w, below, chosen, g.Width-side)
	}
	g.Draw(0, y+2, below)
}

func (v *runView) drawNothing(w *world, g *cell.Grid) {
	g.Text(2, 1, w.text().Strong(), "Nothing has run yet.")
	if w.state.Phase == api.PhaseGone {
		g.Text(2, 1, w.text().Strong(), "The lab is gone.    ")
	}
	x := g.Text(2, 3, w.key(), "p")
	if w.file == "" {
		g.Text(x, 3, w.dim(), " provisions an open lab file; none is open")
		return
	}
	g.Text(x, 3, w.dim(), " provisions "+filepath.Base(w.file))
}

func (v *runView) drawAxis(w *world, g *cell.Grid, axis draw.Axis) {
	g.Line(laneLabel, 1, axis.Columns, w.faint(), "┈")
	for _, tick := range axis.Ticks() {
		g.Text(laneLabel+tick.X, 0, w.dim(), tick.Text)
		g.Text(laneLabel+tick.X, 1, w.faint(), "┬")
	}
	if w.running() {
		at := laneLabel + axis.At(w.elapsed())
		g.Text(at, 0, cell.Fore(w.theme.Motion), "now")
		for y := 1; y < laneTop+len(w.state.Plan.Nodes)*v.rows && y < g.Height; y++ {
			g.Text(at, y, cell.Fore(w.theme.Motion), "┊")
		}
	}
}

// drawLane draws what a node did, waited for, and does.
func (v *runView) drawLane(w *world, g *cell.Grid, axis draw.Axis, y int, name string, chosen bool) {
	n := w.node(name)
	if chosen {
		g.Fill(0, y, laneLabel-1, 1, w.theme.Chosen)
	}
	level, style := w.level(n.State)
	g.Text(1, y, style, level)
	g.Clip(3, y, laneLabel-18, w.text().Strong(), name)
	g.Clip(laneLabel-14, y, 13, style, n.State)
	begin := w.state.Run.Started
	end := begin.Add(w.elapsed())
	last := begin
	var labels []laneName
	if len(n.Marks) > 0 {
		v.pause(w, g, axis, y, 0, n.Marks[0].At.Sub(begin))
	} else if w.running() && w.state.Run.Doing != "" {
		v.pause(w, g, axis, y, 0, end.Sub(begin))
		labels = append(labels, laneName{laneLabel, w.state.Run.Doing, w.dim()})
	}
	for i, m := range n.Marks {
		until := end
		if i+1 < len(n.Marks) {
			until = n.Marks[i+1].At
		}
		if m.State == api.Creating || m.State == api.Booting {
			at := v.bar(g, axis, y, m.At.Sub(begin), until.Sub(begin), "▒", cell.Fore(w.theme.Ice))
			labels = append(labels, laneName{at, m.State, w.dim()})
			last = until
		}
	}
	for _, c := range cells(w, name) {
		if c.State == api.Reused || c.State == api.Waiting || c.Run != w.state.Run.N {
			continue
		}
		from, until := c.Started, c.Ended
		if until.IsZero() {
			until = end
		}
		v.pause(w, g, axis, y, last.Sub(begin), from.Sub(begin))
		style := cell.Fore(w.theme.Ice)
		switch c.State {
		case api.Failed:
			style = cell.Fore(w.theme.Brick)
		case api.Running:
			style = cell.Fore(w.theme.Motion)
		}
		worked := until
		if !c.Waiting.IsZero() {
			worked = c.Waiting
			v.bar(g, axis, y, c.Waiting.Sub(begin), until.Sub(begin), "░", style)
		}
		at := v.bar(g, axis, y, from.Sub(begin), worked.Sub(begin), "█", style)
		label := w.dim()
		if chosen && c.Step == v.step {
			label = w.text().Strong().On(w.theme.Chosen)
		}
		labels = append(labels, laneName{at, c.Step, label})
		last = until
	}
	if waits, style := v.waits(w, name); waits != "" {
		if w.running() {
			v.pause(w, g, axis, y, last.Sub(begin), end.Sub(begin))
		}
		at := laneLabel + axis.At(last.Sub(begin)) + 1
		if len(labels) > 0 {
			at = max(at, labels[len(labels)-1].x+cell.Width(labels[len(labels)-1].text)+2)
		}
		labels = append(labels, laneName{max(min(at, g.Width-cell.Width(waits)-1), laneLabel), waits, style})
	}
	if v.rows > 1 {
		v.drawNames(g, y+1, labels)
	}
}

// laneName is a name below a lane.
type laneName struct {
	x     int
	text  string
	style cell.Style
}

// drawNames writes names below a lane; one that would run into the next is
// cut short, or left out where too little of it would be seen.
func (v *runView) drawNames(g *cell.Grid, y int, names []laneName) {
	for i, n := range names {
		room := g.Width - n.x - 1
		if i+1 < len(names) {
			room = names[i+1].x - n.x - 1
		}
		if room >= min(cell.Width(n.text), 4) {
			g.Clip(n.x, y, room, n.style, n.text)
		}
	}
	for _, n := range names {
		if n.style.Back != nil { // the chosen one, whatever stands beside it
			g.Text(n.x, y, n.style, n.text+" ")
		}
	}
}

// waits says what a lane waits for now, empty where it does not.
func (v *runView) waits(w *world, name string) (string, cell.Style) {
	for _, c := range cells(w, name) {
		if c.State != api.Waiting || c.Reason == "" {
			continue
		}
		if hindered(c) {
			return "cannot start: " + c.Reason, cell.Fore(w.theme.Brick)
		}
		return "waits for " + c.Reason, w.dim()
	}
	return "", w.dim()
}

func (v *runView) pause(w *world, g *cell.Grid, axis draw.Axis, y int, from, until time.Duration) {
	a, b := axis.At(from)+1, axis.At(until)
	g.Line(laneLabel+a, y, b-a, w.faint(), "·")
}

// bar draws a time of work, at least one cell wide, and gives its column.
func (v *runView) bar(g *cell.Grid, axis draw.Axis, y int, from, until time.Duration, fill string, style cell.Style) int {
	a := axis.At(from)
	width := max(axis.At(until)-a, 1)
	g.Line(laneLabel+a, y, width, style, fill)
	if fill == "█" && width > 1 {
		g.Text(laneLabel+a, y, style, "▐") // keeps it apart from the one before
	}
	return laneLabel + a
}

// drawSummary says in words how the run goes.
func (v *runView) drawSummary(w *world, g *cell.Grid, y int) {
	counts := map[string]int{}
	for _, c := range w.state.Cells {
		counts[c.State]++
	}
	x := g.Text(1, y, w.dim(), fmt.Sprintf("%d of %d steps done", counts[api.Done]+counts[api.Reused], len(w.state.Cells)))
	if n := counts[api.Reused]; n > 0 {
		x = g.Text(x, y, w.dim(), fmt.Sprintf(", %d of them reused", n))
	}
	if n := counts[api.Running]; n > 0 {
		x = g.Text(x+3, y, cell.Fore(w.theme.Motion), fmt.Sprintf("%d running", n))
	}
	if n := counts[api.Failed]; n > 0 {
		x = g.Text(x+3, y, cell.Fore(w.theme.Brick), fmt.Sprintf("%d failed", n))
	}
	run := w.state.Run
	if run.Outcome != "" {
		style := cell.Fore(w.theme.Moss)
		if run.Outcome != api.OutcomeDone {
			style = cell.Fore(w.theme.Brick)
		}
		g.Text(x+3, y, style, fmt.Sprintf("run %d %s after %.1f s", run.N, run.Outcome, w.elapsed().Seconds()))
	}
}

// hindered tells whether a cell cannot start in this run.
func hindered(c api.Cell) bool {
	return strings.HasSuffix(c.Reason, " failed") || strings.Contains(c.Reason, "the node is ")
}

func stateWords(c api.Cell) string {
	took := c.Ended.Sub(c.Started).Seconds()
	switch c.State {
	case api.Done:
		return fmt.Sprintf("done after %.2f s", took)
	case api.Reused:
		return fmt.Sprintf("reused from run %d", c.Run)
	case api.Failed:
		return fmt.Sprintf("failed after %.2f s: %s", took, c.Reason)
	case api.Waiting:
		switch {
		case hindered(c):
			return "cannot start: " + c.Reason
		case c.Reason != "":
			return "waits for " + c.Reason
		}
	case api.Running:
		if c.Reason != "" {
			return "waits: " + c.Reason
		}
	}
	return c.State
}

func (w *world) cellStyle(state string) cell.Style {
	switch state {
	case api.Done, api.Reused:
		return cell.Fore(w.theme.Moss)
	case api.Failed:
		return cell.Fore(w.theme.Brick)
	case api.Running:
		return cell.Fore(w.theme.Motion)
	}
	return w.dim()
}

func (v *runView) drawOutput(w *world, g *cell.Grid, c api.Cell, width int) {
	x := g.Text(1, 0, w.text().Strong(), c.Node)
	x = g.Text(x+2, 0, w.text().Strong(), c.Step)
	g.Clip(x+2, 0, width-x-4, w.cellStyle(c.State), stateWords(c))
	lines := w.output
	room := g.Height - 2
	if room <= 0 {
		return
	}
	v.back = min(max(v.back, 0), max(len(lines)-room, 0))
	end := len(lines) - v.back
	shown := lines[max(0, end-room):end]
	if len(shown) == 0 {
		words := "It printed nothing."
		switch c.State {
		case api.Waiting:
			words = "It has not begun."
		case api.Running:
			words = "Nothing was printed yet; the output of a step that gives a secret is shown when it has ended."
		default:
			if s, ok := v.planned(w, c); ok && s.Script == "" {
				words = "This step has no script."
				if len(s.Start) > 0 {
					words = "This step has no script; it starts " + strings.Join(s.Start, ", ") + "."
				}
			}
		}
		g.Clip(1, 2, width-3, w.dim(), words)
		return
	}
	for i, line := range shown {
		style := w.text()
		if strings.HasPrefix(line.text, "error") || strings.Contains(line.text, "error:") {
			style = cell.Fore(w.theme.Brick)
		}
		g.Right(9, 2+i, w.faint(), line.since(w.state.Run.Started))
		g.Clip(11, 2+i, width-13, style, line.text)
	}
}

// drawAbout says what stands around the chosen cell, and what can be done.
func (v *runView) drawAbout(w *world, g *cell.Grid, c api.Cell, x int) {
	for y := range g.Height {
		g.Text(x, y, w.faint(), "│")
	}
	x += 2
	width := g.Width - x - 1
	y := 0
	g.Text(x, y, w.dim(), "the same step")
	y++
	for _, other := range w.state.Cells {
		if other.Step != c.Step || other.Node == c.Node {
			continue
		}
		if y > 5 {
			g.Text(x, y, w.dim(), "and on more nodes")
			y++
			break
		}
		end := g.Text(x, y, w.text(), other.Node)
		g.Clip(max(end+2, x+12), y, width-max(end+2-x, 12), w.cellStyle(other.State), stateWords(other))
		y++
	}
	if y == 1 {
		g.Text(x, y, w.text(), "runs on this node alone")
		y++
	}
	y++
	if w.running() {
		return
	}
	if w.state.Run.Outcome == api.OutcomeDone {
		return
	}
	g.Text(x, y, w.dim(), "from here")
	for _, b := range v.remedies(w, c) {
		y++
		g.Text(x, y, w.key(), b.key)
		g.Clip(x+3, y, width-3, w.text(), b.does)
	}
}

// remedies are what can be done about a run that did not end well.
func (v *runView) remedies(w *world, c api.Cell) []binding {
	all := []binding{{"g", "go on: only what is due runs"}}
	if source := v.source(w, c); source != "" {
		all = append(all, binding{"e", "edit " + source})
	}
	return append(all, binding{"!", "a shell on " + c.Node}, binding{"t", "tear down"})
}

// planned gives the step of a cell.
func (v *runView) planned(w *world, c api.Cell) (plan.Step, bool) {
	if w.state.Plan == nil {
		return plan.Step{}, false
	}
	at := slices.IndexFunc(w.state.Plan.Steps, func(s plan.Step) bool { return s.Name == c.Step })
	if at < 0 {
		return plan.Step{}, false
	}
	return w.state.Plan.Steps[at], true
}

// source is the file that holds the cell's script.
func (v *runView) source(w *world, c api.Cell) string {
	if s, ok := v.planned(w, c); ok && s.Source != "" {
		return s.Source
	}
	return filepath.Base(w.state.File)
}

func (v *runView) press(a *App, key string) (tea.Cmd, bool) {
	w := &a.world
	if key == "esc" && (v.whole || v.moved) {
		v.whole, v.moved, v.back = false, false, 0
		return nil, true
	}
	if !w.lives() || w.state.Run.N == 0 {
		return nil, false
	}
	c, _ := v.cell(w)
	if v.whole {
		if move := step(key, 20); move != 0 {
			v.back -= move
			return nil, true
		}
	}
	if move := step(key, 10); move != 0 {
		v.moved, v.back = true, 0
		v.lanes.move(move, len(w.state.Plan.Nodes))
		return nil, true
	}
	switch key {
	case "left", "right":
		of := cells(w, c.Node)
		at := slices.IndexFunc(of, func(o api.Cell) bool { return o.Step == c.Step })
		if key == "left" {
			at--
		} else {
			at++
		}
		if at >= 0 && at < len(of) {
			v.moved, v.step, v.back = true, of[at].Step, 0
		}
	case "enter":
		v.whole = !v.whole
	case "g":
		return a.provision(), true
	case "!":
		return a.shell(c.Node), true
	case "e":
		if source := v.source(w, c); source != "" {
			return a.edit(filepath.Join(filepath.Dir(w.state.File), source), 1), true
		}
	default:
		return nil, false
	}
	return nil, true
}

func (v *runView) click(a *App, x, y int) tea.Cmd {
	w := &a.world
	if v.whole || !w.lives() || v.rows == 0 || y < laneTop {
		return nil
	}
	at := v.lanes.top + (y-laneTop)/v.rows
	if at >= len(w.state.Plan.Nodes) {
		return nil
	}
	v.moved, v.lanes.chosen, v.back = true, at, 0
	// The cell under the pointer, or the last one that began before it.
	axis := draw.NewAxis(a.width-laneLabel-2, w.elapsed())
	for _, c := range cells(w, w.state.Plan.Nodes[at].Name) {
		if !c.Started.IsZero() && laneLabel+axis.At(c.Started.Sub(w.state.Run.Started)) <= x {
			v.step = c.Step
		}
	}
	return nil
}

func (v *runView) wheel(a *App, lines int) { v.back -= lines }

func (v *runView) keys(w *world) []binding {
	if !w.lives() || w.state.Run.N == 0 {
		return []binding{{"p", "provision"}, {"q", "leave"}}
	}
	if v.whole {
		return []binding{{"↑↓", "scroll"}, {"Enter", "back to the lanes"}}
	}
	keys := []binding{{"↑↓←→", "pick a cell"}, {"Enter", "its output whole"}, {"!", "shell there"}}
	switch {
	case w.running():
		keys = append(keys, binding{"x", "cancel the run"})
	case w.state.Run.Outcome != api.OutcomeDone:
		keys = append(keys, binding{"g", "go on"}, binding{"e", "edit the script"})
	}
	return append(keys, binding{"t", "tear down"})
}
