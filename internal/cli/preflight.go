package cli

import (
	"fmt"
	"io"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"kettlehole/internal/labfile"
	"kettlehole/internal/plan"
	"kettlehole/internal/workstation"
	"kettlehole/internal/workstation/survey"
)

func (a *App) preflightCommand() *cobra.Command {
	var asJSON, again, all bool
	var flags mapFlags
	cmd := &cobra.Command{
		Use:   "preflight [FILE]",
		Short: "Say what this workstation, or a lab on it, needs",
		Long: `Preflight lists what is needed, each met or not, and what to do about it. With
FILE it adds what that lab needs here. What the kernel and the tools can do is
tried, and remembered until the next boot. Exit code 3 if something is missing.`,
		Example:           "  kettlehole preflight\n  kettlehole preflight desk.lab.yaml\n  kettlehole preflight --json | jq '.needs[] | select(.met | not)'",
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: completeFiles,
		RunE: func(cmd *cobra.Command, args []string) error {
			want, err := flags.of(first(args))
			if err != nil {
				return err
			}
			trials, err := a.Try(cmd.Context(), again)
			if err != nil {
				return &exit{ExitWorkstation, err}
			}
			return a.preflight(want, len(args) == 1, trials, asJSON, all)
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	cmd.Flags().BoolVar(&all, "facts", false, "print also every fact about this workstation that plans rest on")
	cmd.Flags().BoolVar(&again, "again", false, "try everything anew")
	flags.add(cmd)
	return cmd
}

func (a *App) preflight(want wish, lab bool, trials []workstation.Trial, asJSON, all bool) error {
	var facts workstation.Facts
	var planned *plan.Plan
	var findings labfile.Findings
	if lab {
		m, err := a.read(want)
		if err != nil {
			return err
		}
		facts, planned, findings = m.Facts, m.Plan, m.Findings
		if !m.Good() && !asJSON {
			fmt.Fprint(a.Out, m.Text())
			return &exit{ExitLab, nil}
		}
	} else {
		var err error
		if facts, err = survey.Read(string(a.Station.Home)); err != nil {
			return &exit{ExitWorkstation, err}
		}
	}
	facts.Trials = trials
	needs := plan.Preflight(facts, planned)
	if asJSON {
		if err := a.printJSON(struct {
			Version  int               `json:"version"`
			Needs    []plan.Need       `json:"needs"`
			Findings labfile.Findings  `json:"findings,omitempty"`
			Facts    workstation.Facts `json:"facts"`
		}{1, needs, findings, facts}); err != nil {
			return err
		}
	} else if err := writeNeeds(a.Out, facts, needs); err != nil {
		return err
	}
	if all && !asJSON {
		fmt.Fprintf(a.Out, "\n%s", facts)
	}
	missing := 0
	for _, n := range needs {
		if n.Must && !n.Met {
			missing++
		}
	}
	switch {
	case findings.Count(labfile.Error) > 0:
		return &exit{ExitLab, nil}
	case missing > 0:
		return &exit{ExitWorkstation, fmt.Errorf("%s missing; nothing can be provisioned without", quantity(missing, "thing"))}
	}
	return nil
}

// writeNeeds prints the machine and what it needs.
func writeNeeds(to io.Writer, f workstation.Facts, needs []plan.Need) error {
	fmt.Fprintf(to, "%s, Linux %s on %s", f.System.Distribution, f.System.Kernel, f.System.Machine)
	if f.System.Virtual != "" {
		fmt.Fprintf(to, ", in %s", f.System.Virtual)
	}
	fmt.Fprintf(to, "; %d cores, %s of memory", f.Cores, labfile.Bytes(f.MemoryTotal))
	if f.SwapTotal > 0 {
		fmt.Fprintf(to, ", %s of swap", labfile.Bytes(f.SwapTotal))
	}
	if f.Pressure.Known {
		fmt.Fprintf(to, "; waiting in the last 10 s: cpu %.0f%%, memory %.0f%%, disk %.0f%%", f.Pressure.CPU, f.Pressure.Memory, f.Pressure.IO)
	}
	fmt.Fprint(to, "\n\n")
	w := tabwriter.NewWriter(to, 2, 8, 2, ' ', 0)
	for _, n := range needs {
		fmt.Fprintf(w, "%s\t%s\t%s\n", n.Word(), n.Name, n.Found)
		if !n.Met && n.Remedy != "" {
			fmt.Fprintf(w, "\t\t  %s\n", n.Remedy)
		}
	}
	return w.Flush()
}
