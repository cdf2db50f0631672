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
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"kettlehole/internal/agent"
	"kettlehole/internal/answers"
	"kettlehole/internal/client"
	"kettlehole/internal/plan"
)

func (a *App) execCommand() *cobra.Command {
	var named string
	var asJSON bool
	var within time.Duration
	cmd := &cobra.Command{
		Use:   "exec SELECTION -- COMMAND [ARG...]",
		Short: "Run a command on a node, or on many at once",
		Long: `Exec runs a command on a node, with this command's input and output. Its exit
code is the command's.

SELECTION may mean many nodes, as in a lab file: all, a group, council-2..,
council,gate, all except gate. Then the command runs on all of them at once and
gets no input; answers that are the same stand together, and the others show
the lines in which they differ from the most common one: + what only they say,
- what they lack. The exit code is the worst, 255 where a node could not be
asked.`,
		Example:           "  kettlehole exec council-1 -- cairn members\n  echo hello | kettlehole exec gate-1 -- cat\n  kettlehole exec all -- uname -r\n  kettlehole exec 'all except gate' --json -- cat /etc/hosts | jq -r '.[].nodes[]'",
		Args:              cobra.MinimumNArgs(2),
		ValidArgsFunction: a.completeNodes,
		RunE: func(cmd *cobra.Command, args []string) error {
			argv := args[1:]
			if dash := slices.Index(argv, "--"); dash >= 0 && dash < len(argv)-1 && (dash == 0 || strings.HasPrefix(argv[0], "-")) {
				// Flags may stand behind the selection too.
				if err := cmd.Flags().Parse(argv[:dash]); err != nil {
					return wrongUse("%w; see %s --help", err, cmd.CommandPath())
				}
				argv = argv[dash+1:]
			}
			lab, err := a.pick(cmd.Context(), named)
			if err != nil {
				return err
			}
			nodes, err := a.selectNodes(lab, args[0])
			if err != nil {
				return err
			}
			if len(nodes) == 1 && !asJSON {
				return a.attach(cmd.Context(), lab, nodes[0], agent.Exec{Argv: argv})
			}
			return a.askMany(cmd.Context(), lab, nodes, argv, within, asJSON)
		},
	}
	cmd.Flags().SetInterspersed(false)
	labFlag(cmd, &named)
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON: the groups of answers")
	cmd.Flags().DurationVar(&within, "within", 0, "on many nodes: how long each may take, such as 30s (default: as long as it takes)")
	return cmd
}

// selectNodes gives the nodes that a selection means in a living lab.
func (a *App) selectNodes(lab *client.Lab, text string) ([]string, error) {
	p := a.Station.LivingPlan(lab.Name)
	if p == nil {
		return nil, &exit{ExitUse, fmt.Errorf("%w: %q", client.ErrNoLab, lab.Name)}
	}
	nodes, err := p.Select(text)
	switch {
	case err != nil:
		return nil, &exit{ExitLab, err}
	case len(nodes) == 0:
		return nil, &exit{ExitLab, fmt.Errorf("%q means no node", text)}
	}
	return nodes, nil
}

// slow is after which time a person is told who has not answered yet.
const slow = time.Second

// askMany runs a command on many nodes and compares what they say.
func (a *App) askMany(ctx context.Context, lab *client.Lab, nodes, argv []string, within time.Duration, asJSON bool) error {
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM)
	defer stop()
	if within > 0 {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeoutCause(ctx, within, fmt.Errorf("no answer within %v", within))
		defer cancel()
	}
	began, answered, told := time.Now(), 0, false
	all := lab.Ask(ctx, nodes, agent.Exec{Argv: argv}, func(answers.Answer) {
		answered++
		if a.terminal() && (told || time.Since(began) > slow) && !asJSON {
			told = true
			fmt.Fprintf(a.Err, "\r%d of %d answered ", answered, len(nodes))
		}
	})
	if told {
		fmt.Fprint(a.Err, "\r\x1b[K")
	}
	for i := range all {
		if all[i].Failed != "" && ctx.Err() != nil {
			all[i].Failed = context.Cause(ctx).Error()
		}
	}
	groups := answers.Compare(all)
	if asJSON {
		if err := a.printJSON(groups); err != nil {
			return err
		}
	} else {
		a.writeAnswers(groups)
	}
	if worst := answers.Worst(all); worst != 0 {
		return &exit{worst, nil}
	}
	return nil
}

func (a *App) writeAnswers(groups []answers.Group) {
	for i, g := range groups {
		if i > 0 {
			fmt.Fprintln(a.Out)
		}
		nodes := fmt.Sprintf("%d nodes", len(g.Nodes))
		if len(g.Nodes) == 1 {
			nodes = "1 node"
		}
		how := fmt.Sprintf("exit code %d", g.Exit)
		if g.Failed != "" {
			how = clean(g.Failed)
		}
		fmt.Fprintf(a.Out, "%s, %s: %s\n", nodes, how, plan.Short(g.Nodes))
		for _, l := range g.Lines {
			sign := map[answers.Mark]string{answers.Own: "+ ", answers.Lacks: "- "}[l.Mark]
			fmt.Fprintf(a.Out, "  %-2s%s\n", sign, clean(l.Text))
		}
	}
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
