package tui

import (
	"net/netip"
	"os"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kettlehole/internal/answers"
	"kettlehole/internal/api"
	"kettlehole/internal/plan"
	"kettlehole/internal/reach"
)

// living shows the nodes of a lab that lives.
func living(t *testing.T, width, height int) *App {
	a := shown(t, width, height, desk)
	s := state(a)
	s.Phase, s.Run.Outcome, s.Run.Ended = api.PhaseLiving, api.OutcomeDone, noon
	s.Forwards = append(s.Forwards, api.Forward{Forward: plan.Forward{Name: "extra", Listen: netip.MustParseAddrPort("127.0.0.1:20001"), UDP: true, Added: true, Node: "gate-1", NodePort: 53}, Open: 1, Total: 9, In: 1000, Out: 24})
	s.Fronts = []api.Front{{Front: plan.Front{Name: "ledger", Address: netip.MustParsePrefix("10.61.0.5/24"), Port: 7000},
		States: []reach.MemberState{{Node: "council-1", Healthy: true, Since: noon, Open: 1, Total: 4}, {Node: "council-2", Since: noon, Reason: "connection refused"}}}}
	a.Update(stateMsg{"desk", s})
	press(a, "4")
	return a
}

func TestMarksAndAnswers(t *testing.T) {
	a := living(t, 160, 40)
	v := a.nodes()
	press(a, "space", "space")
	assert.Contains(t, text(a), "▸ ")
	assert.Equal(t, []string{"council-1", "council-2"}, v.targets(&a.world))
	press(a, "home", "space")
	assert.Equal(t, []string{"council-2"}, v.targets(&a.world), "a mark is taken away again")
	press(a, "*")
	assert.Len(t, v.targets(&a.world), 4)
	press(a, "*", "home")
	assert.Equal(t, []string{"council-1"}, v.targets(&a.world), "without a mark it is the chosen one")
	press(a, "*", "r", "d", "a", "t", "x", "backspace", "e")
	assert.Contains(t, text(a), "run on council-1..3, gate-1: date▏")
	assert.Contains(t, text(a), "Enter does it")
	press(a, "esc")
	assert.NotContains(t, text(a), "Enter does it")
	press(a, "r")
	a.Update(tea.PasteMsg{Content: "uname -r\nrm -rf /"})
	assert.Contains(t, text(a), "uname -r▏", "one line alone is taken")
	assert.NotNil(t, a.press("enter"))
	require.NotNil(t, v.asked)
	assert.Contains(t, text(a), "0 answered")
	a.Update(answeredMsg{to: v.asked})
	assert.Contains(t, text(a), "1 answered")
	a.Update(answeredMsg{to: v.asked, final: []answers.Answer{{Node: "council-1", Out: "6.1\n"}, {Node: "council-2", Out: "6.1\n"}, {Node: "council-3", Out: "6.2\n"}, {Node: "gate-1", Exit: -1, Failed: "it does not run"}}})
	screen := text(a)
	for _, want := range []string{"uname -r", "on 4 nodes", "3 different answers", "council-1..2   2 nodes   exit code 0", "council-3   exit code 0", "− 6.1", "+ 6.2", "gate-1   it does not run"} {
		assert.Contains(t, screen, want)
	}
	a.Update(answeredMsg{to: &asked{}, final: []answers.Answer{{Node: "late"}}})
	assert.Contains(t, text(a), "3 different answers", "what was left is not shown")
	press(a, "r", "up")
	assert.Contains(t, text(a), "uname -r▏")
	press(a, "esc", "esc")
	assert.Contains(t, text(a), "addresses")
}

func TestLongAnswers(t *testing.T) {
	a := living(t, 80, 24)
	v := a.nodes()
	v.ask(a, []string{"council-1"}, "seq 100")
	out := ""
	for i := range 100 {
		out += string(rune('a'+i%26)) + "\n"
	}
	a.Update(answeredMsg{to: v.asked, final: []answers.Answer{{Node: "council-1", Out: out, Exit: 3}}})
	screen := text(a)
	assert.Contains(t, screen, "exit code 3")
	assert.Contains(t, screen, "lines 1 to ")
	for range 20 {
		press(a, "pgdown")
		text(a)
	}
	assert.Contains(t, text(a), " of 101", "it stops at the end")
	press(a, "pgup")
	a.views[viewNodes].wheel(a, -3)
	assert.NotPanics(t, func() { text(a) })
}

func TestWaysOfANode(t *testing.T) {
	a := living(t, 160, 40)
	screen := text(a)
	for _, want := range []string{"front ledger 1 of 2 healthy", "ledger  10.61.0.5:7000  healthy for", "1 connection, 4 in all"} {
		assert.Contains(t, screen, want)
	}
	press(a, "down")
	assert.Contains(t, text(a), "connection refused")
	press(a, "end")
	assert.Contains(t, text(a), "127.0.0.1:20001/udp  to 53  extra  added by hand")
	for i := range 3 {
		s := a.world.state
		s.Forwards = append([]api.Forward{}, s.Forwards...)
		s.Forwards[1].In += 2048
		a.Update(stateMsg{"desk", s})
		a.Update(tickMsg{noon.Add(time.Duration(i+1) * time.Second)})
	}
	assert.Contains(t, text(a), "2 KiB/s   1 connection, 9 in all, 7 KiB")
	press(a, "f")
	assert.Contains(t, text(a), "forward: auto -> gate-1:▏")
	press(a, "ctrl+u")
	assert.Contains(t, text(a), "forward: ▏")
	press(a, "enter", "W")
	assert.Contains(t, text(a), "write into the lab file: extra▏")
	a.world.state.Plan.Forwards = append(a.world.state.Plan.Forwards, a.world.state.Forwards[1].Forward)
	press(a, "enter")
	assert.Contains(t, text(a), "the lab file has it now: extra: 20001 -> gate-1:53/udp")
	text_, err := os.ReadFile(a.world.state.File)
	require.NoError(t, err)
	assert.Contains(t, string(text_), "forwards: {door: auto -> gate-1:80, extra: 20001 -> gate-1:53/udp}")
	press(a, "W", "enter")
	assert.Contains(t, text(a), "already")
	press(a, "d")
	assert.Contains(t, text(a), "remove forward: extra▏")
	press(a, "esc")
	a.Update(saidMsg{true, "forward: no such node\nmore"})
	assert.Contains(t, text(a), "forward: no such node")
	a.world.state.Forwards = a.world.state.Forwards[:1]
	press(a, "d")
	assert.Contains(t, text(a), "no forward was added")
}

func TestPaneOfALostNode(t *testing.T) {
	a := living(t, 160, 40)
	a.world.state.Nodes[0].State = api.Lost
	press(a, "s")
	assert.Nil(t, a.nodes().pane)
	assert.Contains(t, text(a), "council-1 is lost; there is no shell on it")
	press(a, "down", "s")
	p := a.nodes().pane
	require.NotNil(t, p)
	_, err := p.screen.Write([]byte("\x1b[31mhello\x1b[0m there\r\nwide \u4e2d end"))
	require.NoError(t, err)
	screen := text(a)
	assert.Contains(t, screen, "hello there")
	assert.Contains(t, screen, "wide 中 end")
	assert.Contains(t, screen, "Ctrl+] leave the shell")
	assert.NotContains(t, screen, "? all keys", "which is the shell's, too")
	a.Update(tea.KeyPressMsg{Code: 'q', Text: "q"})
	assert.Same(t, p, a.nodes().pane, "keys are the shell's")
	a.Update(tea.WindowSizeMsg{Width: 120, Height: 30})
	assert.NotPanics(t, func() { text(a) })
	assert.Equal(t, 24, p.screen.Height())
	a.Update(tea.KeyPressMsg{Code: ']', Mod: tea.ModCtrl})
	assert.Nil(t, a.nodes().pane)
	a.Update(paneEndedMsg{of: p})
	assert.NotContains(t, text(a), "ended", "nobody looks at it any more")
}
