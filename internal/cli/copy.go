package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"kettlehole/internal/bundle"
	"kettlehole/internal/client"
	"kettlehole/internal/labfile"
)

func (a *App) copyCommand() *cobra.Command {
	var named string
	cmd := &cobra.Command{
		Use:   "copy SOURCE... TARGET",
		Short: "Copy files and folders to nodes or from them",
		Long: `Copy copies files and whole folders to nodes, or from them. The side with a
colon is the lab's: SELECTION:PATH, where the selection may mean many nodes and
a relative path begins in /root.

A target that is a folder, or ends with a slash, takes what comes under its own
name; any other is the new name. From several nodes, what comes from each goes
into a folder of its name. Symbolic links stay links, holes stay holes, and
nothing is written outside of the target.`,
		Example: "  kettlehole copy settings.conf council:/etc/\n  kettlehole copy ./site gate-1:/srv/www\n  kettlehole copy council:/var/log/kettlehole/ logs/\n  kettlehole copy council-1:/root/state.json .",
		Args:    cobra.MinimumNArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			lab, err := a.pick(cmd.Context(), named)
			if err != nil {
				return err
			}
			ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt, syscall.SIGTERM)
			defer stop()
			return a.copy(ctx, lab, args[:len(args)-1], args[len(args)-1])
		},
	}
	labFlag(cmd, &named)
	return cmd
}

// place is one side of a copy. A path of this machine has no selection.
type place struct{ selection, path string }

// parsePlace takes what stands before a colon for a selection, unless it is
// written as a path.
func parsePlace(text string) place {
	selection, name, found := strings.Cut(text, ":")
	if !found || strings.ContainsAny(selection, "/\\") || selection == "" {
		return place{path: text}
	}
	return place{selection, name}
}

func (a *App) copy(ctx context.Context, lab *client.Lab, sources []string, target string) error {
	to := parsePlace(target)
	var from []place
	for _, text := range sources {
		one := parsePlace(text)
		if (one.selection != "") == (to.selection != "") {
			return wrongUse("one side of a copy is the lab's, written SELECTION:PATH, and the other this machine's; see kettlehole copy --help")
		}
		from = append(from, one)
	}
	if to.selection != "" {
		return a.copyIn(ctx, lab, sources, to)
	}
	return a.copyOut(ctx, lab, from, target)
}

// copyIn copies paths of this machine to nodes, all at once.
func (a *App) copyIn(ctx context.Context, lab *client.Lab, sources []string, to place) error {
	nodes, err := a.selectNodes(lab, to.selection)
	if err != nil {
		return err
	}
	if to.path == "" {
		to.path = "./"
	}
	for i := range sources {
		if sources[i], err = filepath.Abs(sources[i]); err != nil {
			return err
		}
		if _, err := os.Stat(sources[i]); err != nil {
			return &exit{ExitUse, fmt.Errorf("there is no %s here", sources[i])}
		}
	}
	c := a.newCopying()
	var busy sync.WaitGroup
	for _, node := range nodes {
		busy.Go(func() {
			count, err := lab.Agent(node).Take(ctx, sources, to.path, false, c.progress)
			c.ended(node, count, err)
		})
	}
	busy.Wait()
	return c.report()
}

// copyOut copies paths of nodes to this machine.
func (a *App) copyOut(ctx context.Context, lab *client.Lab, from []place, target string) error {
	paths := map[string][]string{}
	var order []string
	for _, one := range from {
		nodes, err := a.selectNodes(lab, one.selection)
		if err != nil {
			return err
		}
		if one.path == "" {
			return wrongUse("write which file of %s, as in %s:/etc/hosts", one.selection, one.selection)
		}
		for _, node := range nodes {
			if paths[node] == nil {
				order = append(order, node)
			}
			paths[node] = append(paths[node], one.path)
		}
	}
	c := a.newCopying()
	var busy sync.WaitGroup
	for _, node := range order {
		busy.Go(func() {
			own, several := target, len(paths[node]) > 1
			if len(order) > 1 {
				own = path.Join(target, node) + "/"
			}
			into, rename, err := bundle.Open(own, several)
			if err != nil {
				c.ended(node, bundle.Count{}, err)
				return
			}
			defer into.Close()
			count, err := lab.Agent(node).Fetch(ctx, paths[node], into, rename, c.progress)
			c.ended(node, count, err)
		})
	}
	busy.Wait()
	return c.report()
}

// copying is a copy that goes on, to or from several nodes.
type copying struct {
	app   *App
	began time.Time

	mu    sync.Mutex
	bytes int64
	shown time.Time
	total bundle.Count
	wrong []string
}

func (a *App) newCopying() *copying { return &copying{app: a, began: time.Now()} }

// showEvery is how often a person is told how far a long copy is.
const showEvery = 200 * time.Millisecond

func (c *copying) progress(bytes int64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.bytes += bytes
	if now := time.Now(); now.Sub(c.began) > slow && now.Sub(c.shown) > showEvery && c.app.terminal() {
		c.shown = now
		fmt.Fprintf(c.app.Err, "\r%s copied, %s a second \x1b[K", labfile.Bytes(c.bytes), labfile.Bytes(float64(c.bytes)/now.Sub(c.began).Seconds()))
	}
}

func (c *copying) ended(node string, count bundle.Count, err error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.total.Files += count.Files
	c.total.Bytes += count.Bytes
	c.total.Left = append(c.total.Left, count.Left...)
	if err != nil {
		c.wrong = append(c.wrong, fmt.Sprintf("%s: %s", node, clean(nodeError(err).Error())))
	}
}

func (c *copying) report() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if !c.shown.IsZero() {
		fmt.Fprint(c.app.Err, "\r\x1b[K")
	}
	slices.Sort(c.total.Left)
	for _, left := range slices.Compact(c.total.Left) {
		fmt.Fprintf(c.app.Err, "left out, being neither file nor folder nor link: %s\n", clean(left))
	}
	if len(c.wrong) > 0 {
		slices.Sort(c.wrong)
		return &exit{ExitLab, errors.New(strings.Join(c.wrong, "\nkettlehole: "))}
	}
	files := "files"
	if c.total.Files == 1 {
		files = "file"
	}
	fmt.Fprintf(c.app.Out, "%d %s, %s, in %.2f s\n", c.total.Files, files, labfile.Bytes(c.total.Bytes), time.Since(c.began).Seconds())
	return nil
}
