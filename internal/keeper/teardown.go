package keeper

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"kettlehole/internal/anchor"
	"kettlehole/internal/api"
	"kettlehole/internal/audit"
	"kettlehole/internal/ledger"
	"kettlehole/internal/run"
)

// cancelRun ends the run that goes on, if one does.
func (k *Keeper) cancelRun() {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.cancel != nil {
		k.cancel(run.ErrCancelled)
	}
}

// startTeardown begins to take the lab down, unless that goes on already.
func (k *Keeper) startTeardown(ctx context.Context) error {
	k.asking.Lock()
	defer k.asking.Unlock()
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.over {
		return errOver
	}
	if k.leaving {
		return nil
	}
	if k.living == nil {
		return &refusal{fmt.Sprintf("there is no lab %q", k.options.Lab)}
	}
	if err := k.ledger.SetState(ctx, k.options.Lab, ledger.Ending); err != nil {
		return err
	}
	k.leaving = true
	if k.cancel != nil {
		k.cancel(run.ErrCancelled)
	}
	k.board.change(func(s *api.State) { s.Phase, s.Error, s.Fault = api.PhaseLeaving, "", false })
	work := context.WithoutCancel(ctx)
	k.busy.Go(func() {
		err := k.takeDown(work)
		if err != nil {
			k.options.Log.Error("teardown", "error", err)
			k.mu.Lock()
			k.leaving = false
			k.mu.Unlock()
			k.board.change(func(s *api.State) { s.Phase, s.Error, s.Fault = api.PhaseLiving, err.Error(), isFault(err) })
			return
		}
		close(k.gone)
	})
	return nil
}

// teardownLimit is how long the kernel may take to give things back.
const teardownLimit = 30 * time.Second

// takeDown takes all away that the ledger knows of, in the order opposite to
// how it was made. Every part of it may be repeated.
func (k *Keeper) takeDown(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, teardownLimit)
	defer cancel()
	name := k.options.Lab
	lab, err := k.ledger.Lab(ctx, name)
	if err != nil {
		return err
	}
	entries, err := k.ledger.Entries(ctx, name)
	if err != nil {
		return err
	}
	gone := func(kind ledger.Kind) error {
		var refs []string
		for _, e := range entries {
			if e.Kind == kind {
				refs = append(refs, e.Ref)
			}
		}
		return k.ledger.SetGone(ctx, name, kind, refs...)
	}
	for k.isStopping() {
		if err := k.options.Clock.Sleep(ctx, time.Millisecond); err != nil {
			return fmt.Errorf("waiting until the lab is stopped: %w", err)
		}
	}
	if err := k.runEnded(ctx); err != nil {
		return err
	}
	k.closeForwards()
	k.closeLogin()
	k.closeOut()
	if err := gone(ledger.Forward); err != nil {
		return err
	}
	if err := anchor.End(ctx, k.folder()); err != nil {
		return err
	}
	for _, kind := range []ledger.Kind{ledger.NodeK, ledger.Bridge, ledger.Anchor} {
		if err := gone(kind); err != nil {
			return err
		}
	}
	k.board.change(func(s *api.State) {
		for i := range s.Nodes {
			s.Nodes[i] = api.Node{Name: s.Nodes[i].Name, State: api.Absent}
		}
	})
	if err := k.cgroup.Remove(ctx); err != nil {
		return err
	}
	if err := gone(ledger.Cgroup); err != nil {
		return err
	}
	if err := removeAll(ctx, k.folder()); err != nil {
		return fmt.Errorf("removing the lab's folder: %w", err)
	}
	_ = os.Remove(filepath.Dir(k.folder())) // where no other lab lives
	if err := gone(ledger.Folder); err != nil {
		return err
	}
	report, err := k.audit(lab)
	if err != nil {
		return err
	}
	if err := k.ledger.DropLab(ctx, name); err != nil {
		return err
	}
	k.board.change(func(s *api.State) {
		s.Phase, s.Audit, s.Cells, s.Forwards, s.Fronts = api.PhaseGone, &report, nil, nil, nil
	})
	return nil
}

// audit compares the workstation with what it was before the lab.
func (k *Keeper) audit(lab ledger.Lab) (audit.Report, error) {
	k.mu.Lock()
	scope := k.audited(k.living)
	k.mu.Unlock()
	var before audit.Snapshot
	if err := json.Unmarshal(lab.Before, &before); err != nil {
		return audit.Report{}, fmt.Errorf("reading what the workstation was: %w", err)
	}
	after, err := audit.Take(scope)
	if err != nil {
		return audit.Report{}, err
	}
	return audit.Compare(before, after, scope.Marked), nil
}

func (k *Keeper) isRunning() bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.cancel != nil
}

func (k *Keeper) isStopping() bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.stopping
}

// removeAll removes a folder. The kernel may still be unmounting in a
// namespace that has just ended, so that it is tried again for a while.
func removeAll(ctx context.Context, folder string) error {
	for {
		err := os.RemoveAll(folder)
		if err == nil || ctx.Err() != nil {
			return errors.Join(err, ctx.Err())
		}
		time.Sleep(5 * time.Millisecond)
	}
}
