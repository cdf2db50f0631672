// Package run executes a plan: it makes nodes, runs steps on them in their
// order, and records what happened, so that a run can stop anywhere and go on.
package run

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"kettlehole/internal/agent"
	"kettlehole/internal/api"
	"kettlehole/internal/fabric"
	"kettlehole/internal/ledger"
	"kettlehole/internal/mask"
	"kettlehole/internal/plan"
	"kettlehole/internal/schedule"
	"kettlehole/internal/substrate"
)

// Record is the part of the ledger that a run writes.
type Record interface {
	SetCell(ctx context.Context, lab string, c ledger.Cell) error
	Cells(ctx context.Context, lab string) ([]ledger.Cell, error)
	SetMade(ctx context.Context, lab string, entries ...ledger.Entry) error
}

var _ Record = (*ledger.Ledger)(nil)

// Values keeps what steps give, secrets sealed.
type Values interface {
	Get(ctx context.Context) (map[string]string, error)
	Set(ctx context.Context, name, value string, secret bool) error
}

// Watcher is told what happens. Its methods are called from many goroutines
// and must not block.
type Watcher interface {
	NodeIs(name, state, reason string)
	CellIs(cell api.Cell)
}

// Clock is the time, so that tests need not wait.
type Clock interface {
	Now() time.Time
	// Sleep returns early with the context's error.
	Sleep(ctx context.Context, d time.Duration) error
}

// Run is one provisioning. Its fields are set before Do and not changed.
type Run struct {
	N         int
	Plan      *plan.Plan
	Proxies   []string // of the person, as variables; see [Proxies]
	Graph     *schedule.Graph
	Image     string                 // digest of what nodes start as
	Layers    map[string][]string    // for each node, the folders that its disk starts as
	Shared    map[schedule.Cell]Kept // what cells of shared steps find
	Substrate substrate.Substrate
	Record    Record
	Values    Values
	Secrets   *mask.Set
	Watcher   Watcher
	Clock     Clock
	// Pressure says why no more should be begun now, "" where nothing speaks
	// against it; it is called often and must be quick. nil never holds.
	Pressure func() string
	// Floor is how many nodes and scripts go on at once in spite of pressure.
	Floor int
	// Orders say what is wanted beyond what is due.
	Orders Orders

	mu     sync.Mutex // guards what follows
	values map[string]string
	cells  []cell
	nodes  map[string]string // name to state
	born   map[string]string // node to the name of its disk
	back   map[string]bool   // nodes that were started in this run
	// standing are done cells whose wait is looked at again; the channel closes
	// when that is over.
	standing map[int]chan struct{}
	faults   []error
	active   int // nodes being made and scripts that run
	busy     sync.WaitGroup
}

// cell is the state of a step on a node in this run.
type cell struct {
	api.Cell
	before ledger.Cell // the newest result in the ledger
	begun  bool
}

// bootLimit is how long a node's init may take to answer.
const bootLimit = 30 * time.Second

// Do carries the run through:
//
//  1. read what earlier runs did;
//  2. make every node, and greet it once it has booted;
//  3. start each cell as soon as its node has booted and all that it needs is
//     done, all nodes side by side;
//  4. end when nothing runs and nothing more can start.
//
// It returns nil where every step is done, an error that says what failed, or
// the context's error where it was cancelled.
func (r *Run) Do(ctx context.Context) error {
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	if err := r.recall(ctx); err != nil {
		return err
	}
	r.mu.Lock()
	for _, node := range r.Plan.Nodes {
		r.nodes[node.Name] = api.Absent
	}
	for _, c := range r.cells {
		r.Watcher.CellIs(c.Cell)
	}
	r.advance(ctx)
	r.mu.Unlock()
	for _, node := range r.Plan.Nodes {
		r.busy.Go(func() { r.raise(ctx, node) })
	}
	r.busy.Wait()
	r.mu.Lock()
	defer r.mu.Unlock()
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	if r.faults == nil {
		// Nothing failed, and something is left: it needs what nobody wanted.
		for i := range r.cells {
			if !r.done(i) && !r.leftOut(i) {
				c := r.cells[i]
				r.faults = append(r.faults, fmt.Errorf("step %s on %s did not start: it needs %s, which was left out", c.Step, c.Node, c.Reason))
			}
		}
	}
	return errors.Join(r.faults...)
}

// recall reads values and results of earlier runs.
func (r *Run) recall(ctx context.Context) error {
	values, err := r.Values.Get(ctx)
	if err != nil {
		return err
	}
	before, err := r.Record.Cells(ctx, r.Plan.Lab)
	if err != nil {
		return err
	}
	r.mu.Lock() // others ask already what will be reused
	defer r.mu.Unlock()
	r.values, r.nodes, r.born = values, map[string]string{}, map[string]string{}
	r.back, r.standing = map[string]bool{}, map[int]chan struct{}{}
	r.cells = make([]cell, len(r.Graph.Cells))
	for i, c := range r.Graph.Cells {
		r.cells[i].Cell = api.Cell{Step: c.Step, Node: c.Node, State: api.Waiting}
		at := slices.IndexFunc(before, func(b ledger.Cell) bool { return b.Step == c.Step && b.Node == c.Node })
		if at >= 0 {
			r.cells[i].before = before[at]
		}
	}
	return nil
}

// raise makes a node and prepares it until steps may run on it.
func (r *Run) raise(ctx context.Context, node plan.Node) {
	fail := func(state string, err error) {
		if ctx.Err() != nil {
			return
		}
		r.setNode(node.Name, state, err.Error())
		r.mu.Lock()
		r.faults = append(r.faults, fmt.Errorf("node %s: %w", node.Name, err))
		r.mu.Unlock()
	}
	if err := r.enter(ctx, func(reason string) { r.setNode(node.Name, api.Absent, reason) }); err != nil {
		return
	}
	r.setNode(node.Name, api.Creating, "")
	made := substrate.Node{Name: node.Name, Layers: r.Layers[node.Name], CPU: int64(node.CPU), Memory: int64(node.Memory), Hosts: Hosts(r.Plan, node)}
	for i, tap := range node.Taps {
		made.Links = append(made.Links, fabric.Link{Network: tap.Network, Name: fmt.Sprintf("eth%d", i), Address: tap.Address, Address6: tap.Address6, MAC: tap.MAC, Gateway: tap.Gateway, Gateway6: tap.Gateway6})
	}
	became, err := r.Substrate.Make(ctx, made)
	r.leave()
	if err != nil {
		fail(api.Failed, err)
		return
	}
	r.mu.Lock()
	r.born[node.Name], r.back[node.Name] = became.Born, !became.Stayed
	r.mu.Unlock()
	if err := r.Record.SetMade(ctx, r.Plan.Lab, ledger.Entry{Kind: ledger.NodeK, Ref: node.Name}); err != nil {
		fail(api.Failed, err)
		return
	}
	r.setNode(node.Name, api.Booting, "")
	client := r.Substrate.Agent(node.Name)
	if err := r.greet(ctx, client, node); err != nil {
		fail(api.Failed, err)
		return
	}
	if err := r.startUnled(ctx, client, node); err != nil {
		fail(api.Failed, err)
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.nodes[node.Name] = api.Provisioning
	r.Watcher.NodeIs(node.Name, api.Provisioning, "")
	r.settle(node.Name)
	r.advance(ctx)
}

// greet waits until the node's init answers and tells it what it must know.
func (r *Run) greet(ctx context.Context, client agent.Client, node plan.Node) error {
	configure := &agent.Configure{Env: append(Environment(r.Plan, node), Proxies(r.Plan, node, r.Proxies)...), Facts: Facts(r.Plan, node), Secrets: r.Secrets.Texts()}
	for _, s := range node.Services {
		configure.Services = append(configure.Services, agent.Service{Name: s.Name, Run: s.Run})
	}
	return boot(ctx, r.Clock, client, configure, []agent.File{
		{Path: "/etc/hosts", Content: []byte(Hosts(r.Plan, node)), Mode: 0o644},
		{Path: "/etc/resolv.conf", Content: []byte(Resolver(r.Plan, node)), Mode: 0o644}})
}

// boot waits until a node's init answers, and gives it what it must know.
func boot(ctx context.Context, clock Clock, client agent.Client, configure *agent.Configure, files []agent.File) error {
	deadline := clock.Now().Add(bootLimit)
	for {
		_, err := client.Do(ctx, agent.Request{Op: agent.OpConfigure, Configure: configure})
		if err == nil {
			// Names come and go with nodes.
			_, err = client.Do(ctx, agent.Request{Op: agent.OpPut, Files: files})
		}
		var refused *agent.Refused
		if err == nil || ctx.Err() != nil || errors.As(err, &refused) {
			return err
		}
		if clock.Now().After(deadline) {
			return fmt.Errorf("it did not boot within %v: %w", bootLimit, err)
		}
		if err := clock.Sleep(ctx, 5*time.Millisecond); err != nil {
			return err
		}
	}
}

// startUnled starts the services that no step starts.
func (r *Run) startUnled(ctx context.Context, client agent.Client, node plan.Node) error {
	for _, s := range node.Services {
		led := slices.ContainsFunc(r.Plan.Steps, func(step plan.Step) bool {
			return slices.Contains(step.Start, s.Name) && slices.Contains(step.Nodes, node.Name)
		})
		if led {
			continue
		}
		if _, err := client.Do(ctx, agent.Request{Op: agent.OpStart, Service: s.Name}); err != nil {
			return fmt.Errorf("starting service %q: %w", s.Name, err)
		}
	}
	return nil
}

func (r *Run) setNode(name, state, reason string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.nodes[name] = state
	r.Watcher.NodeIs(name, state, r.Secrets.Text(reason))
}

// settle calls a node ready once nothing is left to do on it. The caller
// holds the lock.
func (r *Run) settle(node string) {
	for i := range r.cells {
		if r.cells[i].Node == node && (!r.done(i) || r.standing[i] != nil) {
			return
		}
	}
	if r.nodes[node] == api.Provisioning {
		r.nodes[node] = api.Ready
		r.Watcher.NodeIs(node, api.Ready, "")
	}
}

func (r *Run) done(i int) bool {
	state := r.cells[i].State
	return state == api.Done || state == api.Reused || state == api.Skipped
}

// leftOut tells whether nobody wants the cell in this run: it stays as it is.
func (r *Run) leftOut(i int) bool { return r.Orders.out[i] }

// anew tells whether the cell is to run though it is done, unless it did so in
// this very run before the keeper was started again.
func (r *Run) anew(i int) bool { return r.Orders.again[i] && r.cells[i].before.Run != r.N }

// WillReuse tells whether a cell that has not begun will be found done, as far
// as can be seen now. It is safe for concurrent use while [Run.Do] goes on.
func (r *Run) WillReuse(i int) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.cells != nil && i < len(r.cells) && r.step(i).Shared {
		return true
	}
	if r.cells == nil || i >= len(r.cells) || r.anew(i) || !settled(r.cells[i].before.State) {
		return false
	}
	if r.leftOut(i) {
		return true
	}
	node, _ := r.Plan.Node(r.cells[i].Node)
	if _, known := r.born[node.Name]; !known {
		return false
	}
	return r.cells[i].before.Identity == r.identity(r.step(i), node)
}

// settled tells whether a result lets those go on that need it.
func settled(state string) bool { return state == api.Done || state == api.Skipped }

// advance starts every cell that may start and tells the others why they
// wait. The caller holds the lock.
func (r *Run) advance(ctx context.Context) {
	if ctx.Err() != nil {
		return
	}
	running := map[string]int{} // by step
	for i := range r.cells {
		if r.cells[i].begun && !r.done(i) && r.cells[i].State != api.Failed {
			running[r.cells[i].Step]++
		}
	}
	if r.passOver() {
		defer func() {
			for _, node := range r.Plan.Nodes {
				r.settle(node.Name)
			}
		}()
	}
	full := map[string]bool{} // steps that run on as many nodes as they may
	for _, i := range r.Graph.Ready(func(i int) bool { return r.cells[i].begun }, r.done) {
		if r.nodes[r.cells[i].Node] != api.Provisioning || r.leftOut(i) {
			continue
		}
		step := r.step(i)
		if step.AtOnce > 0 && running[step.Name] >= step.AtOnce {
			full[step.Name] = true
			continue
		}
		running[step.Name]++
		r.cells[i].begun = true
		r.busy.Go(func() { r.perform(ctx, i) })
	}
	blocked := r.blocked()
	for i := range r.cells {
		c := &r.cells[i]
		if c.begun || c.State != api.Waiting {
			continue
		}
		reason := r.Graph.Waits(i, r.done)
		if reason == "" && full[c.Step] {
			reason = fmt.Sprintf("its turn: %d at once", r.step(i).AtOnce)
		}
		if blocked != nil && blocked[i] != "" {
			reason = blocked[i]
		}
		if r.leftOut(i) {
			reason = api.LeftOut
		}
		if reason != c.Reason {
			c.Reason = reason
			r.Watcher.CellIs(c.Cell)
		}
	}
}

// passOver takes cells that nobody wants for done where they are, and tells
// whether there were any. The caller holds the lock.
func (r *Run) passOver() bool {
	any := false
	for i := range r.cells {
		c := &r.cells[i]
		if !r.leftOut(i) || c.State != api.Waiting || !settled(c.before.State) {
			continue
		}
		any, c.begun = true, true
		c.State, c.Run, c.Started, c.Ended = api.Reused, c.before.Run, c.before.Started, c.before.Ended
		r.Watcher.CellIs(c.Cell)
	}
	return any
}

// blocked says for every cell which failure keeps it from ever starting in
// this run; nil where nothing failed.
func (r *Run) blocked() []string {
	if r.faults == nil {
		return nil
	}
	return r.Graph.Blocked(func(i int) string {
		if c := r.cells[i]; c.State == api.Failed {
			return fmt.Sprintf("%s on %s failed", c.Step, c.Node)
		}
		return ""
	}, func(i int) string {
		if state := r.nodes[r.cells[i].Node]; !r.cells[i].begun && (state == api.Failed || state == api.Lost) {
			return "the node is " + state
		}
		return ""
	})
}

func (r *Run) setCell(i int, change func(c *api.Cell)) {
	r.mu.Lock()
	defer r.mu.Unlock()
	change(&r.cells[i].Cell)
	r.Watcher.CellIs(r.cells[i].Cell)
}

// step gives the plan's step of a cell.
func (r *Run) step(i int) plan.Step {
	at := slices.IndexFunc(r.Plan.Steps, func(s plan.Step) bool { return s.Name == r.cells[i].Step })
	return r.Plan.Steps[at]
}
