package cell_test

import (
	"strings"
	"testing"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kettlehole/internal/tui/cell"
)

func TestText(t *testing.T) {
	g := cell.New(8, 2)
	assert.Equal(t, 5, g.Text(1, 0, cell.Style{}, "four"))
	g.Text(6, 0, cell.Style{}, "outside")
	g.Text(-2, 1, cell.Style{}, "abcd")
	g.Text(3, 1, cell.Style{}, "日本")
	g.Text(0, 9, cell.Style{}, "nowhere")
	assert.Equal(t, " four ou\ncd 日本 ", g.Plain())
	g.Clear(0, 0, 8, 1)
	assert.Equal(t, "        ", strings.Split(g.Plain(), "\n")[0])
	g.Right(8, 0, cell.Style{}, "end")
	g.Clip(0, 0, 4, cell.Style{}, "too long")
	assert.Equal(t, "too… end", strings.Split(g.Plain(), "\n")[0])
	assert.Empty(t, cell.Cut("x", 0))
}

func TestStyles(t *testing.T) {
	red, blue := lipgloss.Color("#ff0000"), lipgloss.Color("#0000ff")
	g := cell.New(6, 1)
	g.Fill(0, 0, 6, 1, blue)
	g.Text(0, 0, cell.Fore(red).Strong(), "ab")
	out := g.String()
	assert.Contains(t, out, "38;2;255;0;0")
	assert.Equal(t, 2, strings.Count(out, "48;2;0;0;255"), "text keeps the background that was there")
	assert.Equal(t, "ab    ", ansi.Strip(out))
	other := cell.New(2, 1)
	other.Text(0, 0, cell.Style{}, "xy")
	g.Draw(5, 0, other)
	assert.Equal(t, "ab   x", g.Plain())
}

// Whatever is written wherever, each line is as wide as the grid and bears no
// control character.
func TestNeverBreaks(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		width, height := rapid.IntRange(0, 30).Draw(t, "width"), rapid.IntRange(1, 5).Draw(t, "height")
		g := cell.New(width, height)
		for range rapid.IntRange(0, 6).Draw(t, "texts") {
			g.Clip(rapid.IntRange(-5, 35).Draw(t, "x"), rapid.IntRange(-2, 7).Draw(t, "y"), rapid.IntRange(0, 40).Draw(t, "room"), cell.Style{}, ansi.Strip(rapid.String().Draw(t, "text")))
		}
		lines := strings.Split(g.Plain(), "\n")
		require.Len(t, lines, height)
		for _, line := range lines {
			for _, r := range line {
				require.False(t, r < ' ' || r == 0x7f, "%q", line)
			}
		}
	})
}
