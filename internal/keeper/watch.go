package keeper

import (
	"context"
	"slices"
	"time"

	"kettlehole/internal/agent"
	"kettlehole/internal/api"
	"kettlehole/internal/ledger"
	"kettlehole/internal/plan"
	"kettlehole/internal/substrate"
)

// watcher takes what a run tells to the board, and begins to watch each node
// once it has booted.
type watcher struct {
	k   *Keeper
	ctx context.Context
}

func (w watcher) NodeIs(name, state, reason string) {
	w.k.board.NodeIs(name, state, reason)
	if state == api.Provisioning {
		w.k.watch(name)
	}
}

func (w watcher) CellIs(cell api.Cell) { w.k.board.CellIs(cell) }

// watch follows the services of a node until it is gone.
func (k *Keeper) watch(name string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.watched[name] || k.leaving || k.resting {
		return
	}
	k.watched[name] = true
	client := k.containers.Agent(name)
	k.busy.Go(func() {
		ctx, cancel := context.WithCancel(context.Background())
		defer cancel()
		ended := make(chan error, 1)
		go func() {
			ended <- client.Watch(ctx, func(s agent.Status) {
				k.board.node(name, func(n *api.Node) {
					at := slices.IndexFunc(n.Services, func(have agent.Status) bool { return have.Service == s.Service })
					if at < 0 {
						n.Services = append(n.Services, s)
					} else {
						n.Services[at] = s
					}
				})
			})
		}()
		select {
		case <-ended:
		case <-k.ended:
			cancel()
			<-ended
			return
		}
		k.mu.Lock()
		delete(k.watched, name)
		leaving := k.leaving || k.resting
		k.mu.Unlock()
		if !leaving {
			k.board.NodeIs(name, api.Lost, "its first process ended; start, or provision, brings it back with its disk")
			k.board.node(name, func(n *api.Node) { n.Services, n.CPU, n.Memory = nil, 0, 0 })
		}
	})
}

// recognise puts nodes on the board that live since before this keeper.
func (k *Keeper) recognise(p *plan.Plan, living []string, cells []ledger.Cell) {
	for _, n := range p.Nodes {
		state, reason := api.Ready, ""
		if !slices.Contains(living, n.Name) {
			state, reason = api.Lost, "its first process ended; start, or provision, brings it back with its disk"
		} else {
			for _, s := range p.Steps {
				if !slices.Contains(s.Nodes, n.Name) {
					continue
				}
				at := slices.IndexFunc(cells, func(c ledger.Cell) bool { return c.Step == s.Name && c.Node == n.Name })
				if at < 0 || cells[at].State != api.Done {
					state, reason = api.Failed, "step "+s.Name+" is not done; provision goes on from there"
					break
				}
			}
			k.watch(n.Name)
		}
		k.board.NodeIs(n.Name, state, reason)
	}
}

// measure reads what nodes use, once a second.
func (k *Keeper) measure(ctx context.Context) {
	type reading struct {
		cpu int64
		at  time.Time
	}
	last := map[string]reading{}
	for k.options.Clock.Sleep(ctx, time.Second) == nil {
		k.mu.Lock()
		p, containers, leaving := k.living, k.containers, k.leaving || k.resting
		k.mu.Unlock()
		if p == nil || containers == nil || leaving {
			continue
		}
		now := k.options.Clock.Now()
		used := map[string]substrate.Usage{}
		for _, n := range p.Nodes {
			if u, err := containers.Usage(n.Name); err == nil {
				used[n.Name] = u
			}
		}
		k.board.change(func(s *api.State) {
			for i := range s.Nodes {
				n := &s.Nodes[i]
				u, known := used[n.Name]
				if !known || n.State == api.Lost {
					continue
				}
				n.Memory = u.Memory
				planned, _ := p.Node(n.Name)
				if before, any := last[n.Name]; any && planned.CPU > 0 && now.After(before.at) {
					share := float64(u.CPU-before.cpu) / float64(now.Sub(before.at)) * 1000 / float64(planned.CPU)
					n.CPU = min(max(share, 0), 1)
				}
				last[n.Name] = reading{u.CPU, now}
			}
		})
		k.mu.Lock()
		k.showForwards()
		k.mu.Unlock()
		k.showFronts(ctx)
	}
}

// showForwards puts the forwards on the board. The caller holds the lock.
func (k *Keeper) showForwards() {
	var all []api.Forward
	for _, f := range k.living.Forwards {
		one := api.Forward{Forward: f, Reason: "not open"}
		if forward := k.forwards[f.Name]; forward != nil {
			c := forward.Counts()
			one.Open, one.Total, one.In, one.Out, one.Reason = c.Open, c.Total, c.In, c.Out, c.Failure
		}
		all = append(all, one)
	}
	k.board.change(func(s *api.State) { s.Forwards = all })
}
