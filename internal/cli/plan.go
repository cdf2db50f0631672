package cli

import (
	"fmt"
	"io"
	"strconv"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"kettlehole/internal/labfile"
	"kettlehole/internal/mapping"
	"kettlehole/internal/plan"
	"kettlehole/internal/rehearsal"
	"kettlehole/internal/schedule"
)

func (a *App) planCommand() *cobra.Command {
	var asJSON bool
	var flags mapFlags
	cmd := &cobra.Command{
		Use:   "plan [FILE]",
		Short: "Say what a lab file means on this workstation",
		Long: `Plan reads a lab file and prints what is wrong with it, line by line, and what
it expands to: networks, nodes with their addresses, forwards and steps.
Nothing is made. Exit code 1 if the file has errors.`,
		Example:           "  kettlehole plan desk.lab.yaml\n  kettlehole plan --json | jq '.plan.nodes[].name'",
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: completeFiles,
		RunE: func(cmd *cobra.Command, args []string) error {
			want, err := flags.of(first(args))
			if err != nil {
				return err
			}
			return a.showPlan(want, asJSON)
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	flags.add(cmd)
	return cmd
}

func first(args []string) string {
	if len(args) == 0 {
		return ""
	}
	return args[0]
}

func (a *App) showPlan(want wish, asJSON bool) error {
	m, err := a.read(want)
	if err != nil {
		return err
	}
	if asJSON {
		findings := m.Findings
		if findings == nil {
			findings = labfile.Findings{}
		}
		document := PlanDocument{Version: 1, File: m.File, Findings: findings, Plan: m.Plan}
		if m.Lab != nil {
			document.Inputs = m.Lab.Inputs
		}
		if m.Plan != nil {
			document.Fit, document.Quorums = &m.Plan.Fit, m.Plan.Quorums()
			document.Ahead = a.ahead(m)
		}
		if m.Living != nil && m.Plan != nil {
			document.Difference = plan.Difference(m.Living, m.Plan)
		}
		err = a.printJSON(document)
	} else {
		fmt.Fprint(a.Out, m.Text())
		if m.Plan != nil {
			err = writePlan(a.Out, m)
			if ahead := a.ahead(m); err == nil && ahead != nil && len(ahead.Chain) > 0 {
				fmt.Fprintf(a.Out, "\nlongest chain: %s\n", ahead)
			}
			if changes := plan.Difference(m.Living, m.Plan); err == nil && m.Living != nil {
				fmt.Fprintln(a.Out, "\nto the living lab:")
				if len(changes) == 0 {
					fmt.Fprintln(a.Out, "nothing; it is as the file says")
				}
				err = writeDifference(a.Out, changes)
			}
		}
	}
	if err != nil {
		return err
	}
	if !m.Good() {
		return &exit{ExitLab, nil}
	}
	return nil
}

// ahead is how a run of the plan would go from nothing; nil without a plan.
func (a *App) ahead(m mapping.Result) *Ahead {
	if m.Plan == nil || m.Graph == nil {
		return nil
	}
	r, err := rehearsal.Rehearse(rehearsal.Request{Plan: m.Plan, Graph: m.Graph, Times: a.times(), Start: time.Now()})
	if err != nil {
		return nil // only a fault that was asked for can be wrong
	}
	return &Ahead{r.Took.Seconds(), append([]schedule.Cell{}, r.Chain...), r.Guessed}
}

// String says it in a line.
func (a *Ahead) String() string {
	var words []string
	for _, c := range a.Chain {
		words = append(words, c.String())
	}
	text := strings.Join(words, ", then ")
	if len(a.Guessed) > 0 {
		return text + "; how long it takes here is not known yet"
	}
	return fmt.Sprintf("%s; about %.1f s from nothing", text, a.Took)
}

// writePlan prints a plan as tables.
func writePlan(to io.Writer, m mapping.Result) error {
	p := m.Plan
	w := tabwriter.NewWriter(to, 2, 8, 2, ' ', 0)
	var memory labfile.Bytes
	var cpu labfile.Cores
	for _, n := range p.Nodes {
		memory, cpu = memory+n.Memory, cpu+n.CPU
	}
	fmt.Fprintf(w, "lab %s, %s; memory %s of %s available, cpu %s of %s cores\n",
		p.Lab, quantity(len(p.Nodes), "node"), memory, labfile.Bytes(m.Facts.MemoryAvailable), cpu, strconv.Itoa(m.Facts.Cores))
	for _, room := range p.Fit.Rooms {
		fmt.Fprintf(w, "%s\t%s\n", room.Group, room)
	}
	for _, q := range p.Quorums() {
		fmt.Fprintf(w, "%s\t%s\n", q.Group, q)
	}
	for _, f := range p.Fronts {
		fmt.Fprintf(w, "%s\tfront on %s\n", f.Name, f)
	}
	fmt.Fprint(w, "\nnetwork\tsubnet\n")
	for _, n := range p.Networks {
		fmt.Fprintf(w, "%s\t%s\n", n.Name, plan.Words(n.Ranges()))
	}
	fmt.Fprint(w, "\nnode\taddresses\tcpu\tmemory\tservices\n")
	for _, n := range p.Nodes {
		var addresses, services []string
		for _, tap := range n.Taps {
			addresses = append(addresses, tap.Network+" "+plan.Words(tap.Addresses()))
		}
		for _, s := range n.Services {
			services = append(services, s.Name)
		}
		fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%s\n", n.Name, strings.Join(addresses, ", "), n.CPU, n.Memory, strings.Join(services, ", "))
	}
	if len(p.Forwards) > 0 {
		fmt.Fprint(w, "\nforward\tworkstation\tnode\n")
		for _, f := range p.Forwards {
			protocol := ""
			if f.UDP {
				protocol = "/udp"
			}
			fmt.Fprintf(w, "%s\t%s\t%s:%d%s\n", f.Name, f.Listen, f.Node, f.NodePort, protocol)
		}
	}
	if len(p.Steps) > 0 {
		fmt.Fprint(w, "\nstep\ton\tafter\n")
		for _, s := range p.Steps {
			after := append([]string{}, s.After...)
			for _, v := range s.Takes {
				after = append(after, "the value "+v)
			}
			fmt.Fprintf(w, "%s\t%s\t%s\n", s.Name, strings.Join(s.Nodes, ", "), strings.Join(after, ", "))
		}
	}
	return w.Flush()
}

// quantity says how many there are of a thing.
func quantity(n int, of string) string {
	if n == 1 {
		return "1 " + of
	}
	return strconv.Itoa(n) + " " + of + "s"
}
