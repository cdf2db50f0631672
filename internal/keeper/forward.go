package keeper

import (
	"context"
	"encoding/json"
	"fmt"
	"net"

	"kettlehole/internal/api"
	"kettlehole/internal/labfile"
	"kettlehole/internal/ledger"
	"kettlehole/internal/mapping"
	"kettlehole/internal/plan"
	"kettlehole/internal/reach"
	"kettlehole/internal/workstation/survey"
)

// openForward is a forward that listens, and what it was opened for.
type openForward struct {
	reach.Way
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
		if sameWay(wanted[name], open.plan) {
			kept[ref(open.plan)] = true
			continue
		}
		_ = open.Close()
		delete(k.forwards, name)
	}
	for _, f := range p.Forwards {
		kept[ref(f)] = true
	}
	kept[p.Access.String()] = true
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
		entry := ledger.Entry{Kind: ledger.Forward, Ref: ref(f), Detail: fmt.Sprintf("%s to %s:%d", f.Name, f.Node, f.NodePort)}
		if err := k.ledger.Intend(ctx, p.Lab, entry); err != nil {
			return err
		}
		way, err := k.listen(f)
		if err != nil {
			return fmt.Errorf("forward %s: %w", f.Name, err)
		}
		k.forwards[f.Name] = &openForward{way, f}
		if err := k.ledger.SetMade(ctx, p.Lab, entry); err != nil {
			return err
		}
	}
	k.showForwards()
	return k.listenAccess(p)
}

// ref is what a forward is called in the ledger.
func ref(f plan.Forward) string {
	if f.UDP {
		return f.Listen.String() + "/udp"
	}
	return f.Listen.String()
}

// sameWay tells whether what is open for one forward serves another.
func sameWay(a, b plan.Forward) bool {
	a.Added, a.Auto, b.Added, b.Auto = false, false, false, false
	return a == b
}

// listen opens one forward.
func (k *Keeper) listen(f plan.Forward) (reach.Way, error) {
	node := k.containers.Agent(f.Node)
	if f.UDP {
		return reach.ListenUDP(f.Listen, func(ctx context.Context) (net.Conn, error) { return node.DialUDP(ctx, f.NodePort) })
	}
	return reach.Listen(f.Listen, func(ctx context.Context) (net.Conn, error) { return node.DialPort(ctx, f.NodePort) })
}

// addForward adds a forward to the living lab, and gives what it opened.
func (k *Keeper) addForward(ctx context.Context, want api.NewForward) ([]plan.Forward, error) {
	forward, err := labfile.NewForward(want.Name, want.Text)
	if err != nil {
		return nil, &refusal{err.Error()}
	}
	var added []plan.Forward
	err = k.change(ctx, func(p *plan.Plan) (*plan.Plan, error) {
		facts, err := survey.Read(string(k.options.Home))
		if err != nil {
			return nil, err
		}
		labs, err := k.ledger.Labs(ctx)
		if err != nil {
			return nil, err
		}
		facts.Labs = mapping.Holds(labs)
		wider, ways, findings := p.Add(forward, facts)
		if wider == nil {
			return nil, &refusal{findings.Words(labfile.Error)}
		}
		added = ways
		return wider, nil
	})
	return added, err
}

// removeForward takes a forward away that a person added.
func (k *Keeper) removeForward(ctx context.Context, name string) error {
	return k.change(ctx, func(p *plan.Plan) (*plan.Plan, error) {
		narrower, _, err := p.Without(name)
		if err != nil {
			return nil, &refusal{err.Error()}
		}
		return narrower, nil
	})
}

// change puts another plan in the place of the living one that differs in its
// forwards alone, and opens and closes them.
func (k *Keeper) change(ctx context.Context, do func(*plan.Plan) (*plan.Plan, error)) error {
	k.asking.Lock()
	defer k.asking.Unlock()
	k.mu.Lock()
	living, running, leaving, resting, made := k.living, k.cancel != nil, k.leaving, k.resting, k.containers != nil
	k.mu.Unlock()
	switch {
	case living == nil || !made || leaving:
		return &refusal{fmt.Sprintf("there is no lab %q that lives", k.options.Lab)}
	case resting:
		return &refusal{"the lab is stopped; start it, then change forwards"}
	case running:
		return &refusal{"a run goes on; change forwards when it has ended"}
	}
	changed, err := do(living)
	if err != nil {
		return err
	}
	text, err := json.Marshal(changed)
	if err != nil {
		return err
	}
	lab, err := k.ledger.Lab(ctx, k.options.Lab)
	if err != nil {
		return err
	}
	if err := k.ledger.SetPlan(ctx, k.options.Lab, text, lab.Source); err != nil {
		return err
	}
	k.mu.Lock()
	k.living = changed
	k.mu.Unlock()
	k.board.change(func(s *api.State) { s.Plan = changed })
	return k.listenAll(ctx, changed)
}

func (k *Keeper) closeForwards() {
	k.mu.Lock()
	defer k.mu.Unlock()
	for name, forward := range k.forwards {
		_ = forward.Close()
		delete(k.forwards, name)
	}
}
