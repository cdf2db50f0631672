package run

import (
	"context"
	"errors"
	"fmt"
	"time"

	"kettlehole/internal/agent"
	"kettlehole/internal/api"
	"kettlehole/internal/labfile"
	"kettlehole/internal/plan"
	"kettlehole/internal/schedule"
	"kettlehole/internal/substrate"
)

// Kept is what a shared step left, as a node finds it.
type Kept struct {
	Layer string // digest
	// Cell is how it was made, where this run made it; the zero value where it
	// was there.
	Cell api.Cell
}

// builderHosts is /etc/hosts on a node that a shared step is done on: nothing
// of any lab.
const builderHosts = "127.0.0.1 localhost\n::1 localhost\n"

// Builder does a shared step on a node of its own, which knows nothing of the
// lab's nodes.
type Builder struct {
	Node      substrate.Node // its name, layers and limits
	Step      plan.Step
	Env       []string // inputs and reserves
	Run       int
	Substrate substrate.Substrate
	Clock     Clock
}

// Make runs the step's script and keeps what it wrote under path. before is
// called when the script has ended, well or not, while its log is still there.
// The last lines are given where it failed. No node is left, whatever happens.
func (b Builder) Make(ctx context.Context, path string, before func()) (tail string, err error) {
	defer func() {
		if err != nil {
			away, cancel := context.WithTimeout(context.WithoutCancel(ctx), removeLimit)
			defer cancel()
			err = errors.Join(err, b.Substrate.Remove(away, b.Node.Name))
		}
	}()
	b.Node.Hosts = builderHosts
	if _, err := b.Substrate.Make(ctx, b.Node); err != nil {
		return "", err
	}
	client := b.Substrate.Agent(b.Node.Name)
	if err := boot(ctx, b.Clock, client, &agent.Configure{Env: b.Env}, []agent.File{{Path: "/etc/hosts", Content: []byte(builderHosts), Mode: 0o644}}); err != nil {
		return "", err
	}
	if files := shareable(b.Step.Put); len(files) > 0 {
		if _, err := client.Do(ctx, agent.Request{Op: agent.OpPut, Files: files}); err != nil {
			return "", fmt.Errorf("putting files: %w", err)
		}
	}
	if b.Step.Script != "" {
		tail, err = b.script(ctx, client)
		before()
		if err != nil {
			return tail, err
		}
	}
	return "", b.Substrate.Keep(ctx, b.Node.Name, path)
}

// removeLimit is how long the removal of a builder may take.
const removeLimit = 10 * time.Second

func (b Builder) script(ctx context.Context, client agent.Client) (tail string, err error) {
	for attempt := 1; ; attempt++ {
		job := agent.Job{ID: fmt.Sprintf("%s.try%d", JobName(b.Run, b.Step.Name), attempt), Script: b.Step.Script, Log: LogName(b.Run, b.Step.Name), Limit: int64(b.Step.Limit)}
		for _, v := range b.Step.Env {
			job.Env = append(job.Env, v.Name+"="+v.Value)
		}
		result, err := client.Job(ctx, job)
		switch {
		case ctx.Err() != nil:
			return "", context.Cause(ctx)
		case err != nil:
			return "", err
		case result.Exit == 0 && result.Reason == "":
			return "", nil
		case result.Reason != "":
			err = errors.New(result.Reason)
		default:
			err = fmt.Errorf("exit code %d", result.Exit)
		}
		if b.Step.Retry == nil || attempt > b.Step.Retry.Times {
			return result.Tail, err
		}
		if err := b.Clock.Sleep(ctx, time.Duration(b.Step.Retry.Pause)); err != nil {
			return "", err
		}
	}
}

// shareable gives files that are the same on every node.
func shareable(from []labfile.File) []agent.File {
	var files []agent.File
	for _, f := range from {
		files = append(files, agent.File{Path: f.Target, Content: f.Content, Mode: modeOf(f.Content)})
	}
	return files
}

// found takes what a shared step left for done.
func (r *Run) found(i int) {
	kept := r.Shared[schedule.Cell{Step: r.cells[i].Step, Node: r.cells[i].Node}]
	r.setCell(i, func(c *api.Cell) {
		c.State, c.Run, c.Layer = api.Reused, r.N, kept.Layer
		if !kept.Cell.Ended.IsZero() {
			c.State, c.Started, c.Ended = api.Done, kept.Cell.Started, kept.Cell.Ended
		}
	})
}
