package keeper

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"kettlehole/internal/anchor"
	"kettlehole/internal/api"
	"kettlehole/internal/audit"
	"kettlehole/internal/image"
	"kettlehole/internal/ledger"
	"kettlehole/internal/mapping"
	"kettlehole/internal/plan"
	"kettlehole/internal/reach/within"
	"kettlehole/internal/rehearsal"
	"kettlehole/internal/run"
	"kettlehole/internal/schedule"
	"kettlehole/internal/substrate"
	"kettlehole/internal/substrate/container"
	"kettlehole/internal/workstation"
	"kettlehole/internal/workstation/survey"
)

// refusal is a request that cannot be granted as the lab stands.
type refusal struct{ words string }

func (r *refusal) Error() string { return r.words }

// provision begins a run by the lab file, or finds one that goes on.
func (k *Keeper) provision(ctx context.Context, want api.Wanted) error {
	k.asking.Lock()
	defer k.asking.Unlock()
	if granted, err := k.mayRun(); !granted {
		return err
	}
	k.mu.Lock()
	living := k.living
	k.mu.Unlock()
	if os.Geteuid() != 0 {
		return fmt.Errorf("%w: laying nodes on containers needs root for now; run kettlehole as root", substrate.ErrWorkstation)
	}
	labs, err := k.ledger.Labs(ctx)
	if err != nil {
		return err
	}
	m, err := mapping.Map(mapping.Request{File: want.File, Home: string(k.options.Home), Living: func(string) *plan.Plan { return living }, Given: want.Inputs, Tight: want.Tight,
		Labs: func() []workstation.Hold { return mapping.Holds(labs) }})
	if err != nil {
		return err
	}
	if !m.Good() {
		return &refusal{"the lab file has errors:\n" + m.Text()}
	}
	if m.Lab.Name != k.options.Lab {
		return &refusal{fmt.Sprintf("%s declares the lab %q, not %q", want.File, m.Lab.Name, k.options.Lab)}
	}
	if _, err := run.NewOrders(m.Plan, m.Graph, want.Ways); err != nil {
		return &refusal{err.Error()}
	}
	text, err := json.Marshal(m.Plan)
	if err != nil {
		return err
	}
	if living == nil {
		before, err := audit.Take(k.audited(m.Plan))
		if err != nil {
			return err
		}
		seen, err := json.Marshal(before)
		if err != nil {
			return err
		}
		err = k.ledger.AddLab(ctx, ledger.Lab{Name: m.Lab.Name, ID: k.options.Home.ID(m.Lab.Name), File: m.File, Folder: k.folder(), Plan: text, Source: m.Source, Before: seen})
		if err != nil {
			return err
		}
		k.board.change(func(s *api.State) { s.Created = k.options.Clock.Now() })
	} else {
		if living.File != m.File {
			return &refusal{fmt.Sprintf("a lab %q lives already, from %s; tear it down first, or give this one another name", living.Lab, living.File)}
		}
		var losses []string
		entries, err := k.ledger.Entries(ctx, living.Lab)
		if err != nil {
			return err
		}
		for _, change := range plan.Losses(plan.Difference(living, m.Plan), ledger.NodesMade(entries)) {
			losses = append(losses, strings.TrimSuffix(fmt.Sprintf("%s %s: %s", change.Name, change.Kind, strings.Join(change.Why, ", ")), ": "))
		}
		if len(losses) > 0 && !want.Agreed {
			return &refusal{"what is on these nodes would be lost, which nobody agreed to: " + strings.Join(losses, "; ")}
		}
		if err := k.ledger.SetPlan(ctx, m.Lab.Name, text, m.Source); err != nil {
			return err
		}
	}
	return k.launch(ctx, m.Plan, m.File, want)
}

// begin starts a run that was recorded, or goes on with one. The lab must not
// be leaving, and no other run going on.
func (k *Keeper) begin(ctx context.Context, p *plan.Plan, started ledger.Run) {
	var want api.Wanted
	if err := json.Unmarshal(started.Wish, &want); err != nil {
		k.options.Log.Error("reading what was asked for", "error", err)
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	k.agreed = want.Agreed
	ctx, cancel := context.WithCancelCause(ctx)
	k.cancel = cancel
	k.board.change(func(s *api.State) {
		s.Phase, s.Run = api.PhaseMaking, api.Run{N: started.N, Started: started.Started, Ways: want.Ways}
		for i := range s.Nodes {
			s.Nodes[i].Marks = nil
		}
	})
	k.busy.Go(func() {
		defer cancel(nil)
		err := k.run(ctx, p, started, want)
		if err != nil {
			k.options.Log.Error("run", "error", err)
		}
		k.mu.Lock()
		k.cancel = nil
		k.mu.Unlock()
		k.board.change(func(s *api.State) {
			if s.Run.Ended.IsZero() {
				s.Run = ended(*s, k.options.Clock.Now(), outcome(ctx, err)).Run
			}
			if s.Phase == api.PhaseLeaving || s.Phase == api.PhaseStopping {
				return // what cancelled it says how it goes on
			}
			s.Phase = api.PhaseLiving
			s.Error, s.Fault = "", false
			if err != nil {
				s.Error, s.Fault = k.secrets.Text(err.Error()), isFault(err)
				if errors.Is(err, unix.ENOSPC) {
					s.Error += "; free some space under " + string(k.options.Home)
				}
			}
		})
	})
}

// isFault tells whether the workstation must be changed for it to work.
func isFault(err error) bool {
	return errors.Is(err, substrate.ErrWorkstation) || errors.Is(err, os.ErrPermission) || errors.Is(err, unix.ENOSPC)
}

func outcome(ctx context.Context, err error) string {
	switch {
	case err == nil:
		return api.OutcomeDone
	case errors.Is(context.Cause(ctx), run.ErrCancelled):
		return api.OutcomeCancelled
	}
	return api.OutcomeFailed
}

// run makes what is missing of the lab and runs what is due. Every part of it
// may be repeated.
func (k *Keeper) run(ctx context.Context, p *plan.Plan, started ledger.Run, want api.Wanted) error {
	err := k.carry(ctx, p, started, want)
	if ctx.Err() != nil && !errors.Is(context.Cause(ctx), run.ErrCancelled) {
		return err // the keeper ends, not the run
	}
	state, _, _ := k.board.look()
	state = ended(state, state.Now, outcome(ctx, err))
	if err != nil {
		state.Error = k.secrets.Text(err.Error())
	}
	picture, errText := json.Marshal(state)
	end := ledger.End{Outcome: state.Run.Outcome, Picture: picture, Took: rehearsal.Learn(state)}
	return errors.Join(err, errText, k.ledger.EndRun(ctx, p.Lab, started.N, end))
}

func (k *Keeper) carry(ctx context.Context, p *plan.Plan, started ledger.Run, want api.Wanted) error {
	doing := func(what string) { k.board.change(func(s *api.State) { s.Run.Doing = what }) }
	doing("the anchor is started")
	defer doing("")
	if err := k.ground(ctx, p); err != nil {
		return err
	}
	doing("the image is made")
	digest, layers, err := k.image(ctx, p)
	if err != nil {
		return err
	}
	if err := k.retire(ctx, p); err != nil {
		return err
	}
	layersOf, kept, err := k.shared(ctx, p, started.N, digest, layers)
	if err != nil {
		return err
	}
	doing("the networks are made")
	if err := k.networks(ctx, p); err != nil {
		return err
	}
	values, err := openValues(p.Lab, k.ledger, filepath.Join(k.folder(), "key"))
	if err != nil {
		return err
	}
	secrets, err := values.secrets(ctx)
	if err != nil {
		return err
	}
	k.secrets.Add(secrets...)
	graph, findings := schedule.New(p)
	if graph == nil {
		return &refusal{findings.Text(p.File, nil)}
	}
	if err := k.listenAll(ctx, p); err != nil {
		return err
	}
	doing("")
	orders, err := run.NewOrders(p, graph, want.Ways)
	if err != nil {
		return &refusal{err.Error()}
	}
	r := &run.Run{Orders: orders, N: started.N, Plan: p, Proxies: want.Proxies, Graph: graph, Image: digest, Layers: layersOf, Shared: kept, Substrate: k.containers, Record: k.ledger, Values: values,
		Secrets: &k.secrets, Watcher: watcher{k, ctx}, Clock: k.options.Clock,
		Pressure: k.pressure(), Floor: runtime.NumCPU()}
	times, err := k.ledger.Times(ctx)
	if err != nil {
		return err
	}
	watched, stop := context.WithCancel(ctx)
	defer stop()
	k.busy.Go(func() { k.foresee(watched, graph, times, r.WillReuse) })
	if err := r.Do(ctx); err != nil {
		return err
	}
	return k.retrieve(ctx, p)
}

// pressureTime is over which time the workstation's pressure is looked at.
// What is over sooner, as most small runs are, is never held.
const pressureTime = time.Second

// pressure says what speaks against beginning more, and looks not too often.
// What it gives is called by one at a time.
func (k *Keeper) pressure() func() string {
	looked, before := k.options.Clock.Now(), survey.ReadPressure()
	reason := ""
	return func() string {
		if elapsed := k.options.Clock.Now().Sub(looked); elapsed >= pressureTime {
			now := survey.ReadPressure()
			reason = now.Over(before, elapsed).Holds()
			looked, before = looked.Add(elapsed), now
		}
		return reason
	}
}

// lay makes the substrate, once; it needs no more than to know where things
// are.
func (k *Keeper) lay() {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.containers == nil {
		k.containers = container.New(k.folder(), container.FindRuntime, k.cgroup)
	}
}

// ground makes the lab's folder and its anchor.
func (k *Keeper) ground(ctx context.Context, p *plan.Plan) error {
	folder, group := k.folder(), k.cgroup.Path()
	err := k.ledger.Intend(ctx, p.Lab, ledger.Entry{Kind: ledger.Folder, Ref: folder}, ledger.Entry{Kind: ledger.Cgroup, Ref: group, Detail: "limits of the nodes"})
	if err != nil {
		return err
	}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return fmt.Errorf("making the lab's folder: %w", err)
	}
	if err := k.ledger.SetMade(ctx, p.Lab, ledger.Entry{Kind: ledger.Folder, Ref: folder}, ledger.Entry{Kind: ledger.Cgroup, Ref: group}); err != nil {
		return err
	}
	k.lay()
	if err := k.openLogin(); err != nil {
		return err
	}
	if container.FindRuntime() == "" {
		return fmt.Errorf("%w: no OCI runtime is installed; on Debian: apt-get install runc", substrate.ErrWorkstation)
	}
	_, err = anchor.Find(folder)
	if !errors.Is(err, anchor.ErrAbsent) {
		return err
	}
	if err := k.ledger.Intend(ctx, p.Lab, ledger.Entry{Kind: ledger.Anchor, Ref: "anchor"}); err != nil {
		return err
	}
	return anchor.Start(ctx, k.options.Anchor, folder, k.options.Home.ID(p.Lab), func(pid int) error {
		return k.ledger.SetMade(ctx, p.Lab, ledger.Entry{Kind: ledger.Anchor, Ref: "anchor", Detail: "process " + strconv.Itoa(pid)})
	})
}

// image makes the layers that nodes start as, the uppermost first, and gives
// one digest for all.
func (k *Keeper) image(ctx context.Context, p *plan.Plan) (string, []string, error) {
	store := image.NewStore(k.options.Home.Images())
	root, err := image.Workstation(k.options.Init, k.options.Files)
	if err != nil {
		return "", nil, fmt.Errorf("%w: %w", substrate.ErrWorkstation, err)
	}
	programs, err := image.Programs(p.Programs)
	if err != nil {
		return "", nil, err
	}
	entries, err := k.ledger.Entries(ctx, p.Lab)
	if err != nil {
		return "", nil, err
	}
	has := func(kind ledger.Kind, ref string) bool {
		return slices.ContainsFunc(entries, func(e ledger.Entry) bool {
			return e.Kind == kind && e.State == ledger.Made && (ref == "" || e.Ref == ref)
		})
	}
	digest := ""
	var layers []string
	for _, content := range [][]image.Entry{programs, root} {
		layer, err := store.Layer(ctx, content, func(l image.Layer) error {
			return k.ledger.Intend(ctx, p.Lab, ledger.Entry{Kind: ledger.Layer, Ref: l.Path, Detail: "kept for later labs"})
		})
		if err != nil {
			return "", nil, err
		}
		if has(ledger.NodeK, "") && !has(ledger.Layer, layer.Path) && !k.hasAgreed() {
			return "", nil, &refusal{"the lab's programs, or those of kettlehole, changed since its nodes were made, so that all nodes would be made anew; agree to that (--yes), or take the lab down"}
		}
		entry := ledger.Entry{Kind: ledger.Layer, Ref: layer.Path, Detail: "kept for later labs"}
		if err := errors.Join(k.ledger.Intend(ctx, p.Lab, entry), k.ledger.SetMade(ctx, p.Lab, entry)); err != nil {
			return "", nil, err
		}
		layers, digest = append(layers, layer.Path), digest+layer.Digest
	}
	return digest, layers, nil
}

// networks makes the networks and announces the nodes.
func (k *Keeper) networks(ctx context.Context, p *plan.Plan) error {
	var entries, made []ledger.Entry
	for _, n := range p.Networks {
		entries = append(entries, ledger.Entry{Kind: ledger.Bridge, Ref: n.Name, Detail: plan.Words(n.Ranges())})
	}
	made = slices.Clone(entries)
	for _, n := range p.Nodes {
		entries = append(entries, ledger.Entry{Kind: ledger.NodeK, Ref: n.Name, Detail: n.Address().String()})
	}
	if err := k.ledger.Intend(ctx, p.Lab, entries...); err != nil {
		return err
	}
	if err := k.containers.Networks(ctx, within.Networks(p)); err != nil {
		return err
	}
	if err := k.serveWithin(ctx, p); err != nil {
		return err
	}
	return k.ledger.SetMade(ctx, p.Lab, made...)
}
