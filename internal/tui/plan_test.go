package tui

import (
	"fmt"
	"os"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const dialled60 = `
lab: dials
inputs:
  stations: {default: 2, min: 1, max: 60, about: stations that post}
  size: {default: small, one of: [small, large]}
  open: false
  share: {default: 0.5, min: 0.1, max: 1}
  word: calm
about: ${size} ${word} ${open}
networks: {valley: {subnet: 10.61.0.0/24}}
groups:
  council: {count: 3, quorum: true, networks: {valley: .11}}
  station: {count: "${stations}", cpu: "${share}", memory: 64M, networks: {valley: .21}}
`

func TestDials(t *testing.T) {
	a := shown(t, 160, 40, dialled60)
	screen := text(a)
	for _, want := range []string{"inputs", "stations", "stations that post", "small  large", "false  true", "station-2", "station", "7 more; station-1 stops first", "1 of 3 may be lost; 5 would bear 2", "- + turn"} {
		assert.Contains(t, screen, want)
	}
	press(a, "+", "+")
	assert.Contains(t, text(a), "station-4")
	assert.Contains(t, text(a), "the file says 2")
	press(a, "-")
	assert.NotContains(t, text(a), "station-4")
	press(a, "enter", "6", "9")
	assert.Contains(t, text(a), "69▏")
	press(a, "enter")
	assert.Contains(t, text(a), "stations: it is at most 60")
	press(a, "enter", "6", "x", "backspace", "0", "enter")
	assert.Contains(t, text(a), "station-1…60")
	press(a, "backspace")
	assert.Contains(t, text(a), "station-2")
	assert.Empty(t, a.world.given)

	press(a, "down", "+", "+")
	assert.Contains(t, text(a), "large calm false")
	press(a, "down", "+")
	assert.Contains(t, text(a), "large calm true")
	press(a, "down", "+")
	assert.Equal(t, "0.545", a.world.mapping.Lab.Inputs[3].Value)
	press(a, "down", "enter", "q", "u", "i", "t", "space", "1", "enter")
	assert.Contains(t, text(a), "large quit 1 true", "keys that mean something elsewhere are text while one types")
	press(a, "enter", "z", "esc")
	assert.Contains(t, text(a), "large quit 1 true")
	assert.Len(t, a.world.given, 4)

	// The file is saved with other bounds: what was turned goes back, and that
	// is told.
	require.NoError(t, os.WriteFile(a.world.file, []byte(strings.Replace(dialled60, "[small, large]", "[small, huge]", 1)), 0o644))
	a.Update(savedMsg{})
	assert.Contains(t, text(a), "what was turned here no longer suits the file")
	assert.Contains(t, text(a), "small  huge")
	assert.Empty(t, a.world.given)
}

func TestDialByMouse(t *testing.T) {
	a := shown(t, 160, 40, dialled60)
	text(a)
	v := a.views[viewPlan].(*planView)
	at := -1
	for i, s := range v.spots {
		if s.scale && s.item == 0 {
			at = i
		}
	}
	require.GreaterOrEqual(t, at, 0)
	s := v.spots[at]
	a.Update(tea.MouseClickMsg{X: s.until - 1, Y: frameTop + s.y, Button: tea.MouseLeft})
	assert.Equal(t, "60", a.world.mapping.Lab.Inputs[0].Value)
	a.Update(tea.MouseClickMsg{X: s.from, Y: frameTop + s.y, Button: tea.MouseLeft})
	assert.Equal(t, "1", a.world.mapping.Lab.Inputs[0].Value)
	a.Update(tea.MouseClickMsg{X: s.from - 20, Y: frameTop + s.y + 2, Button: tea.MouseLeft})
	assert.Equal(t, 1, v.items.chosen)
}

// The difference to a living lab stands beside the section, and what would be
// lost is asked for before a run.
func TestDifferenceIsShown(t *testing.T) {
	a := shown(t, 160, 40, dialled60)
	living := a.world.mapping.Plan
	press(a, "+")
	a.world.mapping.Living = living
	assert.Contains(t, text(a), "to the living lab")
	assert.Contains(t, text(a), "new        station-3")
	a.world.mapping.Living, a.world.mapping.Plan = a.world.mapping.Plan, living
	assert.Contains(t, text(a), "goes       station-3")
	a.world.mapping.Living = living
	assert.Contains(t, text(a), "nothing; it stays as it is")
}

func TestPanning(t *testing.T) {
	var groups strings.Builder
	for i := range 30 {
		fmt.Fprintf(&groups, "  g%c%c: {count: 2, memory: 16M}\n", 'a'+i/26, 'a'+i%26)
	}
	a := shown(t, 120, 40, "lab: wide\ngroups:\n"+groups.String())
	assert.Contains(t, text(a), "more columns are to the right: ← →")
	for range 100 {
		press(a, "right")
		text(a)
	}
	assert.Contains(t, text(a), "gbd-1")
	assert.Contains(t, text(a), "more columns are to the left: ← →")
	press(a, "left")
	assert.Contains(t, text(a), "gbc-1")
}

// BenchmarkDial turns a dial and draws the screen with 60 nodes.
func BenchmarkDial(b *testing.B) {
	a := shown(b, 160, 40, strings.Replace(dialled60, "default: 2", "default: 57", 1))
	keys := []string{"-", "+"}
	for i := 0; b.Loop(); i++ {
		a.press(keys[i%2])
		_ = a.View()
	}
}

func TestOrderWithoutSteps(t *testing.T) {
	a := shown(t, 160, 40, "lab: desk\ngroups: {n: {memory: 64M}}\n")
	assert.Contains(t, text(a), "no steps: a node is ready when it has booted")
	assert.NotContains(t, text(a), "ends when")
}
