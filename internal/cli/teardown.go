package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"kettlehole/internal/api"
	"kettlehole/internal/audit"
	"kettlehole/internal/client"
)

func (a *App) teardownCommand() *cobra.Command {
	var named string
	var yes, asJSON bool
	cmd := &cobra.Command{
		Use:   "teardown [LAB]",
		Short: "Take a lab down without a trace",
		Long: `Teardown takes away everything that a lab made on this workstation, whole or
half made, and compares the workstation with what it was before. A lab that is
gone already is no error. Exit code 1 if anything was left behind.`,
		Example:           "  kettlehole teardown\n  kettlehole teardown avalanche-desk --yes",
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: a.completeLabs,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 1 {
				named = args[0]
			}
			lab, err := a.pick(cmd.Context(), named)
			if errors.Is(err, client.ErrNoLab) {
				fmt.Fprintf(a.Err, "kettlehole: nothing to take down: %v\n", err)
				return a.Station.Sweep(cmd.Context())
			} else if err != nil {
				return err
			}
			if !yes {
				if err := a.sure(lab.Name); err != nil {
					return err
				}
			}
			to := a.Out
			if asJSON {
				to = io.Discard
			}
			report, err := a.teardown(cmd.Context(), lab, to)
			if asJSON && report != nil {
				err = errors.Join(err, a.printJSON(report))
			}
			return err
		},
	}
	labFlag(cmd, &named)
	cmd.Flags().BoolVarP(&yes, "yes", "y", false, "do not ask")
	cmd.Flags().BoolVar(&asJSON, "json", false, "print the audit as JSON")
	return cmd
}

// sure says what will be taken away, and asks whether that is meant.
func (a *App) sure(lab string) error {
	what := "lab " + lab
	if p := a.Station.LivingPlan(lab); p != nil {
		what = fmt.Sprintf("lab %s: %d nodes with all that is on them, %d networks, %d forwards", lab, len(p.Nodes), len(p.Networks), len(p.Forwards))
	}
	if !a.terminal() {
		return wrongUse("teardown takes away %s; say --yes if that is meant", what)
	}
	return a.ask(fmt.Sprintf("This takes away %s.\nTake it down?", what))
}

// ask asks a person a question; any answer but yes is an error.
func (a *App) ask(question string) error {
	fmt.Fprintf(a.Out, "%s (yes/no) ", question)
	answer, err := bufio.NewReader(a.In).ReadString('\n')
	if err != nil || !strings.HasPrefix(strings.ToLower(strings.TrimSpace(answer)), "y") {
		return &exit{ExitLab, errors.New("nothing was taken away")}
	}
	return nil
}

// teardown takes a lab down and prints the audit. The report is nil where
// another command took the lab down first.
func (a *App) teardown(ctx context.Context, lab *client.Lab, to io.Writer) (*audit.Report, error) {
	began := time.Now()
	var report *audit.Report
	for tries := 0; ; tries++ {
		failure := ""
		err := lab.Teardown(ctx)
		if err == nil {
			err = lab.Follow(ctx, func(s api.State) bool {
				report, failure = s.Audit, s.Error
				return s.Phase == api.PhaseLeaving
			})
		}
		switch {
		case report != nil:
			fmt.Fprintf(to, "lab %s is gone after %.2f s\naudit of the workstation, before and after:\n%s", lab.Name, time.Since(began).Seconds(), report.Text())
			if !report.Clean() {
				return report, &exit{ExitLab, fmt.Errorf("%d things were left behind", len(report.Left()))}
			}
			fmt.Fprintln(to, "nothing was left behind")
			return report, nil
		case failure != "":
			return nil, &exit{ExitWorkstation, fmt.Errorf("taking down %s: %s", lab.Name, failure)}
		case ctx.Err() != nil:
			return nil, ctx.Err()
		}
		// The keeper ended meanwhile. If the lab is still there, another one
		// takes over where it was.
		if a.Station.LivingPlan(lab.Name) == nil {
			fmt.Fprintf(to, "lab %s is gone; another command took it down\n", lab.Name)
			return nil, nil
		}
		if tries >= 3 {
			return nil, err
		}
		time.Sleep(50 * time.Millisecond)
	}
}
