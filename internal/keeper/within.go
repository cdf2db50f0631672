package keeper

import (
	"context"
	"net"
	"path/filepath"
	"reflect"
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

// serveWithin makes the lab answer for its names, spread connections and let
// out what may leave, by the plan and by which nodes live.
func (k *Keeper) serveWithin(ctx context.Context, p *plan.Plan) error {
	if err := k.openOut(); err != nil {
		return err
	}
	config := k.within(p)
	if err := k.containers.Within(ctx, config); err != nil {
		return err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	k.told = &config
	return nil
}

// within gives what the lab is to do now.
func (k *Keeper) within(p *plan.Plan) within.Config {
	state, _, _ := k.board.look()
	return within.Of(p, func(node string) bool {
		at := slices.IndexFunc(state.Nodes, func(n api.Node) bool { return n.Name == node })
		return at < 0 || state.Nodes[at].State == api.Absent || state.Nodes[at].State == api.Lost || state.Nodes[at].State == api.Creating
	})
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

// tellWithin tells the lab when nodes come and go, as soon as they do.
func (k *Keeper) tellWithin(ctx context.Context) {
	for ctx.Err() == nil {
		_, _, changed := k.board.look()
		k.mu.Lock()
		p, told, leaving := k.living, k.told, k.leaving
		k.mu.Unlock()
		if p != nil && told != nil && !leaving {
			if now := k.within(p); !reflect.DeepEqual(now, *told) {
				if err := k.serveWithin(ctx, p); err != nil && ctx.Err() == nil {
					k.options.Log.Error("telling the lab of its nodes", "error", err)
				}
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
const tellPause = 20 * time.Millisecond

// showFronts puts the fronts on the board.
func (k *Keeper) showFronts(ctx context.Context, p *plan.Plan) {
	if len(p.Fronts) == 0 {
		return
	}
	states, err := k.containers.Fronts(ctx)
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
	k.board.change(func(s *api.State) { s.Fronts = all })
}
