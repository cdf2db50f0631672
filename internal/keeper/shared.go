package keeper

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"kettlehole/internal/api"
	"kettlehole/internal/image"
	"kettlehole/internal/ledger"
	"kettlehole/internal/plan"
	"kettlehole/internal/run"
	"kettlehole/internal/schedule"
	"kettlehole/internal/substrate"
)

// builderMemory is what a builder may use, in bytes.
const builderMemory = 1 << 30

// shared makes the layers of shared steps that are not at hand, one after the
// other, and gives the layers of every node, the uppermost first, and what each
// shared cell finds.
func (k *Keeper) shared(ctx context.Context, p *plan.Plan, n int, digest string, layers []string) (map[string][]string, map[schedule.Cell]run.Kept, error) {
	of, cells := map[string][]string{}, map[schedule.Cell]run.Kept{}
	made := map[string]run.Kept{} // by digest
	for _, node := range p.Nodes {
		of[node.Name] = layers
		below := []string{digest}
		for _, step := range p.SharedOf(node.Name) {
			cell := schedule.Cell{Step: step.Name, Node: node.Name}
			d := p.SharedDigest(below, step)
			kept, known := made[d]
			if !known {
				var err error
				if kept, err = k.sharedLayer(ctx, p, n, step, cell, d, of[node.Name]); err != nil {
					return nil, nil, err
				}
				made[d] = run.Kept{Layer: d} // the other nodes find it
			}
			cells[cell] = kept
			of[node.Name] = slices.Concat([]string{k.store().Path(d)}, of[node.Name])
			below = append(below, d)
		}
	}
	return of, cells, nil
}

func (k *Keeper) store() image.Store { return image.NewStore(k.options.Home.Images()) }

// sharedLog is the file with what a shared step printed when it was done.
func (k *Keeper) sharedLog(digest string) string { return k.store().Path(digest) + ".log" }

// sharedLayer gives what a shared step leaves over the layers, and makes it
// where it is not at hand.
func (k *Keeper) sharedLayer(ctx context.Context, p *plan.Plan, n int, step plan.Step, cell schedule.Cell, digest string, layers []string) (run.Kept, error) {
	kept := run.Kept{Layer: digest}
	path := k.store().Path(digest)
	if err := k.agreedTo(ctx, p, step, path); err != nil {
		return kept, err
	}
	entry := ledger.Entry{Kind: ledger.Layer, Ref: path, Detail: "of " + step.Name + ", kept for later labs"}
	if err := k.ledger.Intend(ctx, p.Lab, entry); err != nil {
		return kept, err
	}
	doing := func(what string) { k.board.change(func(s *api.State) { s.Run.Doing = what }) }
	about := image.About{Step: step.Name, Lab: p.Lab, Made: k.options.Clock.Now()}
	_, err := k.store().Shared(ctx, digest, about, func(part string) error {
		doing(fmt.Sprintf("%s, done once for %s", step.Name, nodes(len(step.Nodes))))
		kept.Cell = api.Cell{Step: cell.Step, Node: cell.Node, Run: n, State: api.Running, Layer: digest, Started: k.options.Clock.Now()}
		k.board.CellIs(kept.Cell)
		err := k.build(ctx, p, n, step, digest, layers, part, &kept.Cell)
		kept.Cell.Ended = k.options.Clock.Now()
		return err
	}, func() { doing(step.Name + ", which another lab is just making") })
	if err != nil {
		return kept, err
	}
	return kept, k.ledger.SetMade(ctx, p.Lab, entry)
}

func nodes(n int) string {
	if n == 1 {
		return "1 node"
	}
	return fmt.Sprintf("%d nodes", n)
}

// agreedTo refuses a layer that would make living nodes anew, unless the person
// agreed to that.
func (k *Keeper) agreedTo(ctx context.Context, p *plan.Plan, step plan.Step, path string) error {
	entries, err := k.ledger.Entries(ctx, p.Lab)
	if err != nil {
		return err
	}
	lives, has := false, false
	for _, e := range entries {
		lives = lives || e.Kind == ledger.NodeK && e.State == ledger.Made && slices.Contains(step.Nodes, e.Ref)
		has = has || e.Kind == ledger.Layer && e.State == ledger.Made && e.Ref == path
	}
	if lives && !has && !k.hasAgreed() {
		return &refusal{fmt.Sprintf("the shared step %s, or what lies below it, changed since its nodes were made, so that %s would be made anew; agree to that (--yes), or leave it as it was", step.Name, strings.Join(step.Nodes, ", "))}
	}
	return nil
}

// build does the step on a node of its own.
func (k *Keeper) build(ctx context.Context, p *plan.Plan, n int, step plan.Step, digest string, layers []string, part string, cell *api.Cell) error {
	name := "shared." + strings.TrimPrefix(digest, "sha256:")[:8]
	entry := ledger.Entry{Kind: ledger.NodeK, Ref: name, Detail: "does " + step.Name + " once for all"}
	if err := k.ledger.Intend(ctx, p.Lab, entry); err != nil {
		return err
	}
	// What an earlier keeper left of it goes first.
	if err := k.containers.Remove(ctx, name); err != nil {
		return err
	}
	b := run.Builder{Node: substrate.Node{Name: name, Layers: layers, CPU: int64(runtime.NumCPU()) * 1000, Memory: builderMemory},
		Step: step, Env: p.SharedEnvironment(), Run: n, Substrate: k.containers, Clock: k.options.Clock}
	tail, err := b.Make(ctx, part, func() { k.keepLog(name, run.LogName(n, step.Name), digest) })
	if ctx.Err() == nil || err == nil {
		err = errors.Join(err, k.ledger.SetGone(ctx, p.Lab, ledger.NodeK, name))
	}
	if err == nil || ctx.Err() != nil {
		return err
	}
	err = fmt.Errorf("step %s, done once for %s: %w", step.Name, nodes(len(step.Nodes)), err)
	failed := *cell
	failed.State, failed.Ended, failed.Reason, failed.Tail = api.Failed, k.options.Clock.Now(), k.secrets.Text(err.Error()), k.secrets.Text(tail)
	k.board.CellIs(failed)
	return err
}

// keepLog keeps what the script printed beside its layer.
func (k *Keeper) keepLog(node, name, digest string) {
	text, err := os.ReadFile(filepath.Join(k.containers.Logs(node), name))
	if err == nil {
		err = os.WriteFile(k.sharedLog(digest), text, 0o600)
	}
	if err != nil {
		k.options.Log.Warn("keeping the log of a shared step", "error", err)
	}
}
