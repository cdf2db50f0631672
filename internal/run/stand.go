package run

import (
	"context"
	"fmt"

	"kettlehole/internal/agent"
	"kettlehole/internal/api"
)

// hindrance is the fate of a cell that needs what was done, and does not stand.
type hindrance struct{ of api.Cell }

func (h *hindrance) Error() string { return fmt.Sprintf("%s on %s failed", h.of.Step, h.of.Node) }

// stands tells by a channel that the wait of a cell must be looked at again: it
// was done before, on a node that was started in this run, so that its services
// are on their way. nil where that need not be.
func (r *Run) stands(i int, reused bool) chan struct{} {
	r.mu.Lock()
	defer r.mu.Unlock()
	if step := r.step(i); !reused || step.Wait == nil || len(step.Start) == 0 || !r.back[r.cells[i].Node] {
		return nil
	}
	r.standing[i] = make(chan struct{})
	return r.standing[i]
}

// stand looks at the wait of a cell again, unless its services could not even
// be started. Other cells that were done go on meanwhile, since a service may be
// ready only with those on other nodes; what is to run now waits (see
// [Run.stood]), and so does the node.
func (r *Run) stand(ctx context.Context, i int, client agent.Client, identity string, started error, over chan struct{}) {
	err := started
	if err == nil {
		err = r.wait(ctx, i, client, *r.step(i).Wait)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.standing, i)
	close(over)
	if ctx.Err() != nil || started != nil {
		return
	}
	c := &r.cells[i]
	c.Reason, c.Ended = "", r.Clock.Now()
	if err != nil {
		r.fail(i, err)
		c.Run, c.Started = r.N, c.Waiting
		if err := r.Record.SetCell(ctx, r.Plan.Lab, r.row(i, identity)); err != nil {
			r.faults = append(r.faults, err)
		}
	}
	r.Watcher.CellIs(c.Cell)
	r.settle(c.Node)
	r.advance(ctx)
}

// stood waits until all that a cell needs stands; the error says what does not.
func (r *Run) stood(ctx context.Context, i int) error {
	for {
		over, err := r.look(i)
		if over == nil {
			return err
		}
		select {
		case <-over:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// look finds something that a cell needs and that does not stand yet, nil where
// all of it does or never will.
func (r *Run) look(i int) (over <-chan struct{}, err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.standing) == 0 && r.faults == nil {
		return nil, nil
	}
	seen := map[int]bool{}
	for due := r.Graph.Needs(i); len(due) > 0; due = due[1:] {
		need := due[0]
		if seen[need] {
			continue
		}
		seen[need] = true
		if over := r.standing[need]; over != nil {
			return over, nil
		}
		if c := r.cells[need].Cell; c.State == api.Failed {
			return nil, &hindrance{c}
		}
		due = append(due, r.Graph.Needs(need)...)
	}
	return nil, nil
}
