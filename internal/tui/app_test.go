package tui

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kettlehole/internal/agent"
	"kettlehole/internal/api"
	"kettlehole/internal/audit"
	"kettlehole/internal/client"
	"kettlehole/internal/home"
	"kettlehole/internal/ledger"
	"kettlehole/internal/plan"
)

const desk = `
lab: desk
about: A desk.
networks: {valley: {subnet: 10.61.0.0/24}}
groups:
  council: {count: 3, networks: {valley: .11}, services: {cairn: {run: cairn}}}
  gate: {networks: {valley: .80}}
forwards: {door: auto -> gate-1:80}
steps:
  prepare: {on: all, run: echo x}
  found: {on: council-1, start: cairn, run: echo ticket=x, gives: {ticket: secret}, wait: {port: 7000}}
  join: {on: council-2.., takes: [ticket], run: echo y}
`

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// shown gives an interface of that size on the lab file, which nothing lives of.
func shown(t testing.TB, width, height int, text string) *App {
	folder := t.TempDir()
	file := filepath.Join(folder, "desk.lab.yaml")
	require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
	ctx, cancel := context.WithCancel(t.Context())
	a := New(ctx, Options{Station: client.Station{Home: home.Home(filepath.Join(folder, "home"))}, File: file, Now: func() time.Time { return noon },
		Shell: func(lab, node string) *exec.Cmd { return exec.Command("echo", lab, node) }})
	t.Cleanup(func() {
		cancel()
		a.output.wait()
		a.feed.wait()
	})
	a.Update(tea.WindowSizeMsg{Width: width, Height: height})
	return a
}

// state is a lab in the middle of its first run, with a failure.
func state(a *App) api.State {
	p := a.world.mapping.Plan
	at := func(tenths int) time.Time { return noon.Add(time.Duration(tenths-30) * 100 * time.Millisecond) }
	s := api.State{Lab: "desk", File: a.world.mapping.File, Phase: api.PhaseMaking, Plan: p, Now: noon, Created: at(0), Run: api.Run{N: 1, Started: at(0)}}
	for _, n := range p.Nodes {
		s.Nodes = append(s.Nodes, api.Node{Name: n.Name, State: api.Provisioning, CPU: 0.4, Memory: 40 << 20,
			Marks: []api.Mark{{State: api.Creating, At: at(0)}, {State: api.Booting, At: at(3)}, {State: api.Provisioning, At: at(4)}}})
		s.Cells = append(s.Cells, api.Cell{Step: "prepare", Node: n.Name, State: api.Done, Run: 1, Started: at(4), Ended: at(9)})
	}
	s.Nodes[0].Services = []agent.Status{{Service: "cairn", State: "running", Starts: 2, Since: at(9).UnixMilli()}}
	s.Nodes[1].State, s.Nodes[1].Reason = api.Failed, "step join failed"
	s.Nodes[3].State = api.Ready
	s.Cells = append(s.Cells,
		api.Cell{Step: "found", Node: "council-1", State: api.Running, Run: 1, Started: at(9), Waiting: at(15), Reason: "port 7000: connection refused, 1 s of 60"},
		api.Cell{Step: "join", Node: "council-2", State: api.Failed, Run: 1, Started: at(10), Ended: at(20), Exit: 7, Reason: "exit code 7"},
		api.Cell{Step: "join", Node: "council-3", State: api.Waiting, Reason: "ticket from council-1"})
	for _, f := range p.Forwards {
		s.Forwards = append(s.Forwards, api.Forward{Forward: f, Total: 3})
	}
	return s
}

func text(a *App) string { return a.screen().Plain() }

func press(a *App, keys ...string) {
	for _, key := range keys {
		a.press(key)
	}
	a.chooseOutput()
}

func TestPlanView(t *testing.T) {
	a := shown(t, 160, 40, desk)
	screen := text(a)
	for _, want := range []string{"kettlehole  desk", "not provisioned", "council-1", "10.61.0.0/24", ".13", "door", "none; it can be provisioned", "port 7000 answers", "the ticket", "longest chain", "council-1: prepare, found → council-2: join", "p provision", "? all keys"} {
		assert.Contains(t, screen, want)
	}
	a = shown(t, 160, 40, strings.Replace(desk, "networks: {valley: .80}", "networks: {vally: .80}", 1))
	screen = text(a)
	for _, want := range []string{"1 error", `network "vally" is not declared; did`, `you mean "valley"?`, "desk.lab.yaml   · has errors", "networks: {vally: .80}", "line 7", "Enter open the file there"} {
		assert.Contains(t, screen, want)
	}
	press(a, "p")
	assert.Contains(t, text(a), "the lab file has errors; nothing was made")
}

func TestRunView(t *testing.T) {
	a := shown(t, 160, 40, desk)
	press(a, "3")
	assert.Contains(t, text(a), "Nothing has run yet.")
	a.Update(stateMsg{"desk", state(a)})
	screen := text(a)
	for _, want := range []string{"1 of 4 ready", "run 1 0:03.0", "✕ council-2", "failed", "waits for ticket from council-1", "prepare", "1 running", "1 failed",
		"council-2  join  failed after 1.00 s: exit code 7", "the same step"} {
		assert.Contains(t, screen, want)
	}
	press(a, "up")
	assert.Contains(t, text(a), "council-1  prepare", "the chosen step is not on that node, so its first is chosen")
	press(a, "right")
	assert.Contains(t, text(a), "council-1  found  waits: port 7000: connection refused")
	a.Update(outputMsg{a.output.source, []string{"2026-11-23T11:59:58.500Z hello \x1b[31mworld\x07", "no stamp"}})
	assert.Contains(t, text(a), " 1.50  hello [31mworld")
	press(a, "enter")
	assert.NotContains(t, text(a), "the same step", "the output has the whole screen")
	press(a, "esc", "esc")
	s := state(a)
	s.Run.Outcome, s.Run.Ended, s.Error = api.OutcomeFailed, noon, "step join on council-2: exit code 7"
	a.Update(stateMsg{"desk", s})
	screen = text(a)
	for _, want := range []string{"run 1 failed after 3.0 s", "from here", "go on: only what is due runs", "a shell on council-2", "edit desk.lab.yaml"} {
		assert.Contains(t, screen, want)
	}
}

func TestNodesView(t *testing.T) {
	a := shown(t, 160, 40, desk)
	press(a, "4")
	assert.Contains(t, text(a), "may use")
	a.Update(stateMsg{"desk", state(a)})
	for i := range 5 {
		a.Update(tickMsg{noon.Add(time.Duration(i+1) * time.Second)})
	}
	screen := text(a)
	for _, want := range []string{"council   0 of 3 ready", "gate   1 of 1 ready", "40 MiB", "10.61.0.11", "identity", "council-1.desk.internal", "ssh council-1.desk",
		"40% of 0.5 cores", "40 MiB of 128 MiB", "running for", "started 2 times"} {
		assert.Contains(t, screen, want)
	}
	press(a, "down")
	assert.Contains(t, text(a), "step join failed")
	press(a, "end")
	assert.Contains(t, text(a), "to 80  door")
	assert.Contains(t, text(a), "0 connections, 3 in all, 0 B")
	cmd := a.shell("gate-1")
	assert.NotNil(t, cmd)
	press(a, "home")
	a.world.state.Nodes[0].State = api.Lost
	assert.Nil(t, a.shell("council-1"))
	assert.Contains(t, text(a), "council-1 is lost; there is no shell on it")
}

func TestLedgerView(t *testing.T) {
	a := shown(t, 160, 40, desk)
	press(a, "5")
	assert.Contains(t, text(a), "The ledger is empty")
	a.Update(stateMsg{"desk", state(a)})
	a.Update(thingsMsg{"desk", []ledger.Entry{{Kind: ledger.NodeK, Ref: "gate-1", State: ledger.Made, Made: noon, Detail: "10.61.0.80"}, {Kind: ledger.Folder, Ref: "/a/folder", State: ledger.Intended}}})
	for _, want := range []string{"1 things are on this workstation", "gate-1", "10.61.0.80", "/a/folder", "intended"} {
		assert.Contains(t, text(a), want)
	}
	gone := api.State{Lab: "desk", Phase: api.PhaseGone, Audit: &audit.Report{Lines: []audit.Line{{Kind: audit.Links, Before: 2, After: 2}, {Kind: audit.Files, Others: []string{"/tmp/x"}}}}}
	a.Update(stateMsg{"desk", gone})
	assert.Contains(t, text(a), "The workstation is as it was.")
	assert.Contains(t, text(a), "1 came, went or changed without a sign of the lab")
	gone.Audit.Lines[0].Left = []string{"br0 bridge"}
	a.Update(stateMsg{"desk", gone})
	assert.Contains(t, text(a), "1 things were left behind.")
	assert.Contains(t, text(a), "br0 bridge")
}

func TestLabsView(t *testing.T) {
	a := shown(t, 160, 40, desk)
	press(a, "1")
	assert.Contains(t, text(a), "No lab lives on this workstation.")
	a.Update(labsMsg{[]labLine{{lab: ledger.Lab{Name: "desk", File: "/x/desk.lab.yaml", Created: noon.Add(-2 * time.Hour)}, state: state(a)}, {lab: ledger.Lab{Name: "broken"}, err: assert.AnError}}})
	for _, want := range []string{"1 of 4", "2 h", "512 MiB", "/x/desk.lab.yaml", "its keeper does not answer"} {
		assert.Contains(t, text(a), want)
	}
	press(a, "enter")
	assert.Equal(t, viewNodes, a.current)
}

// What takes something away asks first, and any key but y means no.
func TestAsksBeforeHarm(t *testing.T) {
	a := shown(t, 120, 30, desk)
	press(a, "t")
	assert.Contains(t, text(a), "no lab lives here that could be torn down")
	a.Update(stateMsg{"desk", state(a)})
	press(a, "t")
	assert.Contains(t, text(a), "Take down desk?")
	assert.Contains(t, text(a), "4 nodes with all that is on them, 1 network and 1 forward")
	press(a, "n")
	assert.Contains(t, text(a), "nothing was taken away")
	press(a, "x")
	assert.Contains(t, text(a), "Cancel run 1?")
	press(a, "q")
	assert.Nil(t, a.ask)
	press(a, "t")
	assert.NotNil(t, a.press("y"), "now it is asked for")
	press(a, "S")
	assert.Contains(t, text(a), "Stop desk?")
	assert.Contains(t, text(a), "Run 1 is cancelled.")
	press(a, "q")
	assert.Contains(t, text(a), "nothing was stopped")
}

// A lab that is stopped says so everywhere, shows no use, and can be started.
func TestStoppedLab(t *testing.T) {
	a := shown(t, 160, 40, desk)
	s := state(a)
	s.Phase, s.Run.Outcome = api.PhaseStopping, api.OutcomeCancelled
	a.Update(stateMsg{"desk", s})
	assert.Contains(t, text(a), "is being stopped")
	press(a, "S")
	assert.Nil(t, a.ask)
	s.Phase = api.PhaseStopped
	for i, n := range s.Nodes {
		s.Nodes[i] = api.Node{Name: n.Name, State: api.Stopped}
	}
	for i := range s.Forwards {
		s.Forwards[i].Reason = "the lab is stopped"
	}
	a.Update(stateMsg{"desk", s})
	assert.Contains(t, text(a), "desk is stopped; S brings it back")
	press(a, "4", "down", "down", "down")
	for _, want := range []string{"▢ stopped", "gate-1   stopped", "may use", "S start the lab"} {
		assert.Contains(t, text(a), want)
	}
	for _, other := range []string{"get in", "connections", "run a command", "ready for"} {
		assert.NotContains(t, text(a), other)
	}
	assert.NotContains(t, text(a), "1 cores")
	press(a, "!")
	assert.Contains(t, text(a), "gate-1 is stopped; there is no shell on it")
	for view, want := range map[string]string{"3": "start the lab", "5": "start the lab"} {
		press(a, view)
		assert.Contains(t, text(a), want)
	}
	assert.NotNil(t, a.press("S"))
	assert.Equal(t, viewRun, a.current, "the run that brings it back is shown")
	press(a, "1")
	a.Update(labsMsg{[]labLine{{lab: ledger.Lab{Name: "desk", File: "/x/desk.lab.yaml"}, state: s}}})
	assert.Contains(t, text(a), "S start it")
	assert.Contains(t, text(a), "▢ desk")
	assert.NotContains(t, text(a), "512 MiB", "it may use nothing now")
}

func TestHelpAndKeys(t *testing.T) {
	a := shown(t, 160, 40, desk)
	a.Update(stateMsg{"desk", state(a)})
	for view := range a.views {
		press(a, fmt.Sprint(view+1), "?")
		screen := text(a)
		assert.Contains(t, screen, "in "+a.views[view].name())
		assert.Contains(t, screen, "leave; labs go on living")
		for _, k := range a.views[view].keys(&a.world) {
			assert.Contains(t, screen, k.does)
		}
		press(a, "?")
	}
	_, cmd := a.Update(tea.KeyPressMsg{Code: 'q', Text: "q"})
	require.NotNil(t, cmd)
	assert.IsType(t, tea.QuitMsg{}, cmd())
}

func TestMouse(t *testing.T) {
	a := shown(t, 160, 40, desk)
	a.Update(stateMsg{"desk", state(a)})
	tabs := a.tabs()
	for i, at := range tabs {
		a.Update(tea.MouseClickMsg{X: at.x + 1, Y: 1, Button: tea.MouseLeft})
		assert.Equal(t, i, a.current)
	}
	a.current = viewNodes
	text(a)
	v := a.views[viewNodes].(*nodesView)
	a.Update(tea.MouseClickMsg{X: 5, Y: frameTop + v.rows[2], Button: tea.MouseLeft})
	assert.Equal(t, 2, v.list.chosen)
	a.current = viewRun
	text(a)
	a.Update(tea.MouseClickMsg{X: 60, Y: frameTop + laneTop + 2, Button: tea.MouseLeft})
	assert.Contains(t, text(a), "council-2  ")
	a.Update(tea.MouseWheelMsg{Button: tea.MouseWheelUp})
}

// Nothing breaks at any size, with any state, and no line is longer than the
// screen.
func TestEverySize(t *testing.T) {
	big := desk + "  extra: {on: all, run: x}\n"
	big = strings.Replace(big, "count: 3", "count: 60", 1)
	for _, source := range []string{desk, big, "lab: broken\ngroups: [", strings.Replace(desk, "count: 3", "count: 0", 1)} {
		a := shown(t, 80, 24, source)
		for _, width := range []int{0, 1, 60, 80, 109, 160, 220} {
			for _, height := range []int{0, 5, 16, 24, 40, 64} {
				a.Update(tea.WindowSizeMsg{Width: width, Height: height})
				for _, lives := range []bool{false, true} {
					a.world.state = api.State{}
					if lives && a.world.mapping.Plan != nil && source != strings.Replace(desk, "count: 3", "count: 0", 1) {
						a.Update(stateMsg{"desk", state(a)})
					}
					for view := range a.views {
						a.current = view
						a.Update(tea.KeyPressMsg{Code: tea.KeyDown})
						a.help = view == 1
						for _, line := range strings.Split(text(a), "\n") {
							require.LessOrEqual(t, len([]rune(line)), max(width, 0))
						}
						a.help = false
					}
				}
			}
		}
		assert.Contains(t, a.View().Content, "kettlehole")
	}
}

// Without colour the same is said: levels and words alone tell the states.
func TestSaysAllWithoutColour(t *testing.T) {
	a := shown(t, 160, 40, desk)
	a.Update(stateMsg{"desk", state(a)})
	press(a, "3")
	screen := text(a)
	assert.NotContains(t, screen, "\x1b")
	assert.Contains(t, screen, "✕ council-2     failed")
	assert.Contains(t, screen, "█ gate-1        ready")
	assert.Contains(t, screen, "▅ council-1     provisioning")
}

func TestForeignStatesAreNotTaken(t *testing.T) {
	a := shown(t, 160, 40, desk)
	a.Update(stateMsg{"another", api.State{Phase: api.PhaseLiving, Plan: &plan.Plan{}}})
	assert.False(t, a.world.lives())
	a.feed.wait()
}
