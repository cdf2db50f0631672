package tui

import (
	"context"
	"io"
	"sync"
	"sync/atomic"

	tea "charm.land/bubbletea/v2"
	uv "github.com/charmbracelet/ultraviolet"
	"github.com/charmbracelet/x/vt"

	"kettlehole/internal/agent"
	"kettlehole/internal/api"
	"kettlehole/internal/tui/cell"
)

// pane is a shell on a node in a part of the screen.
type pane struct {
	node    string
	screen  *vt.SafeEmulator
	input   chan func(*vt.SafeEmulator)
	session atomic.Pointer[agent.Session]
	pending atomic.Bool // the screen is about to be drawn
	width   int
	height  int
	cancel  context.CancelFunc
	busy    sync.WaitGroup
}

type (
	paneMsg      struct{ of *pane }
	paneEndedMsg struct {
		of  *pane
		err error
	}
)

// paneKey leaves the pane, and all others go to its shell.
const paneKey = "ctrl+]"

// openPane opens a shell on a node beside the list.
func (v *nodesView) openPane(a *App, node string) tea.Cmd {
	if state := a.world.node(node).State; !api.Runs(state) {
		a.say(true, "%s is %s; there is no shell on it", node, state)
		return nil
	}
	v.hideAnswers()
	v.closePane()
	ctx, cancel := context.WithCancel(a.ctx)
	p := &pane{node: node, screen: vt.NewSafeEmulator(80, 24), input: make(chan func(*vt.SafeEmulator), 256), cancel: cancel, width: 80, height: 24}
	v.pane = p
	lab := a.options.Station.Open(a.world.lab)
	return func() tea.Msg {
		session, err := lab.Agent(node).Exec(ctx, agent.Exec{Argv: agent.LoginShell, TTY: true, Rows: 24, Cols: 80, Env: []string{"TERM=xterm-256color"}})
		if err != nil {
			return paneEndedMsg{p, err}
		}
		defer session.Close()
		p.session.Store(session)
		stop := context.AfterFunc(ctx, func() { _ = session.Close() })
		defer stop()
		p.busy.Go(func() {
			for {
				select {
				case <-ctx.Done():
					return
				case do := <-p.input:
					do(p.screen)
				}
			}
		})
		p.busy.Go(func() { _, _ = io.Copy(session, p.screen) }) // keys, and what the terminal answers
		a.send(paneMsg{p})
		_, err = session.Wait(&paneWriter{a, p}, io.Discard)
		if ctx.Err() != nil {
			err = nil
		}
		cancel()
		_ = p.screen.Close()
		p.busy.Wait()
		return paneEndedMsg{p, err}
	}
}

// paneWriter shows what the shell prints.
type paneWriter struct {
	app  *App
	pane *pane
}

func (w *paneWriter) Write(text []byte) (int, error) {
	n, err := w.pane.screen.Write(text)
	if w.pane.pending.CompareAndSwap(false, true) {
		w.app.send(paneMsg{w.pane})
	}
	return n, err
}

func (v *nodesView) closePane() {
	if v.pane != nil {
		v.pane.cancel()
		v.pane = nil
	}
}

// do hands something to the terminal, which may be busy; what it cannot take
// is lost, as on a line that is cut.
func (p *pane) do(what func(*vt.SafeEmulator)) {
	select {
	case p.input <- what:
	default:
	}
}

// key passes a key to the shell.
func (p *pane) key(msg tea.KeyPressMsg) {
	p.do(func(screen *vt.SafeEmulator) {
		if msg.Text != "" && msg.Mod&(tea.ModCtrl|tea.ModAlt) == 0 {
			screen.SendText(msg.Text)
			return
		}
		screen.SendKey(uv.KeyPressEvent{Code: msg.Code, Mod: uv.KeyMod(msg.Mod)})
	})
}

func (p *pane) paste(text string) {
	p.do(func(screen *vt.SafeEmulator) { screen.Paste(text) })
}

// fit makes the terminal as large as its place.
func (p *pane) fit(width, height int) {
	if width == p.width && height == p.height || width < 2 || height < 2 {
		return
	}
	p.width, p.height = width, height
	p.screen.Resize(width, height)
}

// sized tells the shell how large its terminal is now.
func (p *pane) sized(width, height int) {
	if session := p.session.Load(); session != nil {
		_ = session.Resize(uint16(height), uint16(width))
	}
}

func (v *nodesView) drawPane(w *world, g *cell.Grid) {
	p := v.pane
	p.pending.Store(false)
	x := g.Text(0, 0, w.text().Strong(), p.node)
	x = g.Text(x+3, 0, w.dim(), "a shell on it")
	x = g.Text(x+3, 0, w.key(), "Ctrl+]")
	g.Text(x+1, 0, w.dim(), "leaves it")
	before := [2]int{p.width, p.height}
	p.fit(g.Width, g.Height-1)
	if before != [2]int{p.width, p.height} || !v.paneSized {
		v.paneSized = p.session.Load() != nil
		p.sized(p.width, p.height)
	}
	cursor := p.screen.CursorPosition()
	for y := range p.height {
		for x := range p.width {
			one := p.screen.CellAt(x, y)
			style, text := w.text(), " "
			if one != nil && one.Content != "" {
				text = one.Content
				if one.Style.Fg != nil {
					style.Fore = one.Style.Fg
				}
				style.Back = one.Style.Bg
				style.Bold = one.Style.Attrs&uv.AttrBold != 0
				if one.Style.Attrs&uv.AttrReverse != 0 {
					style.Fore, style.Back = w.theme.Chosen, w.theme.Text
				}
			} else if one != nil && one.Width == 0 {
				continue // the second half of a wide character
			}
			if x == cursor.X && y == cursor.Y {
				style = cell.Style{Fore: w.theme.Chosen, Back: w.theme.Motion}
			}
			g.Text(x, 1+y, style, text)
		}
	}
}
