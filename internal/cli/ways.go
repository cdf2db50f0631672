package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"kettlehole/internal/api"
	"kettlehole/internal/schedule"
)

// wayFlags are the flags by which a run does more, or less, than what is due.
type wayFlags struct {
	from, only  string
	again, skip []string
}

func (f *wayFlags) add(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.from, "from", "", "run this step, and all that follows it, though they are done")
	cmd.Flags().StringVar(&f.only, "only", "", "run steps on these nodes alone, a selection such as council-2..; the others stay as they are")
	cmd.Flags().StringArrayVar(&f.again, "again", nil, "run this step though it is done (may be repeated)")
	cmd.Flags().StringArrayVar(&f.skip, "skip", nil, "take STEP@NODE for done without running it (may be repeated)")
}

func (f *wayFlags) of() (api.Ways, error) {
	w := api.Ways{From: f.from, Only: f.only, Again: f.again}
	for _, text := range f.skip {
		c, err := parseCell(text)
		if err != nil {
			return w, err
		}
		w.Skip = append(w.Skip, c)
	}
	return w, nil
}

// parseCell reads "join@council-2".
func parseCell(text string) (schedule.Cell, error) {
	step, node, found := strings.Cut(text, "@")
	if !found || step == "" || node == "" {
		return schedule.Cell{}, wrongUse("%q is no step on a node; write STEP@NODE, such as join@council-2", text)
	}
	return schedule.Cell{Step: step, Node: node}, nil
}
