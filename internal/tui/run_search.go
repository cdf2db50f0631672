package tui

import (
	"fmt"
	"strings"

	"kettlehole/internal/tui/cell"
)

// search looks for a text in the output that is shown.
type search struct {
	typing bool
	text   string
	found  []int // lines, indices into the output
	at     int   // which of them was gone to last
}

// press handles a key while the text is typed, and tells whether that goes on.
func (s *search) press(key string) {
	switch key {
	case "enter":
		s.typing = false
	case "esc":
		*s = search{}
	case "backspace":
		if runes := []rune(s.text); len(runes) > 0 {
			s.text = string(runes[:len(runes)-1])
		}
	case "space":
		s.text += " "
	default:
		if len([]rune(key)) == 1 {
			s.text += key
		}
	}
}

// look finds the lines, from the newest on.
func (s *search) look(lines []logLine) {
	s.found = s.found[:0]
	if s.text == "" {
		return
	}
	for i := len(lines) - 1; i >= 0; i-- {
		if strings.Contains(strings.ToLower(lines[i].text), strings.ToLower(s.text)) {
			s.found = append(s.found, i)
		}
	}
	s.at = min(s.at, max(len(s.found)-1, 0))
}

// next goes to the next line upwards, or downwards, and gives how many lines
// the output must be scrolled back to show it in the middle.
func (s *search) next(by, lines, room int) int {
	if len(s.found) == 0 {
		return 0
	}
	s.at = (s.at + by + len(s.found)) % len(s.found)
	return max(lines-s.found[s.at]-room/2, 0)
}

// draw writes what is looked for, between two columns.
func (s *search) draw(w *world, g *cell.Grid, x, end int) {
	if !s.typing && s.text == "" {
		return
	}
	words := "/" + s.text
	switch {
	case s.typing:
		words += "▏"
	case len(s.found) == 0:
		words += "  nowhere here"
	default:
		words += fmt.Sprintf("  %d of %d lines, n and N go on", s.at+1, len(s.found))
	}
	g.Clip(max(end-cell.Width(words), x), 0, end-x, cell.Fore(w.theme.Motion), words)
}

// mark shows where the text stands in a line.
func (s *search) mark(w *world, g *cell.Grid, x, y, width int, line string, index int) {
	if s.text == "" || len(s.found) == 0 {
		return
	}
	at := strings.Index(strings.ToLower(line), strings.ToLower(s.text))
	if at < 0 || len(strings.ToLower(line)) != len(line) {
		return
	}
	style := w.text().On(w.theme.Chosen)
	if s.found[min(s.at, len(s.found)-1)] == index {
		style = style.Strong()
		g.Text(10, y, cell.Fore(w.theme.Motion), "▸")
	}
	before := cell.Width(line[:at])
	if before < width {
		g.Clip(x+before, y, width-before, style, line[at:at+len(s.text)])
	}
}
