package tui

import (
	"fmt"
	"path/filepath"

	tea "charm.land/bubbletea/v2"

	"kettlehole/internal/api"
	"kettlehole/internal/draw"
	"kettlehole/internal/labfile"
	"kettlehole/internal/tui/cell"
)

// labsView lists every lab of this workstation.
type labsView struct{ list list }

var _ view = (*labsView)(nil)

func (*labsView) name() string { return "labs" }

// labRows is how many rows a lab takes, labsTop where the first one begins.
const (
	labRows = 3
	labsTop = 3
)

func (v *labsView) draw(w *world, g *cell.Grid) {
	if len(w.labs) == 0 {
		g.Text(2, 1, w.text().Strong(), "No lab lives on this workstation.")
		x := g.Text(2, 3, w.dim(), "Name a lab file:  ")
		g.Text(x, 3, w.text(), "kettlehole FILE")
		if w.file != "" {
			x = g.Text(2, 4, w.dim(), "Or go on with ")
			x = g.Text(x, 4, w.text(), filepath.Base(w.file)) + 1
			x = g.Text(x, 4, w.dim(), "and press ")
			x = g.Text(x, 4, w.key(), "p")
			g.Text(x, 4, w.dim(), " to provision it.")
		}
		return
	}
	v.list.fit(len(w.labs), max((g.Height-labsTop)/labRows, 1))
	columns := []int{2, 34, 50, 60, 74}
	for i, title := range []string{"lab", "nodes ready", "age", "may use", "ways in"} {
		g.Text(columns[i], 1, w.dim(), title)
	}
	for i, line := range w.labs[v.list.top:] {
		y := labsTop + labRows*i
		if v.list.top+i == v.list.chosen {
			g.Fill(0, y, g.Width, 2, w.theme.Chosen)
		}
		ready, memory := 0, labfile.Bytes(0)
		for _, n := range line.state.Nodes {
			if n.State == api.Ready {
				ready++
			}
		}
		if line.state.Plan != nil {
			for _, n := range line.state.Plan.Nodes {
				memory += n.Memory
			}
		}
		all := len(line.state.Nodes)
		style := cell.Fore(w.theme.Motion)
		if all > 0 && ready == all {
			style = cell.Fore(w.theme.Moss)
		}
		level, rests := meter(float64(ready)/float64(max(all, 1))), line.state.Phase == api.PhaseStopped
		if rests {
			level, style = w.level(api.Stopped)
		}
		g.Text(columns[0], y, style, level)
		g.Clip(columns[0]+2, y, columns[1]-columns[0]-3, w.text().Strong(), line.lab.Name)
		if line.err != nil {
			g.Clip(columns[1], y, g.Width-columns[1]-1, cell.Fore(w.theme.Brick), "its keeper does not answer: "+line.err.Error())
		} else if rests {
			g.Text(columns[1], y, w.dim(), "stopped")
			g.Text(columns[2], y, w.text(), draw.Age(w.now.Sub(line.lab.Created)))
		} else {
			g.Text(columns[1], y, w.text(), fmt.Sprintf("%d of %d", ready, all))
			g.Text(columns[2], y, w.text(), draw.Age(w.now.Sub(line.lab.Created)))
			g.Text(columns[3], y, w.text(), memory.String())
			x := columns[4]
			for _, f := range line.state.Forwards {
				x = g.Text(x, y, w.text(), f.Listen.String()) + 1
				x = g.Text(x, y, w.dim(), f.Name) + 2
			}
		}
		g.Clip(columns[0]+2, y+1, g.Width-5, w.dim(), line.lab.File)
	}
	if w.pulse.MemoryTotal > 0 {
		g.Clip(2, g.Height-2, g.Width-4, w.dim(), fmt.Sprintf("left on this workstation: %s of memory, %s of disk",
			labfile.Bytes(w.pulse.MemoryTotal-w.pulse.MemoryUsed), labfile.Bytes(w.pulse.DiskFree)))
	}
}

func (v *labsView) press(a *App, key string) (tea.Cmd, bool) {
	if key == "esc" {
		return nil, true
	}
	if move := step(key, 5); move != 0 {
		v.list.move(move, len(a.world.labs))
		return nil, true
	}
	if key == "S" && len(a.world.labs) > 0 {
		v.list.move(0, len(a.world.labs))
		chosen := a.world.labs[v.list.chosen]
		return a.stopOrStart(chosen.lab.Name, chosen.state), true
	}
	if key == "enter" && len(a.world.labs) > 0 {
		v.list.move(0, len(a.world.labs))
		lab := a.world.labs[v.list.chosen].lab
		if lab.Name != a.world.lab || a.world.file == "" {
			a.open(lab.File)
			if a.world.lab != lab.Name {
				// Its file is gone or broken; the lab can still be looked at.
				a.world.lab = lab.Name
				a.feed.follow(lab.Name)
			}
		}
		a.current = viewNodes
		return nil, true
	}
	return nil, false
}

func (v *labsView) click(a *App, x, y int) tea.Cmd {
	at := v.list.top + (y-labsTop)/labRows
	if y < labsTop || at >= len(a.world.labs) {
		return nil
	}
	if at == v.list.chosen {
		cmd, _ := v.press(a, "enter")
		return cmd
	}
	v.list.chosen = at
	return nil
}

func (v *labsView) wheel(a *App, lines int) { v.list.move(lines/3, len(a.world.labs)) }

func (v *labsView) keys(w *world) []binding {
	if len(w.labs) == 0 {
		return []binding{{"2", "the plan of the open file"}, {"q", "leave"}}
	}
	rest := binding{"S", "stop it"}
	if at := min(v.list.chosen, len(w.labs)-1); w.labs[at].state.Phase == api.PhaseStopped {
		rest.does = "start it"
	}
	return []binding{{"↑↓", "choose a lab"}, {"Enter", "open it"}, rest, {"q", "leave"}}
}
