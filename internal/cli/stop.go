package cli

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"kettlehole/internal/api"
)

func (a *App) stopCommand() *cobra.Command {
	var named string
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "stop [LAB]",
		Short: "End all that runs of a lab, and keep its disks",
		Long: `Stop ends the nodes of a lab with all programs on them: services, which have
10 seconds to end by themselves, then the rest. A run that goes on is cancelled.
Disks, addresses, ports, results, and what was added to the lab stay; nothing of
it runs or takes memory until kettlehole start brings it back. A lab that is
stopped already is no error.`,
		Example:           "  kettlehole stop\n  kettlehole stop avalanche-desk",
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: a.completeLabs,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 1 {
				named = args[0]
			}
			lab, err := a.pick(cmd.Context(), named)
			if err != nil {
				return err
			}
			began := time.Now()
			if err := lab.Stop(cmd.Context()); err != nil {
				return err
			}
			var last api.State
			err = follow(cmd.Context(), lab, func(s api.State) bool {
				last = s
				return s.Phase == api.PhaseStopping
			})
			switch {
			case err != nil:
				return err
			case last.Phase != api.PhaseStopped:
				return &exit{ExitWorkstation, fmt.Errorf("stopping %s: %s", lab.Name, clean(last.Error))}
			case asJSON:
				return a.printJSON(last)
			}
			fmt.Fprintf(a.Out, "lab %s is stopped after %.2f s; kettlehole start brings it back, with its disks\n", lab.Name, time.Since(began).Seconds())
			return nil
		},
	}
	labFlag(cmd, &named)
	cmd.Flags().BoolVar(&asJSON, "json", false, "print the lab's state as JSON when done")
	return cmd
}

func (a *App) startCommand() *cobra.Command {
	var named string
	var want api.Wanted
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "start [LAB]",
		Short: "Bring a lab back that was stopped, or whose nodes ended",
		Long: `Start brings the nodes of a lab back with their disks: after kettlehole stop,
after a restart of the workstation, or when a node ended. It goes by the plan
that the lab has, whatever its file says by now. What is done stays done; what
failed before runs again. Interrupted (Ctrl-C) it cancels the run.`,
		Example:           "  kettlehole start\n  kettlehole start avalanche-desk",
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: a.completeLabs,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 1 {
				named = args[0]
			}
			ctx := cmd.Context()
			lab, state, err := a.look(ctx, named)
			if err != nil {
				return err
			}
			to := a.Out
			if asJSON {
				to = io.Discard
			}
			rests := slices.ContainsFunc(state.Nodes, func(n api.Node) bool { return n.State != api.Ready })
			if state.Phase == api.PhaseLiving && state.Run.Outcome == api.OutcomeDone && !rests {
				fmt.Fprintf(to, "lab %s runs already: all its %d nodes are ready\n", lab.Name, len(state.Nodes))
			} else if err = lab.Start(ctx, want); err == nil {
				state, err = a.watchRun(ctx, lab, to, func(api.State) {})
			}
			if asJSON && state.Run.N > 0 {
				err = errors.Join(err, a.printJSON(state))
			}
			return err
		},
	}
	labFlag(cmd, &named)
	cmd.Flags().BoolVar(&asJSON, "json", false, "print the lab's state as JSON when done")
	cmd.Flags().BoolVarP(&want.Agreed, "yes", "y", false, "agree to nodes being made anew where kettlehole's own programs changed")
	cmd.Flags().BoolVar(&want.Tight, "tight", false, "promise more memory than the workstation has")
	return cmd
}
