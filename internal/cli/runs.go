package cli

import (
	"fmt"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"kettlehole/internal/ledger"
)

func (a *App) runsCommand() *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use:               "runs [LAB]",
		Short:             "List the runs of a lab",
		Long:              "Runs lists how often a lab was provisioned, when, how long it took and how it ended.",
		Example:           "  kettlehole runs\n  kettlehole runs avalanche-desk --json | jq '.[-1].outcome'\n  kettlehole logs council-2 join --run 1",
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: a.completeLabs,
		RunE: func(cmd *cobra.Command, args []string) error {
			lab, err := a.pick(cmd.Context(), first(args))
			if err != nil {
				return err
			}
			runs, err := a.Station.Runs(cmd.Context(), lab.Name)
			if err != nil {
				return err
			}
			if asJSON {
				if runs == nil {
					runs = []ledger.Run{}
				}
				return a.printJSON(runs)
			}
			w := tabwriter.NewWriter(a.Out, 2, 8, 2, ' ', 0)
			fmt.Fprint(w, "run\tstarted\ttook\tended\n")
			for _, r := range runs {
				took, outcome := "", "goes on"
				if !r.Ended.IsZero() {
					took, outcome = fmt.Sprintf("%.1f s", r.Ended.Sub(r.Started).Seconds()), r.Outcome
				}
				fmt.Fprintf(w, "%d\t%s\t%s\t%s\n", r.N, r.Started.Local().Format("2006-01-02 15:04:05"), took, outcome)
			}
			return w.Flush()
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}
