package tui

import (
	tea "charm.land/bubbletea/v2"

	"kettlehole/internal/tui/cell"
)

// binding is a key with what it does here.
type binding struct{ key, does string }

// view is one of the screens. A view draws from the world and asks the app for
// actions; it keeps only where a person is in it.
type view interface {
	name() string
	// draw fills the grid, which is the space between the frame's lines.
	draw(w *world, g *cell.Grid)
	// press handles a key and tells whether it was meant for the view.
	press(a *App, key string) (tea.Cmd, bool)
	// click handles a mouse click inside the grid; wheel a turn of the wheel.
	click(a *App, x, y int) tea.Cmd
	wheel(a *App, lines int)
	// keys are the keys that matter now, the most important first.
	keys(w *world) []binding
}

// list is a place in a list that is longer than its space.
type list struct{ chosen, top int }

// move moves by some lines.
func (l *list) move(lines, count int) { l.chosen = min(max(l.chosen+lines, 0), max(count-1, 0)) }

// fit keeps the place in the list and the chosen line in sight.
func (l *list) fit(count, height int) {
	l.move(0, count)
	l.top = min(max(l.top, l.chosen-height+1), l.chosen)
	l.top = max(min(l.top, count-height), 0)
}

// step is how far a key moves in a list, 0 for other keys.
func step(key string, page int) int {
	switch key {
	case "up", "k":
		return -1
	case "down", "j":
		return 1
	case "pgup":
		return -page
	case "pgdown":
		return page
	case "home":
		return -1 << 20
	case "end":
		return 1 << 20
	}
	return 0
}
