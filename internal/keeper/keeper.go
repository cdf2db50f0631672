// Package keeper is the process that works for one lab: it makes it, runs its
// steps, keeps its forwards, answers people, and takes it down. It may be
// killed at any moment without harm to the nodes; started again, it finds all
// in the ledger and carries on.
package keeper

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"

	"kettlehole/internal/anchor"
	"kettlehole/internal/api"
	"kettlehole/internal/audit"
	"kettlehole/internal/home"
	"kettlehole/internal/ledger"
	"kettlehole/internal/lock"
	"kettlehole/internal/longpath"
	"kettlehole/internal/mask"
	"kettlehole/internal/plan"
	"kettlehole/internal/reach/login"
	"kettlehole/internal/reach/outward"
	"kettlehole/internal/run"
	"kettlehole/internal/substrate/container"
)

// ErrBusy says that another keeper works for the lab.
var ErrBusy = errors.New("another keeper works for this lab")

// Options are what a keeper needs from outside.
type Options struct {
	Home   home.Home
	Lab    string
	Anchor string // the anchor's executable
	Init   string // the nodes' init
	Files  string // what serves their files
	// Through is the command that passes a connection of ssh to the node %h.
	Through []string
	Clock   run.Clock
	Log     *slog.Logger
	Hook    ledger.Hook // of the ledger, for tests; may be nil
}

// Keeper works for one lab. Its life, in [Keeper.Serve]:
//
//  1. take the lab's lock, open the ledger and the socket;
//  2. take over what is there: nodes, forwards, an unfinished run or teardown;
//  3. do what is asked for, one run or teardown at a time;
//  4. end when the lab is gone, or is stopped and nobody asks for it.
type Keeper struct {
	options    Options
	ledger     *ledger.Ledger
	board      *board
	cgroup     *container.Cgroup
	containers *container.Containers
	secrets    mask.Set
	gone       chan struct{} // closed when nothing is left to do
	ended      chan struct{} // closed when this keeper ends
	asked      atomic.Int64  // requests since it was looked at last
	answering  atomic.Int64  // requests that are being answered

	asking   sync.Mutex // one wish at a time
	mu       sync.Mutex // guards what follows
	living   *plan.Plan
	agreed   bool // to what the run that goes on takes away
	forwards map[string]*openForward
	login    *login.Server           // nil before the lab has keys
	access   net.Listener            // of ssh on a port of the workstation, nil without one
	out      *outward.Outside        // nil while nothing may leave
	told     *told                   // nil before the lab was told anything
	cancel   context.CancelCauseFunc // of the run that goes on, nil without one
	busy     sync.WaitGroup          // runs, watches
	watched  map[string]bool
	leaving  bool
	resting  bool // the lab is stopped, or being stopped
	stopping bool
	over     bool // this keeper ends, since nothing is left to do
}

// Serve works for the lab until it is gone or ctx ends, which leaves the lab
// alive.
func Serve(ctx context.Context, options Options) error {
	if err := options.Home.Make(); err != nil {
		return err
	}
	held, err := os.OpenFile(options.Home.Keeper(options.Lab, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return fmt.Errorf("taking the keeper's lock: %w", err)
	}
	defer held.Close()
	if err := lock.Try(held); err != nil {
		return ErrBusy
	}
	if !same(held) {
		return ErrBusy // a keeper that ended took the file away; this lock is of nothing
	}
	record, err := ledger.Open(options.Home.Ledger(), ledger.Options{Now: options.Clock.Now, Hook: options.Hook})
	if err != nil {
		return err
	}
	k := &Keeper{options: options, ledger: record, board: newBoard(options.Lab, options.Clock.Now), gone: make(chan struct{}),
		forwards: map[string]*openForward{}, watched: map[string]bool{}, ended: make(chan struct{})}
	err = k.open(ctx)
	err = errors.Join(err, record.Close())
	select {
	case <-k.gone:
		// The very last, so that nobody meets a keeper that is on its way out.
		for _, kind := range []string{"sock", "log", "lock"} {
			if kind != "log" || !k.resting || k.leaving {
				_ = os.Remove(options.Home.Keeper(options.Lab, kind))
			}
		}
	default:
	}
	return err
}

func (k *Keeper) open(ctx context.Context) (err error) {
	if k.cgroup, err = container.NewCgroup(home.Group(k.options.Home.ID(k.options.Lab))); err != nil {
		return err
	}
	listener, err := listen(k.options.Home.Keeper(k.options.Lab, "sock"))
	if err != nil {
		return err
	}
	return k.serve(ctx, listener)
}

// same tells whether the open file is the one that its name leads to.
func same(file *os.File) bool {
	open, err := file.Stat()
	if err != nil {
		return false
	}
	named, err := os.Stat(file.Name())
	return err == nil && os.SameFile(open, named)
}

// listen opens the keeper's socket for its own user alone.
func listen(path string) (net.Listener, error) {
	if err := os.Remove(path); err != nil && !os.IsNotExist(err) {
		return nil, fmt.Errorf("opening the keeper's socket: %w", err)
	}
	listener, err := longpath.Listen(path)
	if err != nil {
		return nil, fmt.Errorf("opening the keeper's socket: %w", err)
	}
	return ownOnly{listener}, nil
}

// ownOnly accepts connections of this user and of root (SO_PEERCRED, unix(7)).
type ownOnly struct{ *net.UnixListener }

func (l ownOnly) Accept() (net.Conn, error) {
	for {
		conn, err := l.AcceptUnix()
		if err != nil {
			return nil, err
		}
		if raw, err := conn.SyscallConn(); err == nil {
			allowed := false
			_ = raw.Control(func(fd uintptr) {
				peer, err := unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED)
				allowed = err == nil && (peer.Uid == 0 || int(peer.Uid) == os.Geteuid())
			})
			if allowed {
				return conn, nil
			}
		}
		_ = conn.Close()
	}
}

func (k *Keeper) serve(ctx context.Context, listener net.Listener) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	server := k.server(ctx)
	served := make(chan error, 1)
	k.busy.Go(func() { k.measure(ctx) })
	k.busy.Go(func() { k.tellWithin(ctx) })
	err := k.adopt(ctx)
	if err == nil {
		k.busy.Go(func() { k.idle(ctx) })
		// Only now: who asks before must not be told of a lab half taken over.
		go func() { served <- server.Serve(listener) }()
		select {
		case <-ctx.Done():
		case <-k.gone:
		case err = <-served:
		}
	} else {
		k.options.Log.Error("taking over the lab", "error", err)
	}
	finish, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
	defer cancel()
	_ = server.Shutdown(finish) // those who follow get the last state
	stop()
	close(k.ended)
	k.closeForwards()
	k.closeLogin()
	k.closeOut()
	k.busy.Wait()
	return err
}

// adopt takes over what the ledger knows of the lab.
func (k *Keeper) adopt(ctx context.Context) error {
	lab, err := k.ledger.Lab(ctx, k.options.Lab)
	if errors.Is(err, ledger.ErrNoLab) {
		return nil
	} else if err != nil {
		return err
	}
	var p plan.Plan
	if err := json.Unmarshal(lab.Plan, &p); err != nil {
		return fmt.Errorf("reading the lab's plan from the ledger: %w", err)
	}
	k.mu.Lock()
	k.living = &p
	k.mu.Unlock()
	k.board.lay(&p, lab.File)
	k.board.change(func(s *api.State) { s.Created, s.Phase = lab.Created, api.PhaseLiving })
	if lab.State == ledger.Ending {
		return k.startTeardown(ctx)
	}
	return k.resume(ctx, &p, lab.State)
}

// resume puts the board right after a restart, and goes on with a run that
// was not ended.
func (k *Keeper) resume(ctx context.Context, p *plan.Plan, state ledger.LabState) error {
	runs, err := k.ledger.Runs(ctx, p.Lab)
	if err != nil {
		return err
	}
	cells, err := k.ledger.Cells(ctx, p.Lab)
	if err != nil {
		return err
	}
	for _, c := range cells {
		k.board.CellIs(api.Cell{Step: c.Step, Node: c.Node, State: c.State, Run: c.Run, Started: c.Started, Ended: c.Ended, Exit: c.Exit, Reason: c.Reason})
	}
	k.lay()
	k.showRetrieved(p)
	var last *ledger.Run
	if len(runs) > 0 {
		last = &runs[len(runs)-1]
		k.board.change(func(s *api.State) {
			s.Run = api.Run{N: last.N, Started: last.Started, Ended: last.Ended, Outcome: last.Outcome}
		})
		if last.Ended.IsZero() && state != ledger.Resting {
			k.begin(ctx, p, *last)
			return nil
		}
	}
	if state == ledger.Resting {
		return k.goOnResting(ctx, p, last)
	}
	if _, err := anchor.Find(k.folder()); errors.Is(err, anchor.ErrAbsent) {
		for _, n := range p.Nodes {
			k.board.NodeIs(n.Name, api.Lost, "the workstation was restarted, or the lab's anchor ended; start, or provision, brings it back")
		}
		return nil
	} else if err != nil {
		return err
	}
	names, err := k.containers.Living(ctx)
	if err != nil {
		return err
	}
	k.recognise(p, names, cells)
	if err := k.openLogin(); err != nil {
		return err
	}
	if err := k.serveWithin(ctx, p); err != nil {
		// A change that was cut off may have left a network unmade, and the lab goes
		// on as it was told before; the next run puts it right.
		k.options.Log.Error("telling the lab of its names", "error", err)
	}
	return k.listenAll(ctx, p)
}

func (k *Keeper) folder() string { return k.options.Home.Lab(k.options.Lab) }

// audited is what the audit must know of the lab.
func (k *Keeper) audited(p *plan.Plan) audit.Lab {
	lab := audit.Lab{Name: k.options.Lab, ID: k.options.Home.ID(k.options.Lab), Home: string(k.options.Home), Folder: k.folder()}
	for _, f := range p.Forwards {
		lab.Ports = append(lab.Ports, f.Listen.String())
	}
	if p.Access.IsValid() {
		lab.Ports = append(lab.Ports, p.Access.String())
	}
	return lab
}
