package cli

import (
	"fmt"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"kettlehole/internal/api"
	"kettlehole/internal/labfile"
	"kettlehole/internal/mapping"
)

func (a *App) forwardCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "forward",
		Short: "List, add and remove ways from the workstation's ports into a living lab",
		Long: `Forward looks after the ports of the workstation that lead into a living lab.
Those that are added here live as long as the lab does, through restarts and
new runs; write puts one into the lab file, so that the next lab has it too.`,
		Example: "  kettlehole forward list\n  kettlehole forward add 9090 council-1:7000\n  kettlehole forward remove council-1-7000",
		Args:    cobra.NoArgs,
		RunE:    func(cmd *cobra.Command, _ []string) error { return a.listForwards(cmd, "", false) },
	}
	cmd.AddCommand(a.forwardListCommand(), a.forwardAddCommand(), a.forwardRemoveCommand(), a.forwardWriteCommand())
	return cmd
}

func (a *App) forwardListCommand() *cobra.Command {
	var named string
	var asJSON bool
	cmd := &cobra.Command{
		Use:     "list",
		Short:   "List forwards with their connections and bytes",
		Example: "  kettlehole forward list\n  kettlehole forward list --json | jq '.[].listen'",
		Args:    cobra.NoArgs,
		RunE:    func(cmd *cobra.Command, _ []string) error { return a.listForwards(cmd, named, asJSON) },
	}
	labFlag(cmd, &named)
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

func (a *App) listForwards(cmd *cobra.Command, named string, asJSON bool) error {
	lab, state, err := a.look(cmd.Context(), named)
	if err != nil {
		return err
	}
	if asJSON {
		if state.Forwards == nil {
			state.Forwards = []api.Forward{}
		}
		return a.printJSON(state.Forwards)
	}
	if len(state.Forwards) == 0 {
		fmt.Fprintf(a.Out, "lab %s has no forward; add one: kettlehole forward add 9090 NODE:PORT\n", lab.Name)
		return nil
	}
	w := tabwriter.NewWriter(a.Out, 2, 8, 2, ' ', 0)
	writeForwards(w, state.Forwards)
	return w.Flush()
}

// writeForwards prints forwards as lines of cells.
func writeForwards(w *tabwriter.Writer, forwards []api.Forward) {
	fmt.Fprint(w, "forward\tworkstation\tnode\tconnections\tin\tout\t\n")
	for _, f := range forwards {
		protocol, remark := "", f.Reason
		if f.UDP {
			protocol = "/udp"
		}
		if f.Added {
			remark = strings.TrimSuffix("added by hand; "+remark, "; ")
		}
		fmt.Fprintf(w, "%s\t%s\t%s:%d%s\t%d now, %d in all\t%s\t%s\t%s\n", f.Name, f.Listen, f.Node, f.NodePort, protocol, f.Open, f.Total, labfile.Bytes(f.In), labfile.Bytes(f.Out), clean(remark))
	}
}

func (a *App) forwardAddCommand() *cobra.Command {
	var named, name string
	cmd := &cobra.Command{
		Use:   "add PORT NODE:PORT",
		Short: "Lead a port of the workstation into a living lab",
		Long: `Add opens a port, or a run of ports, of the workstation that leads to a node.
PORT is a port of 127.0.0.1, ADDRESS:PORT, a run such as 30000-30019, or auto
for one that is free; /udp at the end makes it UDP. The writing of a lab file
works too, in quotation marks: '9090 -> council-1:7000'.`,
		Example: "  kettlehole forward add 9090 council-1:7000\n  kettlehole forward add auto gate-1:53/udp --name names\n  kettlehole forward add '[::1]:9090 -> council-1:7000'",
		Args:    cobra.RangeArgs(1, 3),
		RunE: func(cmd *cobra.Command, args []string) error {
			text, err := forwardText(args)
			if err != nil {
				return err
			}
			lab, err := a.pick(cmd.Context(), named)
			if err != nil {
				return err
			}
			added, err := lab.AddForward(cmd.Context(), api.NewForward{Name: name, Text: text})
			if err != nil {
				return err
			}
			for _, f := range added {
				fmt.Fprintf(a.Out, "%s  %s leads to %s:%d\n", f.Name, f.Listen, f.Node, f.NodePort)
			}
			return nil
		},
	}
	labFlag(cmd, &named)
	cmd.Flags().StringVar(&name, "name", "", "its name (default: the node's and the port)")
	return cmd
}

// forwardText puts the words of a command line together as in a lab file. A
// shell takes a bare arrow for a file to write to.
func forwardText(args []string) (string, error) {
	switch {
	case len(args) == 2 && args[1] == "-":
		return "", wrongUse("the shell took the arrow for a file to write to, and may have made one; leave the arrow out: forward add %s NODE:PORT", args[0])
	case len(args) == 3 && args[1] != "->":
		return "", wrongUse("write forward add PORT NODE:PORT, not %q", strings.Join(args, " "))
	case len(args) == 2:
		return args[0] + " -> " + args[1], nil
	}
	return strings.Join(args, " "), nil
}

func (a *App) forwardRemoveCommand() *cobra.Command {
	var named string
	cmd := &cobra.Command{
		Use:               "remove NAME",
		Short:             "Close a forward that was added",
		Example:           "  kettlehole forward remove council-1-7000",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeAdded,
		RunE: func(cmd *cobra.Command, args []string) error {
			lab, err := a.pick(cmd.Context(), named)
			if err != nil {
				return err
			}
			if err := lab.RemoveForward(cmd.Context(), args[0]); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "forward %s is gone\n", args[0])
			return nil
		},
	}
	labFlag(cmd, &named)
	return cmd
}

func (a *App) forwardWriteCommand() *cobra.Command {
	var named string
	cmd := &cobra.Command{
		Use:               "write NAME",
		Short:             "Put a forward that was added into the lab file",
		Long:              "Write puts a forward that was added into the lab file, and changes nothing else\nin it.",
		Example:           "  kettlehole forward write council-1-7000",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeAdded,
		RunE: func(cmd *cobra.Command, args []string) error {
			_, state, err := a.look(cmd.Context(), named)
			if err != nil {
				return err
			}
			forward, err := state.Plan.Declared(args[0])
			if err == nil {
				err = mapping.WriteForward(state.File, forward)
			}
			if err != nil {
				return &exit{ExitLab, err}
			}
			fmt.Fprintf(a.Out, "%s has it now:  %s: %s\n", state.File, forward.Name, forward)
			return nil
		},
	}
	labFlag(cmd, &named)
	return cmd
}

// completeAdded completes with the forwards that a person added.
func (a *App) completeAdded(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	named, _ := cmd.Flags().GetString("lab")
	lab, err := a.pick(cmd.Context(), named)
	if err != nil || len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var names []string
	if p := a.Station.LivingPlan(lab.Name); p != nil {
		for _, f := range p.Forwards {
			if f.Added {
				names = append(names, f.Name)
			}
		}
	}
	return names, cobra.ShellCompDirectiveNoFileComp
}
