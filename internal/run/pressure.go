package run

import (
	"context"
	"time"
)

const (
	holdPause = 250 * time.Millisecond
	// holdLimit is how long something is held at most: what presses may be
	// somebody else's, and may last.
	holdLimit = 30 * time.Second
)

// enter waits until one more node may be made or script begun. While the
// workstation is pressed no more of them go on at once than Floor; tell is told
// why it waits. The caller calls leave when it is done with its work.
func (r *Run) enter(ctx context.Context, tell func(reason string)) error {
	for began := r.Clock.Now(); ; {
		r.mu.Lock()
		reason := ""
		if r.Pressure != nil && r.active >= max(r.Floor, 1) && r.Clock.Now().Sub(began) < holdLimit {
			reason = r.Pressure()
		}
		if reason == "" {
			r.active++
			r.mu.Unlock()
			return nil
		}
		r.mu.Unlock()
		tell("holding: " + reason)
		if err := r.Clock.Sleep(ctx, holdPause); err != nil {
			return err
		}
	}
}

func (r *Run) leave() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.active--
}
