package keeper

import (
	"context"
	"fmt"

	"kettlehole/internal/ledger"
	"kettlehole/internal/plan"
	"kettlehole/internal/reach"
)

// openForward is a forward that listens, and what it was opened for.
type openForward struct {
	*reach.Forward
	plan plan.Forward
}

// listenAll opens the forwards that are not open, and closes those that the
// plan no longer holds or that lead elsewhere. The others keep their
// connections.
func (k *Keeper) listenAll(ctx context.Context, p *plan.Plan) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	wanted := map[string]plan.Forward{}
	for _, f := range p.Forwards {
		wanted[f.Name] = f
	}
	kept := map[string]bool{}
	for name, open := range k.forwards {
		if wanted[name] == open.plan {
			kept[open.plan.Listen.String()] = true
			continue
		}
		_ = open.Close()
		delete(k.forwards, name)
	}
	for _, f := range p.Forwards {
		kept[f.Listen.String()] = true
	}
	entries, err := k.ledger.Entries(ctx, p.Lab)
	if err != nil {
		return err
	}
	for _, e := range entries {
		if e.Kind == ledger.Forward && e.State != ledger.Gone && !kept[e.Ref] {
			if err := k.ledger.SetGone(ctx, p.Lab, e.Kind, e.Ref); err != nil {
				return err
			}
		}
	}
	for _, f := range p.Forwards {
		if k.forwards[f.Name] != nil {
			continue
		}
		entry := ledger.Entry{Kind: ledger.Forward, Ref: f.Listen.String(), Detail: fmt.Sprintf("%s to %s:%d", f.Name, f.Node, f.NodePort)}
		if err := k.ledger.Intend(ctx, p.Lab, entry); err != nil {
			return err
		}
		forward, err := reach.Listen(f.Listen, f.Node, f.NodePort, k.dialNode)
		if err != nil {
			return err
		}
		k.forwards[f.Name] = &openForward{forward, f}
		if err := k.ledger.SetMade(ctx, p.Lab, entry); err != nil {
			return err
		}
	}
	k.showForwards(p)
	return nil
}

func (k *Keeper) closeForwards() {
	k.mu.Lock()
	defer k.mu.Unlock()
	for name, forward := range k.forwards {
		_ = forward.Close()
		delete(k.forwards, name)
	}
}
