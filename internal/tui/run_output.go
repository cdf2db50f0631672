package tui

import (
	"fmt"
	"strings"

	"kettlehole/internal/api"
	"kettlehole/internal/draw/lanes"
	"kettlehole/internal/tui/cell"
)

func stateWords(c api.Cell) string {
	took := c.Ended.Sub(c.Started).Seconds()
	switch c.State {
	case api.Done:
		return fmt.Sprintf("done after %.2f s", took)
	case api.Reused:
		if c.Reason != "" {
			return "reused from " + c.Origin() + "; waits again: " + c.Reason
		}
		return "reused from " + c.Origin()
	case api.Skipped:
		return "skipped: it is taken for done"
	case api.Failed:
		return fmt.Sprintf("failed after %.2f s: %s", took, c.Reason)
	case api.Waiting:
		switch {
		case lanes.Hindered(c):
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
	case api.Skipped:
		return cell.Fore(w.theme.Ochre)
	}
	return w.dim()
}

func (v *runView) drawOutput(w *world, g *cell.Grid, c api.Cell, width int) {
	x := g.Text(1, 0, w.text().Strong(), c.Node)
	x = g.Text(x+2, 0, w.text().Strong(), c.Step)
	x = g.Clip(x+2, 0, width-x-4, w.cellStyle(c.State), stateWords(c))
	v.search.draw(w, g, x+3, width-2)
	room := g.Height - 2
	if room <= 0 {
		return
	}
	lines := w.output
	v.back = min(max(v.back, 0), max(len(lines)-room, 0))
	end := len(lines) - v.back
	first := max(0, end-room)
	if len(lines) == 0 {
		g.Clip(1, 2, width-3, w.dim(), v.silence(w, c))
		return
	}
	for i, line := range lines[first:end] {
		style := w.text()
		if strings.HasPrefix(line.text, "error") || strings.Contains(line.text, "error:") {
			style = cell.Fore(w.theme.Brick)
		}
		g.Right(9, 2+i, w.faint(), line.since(v.state(w).Run.Started))
		g.Clip(11, 2+i, width-13, style, line.text)
		v.search.mark(w, g, 11, 2+i, width-13, line.text, first+i)
	}
}

// silence says why there is no output.
func (v *runView) silence(w *world, c api.Cell) string {
	switch c.State {
	case api.Waiting:
		return "It has not begun."
	case api.Skipped:
		return "It was skipped, and printed nothing."
	case api.Running:
		return "Nothing was printed yet; the output of a step that gives a secret is shown when it has ended."
	}
	if v.state(w).Run.Rehearsed {
		return "This is a rehearsal: no script runs."
	}
	if s, ok := v.planned(w, c); ok && s.Script == "" {
		if len(s.Start) > 0 {
			return "This step has no script; it starts " + strings.Join(s.Start, ", ") + "."
		}
		return "This step has no script."
	}
	return "It printed nothing."
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
	for _, other := range v.state(w).Cells {
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
	if v.past != nil || w.running() || w.state.Run.Outcome == api.OutcomeDone {
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
		all = append(all, binding{"e", "edit " + source + ", then go on"})
	}
	all = append(all, binding{"!", "a shell on " + c.Node})
	if c.State == api.Failed {
		all = append(all, binding{"s", "skip it: it is taken for done"})
	}
	return append(all, binding{"t", "give up: tear the lab down"})
}

// drawGroup says of a folded group how far each step is.
func (v *runView) drawGroup(w *world, g *cell.Grid) {
	s := v.state(w)
	g.Text(1, 0, w.text().Strong(), v.group)
	g.Text(3+cell.Width(v.group), 0, w.dim(), "folded; Enter shows each node")
	y := 2
	for _, step := range s.Plan.Steps {
		counts := map[string]int{}
		all := 0
		for _, c := range s.Cells {
			if planned, is := s.Plan.Node(c.Node); is && c.Step == step.Name && planned.Group == v.group {
				counts[c.State]++
				all++
			}
		}
		if all == 0 {
			continue
		}
		x := max(g.Text(1, y, w.text(), step.Name)+2, 20)
		for _, state := range []string{api.Done, api.Reused, api.Skipped, api.Running, api.Failed, api.Waiting} {
			if n := counts[state]; n > 0 {
				x = g.Text(x, y, w.cellStyle(state), fmt.Sprintf("%d %s", n, state)) + 3
			}
		}
		y++
	}
}

// drawBeside shows the last lines of the same step on several nodes side by
// side.
func (v *runView) drawBeside(w *world, g *cell.Grid, c api.Cell) {
	var all []api.Cell
	for _, other := range v.state(w).Cells {
		if other.Step == c.Step {
			all = append(all, other)
		}
	}
	columns := min(len(all), max(g.Width/besideWidth, 1))
	at := 0
	for i, other := range all {
		if other.Node == c.Node {
			at = min(max(i-columns/2, 0), len(all)-columns)
		}
	}
	wide := g.Width / columns
	for i, other := range all[at : at+columns] {
		x := i * wide
		if i > 0 {
			for y := range g.Height {
				g.Text(x-1, y, w.faint(), "│")
			}
		}
		style := w.text()
		if other.Node == c.Node {
			style = style.Strong()
		}
		end := g.Text(x+1, 0, style, other.Node+"  "+other.Step)
		g.Clip(end+2, 0, x+wide-end-4, w.cellStyle(other.State), stateWords(other))
		lines := w.beside[besideKey(other)]
		for y, line := range lines[max(0, len(lines)-g.Height+2):] {
			g.Clip(x+1, 2+y, wide-3, w.text(), line)
		}
		if len(lines) == 0 {
			g.Clip(x+1, 2, wide-3, w.dim(), v.silence(w, other))
		}
	}
}

// besideWidth is the least width of an output beside others.
const besideWidth = 40
