package tui

import (
	"context"
	"io"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"kettlehole/internal/api"
	"kettlehole/internal/rehearsal"
	"kettlehole/internal/run"
)

// pastMsg is a run that is over, or a rehearsal, to be looked at.
type pastMsg struct {
	state api.State
	err   error
}

// lookAtRun shows an earlier run of the lab, or the newest again.
func (a *App) lookAtRun(n int) tea.Cmd {
	w := &a.world
	v := a.views[viewRun].(*runView)
	newest := w.state.Run.N
	switch {
	case !w.lives() || v.past != nil && v.past.Run.Rehearsed:
		a.say(false, "the lab has no other run")
		return nil
	case n >= newest:
		if v.past == nil {
			a.say(false, "run %d is the newest", newest)
		}
		v.past, v.moved = nil, false
		return nil
	case n < 1:
		a.say(false, "run 1 was the first")
		return nil
	}
	lab := w.lab
	return func() tea.Msg {
		state, err := a.options.Station.Picture(a.ctx, lab, n)
		return pastMsg{state, err}
	}
}

// rehearse goes through a run of the open file in virtual time.
func (a *App) rehearse() tea.Cmd {
	w := &a.world
	if w.file == "" {
		a.say(true, "no lab file is open")
		return nil
	}
	a.current = viewRun
	room := rehearsal.Room
	m, err := a.read(w.file, &room)
	if err != nil || !m.Good() {
		a.current = viewPlan
		a.say(true, "the lab file has errors; nothing was rehearsed")
		return nil
	}
	times, err := a.options.Station.Times()
	if err != nil {
		times = nil // then all is guessed, and said to be
	}
	r, err := rehearsal.Rehearse(rehearsal.Request{Plan: m.Plan, Graph: m.Graph, Times: times, Start: w.now})
	if err == nil && len(r.Guessed) > 0 {
		a.say(false, "never seen here, and taken to last a second: %s", strings.Join(r.Guessed, ", "))
	}
	a.look(pastMsg{r.State, err})
	return nil
}

// look shows a run that is over.
func (a *App) look(msg pastMsg) {
	if msg.err != nil {
		a.say(true, "%v", msg.err)
		return
	}
	v := a.views[viewRun].(*runView)
	v.past, v.moved, v.group, v.back = &msg.state, false, "", 0
}

// besideMsg is the output of a step on several nodes.
type besideMsg map[string][]string

func besideKey(c api.Cell) string { return c.Node + "/" + run.JobName(c.Run, c.Step) }

const (
	besideLines = 200     // kept of each output
	besideBytes = 1 << 20 // read of each output
)

// readBeside reads the outputs of the chosen step on all nodes, while the view
// shows them.
func (a *App) readBeside() tea.Cmd {
	w := &a.world
	v := a.views[viewRun].(*runView)
	c, one := v.cell(w)
	if a.current != viewRun || !v.beside || !one || !w.lives() {
		return nil
	}
	var all []api.Cell
	for _, other := range v.state(w).Cells {
		if other.Step == c.Step && other.Run > 0 && len(all) < besideNodes {
			all = append(all, other)
		}
	}
	lab := a.options.Station.Open(w.lab)
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(a.ctx, 2*time.Second)
		defer cancel()
		outputs := besideMsg{}
		for _, other := range all {
			log, err := lab.Logs(ctx, other.Node, run.JobName(other.Run, other.Step), false, false)
			if err != nil {
				continue // it has none
			}
			text, _ := io.ReadAll(io.LimitReader(log, besideBytes)) // what was read before an error is shown
			_ = log.Close()
			lines := strings.Split(strings.TrimRight(string(text), "\n"), "\n")
			lines = lines[max(0, len(lines)-besideLines):]
			for i, line := range lines {
				lines[i] = newLogLine(line).text
			}
			outputs[besideKey(other)] = lines
		}
		return outputs
	}
}

// besideNodes bounds of how many nodes outputs are read.
const besideNodes = 60
