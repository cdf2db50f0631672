package tui

import (
	"fmt"
	"slices"
	"time"

	"kettlehole/internal/api"
	"kettlehole/internal/draw"
	"kettlehole/internal/tui/cell"
)

// runLane is a lane on the screen: a node, or a group folded into one.
type runLane struct {
	draw.Lane
	folded []draw.Lane // the nodes of a folded group
}

// lay folds groups, the largest first, until the lanes fit into so many rows
// or all are folded. What a person folded or unfolded stays so.
func (v *runView) lay(all []draw.Lane, room int) {
	size := map[string]int{}
	var groups []string
	for _, l := range all {
		if size[l.Group] == 0 {
			groups = append(groups, l.Group)
		}
		size[l.Group]++
	}
	fold := map[string]bool{}
	count := len(all)
	turn := func(group string) {
		fold[group] = true
		count -= size[group] - 1
	}
	for _, group := range groups {
		if open, said := v.open[group]; said && !open && size[group] > 1 {
			turn(group)
		}
	}
	for count > room-laneTop-2 {
		largest := ""
		for _, group := range groups {
			if _, said := v.open[group]; !said && !fold[group] && size[group] > 1 && (largest == "" || size[group] > size[largest]) {
				largest = group
			}
		}
		if largest == "" {
			break
		}
		turn(largest)
	}
	v.lanes = v.lanes[:0]
	for _, l := range all {
		if !fold[l.Group] {
			v.lanes = append(v.lanes, runLane{Lane: l})
			continue
		}
		at := slices.IndexFunc(v.lanes, func(o runLane) bool { return o.folded != nil && o.Group == l.Group })
		if at < 0 {
			at = len(v.lanes)
			v.lanes = append(v.lanes, runLane{Lane: draw.Lane{Name: l.Group, Group: l.Group}})
		}
		v.lanes[at].folded = append(v.lanes[at].folded, l)
		v.lanes[at].Nodes++
	}
	v.rows = 2
	if len(v.lanes)*2+laneTop+2 > room {
		v.rows = 1
	}
}

// chosenLane is the place of the chosen lane, or of the folded one that the
// chosen node is in.
func (v *runView) chosenLane() int {
	at := slices.IndexFunc(v.lanes, func(l runLane) bool { return l.folded == nil && l.Name == v.node })
	if at < 0 {
		at = slices.IndexFunc(v.lanes, func(l runLane) bool { return l.folded != nil && l.Group == v.group })
	}
	return max(at, 0)
}

func (v *runView) drawAxis(w *world, g *cell.Grid, axis draw.Axis, elapsed time.Duration, shown int) {
	g.Line(laneLabel, 1, axis.Columns, w.faint(), "┈")
	for _, tick := range axis.Ticks() {
		if laneLabel+tick.X+cell.Width(tick.Text) < g.Width {
			g.Text(laneLabel+tick.X, 0, w.dim(), tick.Text)
		}
		g.Text(laneLabel+tick.X, 1, w.faint(), "┬")
	}
	if !v.going(w) {
		return
	}
	mark := func(t time.Duration, word string, style cell.Style) {
		at := laneLabel + axis.At(t)
		g.Text(min(at, g.Width-cell.Width(word)-1), 0, style, word)
		for y := 1; y < laneTop+shown*v.rows && y < g.Height; y++ {
			g.Text(at, y, style, "┊")
		}
	}
	if run := v.state(w).Run; !run.Expected.IsZero() && run.Expected.Sub(run.Started) > elapsed {
		mark(run.Expected.Sub(run.Started), " end", w.dim())
	}
	mark(elapsed, "now", cell.Fore(w.theme.Motion))
}

// drawLane draws what a node did, waited for, and does.
func (v *runView) drawLane(w *world, g *cell.Grid, axis draw.Axis, y int, l runLane, chosen bool) {
	if chosen {
		g.Fill(0, y, laneLabel-1, 1, w.theme.Chosen)
	}
	if l.folded != nil {
		v.drawFolded(w, g, axis, y, l)
		return
	}
	level, style := w.level(l.State)
	g.Text(1, y, style, level)
	g.Clip(3, y, laneLabel-18, w.text().Strong(), l.Name)
	g.Clip(laneLabel-14, y, 13, style, l.State)
	var labels []laneName
	name := func(x int, p draw.Piece, style cell.Style) {
		if len(labels) == 0 || labels[len(labels)-1].text != p.Name {
			labels = append(labels, laneName{x, p.Name, style})
		}
	}
	for _, p := range l.Pieces {
		switch p.Kind {
		case draw.Idle:
			a, b := axis.At(p.From)+1, axis.At(p.Until)
			g.Line(laneLabel+a, y, b-a, w.faint(), "·")
		case draw.Making:
			name(v.bar(g, axis, y, p, "▒", cell.Fore(w.theme.Ice)), p, w.dim())
		default:
			fill := "▆"
			if p.Chain {
				fill = "█"
			}
			if p.Kind == draw.Wait {
				fill = "░"
			}
			label := w.dim()
			if chosen && p.Name == v.step {
				label = w.text().Strong().On(w.theme.Chosen)
			}
			name(v.bar(g, axis, y, p, fill, w.pieceStyle(p.State)), p, label)
		}
	}
	if l.Waits != "" {
		words, style := "waits for "+l.Waits, w.dim()
		if l.Hindered {
			words, style = "cannot start: "+l.Waits, cell.Fore(w.theme.Brick)
		}
		at := laneLabel
		if len(l.Pieces) > 0 {
			at += axis.At(l.Pieces[len(l.Pieces)-1].From) + 1
		}
		if len(labels) > 0 {
			at = max(at, labels[len(labels)-1].x+cell.Width(labels[len(labels)-1].text)+2)
		}
		labels = append(labels, laneName{max(min(at, g.Width-cell.Width(words)-1), laneLabel), words, style})
	}
	if v.rows > 1 {
		v.drawNames(g, y+1, labels)
	}
}

// drawFolded draws how many of the nodes of a group were at work when.
func (v *runView) drawFolded(w *world, g *cell.Grid, axis draw.Axis, y int, l runLane) {
	ready, worst := 0, api.Ready
	for _, n := range l.folded {
		if n.State == api.Ready {
			ready++
		}
		if behind(n.State) > behind(worst) {
			worst = n.State
		}
	}
	level, style := w.level(worst)
	g.Text(1, y, style, level)
	x := g.Clip(3, y, laneLabel-18, w.text().Strong(), fmt.Sprintf("%s ×%d", l.Group, len(l.folded)))
	g.Clip(max(x+1, laneLabel-14), y, 13, style, fmt.Sprintf("%d ready", ready))
	working, failed := make([]int, axis.Columns), make([]bool, axis.Columns)
	for _, n := range l.folded {
		for _, p := range n.Pieces {
			if p.Kind == draw.Idle {
				continue
			}
			from, until := axis.At(p.From), axis.At(p.Until)
			for x := from; x <= max(until-1, from); x++ {
				working[x]++
				failed[x] = failed[x] || p.State == api.Failed
			}
		}
	}
	for x, n := range working {
		style := cell.Fore(w.theme.Ice)
		if failed[x] {
			style = cell.Fore(w.theme.Brick)
		}
		if n > 0 {
			g.Text(laneLabel+x, y, style, eighths[min(max(n*8/len(l.folded), 1), 8)])
		}
	}
	if v.rows > 1 {
		g.Text(laneLabel, y+1, w.faint(), "how many of them are at work; Enter shows each")
	}
}

// behind says how far a state is from ready; what failed is farthest.
func behind(state string) int {
	return slices.Index([]string{api.Ready, api.Provisioning, api.Booting, api.Creating, api.Absent, api.Lost, api.Failed}, state)
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

// bar draws a piece of work, at least one cell wide, and gives its column.
func (v *runView) bar(g *cell.Grid, axis draw.Axis, y int, p draw.Piece, fill string, style cell.Style) int {
	a := axis.At(p.From)
	width := max(axis.At(p.Until)-a, 1)
	g.Line(laneLabel+a, y, width, style, fill)
	if edge := map[string]string{"█": "▐", "▆": "▗"}[fill]; edge != "" && width > 1 {
		g.Text(laneLabel+a, y, style, edge) // keeps it apart from the one before
	}
	return laneLabel + a
}

// pieceStyle is the colour of a piece of work.
func (w *world) pieceStyle(state string) cell.Style {
	switch state {
	case api.Failed:
		return cell.Fore(w.theme.Brick)
	case api.Running:
		return cell.Fore(w.theme.Motion)
	case api.Skipped:
		return cell.Fore(w.theme.Ochre)
	}
	return cell.Fore(w.theme.Ice)
}
