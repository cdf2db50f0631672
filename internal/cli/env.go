package cli

import (
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"kettlehole/internal/api"
	"kettlehole/internal/home"
)

func (a *App) envCommand() *cobra.Command {
	var named string
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "env",
		Short: "Print the variables with which a shell uses a living lab",
		Long: `Env prints what a shell needs to use a living lab from the workstation: where
its forwards listen, and where the files are that were retrieved from it.

  LAB                  its name
  LAB_SSH_CONFIG       what ssh -F takes
  LAB_FORWARD_<NAME>   address and port on this workstation
  LAB_FILE_<NAME>      path of a retrieved file`,
		Example: "  eval \"$(kettlehole env)\" && curl \"http://$LAB_FORWARD_DOOR/\"\n  kettlehole env --json | jq -r .LAB_SSH_CONFIG",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			_, state, err := a.look(cmd.Context(), named)
			if err != nil {
				return err
			}
			all := a.variables(state)
			if asJSON {
				return a.printJSON(all)
			}
			var names []string
			for name := range all {
				names = append(names, name)
			}
			slices.Sort(names)
			for _, name := range names {
				fmt.Fprintf(a.Out, "export %s='%s'\n", name, strings.ReplaceAll(all[name], "'", `'\''`))
			}
			return nil
		},
	}
	labFlag(cmd, &named)
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

// notName is what the name of a variable has no room for.
var notName = regexp.MustCompile(`[^A-Z0-9]+`)

func (a *App) variables(s api.State) map[string]string {
	variable := func(name string) string { return notName.ReplaceAllString(strings.ToUpper(name), "_") }
	all := map[string]string{"LAB": s.Lab, "LAB_SSH_CONFIG": filepath.Join(a.Station.Home.Lab(s.Lab), home.SSH, home.SSHConfig)}
	for _, f := range s.Forwards {
		all["LAB_FORWARD_"+variable(f.Name)] = f.Listen.String()
	}
	for _, r := range s.Retrieved {
		if r.Reason == "" {
			all["LAB_FILE_"+variable(r.Name)] = r.Path
		}
	}
	return all
}
