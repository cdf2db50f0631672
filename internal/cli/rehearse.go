package cli

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"kettlehole/internal/api"
	"kettlehole/internal/rehearsal"
	"kettlehole/internal/schedule"
)

func (a *App) rehearseCommand() *cobra.Command {
	var asJSON bool
	var output string
	var fail, slow []string
	var flags mapFlags
	cmd := &cobra.Command{
		Use:   "rehearse FILE",
		Short: "Go through a run in virtual time; nothing is made",
		Long: `Rehearse lays a whole run on virtual time, by what is remembered of how long
nodes and steps take here: when each step would begin and end, the longest chain,
the time in all, the memory at most. A step whose time nobody knows yet is taken
to last a second, and named. Nothing is made, no privilege is needed.

--fail lets the script of a step fail on a node, always or a number of times;
--slow makes it take longer. Exit code 1 where the run would not be done.`,
		Example:           "  kettlehole rehearse desk.lab.yaml\n  kettlehole rehearse desk.lab.yaml --fail join@council-2:1 --slow prepare@gate-1:10\n  kettlehole rehearse desk.lab.yaml -o run.pdf",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: completeFiles,
		RunE: func(cmd *cobra.Command, args []string) error {
			want, err := flags.of(args[0])
			if err != nil {
				return err
			}
			var faults []rehearsal.Fault
			for _, text := range fail {
				one, err := parseFault(text)
				if err != nil {
					return err
				}
				faults = append(faults, one)
			}
			var drags []rehearsal.Drag
			for _, text := range slow {
				one, err := parseDrag(text)
				if err != nil {
					return err
				}
				drags = append(drags, one)
			}
			r, err := a.rehearse(want, faults, drags)
			if err != nil {
				return err
			}
			switch {
			case output != "":
				err = a.write(lanesSheet(r.State), output)
			case asJSON:
				err = a.printJSON(rehearsed{1, r.Took.Seconds(), r.Chain, r.Guessed, int64(r.Peak), r.PeakAt.Seconds(), r.State})
			default:
				err = a.writeRehearsal(r)
			}
			if err == nil && r.State.Run.Outcome != api.OutcomeDone {
				err = &exit{ExitLab, errors.New("the run would not be done")}
			}
			return err
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	cmd.Flags().StringVarP(&output, "output", "o", "", "draw its lanes into this file, .svg or .pdf")
	cmd.Flags().StringArrayVar(&fail, "fail", nil, "let a script fail: STEP@NODE, or STEP@NODE:TIMES for the first tries (may be repeated)")
	cmd.Flags().StringArrayVar(&slow, "slow", nil, "make a step slower: STEP@NODE:FACTOR (may be repeated)")
	flags.add(cmd)
	return cmd
}

// rehearsed is the answer as data: version 1. Times are seconds, sizes bytes.
type rehearsed struct {
	Version int             `json:"version"`
	Took    float64         `json:"took"`
	Chain   []schedule.Cell `json:"chain"`
	Guessed []string        `json:"guessed,omitempty"`
	Peak    int64           `json:"peak"`
	PeakAt  float64         `json:"peakAt"`
	State   api.State       `json:"state"`
}

func parseFault(text string) (rehearsal.Fault, error) {
	times := -1
	if cell, number, found := strings.Cut(text, ":"); found {
		n, err := strconv.Atoi(number)
		if err != nil || n < 1 {
			return rehearsal.Fault{}, wrongUse("%q: how often a script fails is 1 or more", text)
		}
		text, times = cell, n
	}
	c, err := parseCell(text)
	return rehearsal.Fault{Cell: c, Times: times}, err
}

func parseDrag(text string) (rehearsal.Drag, error) {
	cell, number, _ := strings.Cut(text, ":")
	factor, err := strconv.ParseFloat(number, 64)
	if err != nil || !(factor > 0) || factor > 1e6 {
		return rehearsal.Drag{}, wrongUse("%q: write STEP@NODE:FACTOR, such as prepare@gate-1:10; the factor is above 0", text)
	}
	c, err := parseCell(cell)
	return rehearsal.Drag{Cell: c, Factor: factor}, err
}

// rehearse goes through the run of a file, on a workstation with room for all.
func (a *App) rehearse(want wish, faults []rehearsal.Fault, drags []rehearsal.Drag) (rehearsal.Result, error) {
	want.facts = &rehearsal.Room
	m, err := a.read(want)
	if err != nil {
		return rehearsal.Result{}, err
	}
	if !m.Good() {
		fmt.Fprint(a.Err, m.Text())
		return rehearsal.Result{}, &exit{ExitLab, errors.New("the lab file has errors; nothing was rehearsed")}
	}
	r, err := rehearsal.Rehearse(rehearsal.Request{Plan: m.Plan, Graph: m.Graph, Times: a.times(), Faults: faults, Drags: drags, Start: time.Now()})
	if err != nil {
		return r, &exit{ExitUse, err}
	}
	return r, nil
}

// times is what is remembered here; nothing where it cannot be read.
func (a *App) times() rehearsal.Times {
	times, err := a.Station.Times()
	if err != nil {
		return nil
	}
	return times
}

// writeRehearsal prints the timeline, each step on each node in the order in
// which they begin.
func (a *App) writeRehearsal(r rehearsal.Result) error {
	w := tabwriter.NewWriter(a.Out, 2, 8, 2, ' ', 0)
	fmt.Fprint(w, "begins\tends\tnode\tstep\thow\n")
	all := slices.Clone(r.State.Cells)
	slices.SortStableFunc(all, func(x, y api.Cell) int { return x.Started.Compare(y.Started) })
	begin := r.State.Run.Started
	for _, c := range all {
		if c.State == api.Waiting {
			continue
		}
		how := c.State
		if c.Reason != "" {
			how += ": " + c.Reason
		}
		fmt.Fprintf(w, "%.2f s\t%.2f s\t%s\t%s\t%s\n", c.Started.Sub(begin).Seconds(), c.Ended.Sub(begin).Seconds(), c.Node, c.Step, how)
	}
	for _, c := range all {
		if c.State == api.Waiting {
			fmt.Fprintf(w, "never\t\t%s\t%s\t%s\n", c.Node, c.Step, c.Reason)
		}
	}
	fmt.Fprintf(w, "\nin all\t%.1f s of virtual time\n", r.Took.Seconds())
	fmt.Fprintf(w, "memory\tat most %s, %.1f s after the start\n", r.Peak, r.PeakAt.Seconds())
	for i, c := range r.Chain {
		name := ""
		if i == 0 {
			name = "longest chain"
		}
		fmt.Fprintf(w, "%s\t%s\n", name, c)
	}
	if len(r.Guessed) > 0 {
		fmt.Fprintf(w, "guessed\t%s: never seen here, taken to last a second\n", strings.Join(r.Guessed, ", "))
	}
	return w.Flush()
}
