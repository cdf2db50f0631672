// Package cli is the commands: the text-only twin of everything that the
// full-screen interface shows.
package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"kettlehole/internal/api"
	"kettlehole/internal/client"
	"kettlehole/internal/labfile"
	"kettlehole/internal/ledger"
	"kettlehole/internal/mapping"
	"kettlehole/internal/plan"
	"kettlehole/internal/substrate"
	"kettlehole/internal/workstation"
)

// The exit codes of every command.
const (
	ExitDone        = 0
	ExitLab         = 1 // the lab's fault
	ExitUse         = 2 // wrong use
	ExitWorkstation = 3 // the workstation's fault
)

// App is what commands work with.
type App struct {
	Station client.Station
	Version string
	// Open shows the full-screen interface on a lab file, "" for none.
	Open func(ctx context.Context, file string, given []labfile.Given, tight bool) error
	// OpenRehearsed opens the full-screen interface on a rehearsal of a file.
	OpenRehearsed func(ctx context.Context, file string) error
	// Hindrance says why no lab can live on this machine, "" where nothing
	// speaks against it.
	Hindrance func() string
	// Try tells what the workstation can do; again does not trust memory.
	Try func(ctx context.Context, again bool) ([]workstation.Trial, error)
	// Programs is the folder where the project's programs are.
	Programs string
	// Demo is the path of the demo's lab file, "" where it was not found.
	Demo string

	In       *os.File
	Out, Err io.Writer
}

// exit is an error with the exit code that it means. An error without words
// was printed already.
type exit struct {
	code int
	err  error
}

func (e *exit) Error() string {
	if e.err == nil {
		return ""
	}
	return e.err.Error()
}

func (e *exit) Unwrap() error { return e.err }

func wrongUse(format string, args ...any) error { return &exit{ExitUse, fmt.Errorf(format, args...)} }

// Main runs one command line and gives its exit code.
func (a *App) Main(ctx context.Context, args []string) int {
	root := a.root()
	root.SetArgs(args)
	root.SetIn(a.In)
	root.SetOut(a.Out)
	root.SetErr(a.Err)
	err := root.ExecuteContext(ctx)
	if err == nil {
		return ExitDone
	}
	if words := err.Error(); words != "" {
		fmt.Fprintf(a.Err, "kettlehole: %s\n", words)
	}
	return code(err)
}

func code(err error) int {
	var coded *exit
	var problem *client.Problem
	switch {
	case errors.As(err, &coded):
		return coded.code
	case errors.As(err, &problem):
		if problem.Fault {
			return ExitWorkstation
		}
		return ExitLab
	case errors.Is(err, client.ErrNoLab), errors.Is(err, ledger.ErrNoRun):
		return ExitUse
	case errors.Is(err, context.Canceled):
		return ExitLab
	case errors.Is(err, substrate.ErrWorkstation):
		return ExitWorkstation
	}
	return ExitWorkstation
}

func (a *App) root() *cobra.Command {
	var flags mapFlags
	root := &cobra.Command{
		Use:   "kettlehole [FILE]",
		Short: "Throwaway multi-node lab clusters on one workstation",
		Long: `Kettlehole lays a throwaway multi-node lab cluster, declared in a lab file, on
this workstation, provisions it, and takes it down without a trace.

Without a command it opens the full-screen interface: on FILE, or in a folder
with one *.lab.yaml on that one.`,
		Example:       "  kettlehole\n  kettlehole provision desk.lab.yaml\n  kettlehole shell council-1\n  kettlehole teardown",
		Args:          cobra.MaximumNArgs(1),
		SilenceErrors: true,
		SilenceUsage:  true,
		RunE: func(cmd *cobra.Command, args []string) error {
			file := ""
			if len(args) == 1 {
				file = args[0]
				if _, err := os.Stat(file); err != nil {
					return wrongUse("there is neither a command nor a lab file %q; see kettlehole --help", file)
				}
			} else if files := labFiles("."); len(files) == 1 {
				file = files[0]
			}
			want, err := flags.of(file)
			if err != nil {
				return err
			}
			if !a.terminal() {
				if file == "" {
					return a.listLabs(cmd, false)
				}
				return a.showPlan(want, false)
			}
			return a.Open(cmd.Context(), want.file, want.given, want.tight)
		},
	}
	flags.add(root)
	root.SetFlagErrorFunc(func(cmd *cobra.Command, err error) error {
		return wrongUse("%w; see %s --help", err, cmd.CommandPath())
	})
	root.AddCommand(a.newCommand(), a.schemaCommand(), a.preflightCommand(), a.planCommand(), a.rehearseCommand(), a.drawCommand(), a.runsCommand(), a.imagesCommand(), a.provisionCommand(), a.statusCommand(), a.labsCommand(), a.execCommand(), a.shellCommand(), a.copyCommand(), a.forwardCommand(), a.accessCommand(), a.envCommand(), a.proxyCommand(),
		a.logsCommand(), a.stopCommand(), a.startCommand(), a.teardownCommand(), a.demoCommand(), a.versionCommand())
	checkUse(root)
	return root
}

// checkUse makes wrong arguments of all commands below wrong use.
func checkUse(root *cobra.Command) {
	for _, cmd := range root.Commands() {
		if check := cmd.Args; check != nil {
			cmd.Args = func(cmd *cobra.Command, args []string) error {
				if err := check(cmd, args); err != nil {
					return wrongUse("%w; see %s --help", err, cmd.CommandPath())
				}
				return nil
			}
		}
		checkUse(cmd)
	}
}

// terminal tells whether a person sits before a full screen.
func (a *App) terminal() bool {
	out, isFile := a.Out.(*os.File)
	return isFile && term.IsTerminal(int(out.Fd())) && term.IsTerminal(int(a.In.Fd())) && os.Getenv("TERM") != "dumb"
}

func labFiles(folder string) []string {
	files, _ := filepath.Glob(filepath.Join(folder, "*.lab.yaml")) // the pattern is good
	return files
}

// printJSON prints facts for programs.
func (a *App) printJSON(what any) error {
	encoder := json.NewEncoder(a.Out)
	encoder.SetIndent("", "  ")
	return encoder.Encode(what)
}

// pick finds the lab that is meant: the one named, by its name or its file,
// else the one of the only lab file here, else the only one that lives.
func (a *App) pick(ctx context.Context, named string) (*client.Lab, error) {
	labs, err := a.Station.Labs(ctx)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, l := range labs {
		names = append(names, l.Name)
	}
	if strings.HasSuffix(named, ".yaml") || strings.Contains(named, "/") {
		file, err := filepath.Abs(named)
		if err != nil {
			return nil, err
		}
		for _, l := range labs {
			if l.File == file {
				return a.Station.Open(l.Name), nil
			}
		}
		return nil, &exit{ExitUse, fmt.Errorf("%w: none was provisioned from %s", client.ErrNoLab, named)}
	}
	if named == "" {
		if files := labFiles("."); len(files) == 1 {
			if lab, err := a.pick(ctx, "./"+files[0]); err == nil {
				return lab, nil
			}
		}
		if len(names) == 1 {
			named = names[0]
		}
	}
	switch {
	case len(names) == 0:
		return nil, &exit{ExitUse, fmt.Errorf("%w: none lives on this workstation", client.ErrNoLab)}
	case named == "":
		return nil, wrongUse("several labs live here; say which with --lab: %s", strings.Join(names, ", "))
	}
	for _, name := range names {
		if name == named {
			return a.Station.Open(name), nil
		}
	}
	return nil, &exit{ExitUse, fmt.Errorf("%w: %q; living here: %s", client.ErrNoLab, named, strings.Join(names, ", "))}
}

// look finds the lab that is meant, as pick does, and how it is.
func (a *App) look(ctx context.Context, named string) (*client.Lab, api.State, error) {
	lab, err := a.pick(ctx, named)
	if err != nil {
		return nil, api.State{}, err
	}
	state, err := lab.State(ctx)
	return lab, state, err
}

// read maps a lab file, the only one of this folder where none is named.
func (a *App) read(want wish) (mapping.Result, error) {
	file := want.file
	if file == "" {
		files := labFiles(".")
		switch len(files) {
		case 0:
			return mapping.Result{}, wrongUse("there is no *.lab.yaml in this folder; name a lab file")
		case 1:
			file = files[0]
		default:
			return mapping.Result{}, wrongUse("there are several lab files here; name one: %s", strings.Join(files, ", "))
		}
	}
	m, err := mapping.Map(mapping.Request{File: file, Home: string(a.Station.Home), Given: want.given, Tight: want.tight, Labs: a.Station.Holds, Facts: want.facts,
		Living: func(lab string) *plan.Plan { return a.Station.LivingPlan(lab) }})
	if errors.Is(err, os.ErrNotExist) {
		return m, wrongUse("there is no lab file %q", file)
	}
	return m, err
}

// labFlag adds the flag that says which lab.
func labFlag(cmd *cobra.Command, into *string) {
	cmd.Flags().StringVarP(into, "lab", "l", "", "the lab, by name or lab file (default: the only one)")
}

// completeNodes completes the first word with the names of nodes.
func (a *App) completeNodes(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	if len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	named, _ := cmd.Flags().GetString("lab")
	lab, err := a.pick(cmd.Context(), named)
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var names []string
	if p := a.Station.LivingPlan(lab.Name); p != nil {
		for _, n := range p.Nodes {
			names = append(names, n.Name)
		}
	}
	return names, cobra.ShellCompDirectiveNoFileComp
}

func (a *App) completeLabs(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	labs, err := a.Station.Labs(cmd.Context())
	if err != nil || len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var names []string
	for _, l := range labs {
		names = append(names, l.Name)
	}
	return names, cobra.ShellCompDirectiveNoFileComp
}

func completeFiles(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	return []string{"yaml"}, cobra.ShellCompDirectiveFilterFileExt
}
