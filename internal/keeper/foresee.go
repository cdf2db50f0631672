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
	s.Run.Chain = rehearsal.Traced(s)
	return s
}
