package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"regexp"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"kettlehole/internal/starter"
)

// labName is what may be a lab's name (a DNS label).
var labName = regexp.MustCompile(`^[a-z]([a-z0-9-]{0,61}[a-z0-9])?$`)

func (a *App) newCommand() *cobra.Command {
	var name string
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "new [STARTER [FOLDER]]",
		Short: "Begin a lab file from a starter",
		Long: `New writes a first lab file that works, with its scripts and a JSON Schema for
editors, into FOLDER (this one if none is named), which is made if it is missing.
It never overwrites a file. Without STARTER it lists them.`,
		Example: "  kettlehole new\n  kettlehole new quorum desk\n  kettlehole new tier --name shop .",
		Args:    cobra.MaximumNArgs(2),
		ValidArgsFunction: func(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
			if len(args) > 0 {
				return nil, cobra.ShellCompDirectiveFilterDirs
			}
			var names []string
			for _, s := range starter.All {
				names = append(names, s.Name+"\t"+s.About)
			}
			return names, cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				return a.listStarters(asJSON)
			}
			folder := "."
			if len(args) == 2 {
				folder = args[1]
			}
			return a.begin(args[0], folder, name, asJSON)
		},
	}
	cmd.Flags().StringVarP(&name, "name", "n", "", "the lab's name (default: the folder's, or the starter's)")
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

func (a *App) listStarters(asJSON bool) error {
	if asJSON {
		return a.printJSON(starter.All)
	}
	w := tabwriter.NewWriter(a.Out, 2, 8, 2, ' ', 0)
	fmt.Fprint(w, "starter\tis\n")
	for _, s := range starter.All {
		fmt.Fprintf(w, "%s\t%s\n", s.Name, s.About)
	}
	fmt.Fprint(w, "\nbegin with one:  kettlehole new quorum desk\n")
	return w.Flush()
}

// begin writes a starter.
func (a *App) begin(which, folder, name string, asJSON bool) error {
	s, known := starter.Find(which)
	if !known {
		return wrongUse("there is no starter %q; kettlehole new lists them", which)
	}
	if name == "" {
		name = s.Name
		if whole, err := filepath.Abs(folder); err == nil && folder != "." && labName.MatchString(filepath.Base(whole)) {
			name = filepath.Base(whole)
		}
	}
	if !labName.MatchString(name) {
		return wrongUse("%q is no name for a lab; small letters, digits and dashes are", name)
	}
	written, err := s.Write(folder, name, a.Programs)
	switch {
	case errors.Is(err, starter.ErrThere):
		return &exit{ExitUse, err}
	case errors.Is(err, fs.ErrNotExist):
		return &exit{ExitWorkstation, fmt.Errorf("%w; it stands beside the program kettlehole once make build has made it", err)}
	case err != nil:
		return &exit{ExitWorkstation, err}
	}
	if asJSON {
		return a.printJSON(struct {
			Lab   string   `json:"lab"`
			Files []string `json:"files"`
		}{name, written})
	}
	for _, file := range written {
		fmt.Fprintln(a.Out, file)
	}
	quoted := written[0]
	if strings.ContainsAny(quoted, " '\"$") {
		quoted = "'" + strings.ReplaceAll(quoted, "'", `'\''`) + "'"
	}
	fmt.Fprintf(a.Out, "\nlook at it:  kettlehole %s\nmake it:     kettlehole provision %s\n", quoted, quoted)
	return nil
}
