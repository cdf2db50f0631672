package tui

import (
	"context"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"

	"kettlehole/internal/api"
	"kettlehole/internal/ledger"
	"kettlehole/internal/mapping"
	"kettlehole/internal/plan"
	"kettlehole/internal/workstation"
	"kettlehole/internal/workstation/survey"
)

// feed follows the open lab in the background and sends its states on.
type feed struct {
	app    *App
	mu     sync.Mutex
	cancel context.CancelFunc
	wake   chan struct{}
	busy   sync.WaitGroup
	begun  bool   // whether the screen is there to send to
	lab    string // that is followed
}

func newFeed(a *App) *feed { return &feed{app: a, wake: make(chan struct{}, 1)} }

// follow begins to follow a lab in place of the one before.
func (f *feed) follow(lab string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.cancel != nil {
		f.cancel()
	}
	if f.lab = lab; !f.begun || lab == "" {
		return
	}
	ctx, cancel := context.WithCancel(f.app.ctx)
	f.cancel = cancel
	f.busy.Go(func() { f.run(ctx, lab) })
}

// begin follows what was asked for before the screen was there.
func (f *feed) begin() {
	f.mu.Lock()
	f.begun = true
	lab := f.lab
	f.mu.Unlock()
	f.follow(lab)
}

// expect says that the lab is about to live.
func (f *feed) expect() {
	select {
	case f.wake <- struct{}{}:
	default:
	}
}

func (f *feed) wait() { f.busy.Wait() }

// lookAgain is how often it is looked whether a lab has come to live.
const lookAgain = time.Second

// run follows the lab while it lives, and waits for it while it does not. No
// keeper is started only to be asked.
func (f *feed) run(ctx context.Context, lab string) {
	station := f.app.options.Station
	expected := false
	for ctx.Err() == nil {
		if expected || station.LivingPlan(lab) != nil {
			err := station.Open(lab).Follow(ctx, func(s api.State) bool {
				f.app.send(stateMsg{lab, s})
				return true
			})
			if err == nil {
				expected = false
				select {
				case <-f.wake: // of a run of the lab that is gone now
				default:
				}
			}
		}
		pause := lookAgain
		if expected {
			pause = 50 * time.Millisecond
		}
		select {
		case <-ctx.Done():
		case <-time.After(pause):
			expected = false
		case <-f.wake:
			expected = true
		}
	}
}

func (a *App) read(file string, facts *workstation.Facts) (mapping.Result, error) {
	return mapping.Map(mapping.Request{File: file, Facts: facts, Home: string(a.options.Station.Home), Given: a.world.given, Tight: a.options.Tight, Labs: a.options.Station.Holds,
		Living: func(lab string) *plan.Plan { return a.options.Station.LivingPlan(lab) }})
}

type labLine struct {
	lab   ledger.Lab
	state api.State
	err   error
}

type labsMsg struct{ labs []labLine }

// readLabs asks for all labs in the background.
func (a *App) readLabs() tea.Cmd {
	if a.current != viewLabs && a.world.labs != nil {
		return nil
	}
	return func() tea.Msg {
		labs, err := a.options.Station.Labs(a.ctx)
		if err != nil {
			return doneMsg{"labs", err}
		}
		lines := make([]labLine, 0, len(labs))
		for _, l := range labs {
			state, err := a.options.Station.Open(l.Name).State(a.ctx)
			lines = append(lines, labLine{l, state, err})
		}
		return labsMsg{lines}
	}
}

type thingsMsg struct {
	lab    string
	things []ledger.Entry
}

// readThings asks what the open lab has made.
func (a *App) readThings() tea.Cmd {
	if a.current != viewLedger || !a.world.lives() {
		return nil
	}
	name := a.world.lab
	return func() tea.Msg {
		things, err := a.options.Station.Open(name).Things(a.ctx)
		if err != nil {
			return nil // the lab is going; its state says so
		}
		return thingsMsg{name, things}
	}
}

func (a *App) readPulse() {
	pulse, err := survey.ReadPulse(string(a.options.Station.Home))
	if err != nil {
		return
	}
	if a.world.pulse.Whole > 0 {
		a.world.busy = pulse.Share(a.world.pulse)
	}
	a.world.pulse = pulse
}
