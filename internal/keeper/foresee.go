package keeper

import (
	"context"
	"slices"
	"time"

	"kettlehole/internal/api"
	"kettlehole/internal/rehearsal"
	"kettlehole/internal/schedule"
)

const (
	// foreseePause is the time between two looks ahead.
	foreseePause = 300 * time.Millisecond
	// foreseeGrain is by how much an expected end must change to be told.
	foreseeGrain = 200 * time.Millisecond
)

// foresee says on the board when the run that goes on will end, until ctx does.
func (k *Keeper) foresee(ctx context.Context, g *schedule.Graph, times rehearsal.Times, reused func(i int) bool) {
	for {
		s, _, _ := k.board.look()
		if s.Plan == nil {
			return
		}
		f := rehearsal.Ahead(g, times, s, reused)
		if off := f.Ends.Sub(s.Run.Expected); off.Abs() >= foreseeGrain || f.Guessed != s.Run.Guessed || !slices.Equal(f.Chain, s.Run.Chain) {
			k.board.change(func(s *api.State) {
				if ctx.Err() == nil {
					s.Run.Expected, s.Run.Guessed, s.Run.Chain = f.Ends, f.Guessed, f.Chain
				}
			})
		}
		if k.options.Clock.Sleep(ctx, foreseePause) != nil {
			return
		}
	}
}

// ended is the state of a run at its end, with what made it as long as it was.
func ended(s api.State, at time.Time, outcome string) api.State {
	s.Phase = api.PhaseLiving
	s.Run.Ended, s.Run.Outcome, s.Run.Expected, s.Run.Guessed, s.Run.Chain, s.Run.Doing = at, outcome, time.Time{}, 0, nil, ""
	if s.Plan == nil {
		return s
	}
	g, _ := schedule.New(s.Plan)
	if g == nil {
		return s
	}
	took := make([]time.Duration, len(g.Cells))
	for _, c := range s.Cells {
		if i, is := g.Index(schedule.Cell{Step: c.Step, Node: c.Node}); is && c.Run == s.Run.N && c.State != api.Reused && !c.Ended.IsZero() {
			took[i] = c.Ended.Sub(c.Started)
		}
	}
	chain, _ := g.Chain(func(i int) time.Duration { return took[i] })
	for _, i := range chain {
		if took[i] > 0 {
			s.Run.Chain = append(s.Run.Chain, g.Cells[i])
		}
	}
	return s
}
