package tui

import (
	"fmt"
	"path/filepath"
	"slices"

	tea "charm.land/bubbletea/v2"

	"kettlehole/internal/api"
	"kettlehole/internal/draw"
	"kettlehole/internal/schedule"
)

func (v *runView) press(a *App, key string) (tea.Cmd, bool) {
	w := &a.world
	if v.search.typing {
		v.search.press(key)
		v.search.look(w.output)
		v.back = v.search.next(0, len(w.output), v.room(a))
		return nil, true
	}
	if key == "esc" && (v.whole || v.moved || v.past != nil || v.search.text != "" || v.beside) {
		v.escape()
		return nil, true
	}
	if key == "r" {
		return a.rehearse(), true
	}
	if !v.shows(w) {
		return nil, false
	}
	c, one := v.cell(w)
	if v.whole && one {
		if move := step(key, 20); move != 0 {
			v.back -= move
			return nil, true
		}
	}
	if move := step(key, 10); move != 0 {
		v.choose(v.chosenLane() + move)
		return nil, true
	}
	switch key {
	case "left", "right":
		v.walk(w, c, key == "right")
	case "enter":
		switch {
		case !one:
			v.unfold(w, true)
		default:
			v.whole = !v.whole
		}
	case "f":
		v.unfold(w, false)
	case "[":
		return a.lookAtRun(v.state(w).Run.N - 1), true
	case "]":
		return a.lookAtRun(v.state(w).Run.N + 1), true
	default:
		if !one {
			return nil, false
		}
		return v.pressOnCell(a, c, key)
	}
	return nil, true
}

// pressOnCell handles the keys that are about the chosen cell.
func (v *runView) pressOnCell(a *App, c api.Cell, key string) (tea.Cmd, bool) {
	w := &a.world
	switch key {
	case "/":
		v.search = search{typing: true}
	case "n", "N":
		v.search.look(w.output)
		by := 1
		if key == "N" {
			by = -1
		}
		v.back = v.search.next(by, len(w.output), v.room(a))
	case "b":
		v.beside, v.whole = !v.beside, false
		return a.readBeside(), true
	case "!":
		return a.shell(c.Node), true
	case "g":
		if v.past == nil {
			return a.provision(api.Ways{}), true
		}
	case "s":
		return v.skip(a, c), true
	case "e":
		if source := v.source(w, c); source != "" {
			a.goOnAfterEdit = w.lives() && v.past == nil && w.state.Run.Outcome != "" && w.state.Run.Outcome != api.OutcomeDone
			return a.edit(filepath.Join(filepath.Dir(v.state(w).File), source), 1), true
		}
	default:
		return nil, false
	}
	return nil, true
}

// room is how many lines of output the view shows.
func (v *runView) room(a *App) int {
	if v.whole {
		return max(a.height-frameTop-frameBottom-2, 1)
	}
	return max((a.height-frameTop-frameBottom)*4/10-4, 1)
}

// escape goes back by one thing.
func (v *runView) escape() {
	switch {
	case v.search.text != "":
		v.search = search{}
	case v.whole:
		v.whole, v.back = false, 0
	case v.beside:
		v.beside = false
	case v.past != nil:
		v.past, v.moved, v.group = nil, false, ""
	default:
		v.moved, v.back = false, 0
	}
}

// choose chooses a lane by its place.
func (v *runView) choose(at int) {
	if len(v.lanes) == 0 {
		return
	}
	l := v.lanes[min(max(at, 0), len(v.lanes)-1)]
	v.moved, v.back, v.group, v.node = true, 0, l.Group, l.Name
	if l.folded != nil {
		v.node = ""
	}
}

// walk goes to the step before or after on the same node.
func (v *runView) walk(w *world, c api.Cell, on bool) {
	of := cells(v.state(w), c.Node)
	at := slices.IndexFunc(of, func(o api.Cell) bool { return o.Step == c.Step })
	if on {
		at++
	} else {
		at--
	}
	if at >= 0 && at < len(of) {
		v.moved, v.step, v.back = true, of[at].Step, 0
	}
}

// unfold shows each node of the chosen lane's group, or folds it.
func (v *runView) unfold(w *world, open bool) {
	if v.open == nil {
		v.open = map[string]bool{}
	}
	folded := v.node == ""
	if open && !folded {
		return
	}
	v.open[v.group], v.moved = folded, true
	v.node = ""
	if folded {
		for _, n := range v.state(w).Plan.Nodes {
			if n.Group == v.group {
				v.node = n.Name
				break
			}
		}
	}
}

// skip asks, then goes on with the cell taken for done.
func (v *runView) skip(a *App, c api.Cell) tea.Cmd {
	if v.past != nil || c.State != api.Failed || a.world.running() {
		a.say(false, "only a step that failed is skipped; pick it first")
		return nil
	}
	a.ask = &question{
		words: []string{fmt.Sprintf("Skip %s on %s?", c.Step, c.Node), "It is taken for done, and what needs it goes on. The record says that it was skipped."},
		yes: func() tea.Cmd {
			return a.provision(api.Ways{Skip: []schedule.Cell{{Step: c.Step, Node: c.Node}}})
		},
		no: "nothing was skipped",
	}
	return nil
}

func (v *runView) click(a *App, x, y int) tea.Cmd {
	w := &a.world
	if v.whole || !v.shows(w) || v.rows == 0 || y < laneTop {
		return nil
	}
	at := v.top + (y-laneTop)/v.rows
	if at >= len(v.lanes) {
		return nil
	}
	v.choose(at)
	// The cell under the pointer, or the last one that began before it.
	axis := draw.NewAxis(a.width-laneLabel-2, v.span(w, v.elapsed(w)))
	for _, c := range cells(v.state(w), v.node) {
		if !c.Started.IsZero() && laneLabel+axis.At(c.Started.Sub(v.state(w).Run.Started)) <= x {
			v.step = c.Step
		}
	}
	return nil
}

func (v *runView) keys(w *world) []binding {
	if !v.shows(w) {
		return []binding{{"p", "provision"}, {"r", "rehearse"}, {"q", "leave"}}
	}
	if v.search.typing {
		return []binding{{"Enter", "looks for it"}, {"Esc", "no search"}}
	}
	if v.whole {
		return []binding{{"↑↓", "scroll"}, {"/", "search"}, {"Enter", "back to the lanes"}}
	}
	keys := []binding{{"↑↓←→", "pick a cell"}, {"Enter", "its output whole"}}
	switch {
	case v.past != nil:
		keys = append(keys, binding{"Esc", "the newest run"})
	case w.rests():
		keys = append(keys, w.restKey())
	case w.running():
		keys = append(keys, binding{"x", "cancel the run"})
	case w.state.Run.Outcome != api.OutcomeDone:
		keys = append(keys, binding{"g", "go on"}, binding{"e", "edit the script"}, binding{"s", "skip"})
	}
	return append(keys, binding{"/", "search"}, binding{"b", "side by side"}, binding{"[ ]", "earlier and later runs"}, binding{"f", "fold the group"}, binding{"!", "shell there"},
		binding{"r", "rehearse"}, binding{"t", "tear down"})
}
