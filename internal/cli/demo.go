package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"kettlehole/internal/agent"
	"kettlehole/internal/api"
	"kettlehole/internal/client"
)

func (a *App) demoCommand() *cobra.Command {
	var plain bool
	cmd := &cobra.Command{
		Use:   "demo",
		Short: "Open the demo lab, or go through it without a terminal",
		Long: `Demo opens the full-screen interface on the demo lab. With --plain, or without
a terminal, it goes through the whole example by itself: provision, prove, tear
down, audit. Then it exits with 0 only if all of it held.`,
		Example: "  kettlehole demo\n  kettlehole demo --plain",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if a.Demo == "" {
				return &exit{ExitUse, errors.New("the demo's lab file is not beside this program; run the demo from the project's folder")}
			}
			full := a.terminal() && !plain
			if why := a.Hindrance(); why != "" {
				return a.demoRehearsed(cmd.Context(), full, why)
			}
			if full {
				return a.Open(cmd.Context(), a.Demo, nil, false)
			}
			return a.demo(cmd.Context())
		},
	}
	cmd.Flags().BoolVar(&plain, "plain", false, "no full screen, even in a terminal")
	return cmd
}

// demoRehearsed shows how the demo would go on a machine that cannot hold it.
func (a *App) demoRehearsed(ctx context.Context, full bool, why string) error {
	if full {
		return a.OpenRehearsed(ctx, a.Demo)
	}
	fmt.Fprintf(a.Out, "%s; so this is a rehearsal, and nothing is made\n\n", why)
	r, err := a.rehearse(wish{file: a.Demo}, nil, nil)
	if err != nil {
		return err
	}
	if err := a.writeRehearsal(r); err != nil {
		return err
	}
	return &exit{ExitWorkstation, errors.New("nothing was proved: this machine cannot hold the demo")}
}

// demo goes through the example and says what it did with times.
func (a *App) demo(ctx context.Context) error {
	began := time.Now()
	fmt.Fprintln(a.Out, "provision")
	state, err := a.provision(ctx, wish{file: a.Demo}, false, a.Out, func(api.State) {})
	var lab *client.Lab
	if state.Lab != "" {
		lab = a.Station.Open(state.Lab)
	}
	if err == nil {
		fmt.Fprintf(a.Out, "  six nodes in %.2f s\n\nprove\n", state.Run.Ended.Sub(state.Run.Started).Seconds())
		err = a.prove(ctx, lab, state)
	}
	if lab != nil {
		fmt.Fprintln(a.Out, "\ntear down")
		_, downErr := a.teardown(ctx, lab, a.Out)
		err = errors.Join(err, downErr)
	}
	if err != nil {
		return err
	}
	fmt.Fprintf(a.Out, "\nall held, after %.1f s\n", time.Since(began).Seconds())
	return nil
}

// proof is one thing that the demo shows to hold.
type proof struct {
	claim string
	try   func() error
}

// patience is how long a claim may take to come true.
const patience = 15 * time.Second

func (a *App) prove(ctx context.Context, lab *client.Lab, state api.State) error {
	on := func(node string, argv ...string) (string, error) {
		out, code, err := lab.Agent(node).Run(ctx, 1<<16, argv...)
		if err == nil && code != 0 {
			err = fmt.Errorf("exit code %d: %s", code, strings.TrimSpace(out))
		}
		return strings.TrimSpace(out), err
	}
	service := func(op agent.Op, nodes ...string) error {
		for _, node := range nodes {
			if _, err := lab.Agent(node).Do(ctx, agent.Request{Op: op, Service: "cairn"}); err != nil {
				return err
			}
		}
		return nil
	}
	write := func() error { _, err := on("council-1", "cairn", "put", "demo", "written"); return err }
	proofs := []proof{
		{"all six nodes are ready", func() error {
			if at := slices.IndexFunc(state.Nodes, func(n api.Node) bool { return n.State != api.Ready }); at >= 0 || len(state.Nodes) != 6 {
				return errors.New("one is not")
			}
			return nil
		}},
		{"every node knows its name", func() error {
			for _, n := range state.Nodes {
				if name, err := on(n.Name, "hostname"); err != nil || name != n.Name {
					return fmt.Errorf("%s says %q: %w", n.Name, name, err)
				}
			}
			return nil
		}},
		{"every node reaches every other", func() error { return reachAll(ctx, lab, state) }},
		{"the council counts three ready members", func() error {
			return within(ctx, func() error { return says(on, "3", "council-1", "cairn", "members", "--count-ready") })
		}},
		{"the page answers on the workstation with readings", func() error { return a.page(ctx, state) }},
		{"with one of three members stopped, writes go on", func() error {
			if err := service(agent.OpStop, "council-3"); err != nil {
				return err
			}
			return within(ctx, write)
		}},
		{"with two of three stopped, writes are refused", func() error {
			if err := service(agent.OpStop, "council-2"); err != nil {
				return err
			}
			return within(ctx, func() error {
				if write() == nil {
					return errors.New("a write was accepted")
				}
				return nil
			})
		}},
		{"with both back, writes go on", func() error {
			if err := service(agent.OpStart, "council-2", "council-3"); err != nil {
				return err
			}
			return within(ctx, write)
		}},
	}
	var failed []error
	for _, p := range proofs {
		began := time.Now()
		err := p.try()
		verdict := "held"
		if err != nil {
			verdict = "broken: " + err.Error()
			failed = append(failed, &exit{ExitLab, fmt.Errorf("%s: %w", p.claim, err)})
		}
		fmt.Fprintf(a.Out, "  %-52s %s after %.2f s\n", p.claim, verdict, time.Since(began).Seconds())
	}
	return errors.Join(failed...)
}

// within tries again until it holds or patience ends.
func within(ctx context.Context, try func() error) error {
	deadline := time.Now().Add(patience)
	for {
		err := try()
		if err == nil || ctx.Err() != nil || time.Now().After(deadline) {
			return err
		}
		time.Sleep(100 * time.Millisecond)
	}
}

func says(on func(string, ...string) (string, error), want, node string, argv ...string) error {
	out, err := on(node, argv...)
	if err == nil && out != want {
		err = fmt.Errorf("it says %q", out)
	}
	return err
}

// reachAll asks every node to reach all others on the networks they share.
func reachAll(ctx context.Context, lab *client.Lab, state api.State) error {
	for _, n := range state.Plan.Nodes {
		var addresses []string
		for _, other := range state.Plan.Nodes {
			for _, tap := range other.Taps {
				for _, mine := range n.Taps {
					if mine.Network == tap.Network && other.Name != n.Name {
						for _, address := range tap.Addresses() {
							addresses = append(addresses, address.String())
						}
					}
				}
			}
		}
		times, err := lab.Agent(n.Name).Reach(ctx, addresses)
		if err != nil {
			return err
		}
		for address, took := range times {
			if took < 0 {
				return fmt.Errorf("%s does not reach %s", n.Name, address)
			}
		}
	}
	return nil
}

// page fetches the demo's page through the forward.
func (a *App) page(ctx context.Context, state api.State) error {
	at := slices.IndexFunc(state.Forwards, func(f api.Forward) bool { return f.Name == "door" })
	if at < 0 {
		return errors.New("the lab has no forward named door")
	}
	web := http.Client{Timeout: 5 * time.Second, Transport: &http.Transport{DisableKeepAlives: true}}
	return within(ctx, func() error {
		request, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+state.Forwards[at].Listen.String()+"/", nil)
		if err != nil {
			return err
		}
		response, err := web.Do(request)
		if err != nil {
			return err
		}
		defer response.Body.Close()
		text, err := io.ReadAll(response.Body)
		switch {
		case err != nil:
			return err
		case response.StatusCode != http.StatusOK:
			return fmt.Errorf("it answers %s", response.Status)
		case !strings.Contains(string(text), "field-1") || !strings.Contains(string(text), "field-2"):
			return errors.New("it shows no readings of both stations yet")
		}
		return nil
	})
}
