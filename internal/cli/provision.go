package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/spf13/cobra"

	"kettlehole/internal/api"
	"kettlehole/internal/client"
	"kettlehole/internal/labfile"
)

func (a *App) provisionCommand() *cobra.Command {
	var asJSON, yes, asEvents bool
	var report string
	var flags mapFlags
	var ways wayFlags
	cmd := &cobra.Command{
		Use:   "provision [FILE]",
		Short: "Make a lab, or go on with one",
		Long: `Provision lays a lab on this workstation and runs its steps. What is done
already is reused: after a failure, mend the file or the script and provision
again. --again and --from run more than what is due, --only and --skip less. A
lab that lives is brought to what the file says now: nodes, networks and
forwards are added and taken away without touching the rest. Where nodes would go
or be made anew it says so, and asks. Interrupted (Ctrl-C) it cancels the run; the nodes stay.`,
		Example:           "  kettlehole provision desk.lab.yaml\n  kettlehole provision --json desk.lab.yaml | jq .run.outcome\n  kettlehole provision desk.lab.yaml --junit report.xml\n  kettlehole provision desk.lab.yaml --from prepare --only council",
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: completeFiles,
		RunE: func(cmd *cobra.Command, args []string) error {
			if asJSON && asEvents {
				return wrongUse("--json prints one answer at the end, --events many; choose one of them")
			}
			to, show := a.Out, func(api.State) {}
			if asJSON {
				to = io.Discard
			}
			if asEvents {
				written := newEvents(a.Out)
				to, show = io.Discard, written.show
			}
			want, err := flags.of(first(args))
			if err != nil {
				return err
			}
			if want.ways, err = ways.of(); err != nil {
				return err
			}
			state, err := a.provision(cmd.Context(), want, yes, to, show)
			if report != "" && state.Run.Outcome != "" {
				err = errors.Join(err, writeJUnit(report, state))
			}
			if asJSON && state.Lab != "" {
				err = errors.Join(err, a.printJSON(state))
			}
			return err
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print the lab's state as JSON when done")
	cmd.Flags().BoolVar(&asEvents, "events", false, "print every change as a line of JSON while it happens")
	cmd.Flags().StringVar(&report, "junit", "", "write a report of the run into this file, as JUnit XML")
	cmd.Flags().BoolVarP(&yes, "yes", "y", false, "agree to nodes going or being made anew, without being asked")
	flags.add(cmd)
	ways.add(cmd)
	return cmd
}

// provision makes a lab and tells on to how it goes.
func (a *App) provision(ctx context.Context, want wish, yes bool, to io.Writer, show func(api.State)) (api.State, error) {
	var last api.State
	m, err := a.read(want)
	if err != nil {
		return last, err
	}
	fmt.Fprint(a.Err, m.Text())
	if !m.Good() {
		return last, &exit{ExitLab, fmt.Errorf("%s has %d errors; nothing was made", filepath.Base(m.File), m.Findings.Count(labfile.Error))}
	}
	agreed, err := a.agree(m, yes, to)
	if err != nil {
		return last, err
	}
	lab := a.Station.Open(m.Lab.Name)
	if err := lab.Provision(ctx, api.Wanted{File: m.File, Inputs: want.given, Agreed: agreed, Tight: want.tight, Ways: want.ways}); err != nil {
		return last, err
	}
	return a.watchRun(ctx, lab, to, show)
}

// watchRun tells on to how a run goes that was begun, and gives how it ended.
func (a *App) watchRun(ctx context.Context, lab *client.Lab, to io.Writer, show func(api.State)) (last api.State, err error) {
	ctx, stop := a.cancelling(ctx, lab)
	defer stop()
	p := &progress{to: to, seen: map[string]string{}}
	err = follow(ctx, lab, func(s api.State) bool {
		last = s
		p.show(s)
		show(s)
		return s.Run.Outcome == "" && s.Phase != api.PhaseLeaving && s.Phase != api.PhaseStopping
	})
	if err != nil {
		return last, err
	}
	return last, verdict(last)
}

// cancelling cancels the run at the first interruption; the second ends the
// command.
func (a *App) cancelling(ctx context.Context, lab *client.Lab) (context.Context, func()) {
	ctx, cancel := context.WithCancel(ctx)
	signals := make(chan os.Signal, 2)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM)
	go func() {
		select {
		case <-signals:
		case <-ctx.Done():
			return
		}
		fmt.Fprintln(a.Err, "cancelling the run; once more to leave it alone")
		go func() { _ = lab.Cancel(ctx) }() // if the keeper cannot be asked, following it fails too
		select {
		case <-signals:
			cancel()
		case <-ctx.Done():
		}
	}()
	return ctx, func() { signal.Stop(signals); cancel() }
}

// follow follows a lab. A keeper that ends meanwhile is started again by the
// next question and carries on.
func follow(ctx context.Context, lab *client.Lab, each func(api.State) bool) error {
	for tries := 0; ; tries++ {
		err := lab.Follow(ctx, func(s api.State) bool { tries = 0; return each(s) })
		if err == nil || ctx.Err() != nil || tries >= 3 {
			return err
		}
		time.Sleep(50 * time.Millisecond)
	}
}

// verdict is how a run ended, as an error where it did not end well.
func verdict(s api.State) error {
	switch s.Run.Outcome {
	case api.OutcomeDone:
		return nil
	case api.OutcomeCancelled:
		return &exit{ExitLab, errors.New("the run was cancelled; provision again to go on, or teardown")}
	}
	words := clean(s.Error)
	if words == "" {
		words = "the run did not end"
	}
	if s.Fault {
		return &exit{ExitWorkstation, errors.New(words)}
	}
	return &exit{ExitLab, fmt.Errorf("%s\nmend it and provision again to go on from there; kettlehole logs NODE STEP shows all output", words)}
}

// progress prints what has changed since it was last shown.
type progress struct {
	to   io.Writer
	seen map[string]string
}

func (p *progress) show(s api.State) {
	clock := func(t time.Time) string {
		if t.IsZero() || t.Before(s.Run.Started) {
			t = s.Now
		}
		if !s.Run.Ended.IsZero() && t.After(s.Run.Ended) {
			t = s.Run.Ended
		}
		return fmt.Sprintf("%8.2f s", t.Sub(s.Run.Started).Seconds())
	}
	line := func(key, word string, at time.Time, format string, args ...any) {
		if p.seen[key] != word {
			p.seen[key] = word
			fmt.Fprintf(p.to, "%s  %s\n", clock(at), clean(fmt.Sprintf(format, args...)))
		}
	}
	if s.Run.N == 0 {
		return
	}
	if !s.Run.Expected.IsZero() && s.Run.Guessed == 0 && s.Run.Outcome == "" {
		line("expected", "told", s.Run.Started, "expected to end after %.1f s, as earlier runs did", s.Run.Expected.Sub(s.Run.Started).Seconds())
	}
	for _, n := range s.Nodes {
		for _, m := range n.Marks {
			if p.seen["mark "+n.Name+m.State] == "" && m.State != api.Failed {
				line("mark "+n.Name+m.State, m.State, m.At, "%-14s %s", n.Name, m.State)
			}
		}
		if (n.State == api.Failed || n.State == api.Lost) && n.Reason != "" {
			line("node "+n.Name, n.State+n.Reason, s.Now, "%-14s %s: %s", n.Name, n.State, n.Reason)
		}
	}
	for _, c := range s.Cells {
		key := "cell " + c.Step + " " + c.Node
		switch c.State {
		case api.Waiting:
			if strings.HasPrefix(c.Reason, "holding: ") {
				line("hold", c.Reason, s.Now, "%-14s %s is held, as others may be: %s", c.Node, c.Step, strings.TrimPrefix(c.Reason, "holding: "))
			}
		case api.Running:
			if !c.Waiting.IsZero() && c.Reason != "" {
				line(key+" wait", "waits", s.Now, "%-14s %s waits: %s", c.Node, c.Step, c.Reason)
			}
		case api.Done:
			if c.Run == s.Run.N {
				line(key, c.State, c.Ended, "%-14s %s done after %.2f s", c.Node, c.Step, c.Ended.Sub(c.Started).Seconds())
			}
		case api.Reused:
			if !c.Waiting.IsZero() && c.Reason != "" {
				line(key+" wait", "waits", s.Now, "%-14s %s waits again: %s", c.Node, c.Step, c.Reason)
			}
			line(key, c.State, s.Now, "%-14s %s reused from %s", c.Node, c.Step, c.Origin())
		case api.Skipped:
			line(key, c.State, c.Ended, "%-14s %s skipped: it is taken for done", c.Node, c.Step)
		case api.Failed:
			line(key, c.State, c.Ended, "%-14s %s failed: %s%s", c.Node, c.Step, c.Reason, quote(c.Tail))
		}
	}
	if s.Run.Outcome != "" {
		line("end", s.Run.Outcome, s.Run.Ended, "run %d %s", s.Run.N, s.Run.Outcome)
		for _, f := range s.Forwards {
			line("forward "+f.Name, "open", s.Run.Ended, "%-14s %s leads to %s:%d", f.Name, f.Listen, f.Node, f.NodePort)
		}
	}
}

// clean leaves out what a node's program may print to turn a terminal's head:
// escape sequences and control characters.
func clean(text string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' && r != '\n' && r != '\t' || r == 0x7f {
			return -1
		}
		return r
	}, ansi.Strip(text))
}

// quote sets a program's last lines apart.
func quote(tail string) string {
	if tail == "" {
		return ""
	}
	lines := strings.Split(tail, "\n")
	if extra := len(lines) - 12; extra > 0 {
		lines = lines[extra:]
	}
	return "\n              | " + strings.Join(lines, "\n              | ")
}
