package keeper

import (
	"context"

	"kettlehole/internal/ledger"
	"kettlehole/internal/plan"
)

// retire takes away what the ledger knows and the plan no longer holds: nodes
// with their disks and results, and the records of networks. It may be
// repeated.
func (k *Keeper) retire(ctx context.Context, p *plan.Plan) error {
	entries, err := k.ledger.Entries(ctx, p.Lab)
	if err != nil {
		return err
	}
	networks := map[string]bool{}
	for _, n := range p.Networks {
		networks[n.Name] = true
	}
	for _, e := range entries {
		if e.State == ledger.Gone {
			continue
		}
		switch e.Kind {
		case ledger.NodeK:
			if _, stays := p.Node(e.Ref); stays {
				continue
			}
			if err := k.containers.Remove(ctx, e.Ref); err != nil {
				return err
			}
			if err := k.ledger.DropCells(ctx, p.Lab, e.Ref); err != nil {
				return err
			}
		case ledger.Bridge:
			if networks[e.Ref] {
				continue
			}
			// Its bridge goes when the others are made.
		default:
			continue
		}
		if err := k.ledger.SetGone(ctx, p.Lab, e.Kind, e.Ref); err != nil {
			return err
		}
	}
	return nil
}

// hasAgreed tells whether the person who asked for the run agreed to losses.
func (k *Keeper) hasAgreed() bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.agreed
}
