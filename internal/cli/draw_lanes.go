package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"kettlehole/internal/api"
	"kettlehole/internal/draw/lanes"
	"kettlehole/internal/draw/paper"
)

func (a *App) drawLanesCommand() *cobra.Command {
	var output string
	var run int
	cmd := &cobra.Command{
		Use:   "lanes [LAB]",
		Short: "Draw a run: what each node did, and waited for",
		Long: `Lanes draws a run of a lab, the newest one or an earlier one, as a lane for each
node on one time axis. The ending of the output file says whether it is SVG or
PDF.`,
		Example:           "  kettlehole draw lanes avalanche-desk -o run.pdf\n  kettlehole draw lanes avalanche-desk --run 1 -o first.svg",
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: a.completeLabs,
		RunE: func(cmd *cobra.Command, args []string) error {
			state, err := a.picture(cmd.Context(), first(args), run)
			if err != nil {
				return err
			}
			return a.write(lanesSheet(state), output)
		},
	}
	cmd.Flags().StringVarP(&output, "output", "o", "", "the file to write, .svg or .pdf (default: the lab's name, .svg)")
	cmd.Flags().IntVar(&run, "run", 0, "the number of the run (default: the newest)")
	return cmd
}

// picture is the state of a lab in, or at the end of, one of its runs.
func (a *App) picture(ctx context.Context, named string, run int) (api.State, error) {
	lab, err := a.pick(ctx, named)
	if err != nil {
		return api.State{}, err
	}
	if run > 0 {
		return a.Station.Picture(ctx, lab.Name, run)
	}
	return lab.State(ctx)
}

// lanesSheet draws the run of a state.
func lanesSheet(s api.State) paper.Sheet {
	all, elapsed := lanes.Of(s)
	words := fmt.Sprintf("run %d of %s, %s", s.Run.N, s.Run.Started.Local().Format("2006-01-02 15:04:05"), outcomeWords(s, elapsed.Seconds()))
	if s.Run.Rehearsed {
		words = "rehearsed in virtual time, " + outcomeWords(s, elapsed.Seconds())
	}
	var chain []string
	for _, c := range s.Run.Chain {
		chain = append(chain, c.String())
	}
	return paper.Lanes(paper.Run{Title: s.Lab, Words: words, Chain: chain}, all, elapsed)
}

func outcomeWords(s api.State, seconds float64) string {
	if s.Run.Outcome == "" {
		return fmt.Sprintf("after %.1f s", seconds)
	}
	return fmt.Sprintf("%s after %.1f s", s.Run.Outcome, seconds)
}
