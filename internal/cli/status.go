package cli

import (
	"fmt"
	"net/netip"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"kettlehole/internal/api"
	"kettlehole/internal/draw"
	"kettlehole/internal/labfile"
)

func (a *App) statusCommand() *cobra.Command {
	var named string
	var asJSON bool
	cmd := &cobra.Command{
		Use:               "status [LAB]",
		Short:             "Say how a living lab is",
		Example:           "  kettlehole status\n  kettlehole status avalanche-desk --json | jq '.nodes[].state'",
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: a.completeLabs,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 1 {
				named = args[0]
			}
			_, state, err := a.look(cmd.Context(), named)
			if err != nil {
				return err
			}
			if asJSON {
				return a.printJSON(state)
			}
			return a.writeStatus(state)
		},
	}
	labFlag(cmd, &named)
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

func (a *App) writeStatus(s api.State) error {
	ready := 0
	for _, n := range s.Nodes {
		if n.State == api.Ready {
			ready++
		}
	}
	how := fmt.Sprintf("%d of %d nodes ready", ready, len(s.Nodes))
	if s.Phase == api.PhaseStopping || s.Phase == api.PhaseStopped {
		how = s.Phase
	}
	fmt.Fprintf(a.Out, "lab %s: %s, made %s ago from %s\n", s.Lab, how, draw.Age(s.Now.Sub(s.Created)), s.File)
	if s.Run.N > 0 {
		end, outcome := s.Run.Ended, s.Run.Outcome
		if end.IsZero() {
			end, outcome = s.Now, "goes on"
		}
		fmt.Fprintf(a.Out, "run %d: %s after %.1f s\n", s.Run.N, outcome, end.Sub(s.Run.Started).Seconds())
	}
	if s.Error != "" {
		fmt.Fprintf(a.Out, "error: %s\n", clean(s.Error))
	}
	w := tabwriter.NewWriter(a.Out, 2, 8, 2, ' ', 0)
	fmt.Fprint(w, "\nnode\tstate\taddress\tcpu\tmemory\tservices\treason\n")
	for _, n := range s.Nodes {
		var services []string
		for _, one := range n.Services {
			services = append(services, one.Service+" "+one.State)
		}
		address := ""
		if planned, ok := s.Plan.Node(n.Name); ok {
			address = planned.Address().String()
		}
		fmt.Fprintf(w, "%s\t%s\t%s\t%.0f%%\t%s\t%s\t%s\n", n.Name, n.State, address, 100*n.CPU, labfile.Bytes(n.Memory), strings.Join(services, ", "), clean(n.Reason))
	}
	if len(s.Forwards) > 0 {
		fmt.Fprintln(w)
		writeForwards(w, s.Forwards)
	}
	if len(s.Fronts) > 0 {
		fmt.Fprint(w, "\nfront\taddress\tmember\thealth\tconnections\t\n")
		for _, f := range s.Fronts {
			at := netip.AddrPortFrom(f.Address.Addr(), f.Port)
			for _, m := range f.States {
				health := "healthy"
				if !m.Healthy {
					health = "out: " + clean(m.Reason)
				}
				fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%d now, %d in all\t\n", f.Name, at, m.Node, health, m.Open, m.Total)
			}
			if f.Reason != "" {
				fmt.Fprintf(w, "%s\t%s\t\t%s\t\t\n", f.Name, at, clean(f.Reason))
			}
		}
	}
	for _, r := range s.Retrieved {
		if r.Reason != "" {
			fmt.Fprintf(w, "\nretrieve %s: %s\n", r.Name, clean(r.Reason))
		}
	}
	return w.Flush()
}

func (a *App) labsCommand() *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use:     "labs",
		Short:   "List the labs of this workstation",
		Example: "  kettlehole labs\n  kettlehole labs --json | jq -r '.[].name'",
		Args:    cobra.NoArgs,
		RunE:    func(cmd *cobra.Command, _ []string) error { return a.listLabs(cmd, asJSON) },
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

func (a *App) listLabs(cmd *cobra.Command, asJSON bool) error {
	labs, err := a.Station.Labs(cmd.Context())
	if err != nil {
		return err
	}
	type line struct {
		Name    string    `json:"name"`
		File    string    `json:"file"`
		Created time.Time `json:"created"`
		Phase   string    `json:"phase"`
		Nodes   int       `json:"nodes"`
		Ready   int       `json:"ready"`
	}
	lines := []line{}
	for _, l := range labs {
		one := line{Name: l.Name, File: l.File, Created: l.Created}
		if state, err := a.Station.Open(l.Name).State(cmd.Context()); err == nil {
			one.Phase, one.Nodes = state.Phase, len(state.Nodes)
			for _, n := range state.Nodes {
				if n.State == api.Ready {
					one.Ready++
				}
			}
		}
		lines = append(lines, one)
	}
	if asJSON {
		return a.printJSON(lines)
	}
	if len(lines) == 0 {
		fmt.Fprintln(a.Out, "no lab lives on this workstation")
		return nil
	}
	w := tabwriter.NewWriter(a.Out, 2, 8, 2, ' ', 0)
	fmt.Fprint(w, "lab\tready\tage\tfile\n")
	for _, l := range lines {
		ready := fmt.Sprintf("%d of %d", l.Ready, l.Nodes)
		if l.Phase == api.PhaseStopping || l.Phase == api.PhaseStopped {
			ready = l.Phase
		}
		fmt.Fprintf(w, "%s\t%s\t%s\t%s\n", l.Name, ready, draw.Age(time.Since(l.Created)), l.File)
	}
	return w.Flush()
}

func (a *App) versionCommand() *cobra.Command {
	return &cobra.Command{
		Use: "version", Short: "Print the version", Example: "  kettlehole version", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			fmt.Fprintln(a.Out, "kettlehole", a.Version)
			return nil
		},
	}
}
