// Package cell is a grid of character cells on which views are drawn. What
// lies outside of the grid is left out, so that nothing ever breaks a line.
package cell

import (
	"image/color"
	"strings"
	"unicode/utf8"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"
)

// Style is how a cell looks. The zero Style is the terminal's own.
type Style struct {
	Fore, Back color.Color
	Bold       bool
	Underline  bool
}

// On gives the style with another background.
func (s Style) On(back color.Color) Style { s.Back = back; return s }

// Strong gives the style in bold.
func (s Style) Strong() Style { s.Bold = true; return s }

// Fore is a style of one colour.
func Fore(c color.Color) Style { return Style{Fore: c} }

type one struct {
	text  string // empty for the second half of a wide character
	style Style
}

// Grid is a rectangle of cells. The zero Grid has none.
type Grid struct {
	Width, Height int
	cells         []one
}

// New gives a grid of blanks.
func New(width, height int) *Grid {
	g := &Grid{Width: max(width, 0), Height: max(height, 0)}
	g.cells = make([]one, g.Width*g.Height)
	for i := range g.cells {
		g.cells[i].text = " "
	}
	return g
}

// Text writes a line of text from (x, y) and gives the column after it.
// Control characters are left out; wide characters take two cells.
func (g *Grid) Text(x, y int, style Style, text string) int {
	for _, r := range text {
		if r < ' ' || r == 0x7f || r == utf8.RuneError {
			if r != utf8.RuneError {
				continue
			}
			r = '·'
		}
		width := ansi.StringWidth(string(r))
		if width == 0 {
			continue
		}
		if y >= 0 && y < g.Height && x >= 0 && x+width <= g.Width {
			at := y*g.Width + x
			if style.Back == nil {
				style.Back = g.cells[at].style.Back
				g.cells[at] = one{string(r), style}
				style.Back = nil
			} else {
				g.cells[at] = one{string(r), style}
			}
			if width == 2 {
				g.cells[at+1] = one{"", style}
			}
		}
		x += width
	}
	return x
}

// Clip writes text that may take at most width cells; an ellipsis stands for
// what is left out.
func (g *Grid) Clip(x, y, width int, style Style, text string) int {
	return g.Text(x, y, style, Cut(text, width))
}

// Cut shortens text to width cells, with an ellipsis where something is left
// out.
func Cut(text string, width int) string {
	if width <= 0 {
		return ""
	}
	return ansi.Truncate(text, width, "…")
}

// Width is how many cells a text takes.
func Width(text string) int { return ansi.StringWidth(text) }

// Right writes text that ends before column x.
func (g *Grid) Right(x, y int, style Style, text string) { g.Text(x-Width(text), y, style, text) }

// Fill gives a rectangle a background.
func (g *Grid) Fill(x, y, width, height int, back color.Color) {
	for row := max(y, 0); row < min(y+height, g.Height); row++ {
		for column := max(x, 0); column < min(x+width, g.Width); column++ {
			g.cells[row*g.Width+column].style.Back = back
		}
	}
}

// Clear makes a rectangle blank.
func (g *Grid) Clear(x, y, width, height int) {
	for row := max(y, 0); row < min(y+height, g.Height); row++ {
		for column := max(x, 0); column < min(x+width, g.Width); column++ {
			g.cells[row*g.Width+column] = one{text: " "}
		}
	}
}

// Line draws a horizontal line.
func (g *Grid) Line(x, y, width int, style Style, text string) {
	g.Text(x, y, style, strings.Repeat(text, max(width, 0)))
}

// Draw copies another grid to (x, y).
func (g *Grid) Draw(x, y int, from *Grid) {
	for row := range from.Height {
		for column := range from.Width {
			if y+row >= 0 && y+row < g.Height && x+column >= 0 && x+column < g.Width {
				g.cells[(y+row)*g.Width+x+column] = from.cells[row*from.Width+column]
			}
		}
	}
}

// Plain gives the grid as text without any style.
func (g *Grid) Plain() string { return g.render(func(_ Style, text string) string { return text }) }

// String gives the grid as text with colours.
func (g *Grid) String() string {
	return g.render(func(s Style, text string) string {
		if s == (Style{}) {
			return text
		}
		style := lipgloss.NewStyle().Bold(s.Bold).Underline(s.Underline)
		if s.Fore != nil {
			style = style.Foreground(s.Fore)
		}
		if s.Back != nil {
			style = style.Background(s.Back)
		}
		return style.Render(text)
	})
}

func (g *Grid) render(paint func(Style, string) string) string {
	var b, run strings.Builder
	for row := range g.Height {
		if row > 0 {
			b.WriteByte('\n')
		}
		cells := g.cells[row*g.Width : (row+1)*g.Width]
		for i := 0; i < len(cells); {
			run.Reset()
			style := cells[i].style
			for ; i < len(cells) && cells[i].style == style; i++ {
				run.WriteString(cells[i].text)
			}
			b.WriteString(paint(style, run.String()))
		}
	}
	return b.String()
}
