package keeper

import (
	"context"
	"fmt"
	"net"
	"path/filepath"

	"kettlehole/internal/agent"
	"kettlehole/internal/api"
	"kettlehole/internal/home"
	"kettlehole/internal/ledger"
	"kettlehole/internal/plan"
	"kettlehole/internal/reach/login"
	"kettlehole/internal/workstation/survey"
)

// openLogin makes the lab's keys where it has none, keeps what ssh must know
// up to date, and lets ssh in.
func (k *Keeper) openLogin() error {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.login != nil {
		return nil
	}
	folder := filepath.Join(k.folder(), home.SSH)
	keys, err := login.MakeKeys(folder, k.options.Lab)
	if err != nil {
		return err
	}
	if len(k.options.Through) > 0 {
		if err := login.WriteConfig(filepath.Join(folder, home.SSHConfig), login.Config(k.options.Lab, folder, k.options.Through)); err != nil {
			return err
		}
	}
	k.login = &login.Server{Keys: keys, Lab: k.options.Lab, Node: func(name string) (agent.Client, error) {
		client, err := k.way(name)
		if err != nil {
			return client, fmt.Errorf("%w: %w", login.ErrNoNode, err)
		}
		return client, nil
	}}
	return nil
}

func (k *Keeper) closeLogin() {
	k.mu.Lock()
	server, access := k.login, k.access
	k.login, k.access = nil, nil
	k.mu.Unlock()
	if access != nil {
		_ = access.Close()
	}
	if server != nil {
		server.Close()
	}
}

// listenAccess opens and closes the port for ssh, as the plan has it. The
// caller holds the lock.
func (k *Keeper) listenAccess(p *plan.Plan) error {
	if k.access != nil && k.access.Addr().String() == p.Access.String() || k.login == nil {
		return nil
	}
	if k.access != nil {
		_ = k.access.Close()
		k.access = nil
	}
	if !p.Access.IsValid() {
		return nil
	}
	ctx := context.Background()
	entry := ledger.Entry{Kind: ledger.Forward, Ref: p.Access.String(), Detail: "ssh into every node"}
	if err := k.ledger.Intend(ctx, p.Lab, entry); err != nil {
		return err
	}
	listener, err := net.Listen("tcp", p.Access.String())
	if err != nil {
		return fmt.Errorf("listening for ssh: %w", err)
	}
	k.access = listener
	server := k.login
	k.busy.Go(func() { server.Listen(listener) })
	return k.ledger.SetMade(ctx, p.Lab, entry)
}

// setAccess opens a port of the workstation for ssh, or closes it.
func (k *Keeper) setAccess(ctx context.Context, want api.Access) error {
	return k.change(ctx, func(p *plan.Plan) (*plan.Plan, error) {
		facts, err := survey.Read(string(k.options.Home))
		if err != nil {
			return nil, err
		}
		changed, err := p.WithAccess(want.Port, facts)
		if err != nil {
			return nil, &refusal{err.Error()}
		}
		return changed, nil
	})
}
