package tui

import (
	"context"
	"fmt"
	"slices"
	"time"

	tea "charm.land/bubbletea/v2"

	"kettlehole/internal/agent"
	"kettlehole/internal/answers"
	"kettlehole/internal/draw"
	"kettlehole/internal/plan"
	"kettlehole/internal/tui/cell"
)

// asked is a command on several nodes, and what they answered.
type asked struct {
	command string
	nodes   []string
	began   time.Time
	took    time.Duration // zero while it goes on
	so      int           // nodes that have answered
	groups  []answers.Group
	top     int // first line that is shown
	lines   int // when last drawn
	cancel  context.CancelFunc
}

type (
	answeredMsg struct {
		to    *asked
		final []answers.Answer // nil while it goes on
	}
)

// chosen are the nodes that a command runs on: those that are marked, else the
// one that is chosen.
func (v *nodesView) targets(w *world) []string {
	var all []string
	for _, n := range w.plan().Nodes {
		if v.marked[n.Name] {
			all = append(all, n.Name)
		}
	}
	if len(all) == 0 {
		if n, ok := v.node(w); ok {
			all = append(all, n.Name)
		}
	}
	return all
}

// mark marks a node, or takes its mark away.
func (v *nodesView) mark(node string) {
	if v.marked == nil {
		v.marked = map[string]bool{}
	}
	if v.marked[node] {
		delete(v.marked, node)
	} else {
		v.marked[node] = true
	}
}

// markAll marks all nodes, or none where all are marked.
func (v *nodesView) markAll(w *world) {
	nodes := w.plan().Nodes
	all := len(v.marked) == len(nodes)
	v.marked = map[string]bool{}
	if !all {
		for _, n := range nodes {
			v.marked[n.Name] = true
		}
	}
}

// promptCommand asks for a command to run on the nodes.
func (v *nodesView) promptCommand(a *App) {
	nodes := v.targets(&a.world)
	label := "run on " + plan.Short(nodes) + ":"
	if cell.Width(label) > 40 {
		label = "run on " + count(len(nodes), "node") + ":"
	}
	a.prompt = &prompt{label: label, choices: v.commands, enter: func(text string) tea.Cmd { return v.ask(a, nodes, text) }}
}

// ask runs a command on nodes in the background.
func (v *nodesView) ask(a *App, nodes []string, text string) tea.Cmd {
	v.commands = append(slices.DeleteFunc(v.commands, func(c string) bool { return c == text }), text)
	v.hideAnswers()
	ctx, cancel := context.WithCancel(a.ctx)
	one := &asked{command: text, nodes: nodes, began: a.options.Now(), cancel: cancel}
	v.asked = one
	lab := a.options.Station.Open(a.world.lab)
	return func() tea.Msg {
		defer cancel()
		all := lab.Ask(ctx, nodes, agent.Exec{Argv: []string{"/bin/sh", "-c", text}}, func(answers.Answer) { a.send(answeredMsg{to: one}) })
		return answeredMsg{to: one, final: all}
	}
}

// answered takes what came in.
func (v *nodesView) answered(a *App, msg answeredMsg) {
	if msg.to != v.asked {
		return
	}
	if msg.final == nil {
		msg.to.so++
		return
	}
	msg.to.took, msg.to.groups = max(a.options.Now().Sub(msg.to.began), 1), answers.Compare(msg.final)
}

func (v *nodesView) hideAnswers() {
	if v.asked != nil {
		v.asked.cancel()
		v.asked = nil
	}
}

// drawAnswers shows what the nodes said, those that said the same together.
func (v *nodesView) drawAnswers(w *world, g *cell.Grid) {
	one := v.asked
	g.Clip(0, 1, g.Width, w.text().Strong(), one.command)
	x := g.Text(0, 2, w.dim(), "on "+count(len(one.nodes), "node"))
	if one.took == 0 {
		x = g.Text(x+3, 2, cell.Fore(w.theme.Motion), fmt.Sprintf("%d answered", one.so))
		g.Text(x+3, 2, w.dim(), draw.Moment(max(w.now.Sub(one.began), 0), time.Second/10))
		return
	}
	x = g.Text(x+3, 2, w.dim(), "after "+took(one.took))
	switch {
	case len(one.nodes) == 1:
	case len(one.groups) == 1:
		g.Text(x+3, 2, cell.Fore(w.theme.Moss), "all said the same")
	default:
		g.Text(x+3, 2, cell.Fore(w.theme.Ochre), fmt.Sprintf("%d different answers", len(one.groups)))
	}
	below := answerLines(w, one.groups)
	room := g.Height - 5
	one.lines = len(below)
	one.top = max(min(one.top, len(below)-room), 0)
	for i, line := range below[one.top:] {
		if i >= room {
			break
		}
		line(g, 4+i)
	}
	if len(below) > room {
		g.Right(g.Width-1, g.Height-1, w.faint(), fmt.Sprintf("lines %d to %d of %d", one.top+1, min(one.top+room, len(below)), len(below)))
	}
}

// took writes how long something took: "12 ms", "3.4 s".
func took(d time.Duration) string {
	if d < time.Second {
		return fmt.Sprintf("%d ms", max(d.Milliseconds(), 1))
	}
	return fmt.Sprintf("%.1f s", d.Seconds())
}

// answerLines are the lines of all groups, as functions that draw them.
func answerLines(w *world, groups []answers.Group) []func(g *cell.Grid, y int) {
	var all []func(g *cell.Grid, y int)
	for i, group := range groups {
		if i > 0 {
			all = append(all, func(*cell.Grid, int) {})
		}
		all = append(all, func(g *cell.Grid, y int) {
			how, style := "exit code 0", cell.Fore(w.theme.Moss)
			switch {
			case group.Failed != "":
				how, style = group.Failed, cell.Fore(w.theme.Brick)
			case group.Exit != 0:
				how, style = fmt.Sprintf("exit code %d", group.Exit), cell.Fore(w.theme.Brick)
			}
			x := g.Clip(0, y, max(g.Width-26, 10), w.text().Strong(), plan.Short(group.Nodes))
			if len(group.Nodes) > 1 {
				x = g.Text(x+3, y, w.dim(), count(len(group.Nodes), "node"))
			}
			g.Clip(x+3, y, g.Width-x-3, style, how)
		})
		for _, line := range group.Lines {
			all = append(all, func(g *cell.Grid, y int) {
				sign, style := " ", w.text()
				switch line.Mark {
				case answers.Own:
					sign, style = "+", cell.Fore(w.theme.Ochre)
				case answers.Lacks:
					sign, style = "−", w.dim()
				}
				g.Text(0, y, style, sign)
				g.Clip(2, y, g.Width-2, style, line.Text)
			})
		}
		if len(group.Lines) == 0 && group.Failed == "" {
			all = append(all, func(g *cell.Grid, y int) { g.Text(2, y, w.faint(), "no output") })
		}
	}
	return all
}
