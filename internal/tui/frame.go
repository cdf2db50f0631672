package tui

import (
	"fmt"
	"path/filepath"

	"kettlehole/internal/api"
	"kettlehole/internal/draw"
	"kettlehole/internal/labfile"
	"kettlehole/internal/tui/cell"
)

type tab struct{ x, width int }

// tabs are the places of the views' names in the second line.
func (a *App) tabs() []tab {
	var all []tab
	x := 1
	for _, v := range a.views {
		width := 2 + len(v.name())
		all = append(all, tab{x, width})
		x += width + 3
	}
	return all
}

func (a *App) frame(g *cell.Grid) {
	w := &a.world
	a.drawStation(g, a.drawLab(g)+2)
	for i, at := range a.tabs() {
		number, name := w.dim(), w.dim()
		if i == a.current {
			number, name = cell.Fore(w.theme.Motion), w.text().Strong()
		}
		x := g.Text(at.x, 1, number, fmt.Sprintf("%d ", i+1))
		g.Text(x, 1, name, a.views[i].name())
	}
	g.Line(0, 2, g.Width, w.faint(), "─")
	at := a.tabs()[a.current]
	g.Line(at.x, 2, at.width, cell.Fore(w.theme.Motion), "━")
	if a.message != "" {
		style := w.text()
		if a.grave {
			style = cell.Fore(w.theme.Brick)
		}
		g.Clip(1, g.Height-2, g.Width-2, style, a.message)
	}
	a.drawKeys(g)
}

// drawLab writes what is open and how it is, and gives the column behind it.
func (a *App) drawLab(g *cell.Grid) int {
	w := &a.world
	x := g.Text(1, 0, cell.Fore(w.theme.Motion).Strong(), "kettlehole")
	if w.lab == "" && w.file != "" {
		x = g.Text(x+2, 0, w.text().Strong(), filepath.Base(w.file))
		return g.Text(x+3, 0, cell.Fore(w.theme.Brick), "· has errors")
	}
	if w.lab == "" {
		return g.Text(x+3, 0, w.dim(), "no lab is open")
	}
	x = g.Text(x+2, 0, w.text().Strong(), w.lab)
	ready, all := w.ready()
	switch {
	case w.state.Phase == api.PhaseLeaving:
		return g.Text(x+3, 0, cell.Fore(w.theme.Ochre), "is being taken down")
	case w.state.Phase == api.PhaseStopping:
		return g.Text(x+3, 0, cell.Fore(w.theme.Ochre), "is being stopped")
	case w.rests():
		return g.Text(x+3, 0, w.dim(), "▢ stopped")
	case w.state.Phase == api.PhaseGone:
		return g.Text(x+3, 0, w.dim(), "· gone")
	case !w.lives() && w.file != "" && !w.mapping.Good():
		return g.Text(x+3, 0, cell.Fore(w.theme.Brick), "· has errors")
	case !w.lives():
		return g.Text(x+3, 0, w.dim(), "· not provisioned")
	}
	style := cell.Fore(w.theme.Motion)
	if ready == all {
		style = cell.Fore(w.theme.Moss)
	}
	for _, n := range w.state.Nodes {
		if n.State == api.Failed || n.State == api.Lost {
			style = cell.Fore(w.theme.Brick)
		}
	}
	x = g.Text(x+3, 0, style, meter(float64(ready)/float64(max(all, 1))))
	x = g.Text(x+1, 0, w.text(), fmt.Sprintf("%d of %d ready", ready, all))
	if w.state.Run.N > 0 && g.Width >= 100 {
		x = g.Text(x+3, 0, w.dim(), fmt.Sprintf("run %d", w.state.Run.N))
		x = g.Text(x+1, 0, w.text(), draw.Moment(w.elapsed(), 100e6))
		if run := w.state.Run; w.running() && !run.Expected.IsZero() && g.Width >= 120 {
			x = g.Text(x+1, 0, w.dim(), "of about "+draw.Moment(run.Expected.Sub(run.Started), 100e6))
		}
	}
	return x
}

// drawStation writes how the workstation is at the right of the first line.
func (a *App) drawStation(g *cell.Grid, from int) {
	w := &a.world
	type part struct {
		name, value string
		share       float64
	}
	used := float64(w.pulse.MemoryUsed) / float64(max(w.pulse.MemoryTotal, 1))
	parts := []part{
		{"cpu", fmt.Sprintf("%3.0f%%", 100*w.busy), w.busy},
		{"memory", fmt.Sprintf("%s of %s", labfile.Bytes(w.pulse.MemoryUsed), labfile.Bytes(w.pulse.MemoryTotal)), used},
		{"disk", labfile.Bytes(w.pulse.DiskFree).String() + " free", -1},
	}
	if w.pulse.MemoryTotal == 0 {
		return
	}
	for len(parts) > 0 {
		width := 0
		for _, p := range parts {
			width += 2 + len(p.name) + 1 + len(p.value)
			if p.share >= 0 {
				width += 2
			}
		}
		width++
		if from+width < g.Width {
			x := g.Width - width
			for _, p := range parts {
				x = g.Text(x+2, 0, w.dim(), p.name) + 1
				if p.share >= 0 {
					style := cell.Fore(w.theme.Ice)
					if p.share > 0.85 {
						style = cell.Fore(w.theme.Ochre)
					}
					x = g.Text(x, 0, style, eighths[min(max(int(p.share*8+0.5), 1), 8)]) + 1
				}
				x = g.Text(x, 0, w.text(), p.value)
			}
			return
		}
		parts = parts[:len(parts)-1]
	}
}

// drawKeys writes the keys that matter here, as many as find a place, always
// with the one that shows all.
func (a *App) drawKeys(g *cell.Grid) {
	w := &a.world
	last := binding{"?", "all keys"}
	keys := a.views[a.current].keys(w)
	if len(keys) == 1 {
		last, keys = keys[0], nil // all other keys are somebody else's
	}
	if len(keys) > 6 {
		keys = keys[:6]
	}
	x := 1
	room := g.Width - (len(last.key) + len(last.does) + 4)
	for _, k := range append(keys, last) {
		width := cell.Width(k.key) + 1 + cell.Width(k.does)
		if k != last && x+width > room {
			continue
		}
		x = g.Text(x, g.Height-1, w.key(), k.key)
		x = g.Text(x+1, g.Height-1, w.dim(), k.does) + 3
	}
}

// everywhere are the keys of all views.
var everywhere = []binding{
	{"1 to 5", "go to a view"}, {"p", "provision, or go on"}, {"x", "cancel the run"}, {"t", "tear the lab down"},
	{"S", "stop the lab, or start it"},
	{"Esc", "back to the labs"}, {"q", "leave; labs go on living"},
}

// panel clears a place in the middle for some lines and gives its corner.
func (a *App) panel(g *cell.Grid, width, height int) (int, int) {
	w := &a.world
	width, height = min(width, g.Width), min(height, g.Height)
	x, y := (g.Width-width)/2, max((g.Height-height)/2, 0)
	g.Clear(x, y, width, height)
	g.Fill(x, y, width, height, w.theme.Chosen)
	return x, y
}

func (a *App) drawHelp(g *cell.Grid) {
	w := &a.world
	keys := a.views[a.current].keys(w)
	rows := max(len(keys), len(everywhere))
	x, y := a.panel(g, 100, rows+6)
	g.Text(x+3, y+1, w.text().Strong(), "in "+a.views[a.current].name())
	g.Text(x+47, y+1, w.text().Strong(), "everywhere")
	for i, k := range keys {
		g.Text(x+3, y+3+i, w.key(), k.key)
		g.Clip(x+14, y+3+i, 31, w.text(), k.does)
	}
	for i, k := range everywhere {
		g.Text(x+47, y+3+i, w.key(), k.key)
		g.Clip(x+58, y+3+i, 29, w.text(), k.does)
	}
	g.Text(x+3, y+rows+4, w.dim(), "levels: · absent  ▁ creating  ▃ booting  ▅ provisioning  █ ready  ✕ failed  ▢ stopped  ? lost")
}

func (a *App) drawQuestion(g *cell.Grid) {
	w := &a.world
	width := 40
	for _, line := range a.ask.words {
		width = max(width, cell.Width(line)+6)
	}
	x, y := a.panel(g, width, len(a.ask.words)+5)
	for i, line := range a.ask.words {
		style := w.text()
		if i == 0 {
			style = style.Strong()
		}
		g.Clip(x+3, y+1+i, g.Width-x-4, style, line)
	}
	at := y + len(a.ask.words) + 2
	end := g.Text(x+3, at, w.key(), "y")
	end = g.Text(end+1, at, w.text(), "yes")
	end = g.Text(end+4, at, w.key(), "any other key")
	g.Text(end+1, at, w.text(), "no")
}

// wrap breaks text into lines of at most width cells, at blanks where it can.
func wrap(text string, width int) []string { return draw.Wrap(text, width, cell.Width) }
