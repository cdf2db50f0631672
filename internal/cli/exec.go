package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"kettlehole/internal/agent"
	"kettlehole/internal/client"
)

func (a *App) execCommand() *cobra.Command {
	var named string
	cmd := &cobra.Command{
		Use:               "exec NODE -- COMMAND [ARG...]",
		Short:             "Run a command on a node",
		Long:              "Exec runs a command on a node, with this command's input and output. Its exit\ncode is the command's.",
		Example:           "  kettlehole exec council-1 -- cairn members\n  echo hello | kettlehole exec gate-1 -- cat",
		Args:              cobra.MinimumNArgs(2),
		ValidArgsFunction: a.completeNodes,
		RunE: func(cmd *cobra.Command, args []string) error {
			lab, err := a.pick(cmd.Context(), named)
			if err != nil {
				return err
			}
			argv := args[1:]
			if argv[0] == "--" && len(argv) > 1 {
				argv = argv[1:]
			}
			return a.attach(cmd.Context(), lab, args[0], agent.Exec{Argv: argv})
		},
	}
	cmd.Flags().SetInterspersed(false)
	labFlag(cmd, &named)
	return cmd
}

func (a *App) shellCommand() *cobra.Command {
	var named string
	cmd := &cobra.Command{
		Use:               "shell NODE",
		Short:             "Open a shell on a node",
		Example:           "  kettlehole shell council-1",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeNodes,
		RunE: func(cmd *cobra.Command, args []string) error {
			lab, err := a.pick(cmd.Context(), named)
			if err != nil {
				return err
			}
			return a.attach(cmd.Context(), lab, args[0], Shell())
		},
	}
	labFlag(cmd, &named)
	return cmd
}

// Shell is a person's shell on a node.
func Shell() agent.Exec {
	kind := os.Getenv("TERM")
	if kind == "" {
		kind = "xterm-256color"
	}
	return agent.Exec{Argv: agent.LoginShell, TTY: true, Env: []string{"TERM=" + kind}}
}

// attach runs a program on a node with the streams of this command. Without a
// terminal, none is made on the node.
func (a *App) attach(ctx context.Context, lab *client.Lab, node string, exec agent.Exec) error {
	exec.TTY = exec.TTY && a.terminal()
	fd := int(a.In.Fd())
	if exec.TTY {
		if cols, rows, err := term.GetSize(fd); err == nil {
			exec.Rows, exec.Cols = uint16(rows), uint16(cols)
		}
	}
	session, err := lab.Agent(node).Exec(ctx, exec)
	if err != nil {
		return nodeError(err)
	}
	defer session.Close()
	if exec.TTY {
		before, err := term.MakeRaw(fd)
		if err != nil {
			return fmt.Errorf("preparing the terminal: %w", err)
		}
		defer func() { _ = term.Restore(fd, before) }()
	}
	stop := a.passSignals(session, fd, exec.TTY)
	defer stop()
	go func() {
		_, _ = io.Copy(session, a.In)
		_ = session.CloseInput()
	}()
	status, err := session.Wait(a.Out, a.Err)
	if err != nil {
		return err
	}
	if status != 0 {
		return &exit{status, nil}
	}
	return nil
}

// nodeError turns an error of reaching a node into one for a person.
func nodeError(err error) error {
	var problem *client.Problem
	var refused *agent.Refused
	switch {
	case errors.As(err, &problem):
		return problem
	case errors.As(err, &refused):
		return &exit{ExitLab, refused}
	}
	return err
}

// passSignals passes interruptions on, and the terminal's size.
func (a *App) passSignals(session *agent.Session, fd int, tty bool) func() {
	signals := make(chan os.Signal, 4)
	wanted := []os.Signal{os.Interrupt, syscall.SIGTERM, syscall.SIGHUP}
	if tty {
		wanted = append(wanted, resized)
	}
	signal.Notify(signals, wanted...)
	go func() {
		for s := range signals {
			number := s.(syscall.Signal)
			if number != resized {
				_ = session.Signal(byte(number))
			} else if cols, rows, err := term.GetSize(fd); err == nil {
				_ = session.Resize(uint16(rows), uint16(cols))
			}
		}
	}()
	return func() { signal.Stop(signals); close(signals) }
}

func (a *App) logsCommand() *cobra.Command {
	var named string
	var goOn bool
	var run int
	cmd := &cobra.Command{
		Use:   "logs NODE [SERVICE | STEP]",
		Short: "Print a log of a node",
		Long: `Logs prints what a service or a step printed on a node, each line with its time
(UTC), secrets masked. Of a step it is the newest run, unless --run says which.
Without a name it lists what there is.`,
		Example:           "  kettlehole logs council-1\n  kettlehole logs council-1 cairn --follow\n  kettlehole logs council-2 join --run 1",
		Args:              cobra.RangeArgs(1, 2),
		ValidArgsFunction: a.completeNodes,
		RunE: func(cmd *cobra.Command, args []string) error {
			lab, err := a.pick(cmd.Context(), named)
			if err != nil {
				return err
			}
			ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt, syscall.SIGTERM)
			defer stop()
			name := ""
			if len(args) == 2 {
				if name, err = newestLog(ctx, lab, args[0], args[1], run); err != nil {
					return err
				}
			}
			log, err := lab.Logs(ctx, args[0], name, goOn, false)
			if err != nil {
				return err
			}
			defer log.Close()
			if _, err = io.Copy(a.Out, log); ctx.Err() != nil {
				return nil // interrupted while following
			}
			return err
		},
	}
	labFlag(cmd, &named)
	cmd.Flags().BoolVarP(&goOn, "follow", "f", false, "go on as the log grows")
	cmd.Flags().IntVar(&run, "run", 0, "of a step, the run (default: the newest)")
	return cmd
}

var runLog = regexp.MustCompile(`^(.+)\.run([0-9]+)$`)

// newestLog finds the log that a person means: one of that name, or that of a
// step's newest run, or of the one that is asked for.
func newestLog(ctx context.Context, lab *client.Lab, node, want string, run int) (string, error) {
	listing, err := lab.Logs(ctx, node, "", false, false)
	if err != nil {
		return "", err
	}
	defer listing.Close()
	text, err := io.ReadAll(listing)
	if err != nil {
		return "", err
	}
	names := strings.Fields(string(text))
	if run == 0 && slices.Contains(names, want) {
		return want, nil
	}
	found, newest := "", 0
	for _, name := range names {
		if m := runLog.FindStringSubmatch(name); m != nil && m[1] == want {
			if n, _ := strconv.Atoi(m[2]); n > newest && (run == 0 || n == run) {
				found, newest = name, n
			}
		}
	}
	if found == "" {
		return "", &exit{ExitUse, fmt.Errorf("node %s has no log %q; there are: %s", node, want, strings.Join(names, ", "))}
	}
	return found, nil
}
