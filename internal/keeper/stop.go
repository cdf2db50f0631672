package keeper

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"kettlehole/internal/agent"
	"kettlehole/internal/anchor"
	"kettlehole/internal/api"
	"kettlehole/internal/ledger"
	"kettlehole/internal/mapping"
	"kettlehole/internal/plan"
	"kettlehole/internal/run"
	"kettlehole/internal/workstation/survey"
)

// atRest is the reason of what is not there while the lab is stopped.
const atRest = "the lab is stopped"

// stop begins to stop the lab, unless that goes on or was done. All that runs
// of it ends; disks, addresses, ports and results stay.
func (k *Keeper) stop(ctx context.Context) error {
	k.asking.Lock()
	defer k.asking.Unlock()
	k.mu.Lock()
	defer k.mu.Unlock()
	switch {
	case k.over:
		return errOver
	case k.living == nil:
		return &refusal{fmt.Sprintf("there is no lab %q", k.options.Lab)}
	case k.leaving:
		return &refusal{"the lab is being taken down"}
	case k.resting:
		return nil
	}
	if err := k.ledger.SetState(ctx, k.options.Lab, ledger.Resting); err != nil {
		return err
	}
	if k.cancel != nil {
		k.cancel(run.ErrCancelled)
	}
	k.rest(context.WithoutCancel(ctx))
	return nil
}

// rest stops the lab in the background, which the ledger must know of. The
// caller holds the lock.
func (k *Keeper) rest(ctx context.Context) {
	k.resting, k.stopping = true, true
	k.board.change(func(s *api.State) { s.Phase, s.Error, s.Fault = api.PhaseStopping, "", false })
	k.busy.Go(func() {
		err := k.putAway(ctx)
		if err != nil {
			k.options.Log.Error("stop", "error", err)
		}
		k.mu.Lock() // nobody starts the lab before it is said to be stopped
		defer k.mu.Unlock()
		k.stopping, k.resting = false, err == nil
		if err != nil {
			k.board.change(func(s *api.State) { s.Phase, s.Error, s.Fault = api.PhaseLiving, err.Error(), isFault(err) })
			return
		}
		k.showRest()
	})
}

// haltLimit is how long nodes have to end by themselves.
const haltLimit = 20 * time.Second

// putAway ends all that runs of the lab. Every part of it may be repeated.
func (k *Keeper) putAway(ctx context.Context) error {
	if err := k.runEnded(ctx); err != nil {
		return err
	}
	k.closeForwards()
	k.closeLogin()
	k.mu.Lock()
	p := k.living
	k.told = nil
	k.mu.Unlock()
	k.lay()
	halting, cancel := context.WithTimeout(ctx, haltLimit)
	var all sync.WaitGroup
	for _, n := range p.Nodes {
		client := k.containers.Agent(n.Name)
		all.Go(func() {
			if _, err := client.Do(halting, agent.Request{Op: agent.OpHalt}); err != nil {
				k.options.Log.Info("stop", "node", n.Name, "error", err) // it ends with the anchor all the same
			}
		})
	}
	all.Wait()
	cancel()
	k.closeOut()
	ctx, cancel = context.WithTimeout(ctx, teardownLimit)
	defer cancel()
	if err := anchor.End(ctx, k.folder()); err != nil {
		return err
	}
	if err := k.cgroup.Remove(ctx); err != nil {
		return err
	}
	if err := k.unwatched(ctx); err != nil {
		return err
	}
	entries, err := k.ledger.Entries(ctx, p.Lab)
	if err != nil {
		return err
	}
	for _, e := range entries {
		if e.State == ledger.Gone {
			continue
		}
		switch e.Kind {
		case ledger.Forward, ledger.Bridge, ledger.Anchor, ledger.Cgroup:
			if err := k.ledger.SetGone(ctx, p.Lab, e.Kind, e.Ref); err != nil {
				return err
			}
		}
	}
	return nil
}

// runEnded waits until no run goes on.
func (k *Keeper) runEnded(ctx context.Context) error {
	for k.isRunning() {
		if err := k.options.Clock.Sleep(ctx, time.Millisecond); err != nil {
			return fmt.Errorf("waiting for the run to end: %w", err)
		}
	}
	return nil
}

// unwatched waits until it was noticed of every node that it ended.
func (k *Keeper) unwatched(ctx context.Context) error {
	for {
		k.mu.Lock()
		watched := len(k.watched)
		k.mu.Unlock()
		if watched == 0 {
			return nil
		}
		if err := k.options.Clock.Sleep(ctx, time.Millisecond); err != nil {
			return fmt.Errorf("waiting for nodes to end: %w", err)
		}
	}
}

// goOnResting takes over a lab that is stopped, or was being stopped.
func (k *Keeper) goOnResting(ctx context.Context, p *plan.Plan, last *ledger.Run) error {
	if last != nil && last.Ended.IsZero() {
		// It was cancelled, and the keeper ended before it could say so.
		state, _, _ := k.board.look()
		state = ended(state, state.Now, api.OutcomeCancelled)
		picture, err := json.Marshal(state)
		if err != nil {
			return err
		}
		if err := k.ledger.EndRun(ctx, p.Lab, last.N, ledger.End{Outcome: api.OutcomeCancelled, Picture: picture}); err != nil {
			return err
		}
		k.board.change(func(s *api.State) { s.Run = state.Run })
	}
	if _, err := anchor.Find(k.folder()); err == nil {
		k.mu.Lock()
		defer k.mu.Unlock()
		k.rest(context.WithoutCancel(ctx))
		return nil
	}
	k.mu.Lock()
	k.resting = true
	k.mu.Unlock()
	k.showRest()
	return k.putAway(ctx) // no more than records are left to put right
}

// showRest puts on the board that the lab is stopped.
func (k *Keeper) showRest() {
	k.board.change(func(s *api.State) {
		s.Phase, s.Fronts, s.Forwards = api.PhaseStopped, nil, nil
		for i := range s.Nodes {
			s.Nodes[i] = api.Node{Name: s.Nodes[i].Name, State: api.Stopped, Marks: s.Nodes[i].Marks}
		}
		for _, f := range s.Plan.Forwards {
			s.Forwards = append(s.Forwards, api.Forward{Forward: f, Reason: atRest})
		}
		for _, f := range s.Plan.Fronts {
			s.Fronts = append(s.Fronts, api.Front{Front: f, Reason: atRest})
		}
	})
}

// start begins a run by the plan that the lab has, whatever its file says by
// now: nodes that do not run come back with their disks, and what is due runs.
func (k *Keeper) start(ctx context.Context, want api.Wanted) error {
	k.asking.Lock()
	defer k.asking.Unlock()
	k.mu.Lock()
	living := k.living
	k.mu.Unlock()
	if living == nil {
		return &refusal{fmt.Sprintf("there is no lab %q", k.options.Lab)}
	}
	if granted, err := k.mayRun(); !granted {
		return err
	}
	if !want.Tight {
		if err := k.fits(ctx, living); err != nil {
			return err
		}
	}
	return k.launch(ctx, living, living.File, want)
}

// fits refuses a lab that would be promised memory that is not there.
func (k *Keeper) fits(ctx context.Context, p *plan.Plan) error {
	facts, err := survey.Read(string(k.options.Home))
	if err != nil {
		return err
	}
	labs, err := k.ledger.Labs(ctx)
	if err != nil {
		return err
	}
	facts.Labs = mapping.Holds(labs)
	if lacks := p.Lacks(facts); lacks != "" {
		return &refusal{lacks + "; take another lab down or stop it, or promise more than there is with --tight"}
	}
	return nil
}

// mayRun tells whether a run may begin now; without an error, one goes on.
func (k *Keeper) mayRun() (bool, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	switch {
	case k.over:
		return false, errOver
	case k.leaving:
		return false, &refusal{"the lab is being taken down; wait for that, then provision it again"}
	case k.stopping:
		return false, &refusal{"the lab is being stopped; wait for that"}
	}
	return k.cancel == nil, nil
}

// launch records a run and begins it. What is recorded before the answer is
// given goes on even if this keeper ends the next moment.
func (k *Keeper) launch(ctx context.Context, p *plan.Plan, file string, want api.Wanted) error {
	if err := k.ledger.SetState(ctx, p.Lab, ledger.Living); err != nil {
		return err
	}
	wish, err := json.Marshal(want)
	if err != nil {
		return err
	}
	started, err := k.ledger.StartRun(ctx, p.Lab, wish)
	if err != nil {
		return err
	}
	k.mu.Lock()
	k.living, k.resting = p, false
	k.mu.Unlock()
	k.board.lay(p, file)
	k.begin(context.WithoutCancel(ctx), p, started)
	return nil
}

// errOver says that this keeper is about to end; who asks again finds the next.
var errOver = errors.New("the keeper ends")

// idleLimit is how long a keeper with nothing to do waits to be asked.
const idleLimit = 5 * time.Second

// idle ends the keeper when nobody asks it for a lab, or about one that is
// stopped.
func (k *Keeper) idle(ctx context.Context) {
	for k.options.Clock.Sleep(ctx, idleLimit) == nil {
		if k.asked.Swap(0) == 0 && k.tryEnd() {
			return
		}
	}
}

// tryEnd ends the keeper where nothing is left for it to do.
func (k *Keeper) tryEnd() bool {
	k.asking.Lock() // nothing is being granted
	defer k.asking.Unlock()
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.cancel != nil || k.leaving || k.stopping || k.living != nil && (!k.resting || k.answering.Load() > 0) {
		return false
	}
	k.over = true
	close(k.gone)
	return true
}
