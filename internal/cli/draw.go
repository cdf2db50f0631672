package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"kettlehole/internal/client"
	"kettlehole/internal/draw/paper"
	"kettlehole/internal/plan"
)

func (a *App) drawCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "draw",
		Short:   "Draw a lab on paper",
		Long:    "Draw writes drawings as SVG or PDF, black on white, in which text stays text.",
		Example: "  kettlehole draw section desk.lab.yaml -o desk.pdf",
		RunE:    func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(a.drawSectionCommand(), a.drawLanesCommand())
	return cmd
}

func (a *App) drawSectionCommand() *cobra.Command {
	var output string
	var flags mapFlags
	cmd := &cobra.Command{
		Use:   "section [FILE | LAB]",
		Short: "Draw networks, nodes and ways in, with a table of addresses and ports",
		Long: `Section draws a lab as a cut through the ground, as a lab file means it here or
as a lab lives, with a table of its addresses and ports. The ending of the output
file says whether it is SVG or PDF.`,
		Example:           "  kettlehole draw section desk.lab.yaml -o desk.pdf\n  kettlehole draw section avalanche-desk -o desk.svg",
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: completeFiles,
		RunE: func(_ *cobra.Command, args []string) error {
			p, err := a.planned(first(args), &flags)
			if err != nil {
				return err
			}
			return a.write(paper.Section(p, time.Now()), output)
		},
	}
	cmd.Flags().StringVarP(&output, "output", "o", "", "the file to write, .svg or .pdf (default: the lab's name, .svg)")
	flags.add(cmd)
	return cmd
}

// planned is the plan of a file, or that by which a lab lives.
func (a *App) planned(named string, flags *mapFlags) (*plan.Plan, error) {
	if named != "" && !strings.HasSuffix(named, ".yaml") {
		if p := a.Station.LivingPlan(named); p != nil {
			return p, nil
		}
		if _, err := os.Stat(named); err != nil {
			return nil, &exit{ExitUse, fmt.Errorf("%w: %q, and no such file either", client.ErrNoLab, named)}
		}
	}
	want, err := flags.of(named)
	if err != nil {
		return nil, err
	}
	m, err := a.read(want)
	if err != nil {
		return nil, err
	}
	if !m.Good() {
		fmt.Fprint(a.Err, m.Text())
		return nil, &exit{ExitLab, errors.New("the lab file has errors; nothing was drawn")}
	}
	return m.Plan, nil
}

// write writes a sheet into a file of the name's format, whole or not at all.
func (a *App) write(s paper.Sheet, output string) error {
	if output == "" {
		output = s.Title + ".svg"
	}
	format := strings.TrimPrefix(strings.ToLower(filepath.Ext(output)), ".")
	if !slices.Contains(paper.Formats, format) {
		return wrongUse("%q ends in none of .%s", output, strings.Join(paper.Formats, ", ."))
	}
	half, err := os.CreateTemp(filepath.Dir(output), ".draw-*")
	if err != nil {
		return &exit{ExitWorkstation, fmt.Errorf("writing the drawing: %w", err)}
	}
	defer os.Remove(half.Name()) // gone once it is renamed
	err = errors.Join(s.Write(half, format), half.Chmod(0o644), half.Close())
	if err == nil {
		err = os.Rename(half.Name(), output)
	}
	if err != nil {
		return &exit{ExitWorkstation, err}
	}
	fmt.Fprintln(a.Out, output)
	return nil
}
