package run

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"kettlehole/internal/agent"
	"kettlehole/internal/api"
	"kettlehole/internal/labfile"
	"kettlehole/internal/ledger"
	"kettlehole/internal/plan"
)

// perform runs one cell to its end and starts what can start then.
func (r *Run) perform(ctx context.Context, i int) {
	step := r.step(i)
	node, _ := r.Plan.Node(r.cells[i].Node)
	r.mu.Lock()
	identity := r.identity(step, node)
	r.mu.Unlock()
	err := r.carry(ctx, i, step, node, identity)
	if ctx.Err() != nil {
		r.setCell(i, func(c *api.Cell) { c.State, c.Reason = api.Waiting, "cancelled" })
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	c := &r.cells[i]
	var hindered *hindrance
	if errors.As(err, &hindered) {
		c.State, c.Reason = api.Waiting, hindered.Error()
		r.Watcher.CellIs(c.Cell)
		r.advance(ctx)
		return
	}
	if c.State == api.Running || err != nil {
		c.Ended = r.Clock.Now()
	}
	c.Reason = ""
	if c.State == api.Running {
		c.State = api.Done
	}
	if err != nil {
		r.fail(i, err)
	}
	if c.State != api.Reused {
		if err := r.Record.SetCell(ctx, r.Plan.Lab, r.row(i, identity)); err != nil {
			r.faults = append(r.faults, err)
		}
	}
	r.Watcher.CellIs(c.Cell)
	r.settle(node.Name)
	r.advance(ctx)
}

// fail says why a cell failed, and that its node did. The caller holds the lock.
func (r *Run) fail(i int, err error) {
	c := &r.cells[i]
	c.State, c.Reason = api.Failed, r.Secrets.Text(err.Error())
	r.faults = append(r.faults, fmt.Errorf("step %s on %s: %s", c.Step, c.Node, c.Reason))
	r.nodes[c.Node] = api.Failed
	r.Watcher.NodeIs(c.Node, api.Failed, fmt.Sprintf("step %s failed", c.Step))
}

func (r *Run) row(i int, identity string) ledger.Cell {
	c := r.cells[i].Cell
	return ledger.Cell{Step: c.Step, Node: c.Node, Run: r.N, Identity: identity, State: c.State, Started: c.Started, Ended: c.Ended, Exit: c.Exit, Reason: c.Reason}
}

// carry does what a step says: start its services, run its script, keep what
// it gives, wait. What an earlier run did with the same identity is done.
func (r *Run) carry(ctx context.Context, i int, step plan.Step, node plan.Node, identity string) error {
	if step.Shared {
		r.found(i)
		return nil
	}
	client := r.Substrate.Agent(node.Name)
	before := r.cells[i].before
	same := before.Identity == identity && !r.anew(i)
	if r.Orders.skip[i] || same && before.State == api.Skipped {
		return r.skip(i, step)
	}
	reused := same && before.State == api.Done && r.given(step)
	started := time.Time{}
	if same && before.State == api.Running && before.Run == r.N {
		// A script that this very run began before the keeper was started again
		// is not begun anew: its job is still known on the node by the same name.
		started = before.Started
	}
	if !reused {
		if err := r.stood(ctx, i); err != nil {
			return err
		}
	}
	works := !reused && (step.Script != "" || len(step.Put) > 0)
	if works {
		if err := r.enter(ctx, func(reason string) { r.setCell(i, func(c *api.Cell) { c.Reason = reason }) }); err != nil {
			return err
		}
	}
	over := r.stands(i, reused)
	err := r.work(ctx, i, client, step, node, identity, reused, started)
	if works {
		r.leave()
	}
	if over != nil {
		r.busy.Go(func() { r.stand(ctx, i, client, identity, err, over) })
	} else if err == nil && !reused && step.Wait != nil {
		return r.wait(ctx, i, client, *step.Wait)
	}
	return err
}

// skip takes a cell for done. What it should have given must be known.
func (r *Run) skip(i int, step plan.Step) error {
	if !r.given(step) {
		return fmt.Errorf("it cannot be skipped: it gives %s, which nobody knows yet", step.Gives[0].Name)
	}
	now := r.Clock.Now()
	r.setCell(i, func(c *api.Cell) { c.State, c.Run, c.Started, c.Ended = api.Skipped, r.N, now, now })
	return nil
}

// work is the part of a step that asks something of the workstation: all but
// its wait.
func (r *Run) work(ctx context.Context, i int, client agent.Client, step plan.Step, node plan.Node, identity string, reused bool, started time.Time) error {
	before := r.cells[i].before
	if started.IsZero() {
		started = r.Clock.Now()
	}
	r.setCell(i, func(c *api.Cell) {
		c.State, c.Run, c.Reason, c.Started = api.Running, r.N, "", started
		if reused {
			c.State, c.Run, c.Started, c.Ended = api.Reused, before.Run, before.Started, before.Ended
		}
	})
	if !reused {
		r.mu.Lock()
		row := r.row(i, identity)
		r.mu.Unlock()
		if err := r.Record.SetCell(ctx, r.Plan.Lab, row); err != nil {
			return err
		}
	}
	if len(step.Put) > 0 && !reused {
		if err := r.put(ctx, client, step, node); err != nil {
			return err
		}
	}
	for _, service := range step.Start {
		if _, err := client.Do(ctx, agent.Request{Op: agent.OpStart, Service: service}); err != nil {
			return fmt.Errorf("starting service %q: %w", service, err)
		}
	}
	if reused {
		return nil
	}
	if step.Script != "" {
		return r.attempts(ctx, i, client, step)
	}
	return nil
}

// given tells whether every value that the step gives is known.
func (r *Run) given(step plan.Step) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return !slices.ContainsFunc(step.Gives, func(v labfile.Value) bool { _, known := r.values[v.Name]; return !known })
}

// JobName names the run of a step's script on its node.
func JobName(n int, step string) string { return fmt.Sprintf("%s.run%d", step, n) }

// LogName is the file with the output of a step's script.
func LogName(n int, step string) string { return JobName(n, step) + ".log" }

// attempts runs a step's script, and again where it fails and may.
func (r *Run) attempts(ctx context.Context, i int, client agent.Client, step plan.Step) error {
	for attempt := 1; ; attempt++ {
		err := r.script(ctx, i, client, step, attempt)
		if err == nil || ctx.Err() != nil || step.Retry == nil || attempt > step.Retry.Times || errors.Is(err, errLost) {
			if err != nil && attempt > 1 && ctx.Err() == nil {
				return fmt.Errorf("%w, the last of %d tries", err, attempt)
			}
			return err
		}
		reason := fmt.Sprintf("%v; try %d of %d in %v", err, attempt+1, step.Retry.Times+1, step.Retry.Pause)
		r.setCell(i, func(c *api.Cell) { c.Reason = r.Secrets.Text(reason) })
		if err := r.Clock.Sleep(ctx, time.Duration(step.Retry.Pause)); err != nil {
			return err
		}
		r.setCell(i, func(c *api.Cell) { c.Reason, c.Exit, c.Tail = "", 0, "" })
	}
}

// errLost is a node that went away while its script ran.
var errLost = errors.New("the node was lost while the script ran")

func (r *Run) script(ctx context.Context, i int, client agent.Client, step plan.Step, attempt int) error {
	job := agent.Job{ID: JobName(r.N, step.Name), Script: step.Script, Log: LogName(r.N, step.Name), Limit: int64(step.Limit)}
	if attempt > 1 {
		job.ID = fmt.Sprintf("%s.try%d", job.ID, attempt)
	}
	for _, v := range step.Env {
		job.Env = append(job.Env, v.Name+"="+v.Value)
	}
	r.mu.Lock()
	for _, name := range step.Takes {
		job.Env = append(job.Env, name+"="+r.values[name])
	}
	r.mu.Unlock()
	job.Secrets = r.Secrets.Texts()
	for _, v := range step.Gives {
		job.Gives = append(job.Gives, v.Name)
		if v.Secret {
			job.Hold = append(job.Hold, v.Name)
		}
	}
	result, err := client.Job(ctx, job)
	if ctx.Err() != nil {
		// The node goes on with the script unless told otherwise.
		if errors.Is(context.Cause(ctx), ErrCancelled) {
			ask, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
			defer cancel()
			_, err = client.Do(ask, agent.Request{Op: agent.OpCancel, Job: &agent.Job{ID: job.ID}})
		}
		return errors.Join(ctx.Err(), err)
	}
	if err != nil {
		return fmt.Errorf("%w: %w", errLost, err)
	}
	for _, v := range step.Gives {
		value, ok := result.Values[v.Name]
		if !ok {
			continue
		}
		if v.Secret {
			r.Secrets.Add(value)
		}
		if err := r.Values.Set(ctx, v.Name, value, v.Secret); err != nil {
			return err
		}
		r.mu.Lock()
		r.values[v.Name] = value
		r.mu.Unlock()
	}
	if result.Exit != 0 || result.Reason != "" {
		r.setCell(i, func(c *api.Cell) { c.Exit, c.Tail = result.Exit, r.Secrets.Text(result.Tail) })
		if result.Reason != "" {
			return errors.New(result.Reason)
		}
		return fmt.Errorf("exit code %d", result.Exit)
	}
	return nil
}

// ErrCancelled is the cause of a context that a person cancelled, and not the
// end of the keeper alone.
var ErrCancelled = errors.New("cancelled")

// Pauses between looks at a condition.
const (
	firstLook = 20 * time.Millisecond
	slowLook  = 500 * time.Millisecond
)

// wait looks at a condition until it holds.
func (r *Run) wait(ctx context.Context, i int, client agent.Client, want labfile.Wait) error {
	began := r.Clock.Now()
	r.setCell(i, func(c *api.Cell) { c.Waiting = began })
	pause := firstLook
	for {
		seen, err := look(ctx, client, want)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil {
			return fmt.Errorf("the node was lost while it was waited for: %w", err)
		}
		if seen.Held {
			return nil
		}
		waited := r.Clock.Now().Sub(began)
		words := r.Secrets.Text(seen.Seen)
		if waited >= time.Duration(want.Within) {
			return fmt.Errorf("waited %v, and still: %s", want.Within, words)
		}
		reason := fmt.Sprintf("%s, %d s of %d", words, int(waited.Seconds()), int(time.Duration(want.Within).Seconds()))
		r.setCell(i, func(c *api.Cell) { c.Reason = reason })
		if err := r.Clock.Sleep(ctx, pause); err != nil {
			return err
		}
		pause = min(pause*3/2, slowLook)
	}
}
