package cli

import (
	"fmt"
	"io"
	"strings"
	"text/tabwriter"

	"kettlehole/internal/mapping"
	"kettlehole/internal/plan"
)

// writeDifference prints what would happen to the living lab.
func writeDifference(to io.Writer, changes []plan.Change) error {
	w := tabwriter.NewWriter(to, 2, 8, 2, ' ', 0)
	for _, c := range changes {
		fmt.Fprintf(w, "%s\t%s\t%s\t%s\n", c.Thing, c.Name, c.Kind, strings.Join(c.Why, "; "))
	}
	return w.Flush()
}

// agree shows what a run would change of a living lab, and asks where
// something would be lost.
func (a *App) agree(m mapping.Result, yes bool, to io.Writer) (bool, error) {
	if m.Living == nil {
		return yes, nil
	}
	changes := plan.Difference(m.Living, m.Plan)
	losses := plan.Losses(changes, a.Station.Made(m.Lab.Name))
	if len(changes) > 0 {
		fmt.Fprintln(to, "to the living lab:")
		if err := writeDifference(to, changes); err != nil {
			return false, err
		}
	}
	if len(losses) == 0 || yes {
		return yes, nil
	}
	if !a.terminal() {
		return false, wrongUse("what is on the nodes that go or are made anew would be lost; agree to that with --yes")
	}
	return true, a.ask("What is on the nodes that go or are made anew is lost. Go on?")
}
