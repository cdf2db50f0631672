package tui

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	tea "charm.land/bubbletea/v2"

	"kettlehole/internal/api"
	"kettlehole/internal/plan"
)

// provision begins a run.
func (a *App) provision(ways api.Ways) tea.Cmd {
	w := &a.world
	switch {
	case w.running():
		a.say(false, "run %d goes on", w.state.Run.N)
		return nil
	case w.file == "":
		a.say(true, "no lab file is open")
		return nil
	}
	a.remap()
	if !w.mapping.Good() || w.mapErr != nil {
		a.current = viewPlan
		a.say(true, "the lab file has errors; nothing was made")
		return nil
	}
	lab, wanted := a.options.Station.Open(w.lab), api.Wanted{File: w.mapping.File, Inputs: w.given, Tight: a.options.Tight, Ways: ways}
	begin := func() tea.Cmd {
		a.showRun()
		return func() tea.Msg { return doneMsg{"provision", lab.Provision(a.ctx, wanted)} }
	}
	var lost []string
	if changes := w.difference(); len(changes) > 0 {
		for _, c := range plan.Losses(changes, a.options.Station.Made(w.lab)) {
			lost = append(lost, fmt.Sprintf("%s %s", c.Name, c.Kind))
		}
	}
	if len(lost) == 0 {
		return begin()
	}
	wanted.Agreed = true
	more := ""
	if len(lost) > 6 {
		lost, more = lost[:6], fmt.Sprintf(" and %d more", len(lost)-6)
	}
	a.ask = &question{
		words: []string{"Change the living lab?", "What is on these nodes is lost: " + strings.Join(lost, ", ") + more + "."},
		yes:   begin,
	}
	return nil
}

// showRun shows the run that is about to begin.
func (a *App) showRun() {
	a.current = viewRun
	v := a.views[viewRun].(*runView)
	v.past, v.moved = nil, false
	a.feed.expect()
}

// stopOrStart brings a lab back that is stopped, or asks and stops it.
func (a *App) stopOrStart(name string, state api.State) tea.Cmd {
	lab := a.options.Station.Open(name)
	switch {
	case state.Plan == nil || state.Phase == api.PhaseGone || state.Phase == api.PhaseLeaving:
		a.say(true, "no lab lives here that could be stopped")
	case state.Phase == api.PhaseStopping:
		a.say(false, "%s is being stopped", name)
	case state.Phase == api.PhaseStopped:
		if name == a.world.lab {
			a.showRun()
		}
		return func() tea.Msg { return doneMsg{"start", lab.Start(a.ctx, api.Wanted{Tight: a.options.Tight})} }
	default:
		words := []string{fmt.Sprintf("Stop %s?", name),
			fmt.Sprintf("All programs on its %s end. Disks, addresses and ports stay, and S brings it back.", count(len(state.Plan.Nodes), "node"))}
		if state.Run.N > 0 && state.Run.Outcome == "" {
			words = append(words, fmt.Sprintf("Run %d is cancelled.", state.Run.N))
		}
		a.ask = &question{words: words, no: "nothing was stopped", yes: func() tea.Cmd {
			return func() tea.Msg { return doneMsg{"stop", lab.Stop(a.ctx)} }
		}}
	}
	return nil
}

// restKey is the key that stops the open lab, or starts it.
func (w *world) restKey() binding {
	if w.rests() {
		return binding{"S", "start the lab"}
	}
	return binding{"S", "stop the lab"}
}

// teardown asks, then takes the lab down.
func (a *App) teardown() tea.Cmd {
	w := &a.world
	if !w.lives() {
		a.say(true, "no lab lives here that could be torn down")
		return nil
	}
	p := w.state.Plan
	a.ask = &question{
		words: []string{
			fmt.Sprintf("Take down %s?", w.lab),
			fmt.Sprintf("This takes away %s with all that is on them, %s and %s.", count(len(p.Nodes), "node"), count(len(p.Networks), "network"), count(len(p.Forwards), "forward")),
		},
		yes: func() tea.Cmd {
			a.current = viewLedger
			lab := a.options.Station.Open(w.lab)
			return func() tea.Msg { return doneMsg{"teardown", lab.Teardown(a.ctx)} }
		},
	}
	return nil
}

func count(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}

func (a *App) cancelRun() tea.Cmd {
	w := &a.world
	if !w.running() {
		return nil
	}
	a.ask = &question{
		words: []string{fmt.Sprintf("Cancel run %d?", w.state.Run.N), "Scripts that run are ended; nodes and finished steps stay, and p goes on from there."},
		yes: func() tea.Cmd {
			lab := a.options.Station.Open(w.lab)
			return func() tea.Msg { return doneMsg{"cancel", lab.Cancel(a.ctx)} }
		},
	}
	return nil
}

// shell hands the terminal to a shell on a node.
func (a *App) shell(node string) tea.Cmd {
	if state := a.world.node(node).State; !api.Runs(state) {
		a.say(true, "%s is %s; there is no shell on it", node, state)
		return nil
	}
	return tea.ExecProcess(a.options.Shell(a.world.lab, node), func(err error) tea.Msg {
		if _, ended := err.(*exec.ExitError); ended {
			err = nil // the shell's own exit code is no failure of ours
		}
		return doneMsg{"shell on " + node, err}
	})
}

// editing is what a [doneMsg] of the editor is about.
const editing = "the editor"

// editor is the command that edits a file, as the person set it, or one that
// this workstation has.
func editor() []string {
	for _, variable := range []string{"VISUAL", "EDITOR"} {
		if words := strings.Fields(os.Getenv(variable)); len(words) > 0 {
			return words
		}
	}
	for _, name := range []string{"editor", "nano", "vi"} {
		if path, err := exec.LookPath(name); err == nil {
			return []string{path}
		}
	}
	return nil
}

// edit hands the terminal to the person's editor at a line of a file.
func (a *App) edit(file string, line int) tea.Cmd {
	editor := editor()
	if len(editor) == 0 {
		a.say(true, "set EDITOR to open %s here; the place is line %d", filepath.Base(file), line)
		return nil
	}
	cmd := exec.Command(editor[0], append(editor[1:], fmt.Sprintf("+%d", max(line, 1)), file)...)
	return tea.ExecProcess(cmd, func(err error) tea.Msg {
		return doneMsg{editing, err}
	})
}
