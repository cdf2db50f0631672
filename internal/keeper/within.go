package keeper

import (
	"context"
	"maps"
	"net"
	"path/filepath"
	"slices"
	"time"

	"github.com/miekg/dns"

	"kettlehole/internal/api"
	"kettlehole/internal/plan"
	"kettlehole/internal/reach"
	"kettlehole/internal/reach/outward"
	"kettlehole/internal/reach/within"
)

// resolvers lists the workstation's, as resolv.conf(5) has them at the moment.
func resolvers() []string {
	config, err := dns.ClientConfigFromFile("/etc/resolv.conf")
	if err != nil {
		return nil
	}
	var all []string
	for _, server := range config.Servers {
		all = append(all, net.JoinHostPort(server, config.Port))
	}
	return all
}

// told is what the lab was told to do last.
type told struct {
	plan *plan.Plan
	away map[string]bool // nodes that do not live
	fail bool            // it could not do all of it
}

// serveWithin makes the lab answer for its names, spread connections and let
// out what may leave, by the plan and by which nodes live.
func (k *Keeper) serveWithin(ctx context.Context, p *plan.Plan) error {
	if err := k.openOut(); err != nil {
		return err
	}
	away := k.board.away()
	err := k.containers.Within(ctx, within.Of(p, func(node string) bool { return away[node] }))
	k.mu.Lock()
	defer k.mu.Unlock()
	k.told = &told{p, away, err != nil}
	return err
}

// openOut opens the way out, unless it is open.
func (k *Keeper) openOut() error {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.out != nil {
		return nil
	}
	out, err := outward.Open(filepath.Join(k.folder(), outward.Socket), resolvers)
	if err != nil {
		return err
	}
	k.out = out
	return nil
}

func (k *Keeper) closeOut() {
	k.mu.Lock()
	out := k.out
	k.out = nil
	k.mu.Unlock()
	if out != nil {
		_ = out.Close()
	}
}

// tellWithin tells the lab when nodes come and go, as soon as they do, and again
// what it could not do.
func (k *Keeper) tellWithin(ctx context.Context) {
	for ctx.Err() == nil {
		changed := k.board.next()
		k.mu.Lock()
		p, last, leaving := k.living, k.told, k.leaving || k.resting
		k.mu.Unlock()
		if p != nil && last != nil && !leaving && (last.fail || p != last.plan || !maps.Equal(k.board.away(), last.away)) {
			if err := k.serveWithin(ctx, p); err != nil && ctx.Err() == nil && !last.fail {
				k.options.Log.Error("telling the lab of its nodes", "error", err)
			}
		}
		select {
		case <-ctx.Done():
		case <-changed:
			_ = k.options.Clock.Sleep(ctx, tellPause) // several changes as one
		}
	}
}

// tellPause is how long changes of nodes are gathered before the lab is told.
const tellPause = 100 * time.Millisecond

// showFronts puts the fronts on the board.
func (k *Keeper) showFronts(ctx context.Context) {
	k.mu.Lock()
	p := k.living
	k.mu.Unlock()
	var states []reach.FrontState
	var err error
	if len(p.Fronts) > 0 {
		states, err = k.containers.Fronts(ctx)
	}
	var all []api.Front
	for _, f := range p.Fronts {
		one := api.Front{Front: f}
		if at := slices.IndexFunc(states, func(s reach.FrontState) bool { return s.Name == f.Name }); at >= 0 {
			one.States, one.Refused = states[at].Members, states[at].Refused
		} else if err != nil {
			one.Reason = err.Error()
		} else {
			one.Reason = "not open"
		}
		all = append(all, one)
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.living == p { // or another plan's were asked for
		k.board.change(func(s *api.State) { s.Fronts = all })
	}
}
