package tui

import (
	"fmt"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kettlehole/internal/api"
	"kettlehole/internal/schedule"
)

// failed is the state of the lab at the end of a run that failed.
func failed(a *App) api.State {
	s := state(a)
	s.Run.Outcome, s.Run.Ended, s.Error = api.OutcomeFailed, noon, "step join on council-2: exit code 7"
	s.Run.Chain = []schedule.Cell{{Step: "prepare", Node: "council-1"}, {Step: "found", Node: "council-1"}, {Step: "join", Node: "council-2"}}
	return s
}

func TestExpectedEndAndChain(t *testing.T) {
	a := shown(t, 160, 40, desk)
	s := state(a)
	s.Run.Expected, s.Run.Guessed = noon.Add(4*time.Second), 1
	s.Run.Chain = failed(a).Run.Chain
	a.Update(stateMsg{"desk", s})
	press(a, "3")
	screen := text(a)
	for _, want := range []string{"run 1 0:03.0 of about 0:07.0", "about 4.0 s more, with 1 step never seen here", "now", " end", "█ longest chain council-1: prepare, found → council-2: join"} {
		assert.Contains(t, screen, want)
	}
	lanes := strings.Split(screen, "\n")
	assert.Contains(t, lanes[6], "█", "the chain is drawn fuller than the rest")
	assert.NotContains(t, lanes[10][len("a lane's label with its level and state"):], "█")
}

func TestSearch(t *testing.T) {
	a := shown(t, 160, 40, desk)
	a.Update(stateMsg{"desk", failed(a)})
	press(a, "3")
	var lines []string
	for i := range 100 {
		lines = append(lines, fmt.Sprintf("line %d of it%s", i, strings.Repeat(", with a Needle", i%40/39)))
	}
	a.Update(outputMsg{a.output.source, lines})
	assert.NotContains(t, text(a), "line 39 ")
	press(a, "/", "n", "e", "e", "d", "x", "backspace", "l")
	assert.Contains(t, text(a), "/needl▏")
	press(a, "enter")
	assert.Contains(t, text(a), "1 of 2 lines, n and N go on")
	assert.Contains(t, text(a), "▸line 79 of it, with a Needle")
	press(a, "n")
	assert.Contains(t, text(a), "▸line 39 of it")
	press(a, "n")
	assert.Contains(t, text(a), "▸line 79 of it", "it begins again")
	press(a, "/", "q", "enter")
	assert.Contains(t, text(a), "/q  nowhere here", "letters are the text's while it is typed")
	press(a, "esc")
	assert.NotContains(t, text(a), "nowhere")
	assert.Equal(t, viewRun, a.current)
}

// Sixty lanes fit, folded by group; a group opens and folds again.
func TestFolding(t *testing.T) {
	a := shown(t, 160, 40, strings.Replace(desk, "count: 3", "count: 60", 1))
	a.Update(stateMsg{"desk", state(a)})
	press(a, "3")
	screen := text(a)
	assert.Contains(t, screen, "council ×60")
	assert.Contains(t, screen, "gate-1")
	press(a, "home")
	assert.Contains(t, text(a), "folded; Enter shows each node")
	assert.Contains(t, text(a), "60 done")
	press(a, "enter")
	screen = text(a)
	assert.Contains(t, screen, "council-2 ")
	assert.Contains(t, screen, "lanes, ↑↓ shows the others")
	press(a, "end")
	assert.Contains(t, text(a), "gate-1")
	press(a, "up")
	assert.Contains(t, text(a), "council-60  prepare")
	press(a, "f")
	assert.Contains(t, text(a), "council ×60")
}

func TestEarlierRunsAndRehearsal(t *testing.T) {
	a := shown(t, 160, 40, desk)
	press(a, "3", "r")
	screen := text(a)
	for _, want := range []string{"rehearsed: done after", "nothing was made", "never seen here, and taken to last a second: nodes, prepare, found, join", "This is a rehearsal: no script runs."} {
		assert.Contains(t, screen, want)
	}
	press(a, "[")
	assert.Contains(t, text(a), "the lab has no other run")
	press(a, "esc")
	assert.Contains(t, text(a), "Nothing has run yet.")
	s := failed(a)
	s.Run.N = 3
	a.Update(stateMsg{"desk", s})
	press(a, "]")
	assert.Contains(t, text(a), "run 3 is the newest")
	assert.NotNil(t, a.lookAtRun(2))
	first := state(a)
	first.Run.N, first.Run.Outcome, first.Run.Ended = 2, api.OutcomeDone, noon.Add(5*time.Second)
	a.Update(pastMsg{state: first})
	assert.Contains(t, text(a), "run 2 done after 8.0 s")
	assert.NotContains(t, text(a), "from here", "nothing can be done about a run that is over")
	press(a, "s")
	assert.Contains(t, text(a), "only a step that failed is skipped")
	press(a, "]")
	assert.Contains(t, text(a), "run 3 failed after")
	assert.Nil(t, a.lookAtRun(0))
	assert.Contains(t, text(a), "run 1 was the first")
	a.Update(pastMsg{err: assert.AnError})
	assert.Contains(t, text(a), assert.AnError.Error())
	broken := shown(t, 160, 40, "lab: x\n")
	press(broken, "3", "r")
	assert.Contains(t, text(broken), "nothing was rehearsed")
}

func TestSkipAsksAndBeside(t *testing.T) {
	a := shown(t, 160, 40, desk)
	a.Update(stateMsg{"desk", failed(a)})
	press(a, "3")
	assert.Contains(t, text(a), "skip it: it is taken for done")
	press(a, "s")
	assert.Contains(t, text(a), "Skip join on council-2?")
	press(a, "n")
	assert.Contains(t, text(a), "nothing was skipped")
	press(a, "b")
	a.Update(besideMsg{"council-2/join.run1": {"what it said"}})
	screen := text(a)
	assert.Contains(t, screen, "what it said")
	assert.Contains(t, screen, "council-3  join  waits for ticket from council-1")
	press(a, "esc")
	assert.NotContains(t, text(a), "what it said")
	// After the editor it is asked whether to go on.
	t.Setenv("EDITOR", "true")
	press(a, "e")
	a.Update(doneMsg{editing, nil})
	assert.Contains(t, text(a), "Go on with the run?")
	press(a, "n")
	assert.Contains(t, text(a), "g goes on later")
	a.Update(doneMsg{editing, nil})
	assert.Nil(t, a.ask, "only once")
	_, isModel := any(a).(tea.Model)
	require.True(t, isModel)
}

// BenchmarkKey answers a key with 60 lanes, 20 steps and a full output.
func BenchmarkKey(b *testing.B) {
	a := shown(b, 160, 42, strings.Replace(desk, "count: 3", "count: 59", 1))
	a.Update(stateMsg{"desk", state(a)})
	press(a, "3")
	var lines []string
	for range outputLines {
		lines = append(lines, "2026-11-23T11:59:58.500Z "+strings.Repeat("7", 1000))
	}
	a.Update(outputMsg{a.output.source, lines})
	keys := []string{"up", "down"}
	for i := 0; b.Loop(); i++ {
		a.press(keys[i%2])
		_ = a.View()
	}
}
