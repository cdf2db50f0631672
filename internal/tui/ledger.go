package tui

import (
	"fmt"
	"path/filepath"

	tea "charm.land/bubbletea/v2"

	"kettlehole/internal/api"
	"kettlehole/internal/audit"
	"kettlehole/internal/ledger"
	"kettlehole/internal/tui/cell"
)

// ledgerView lists everything that the lab made on the workstation, and after
// a teardown the audit.
type ledgerView struct{ list list }

var _ view = (*ledgerView)(nil)

func (*ledgerView) name() string { return "ledger" }

func (v *ledgerView) draw(w *world, g *cell.Grid) {
	switch {
	case w.state.Phase == api.PhaseGone && w.state.Audit != nil:
		v.drawAudit(w, g, *w.state.Audit)
	case w.lives():
		v.drawThings(w, g)
	default:
		g.Text(2, 1, w.text().Strong(), "The ledger is empty: this lab has nothing on the workstation.")
	}
}

func (v *ledgerView) drawThings(w *world, g *cell.Grid) {
	there := 0
	for _, e := range w.things {
		if e.State == ledger.Made {
			there++
		}
	}
	x := g.Text(2, 1, w.text().Strong(), fmt.Sprintf("%d things are on this workstation because of %s.", there, w.lab))
	words := "Each was written down here before it was made."
	if w.state.Phase == api.PhaseLeaving {
		words = "They are being taken away."
	}
	g.Clip(x+2, 1, g.Width-x-3, w.dim(), words)
	columns := []int{2, 12, 24, 70, 84}
	if g.Width < 120 {
		columns = []int{2, 12, 24, g.Width - 22, g.Width}
	}
	for i, title := range []string{"what", "state", "which", "made at", "what about it"} {
		g.Text(columns[i], 3, w.dim(), title)
	}
	room := max(g.Height-5, 1)
	v.list.fit(len(w.things), room)
	for i, e := range w.things[v.list.top:min(len(w.things), v.list.top+room)] {
		y := 4 + i
		if v.list.top+i == v.list.chosen {
			g.Fill(0, y, g.Width, 1, w.theme.Chosen)
		}
		g.Text(columns[0], y, w.dim(), string(e.Kind))
		which := e.Ref
		if digest := filepath.Base(e.Ref); e.Kind == ledger.Layer && len(digest) > 12 {
			which = "part of the image, digest " + digest[:12]
		}
		state, style := string(e.State), cell.Fore(w.theme.Moss)
		switch e.State {
		case ledger.Intended:
			style = cell.Fore(w.theme.Motion)
		case ledger.Gone:
			style = w.dim()
		}
		if e.State == ledger.Made && e.Kind == ledger.Layer {
			state = "kept"
		}
		g.Text(columns[1], y, style, state)
		g.Clip(columns[2], y, columns[3]-columns[2]-2, w.text(), shorten(which, columns[3]-columns[2]-2))
		if !e.Made.IsZero() {
			g.Text(columns[3], y, w.dim(), e.Made.Local().Format("15:04:05.000"))
		}
		g.Clip(columns[4], y, g.Width-columns[4]-1, w.dim(), e.Detail)
	}
}

// shorten keeps the end of a path that is too long.
func shorten(path string, width int) string {
	runes := []rune(path)
	if len(runes) <= width || width < 2 {
		return path
	}
	return "…" + string(runes[len(runes)-width+1:])
}

func (v *ledgerView) drawAudit(w *world, g *cell.Grid, report audit.Report) {
	if report.Clean() {
		x := g.Text(2, 1, cell.Fore(w.theme.Moss).Strong(), "The workstation is as it was.")
		g.Text(x+2, 1, w.text(), w.lab+" is gone without a trace.")
	} else {
		g.Text(2, 1, cell.Fore(w.theme.Brick).Strong(), fmt.Sprintf("%d things were left behind.", len(report.Left())))
	}
	columns := []int{2, 22, 32, 42}
	for i, title := range []string{"audit of", "before", "after", "the lab left"} {
		g.Text(columns[i], 3, w.dim(), title)
	}
	y := 4
	for _, line := range report.Lines {
		g.Text(columns[0], y, w.text(), string(line.Kind))
		g.Right(columns[1]+6, y, w.text(), fmt.Sprint(line.Before))
		g.Right(columns[2]+5, y, w.text(), fmt.Sprint(line.After))
		if len(line.Left) == 0 {
			x := g.Text(columns[3], y, cell.Fore(w.theme.Moss), "nothing")
			if len(line.Others) > 0 {
				g.Text(x+2, y, w.dim(), fmt.Sprintf("%d came, went or changed without a sign of the lab", len(line.Others)))
			}
		} else {
			g.Text(columns[3], y, cell.Fore(w.theme.Brick), fmt.Sprintf("%d", len(line.Left)))
		}
		y++
		for _, left := range line.Left {
			g.Clip(columns[3]+2, y, g.Width-columns[3]-3, cell.Fore(w.theme.Brick), left)
			y++
		}
	}
	x := g.Text(2, y+1, w.key(), "p")
	g.Text(x+1, y+1, w.dim(), "makes the lab again; layers of its image are kept")
}

func (v *ledgerView) press(a *App, key string) (tea.Cmd, bool) {
	if move := step(key, 10); move != 0 {
		v.list.move(move, len(a.world.things))
		return nil, true
	}
	return nil, false
}

func (v *ledgerView) click(a *App, x, y int) tea.Cmd {
	if at := v.list.top + y - 4; y >= 4 && at < len(a.world.things) {
		v.list.chosen = at
	}
	return nil
}

func (v *ledgerView) wheel(a *App, lines int) { v.list.move(lines, len(a.world.things)) }

func (v *ledgerView) keys(w *world) []binding {
	if w.lives() {
		return []binding{{"↑↓", "scroll"}, w.restKey(), {"t", "tear down"}, {"q", "leave"}}
	}
	return []binding{{"p", "provision"}, {"q", "leave"}}
}
