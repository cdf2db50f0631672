// Package tui is the full-screen interface. It draws from what a lab's keeper
// tells and asks it for what people want; it touches no lab itself.
package tui

import (
	"context"
	"fmt"
	"os/exec"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"kettlehole/internal/api"
	"kettlehole/internal/client"
	"kettlehole/internal/labfile"
	"kettlehole/internal/rehearsal"
	"kettlehole/internal/tui/cell"
	"kettlehole/internal/tui/theme"
)

// Options are what the interface works with.
type Options struct {
	Station client.Station
	File    string // the lab file to open, "" for none
	Given   []labfile.Given
	Tight   bool // memory may be promised that is not there
	// Shell gives the command that opens a shell on a node.
	Shell func(lab, node string) *exec.Cmd
	// Rehearse begins with a rehearsal of the file, where nothing can be made.
	Rehearse bool
	Now      func() time.Time
}

// App is the whole interface as a Bubble Tea model.
type App struct {
	options Options
	ctx     context.Context
	send    func(tea.Msg)
	world   world
	views   []view
	current int
	width   int
	height  int
	help    bool
	ask     *question
	prompt  *prompt // nil while nobody types
	message string
	grave   bool // the message is of something that went wrong
	said    time.Time
	feed    *feed
	watcher *watcher
	output  *output
	// goOnAfterEdit asks to go on with a run once the editor is left.
	goOnAfterEdit bool
}

var _ tea.Model = (*App)(nil)

// question is asked before something is taken away.
type question struct {
	words []string
	yes   func() tea.Cmd
	no    string // what is said where the answer is no
}

// framesPerSecond bounds how long a key's answer waits to be shown; nothing is
// written where nothing changed.
const framesPerSecond = 120

// Run shows the interface until the person leaves it. Labs go on living.
func Run(ctx context.Context, options Options) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	a := New(ctx, options)
	program := tea.NewProgram(a, tea.WithContext(ctx), tea.WithFPS(framesPerSecond))
	a.send = program.Send
	_, err := program.Run()
	cancel()
	a.feed.wait()
	a.output.wait()
	return err
}

// New gives the interface before it is shown.
func New(ctx context.Context, options Options) *App {
	a := &App{options: options, ctx: ctx, send: func(tea.Msg) {}}
	a.world.theme, a.world.now = theme.Dark(), options.Now()
	a.views = []view{&labsView{}, &planView{}, &runView{}, &nodesView{}, &ledgerView{}}
	a.feed = newFeed(a)
	a.watcher = newWatcher(a)
	a.output = newOutput(a)
	a.world.given = options.Given
	if options.File != "" {
		a.current = viewPlan
		a.open(options.File)
	}
	if options.Rehearse {
		a.rehearse()
	}
	return a
}

// The views by their place.
const (
	viewLabs = iota
	viewPlan
	viewRun
	viewNodes
	viewLedger
)

type (
	tickMsg  struct{ at time.Time }
	stateMsg struct {
		lab   string
		state api.State
	}
	doneMsg struct {
		what string
		err  error
	}
)

// Init begins the ticks.
func (a *App) Init() tea.Cmd {
	a.feed.begin()
	a.watcher.begin()
	return tea.Batch(tea.RequestBackgroundColor, a.tick(), a.readLabs())
}

// tickTime is the time between redraws while nothing else happens.
const tickTime = 250 * time.Millisecond

func (a *App) tick() tea.Cmd {
	return tea.Tick(tickTime, func(t time.Time) tea.Msg { return tickMsg{t} })
}

// open opens a lab file.
func (a *App) open(file string) {
	a.world.file, a.world.lab, a.world.state, a.world.things = file, "", api.State{}, nil
	a.remap()
}

// remap reads the lab file again.
func (a *App) remap() {
	w := &a.world
	if w.file == "" {
		return
	}
	w.mapping, w.mapErr = a.read(w.file, nil)
	if own := w.mapping.Lab == nil && slices.ContainsFunc(w.given, byDial); own {
		// Nobody can turn back what is not shown.
		given := w.given
		w.given = slices.DeleteFunc(slices.Clone(given), byDial)
		if m, err := a.read(w.file, nil); m.Lab != nil {
			w.mapping, w.mapErr = m, err
			a.say(true, "what was turned here no longer suits the file, and is as the file says")
		} else {
			w.given = given
		}
	}
	if times, err := a.options.Station.Times(); err == nil {
		w.times = times
	}
	a.lookAhead()
	a.watcher.aim(w.mapping)
	if w.mapping.Lab != nil && w.mapping.Lab.Name != w.lab {
		w.lab = w.mapping.Lab.Name
		w.state = api.State{}
		a.feed.follow(w.lab)
	}
}

// replan works the plan out again, with the facts of the workstation as they
// were read last.
func (a *App) replan() {
	w := &a.world
	if facts := w.mapping.Facts; facts.Cores > 0 {
		w.mapping, w.mapErr = a.read(w.file, &facts)
		a.lookAhead()
	}
}

// manyCells is how many cells a plan may have for its run to be rehearsed
// whenever it is drawn anew.
const manyCells = 5000

// lookAhead works out how a run from nothing would go.
func (a *App) lookAhead() {
	w := &a.world
	w.ahead = rehearsal.Result{}
	if m := w.mapping; m.Plan == nil || m.Graph == nil || len(m.Graph.Cells) > manyCells {
		return
	}
	if r, err := rehearsal.Rehearse(rehearsal.Request{Plan: w.mapping.Plan, Graph: w.mapping.Graph, Times: w.times, Start: w.now}); err == nil {
		w.ahead = r
	}
}

// Update takes what happened.
func (a *App) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	cmd := a.update(msg)
	a.chooseOutput()
	return a, cmd
}

func (a *App) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		a.width, a.height = msg.Width, msg.Height
	case tea.BackgroundColorMsg:
		if !msg.IsDark() {
			a.world.theme = theme.Light()
		}
	case tickMsg:
		return a.ticked(msg.at)
	case stateMsg:
		return a.stated(msg)
	case labsMsg:
		a.world.labs = msg.labs
	case thingsMsg:
		if msg.lab == a.world.lab {
			a.world.things = msg.things
		}
	case savedMsg:
		if msg.err != nil {
			a.say(true, "watching the lab file: %v", msg.err)
		}
		a.remap()
	case doneMsg:
		if msg.what == editing {
			a.remap()
			if a.goOnAfterEdit && msg.err == nil {
				a.ask = &question{words: []string{"Go on with the run?", "What is done stays; what failed and what changed runs."},
					yes: func() tea.Cmd { return a.provision(api.Ways{}) }, no: "g goes on later"}
			}
			a.goOnAfterEdit = false
		}
		if msg.err != nil {
			a.say(true, "%s: %v", msg.what, msg.err)
		}
	case outputMsg:
		a.output.take(msg)
	case pastMsg:
		a.look(msg)
	case besideMsg:
		a.world.beside = msg
	case saidMsg:
		a.say(msg.grave, "%s", firstLine(msg.words))
	case answeredMsg:
		a.nodes().answered(a, msg)
	case paneMsg: // drawn when the screen is
	case paneEndedMsg:
		if v := a.nodes(); v.pane == msg.of {
			v.pane = nil
			a.say(msg.err != nil, "the shell on %s ended", msg.of.node)
			if msg.err != nil {
				a.say(true, "the shell on %s: %v", msg.of.node, msg.err)
			}
		}
	case tea.KeyPressMsg:
		if v := a.nodes(); v.pane != nil && a.current == viewNodes && a.ask == nil && msg.String() != paneKey {
			v.pane.key(msg)
			return nil
		}
		return a.press(msg.String())
	case tea.PasteMsg:
		switch v := a.nodes(); {
		case a.prompt != nil:
			a.prompt.paste(msg.Content)
		case v.pane != nil && a.current == viewNodes:
			v.pane.paste(msg.Content)
		}
	case tea.MouseClickMsg:
		return a.click(msg.X, msg.Y)
	case tea.MouseWheelMsg:
		lines := 3
		if msg.Button == tea.MouseWheelUp {
			lines = -3
		}
		a.views[a.current].wheel(a, lines)
	}
	return nil
}

func (a *App) ticked(at time.Time) tea.Cmd {
	second := at.Unix() != a.world.now.Unix()
	a.world.now = at
	if a.message != "" && at.Sub(a.said) > 12*time.Second {
		a.message = ""
	}
	commands := []tea.Cmd{a.tick()}
	if second {
		a.readPulse()
		a.world.remember()
		a.world.rememberFlows()
		if a.current == viewPlan {
			a.remap() // memory and ports of the workstation change by themselves
		}
		commands = append(commands, a.readLabs(), a.readThings(), a.readBeside())
	}
	return tea.Batch(commands...)
}

func (a *App) stated(msg stateMsg) tea.Cmd {
	w := &a.world
	if msg.lab != w.lab {
		return nil
	}
	before := w.state
	w.state = msg.state
	w.skew = w.now.Sub(msg.state.Now)
	switch {
	case before.Run.Outcome == "" && msg.state.Run.Outcome != "" && before.Run.N == msg.state.Run.N && before.Run.N > 0:
		ready, all := w.ready()
		switch msg.state.Run.Outcome {
		case api.OutcomeDone:
			a.say(false, "run %d done after %.1f s: %d of %d nodes ready", msg.state.Run.N, w.elapsed().Seconds(), ready, all)
		default:
			a.say(true, "run %d %s: %s", msg.state.Run.N, msg.state.Run.Outcome, firstLine(msg.state.Error))
		}
	case msg.state.Error != "" && msg.state.Error != before.Error:
		a.say(true, "%s", firstLine(msg.state.Error))
	case before.Phase == api.PhaseStopping && msg.state.Phase == api.PhaseStopped:
		a.say(false, "%s is stopped; S brings it back, with its disks", w.lab)
	case msg.state.Phase == api.PhaseGone && before.Phase != api.PhaseGone && msg.state.Audit != nil:
		if msg.state.Audit.Clean() {
			a.say(false, "%s is gone, and the workstation is as it was", w.lab)
		} else {
			a.say(true, "%s is gone, but %d things were left behind", w.lab, len(msg.state.Audit.Left()))
		}
	}
	return a.readThings()
}

func firstLine(text string) string {
	line, _, _ := strings.Cut(text, "\n")
	return line
}

func (a *App) say(grave bool, format string, args ...any) {
	a.message, a.grave, a.said = fmt.Sprintf(format, args...), grave, a.world.now
}

// press handles a key.
func (a *App) press(key string) tea.Cmd {
	if a.ask != nil {
		asked := a.ask
		a.ask = nil
		if key == "y" {
			return asked.yes()
		}
		if asked.no == "" {
			asked.no = "nothing was taken away"
		}
		a.say(false, "%s", asked.no)
		return nil
	}
	if a.help {
		a.help = false
		return nil
	}
	if a.prompt != nil {
		typed := a.prompt
		cmd, open := typed.press(key)
		if !open && a.prompt == typed {
			a.prompt = nil
		}
		return cmd
	}
	if key == paneKey && a.current == viewNodes {
		a.nodes().closePane()
		return nil
	}
	if cmd, taken := a.views[a.current].press(a, key); taken {
		return cmd
	}
	switch key {
	case "q", "ctrl+c":
		return tea.Quit
	case "?":
		a.help = true
	case "esc":
		a.message = ""
		a.current = viewLabs
	case "p":
		return a.provision(api.Ways{})
	case "t":
		return a.teardown()
	case "S":
		return a.stopOrStart(a.world.lab, a.world.state)
	case "x":
		return a.cancelRun()
	default:
		if len(key) == 1 && key[0] >= '1' && int(key[0]-'1') < len(a.views) {
			a.current = int(key[0] - '1')
		}
	}
	return nil
}

func (a *App) nodes() *nodesView { return a.views[viewNodes].(*nodesView) }

// The frame's lines: two at the top and a rule, a message and the keys below.
const (
	frameTop    = 3
	frameBottom = 2
)

func (a *App) click(x, y int) tea.Cmd {
	if a.ask != nil || a.help {
		a.ask, a.help = nil, false
		return nil
	}
	if y == 1 {
		for i, at := range a.tabs() {
			if x >= at.x && x < at.x+at.width {
				a.current = i
			}
		}
		return nil
	}
	if y >= frameTop && y < a.height-frameBottom {
		return a.views[a.current].click(a, x, y-frameTop)
	}
	return nil
}

// View draws the screen.
func (a *App) View() tea.View {
	v := tea.NewView(a.screen().String())
	v.AltScreen, v.MouseMode, v.WindowTitle = true, tea.MouseModeCellMotion, "Kettlehole"
	if a.world.lab != "" {
		v.WindowTitle = "Kettlehole: " + a.world.lab
	}
	return v
}

// smallest is the least space in which anything can be shown.
const (
	smallestWidth  = 60
	smallestHeight = 16
)

func (a *App) screen() *cell.Grid {
	g := cell.New(a.width, a.height)
	w := &a.world
	if a.width == 0 {
		return g
	}
	if a.width < smallestWidth || a.height < smallestHeight {
		g.Text(0, 0, w.text(), fmt.Sprintf("%d×%d is too small;", a.width, a.height))
		g.Text(0, 1, w.text(), "80×24 shows all. q leaves.")
		return g
	}
	body := cell.New(a.width, a.height-frameTop-frameBottom)
	a.views[a.current].draw(w, body)
	g.Draw(0, frameTop, body)
	a.frame(g)
	if a.prompt != nil {
		a.prompt.draw(w, g)
	}
	if a.help {
		a.drawHelp(g)
	}
	if a.ask != nil {
		a.drawQuestion(g)
	}
	return g
}
