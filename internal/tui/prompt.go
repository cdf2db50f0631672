package tui

import (
	"slices"

	tea "charm.land/bubbletea/v2"

	"kettlehole/internal/tui/cell"
)

// prompt is a line that a person types into, in the place of messages.
type prompt struct {
	label   string
	text    string
	choices []string // that up and down go through; may be empty
	enter   func(text string) tea.Cmd
}

// press handles a key and tells whether the line is still open.
func (p *prompt) press(key string) (tea.Cmd, bool) {
	switch key {
	case "enter":
		if p.text == "" {
			return nil, false
		}
		return p.enter(p.text), false
	case "esc", "ctrl+c":
		return nil, false
	case "backspace":
		if runes := []rune(p.text); len(runes) > 0 {
			p.text = string(runes[:len(runes)-1])
		}
	case "ctrl+u":
		p.text = ""
	case "up", "down", "tab":
		p.choose(key)
	case "space":
		p.text += " "
	default:
		if len([]rune(key)) == 1 {
			p.text += key
		}
	}
	return nil, true
}

func (p *prompt) choose(key string) {
	if len(p.choices) == 0 {
		return
	}
	at := slices.Index(p.choices, p.text)
	switch {
	case key != "up":
		at = (at + 1) % len(p.choices)
	case at <= 0:
		at = len(p.choices) - 1
	default:
		at--
	}
	p.text = p.choices[at]
}

// paste takes several characters at once, the first line of them.
func (p *prompt) paste(text string) { p.text += firstLine(text) }

func (p *prompt) draw(w *world, g *cell.Grid) {
	y := g.Height - 2
	g.Clear(0, y, g.Width, 1)
	x := g.Text(1, y, cell.Fore(w.theme.Motion), p.label)
	room := max(g.Width-x-4, 1)
	shown := []rune(p.text)
	for cell.Width(string(shown)) > room && len(shown) > 0 {
		shown = shown[1:]
	}
	x = g.Text(x+1, y, w.text().Strong(), string(shown))
	x = g.Text(x, y, cell.Fore(w.theme.Motion), "▏")
	hints := []binding{{"Enter", "does it"}, {"Esc", "leaves it"}}
	if len(p.choices) > 1 {
		hints = append([]binding{{"↑↓", "others"}}, hints...)
	}
	width := 0
	for _, h := range hints {
		width += cell.Width(h.key) + 1 + cell.Width(h.does) + 3
	}
	if at := g.Width - width; at > x+2 {
		for _, h := range hints {
			at = g.Text(at, y, w.key(), h.key)
			at = g.Text(at+1, y, w.dim(), h.does) + 3
		}
	}
}
