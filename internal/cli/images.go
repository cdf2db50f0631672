package cli

import (
	"fmt"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"kettlehole/internal/draw"
	"kettlehole/internal/image"
	"kettlehole/internal/labfile"
)

func (a *App) imagesCommand() *cobra.Command {
	var asJSON, prune, yes bool
	var to string
	cmd := &cobra.Command{
		Use:   "images",
		Short: "List the layers that nodes start as, and remove unused ones",
		Long: `Images lists the layers that are kept on this workstation: those of images, and
those that shared steps left, with their size, their age and the labs that use
them. --prune removes those that no lab uses, the oldest first; with --to only as
many as it takes to come down to that size in all. A layer that was used within
the last minute stays. What is removed is made again when a lab needs it.`,
		Example: "  kettlehole images\n  kettlehole images --json | jq '.[] | select(.users == [])'\n  kettlehole images --prune --to 2G",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			layers, err := a.layers(cmd)
			if err != nil {
				return err
			}
			if !prune {
				if to != "" {
					return wrongUse("--to belongs to --prune")
				}
				if asJSON {
					return a.printJSON(layers)
				}
				return a.writeLayers(layers)
			}
			limit := int64(0)
			if to != "" {
				size, err := labfile.ParseBytes(to)
				if err != nil {
					return wrongUse("--to: %w", err)
				}
				limit = int64(size)
			}
			return a.prune(layers, limit, yes, asJSON)
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	cmd.Flags().BoolVar(&prune, "prune", false, "remove layers that no lab uses, the oldest first")
	cmd.Flags().StringVar(&to, "to", "", "with --prune: stop at this size in all, such as 2G")
	cmd.Flags().BoolVarP(&yes, "yes", "y", false, "with --prune: do not ask")
	return cmd
}

// layer is one layer as data. Size is bytes on disk.
type layer struct {
	Digest string    `json:"digest"`
	Of     string    `json:"of"` // the shared step that left it, or what else it is
	Size   int64     `json:"size"`
	Made   time.Time `json:"made"`
	Users  []string  `json:"users"` // labs
}

// layers lists what is kept, the oldest first.
func (a *App) layers(cmd *cobra.Command) ([]layer, error) {
	kept, err := image.NewStore(a.Station.Home.Images()).List()
	if err != nil {
		return nil, &exit{ExitWorkstation, err}
	}
	users, err := a.Station.LayerUsers(cmd.Context())
	if err != nil {
		return nil, err
	}
	all := []layer{}
	for _, k := range kept {
		of := "an image's own files"
		if k.Step != "" {
			of = fmt.Sprintf("step %s of %s", k.Step, k.Lab)
		}
		one := layer{k.Digest, of, k.Size, k.Made, users[k.Path]}
		if one.Users == nil {
			one.Users = []string{}
		}
		all = append(all, one)
	}
	slices.SortFunc(all, func(x, y layer) int { return x.Made.Compare(y.Made) })
	return all, nil
}

func (a *App) writeLayers(layers []layer) error {
	if len(layers) == 0 {
		fmt.Fprintln(a.Out, "no layer is kept on this workstation")
		return nil
	}
	w := tabwriter.NewWriter(a.Out, 2, 8, 2, ' ', 0)
	fmt.Fprint(w, "layer\tsize\tage\tused by\tof\n")
	total := int64(0)
	for _, l := range layers {
		users := strings.Join(l.Users, ", ")
		if users == "" {
			users = "nobody"
		}
		fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%s\n", short(l.Digest), labfile.Bytes(l.Size), draw.Age(time.Since(l.Made)), users, l.Of)
		total += l.Size
	}
	fmt.Fprintf(w, "in all\t%s\n", labfile.Bytes(total))
	return w.Flush()
}

func short(digest string) string {
	digest = strings.TrimPrefix(digest, "sha256:")
	return digest[:min(len(digest), 12)]
}

// prune removes layers that nobody uses until all take no more than limit.
func (a *App) prune(layers []layer, limit int64, yes, asJSON bool) error {
	total := int64(0)
	for _, l := range layers {
		total += l.Size
	}
	var going []layer
	for _, l := range layers {
		if len(l.Users) == 0 && total > limit {
			going = append(going, l)
			total -= l.Size
		}
	}
	if len(going) > 0 && !yes {
		what := quantity(len(going), "layer") + " that no lab uses"
		if !a.terminal() {
			return wrongUse("--prune removes %s; say --yes if that is meant", what)
		}
		if err := a.ask("This removes " + what + ".\nRemove them?"); err != nil {
			return err
		}
	}
	store := image.NewStore(a.Station.Home.Images())
	removed := []layer{}
	for _, l := range going {
		gone, err := store.Remove(l.Digest)
		if err != nil {
			return &exit{ExitWorkstation, err}
		}
		if gone {
			removed = append(removed, l)
		}
	}
	if asJSON {
		return a.printJSON(removed)
	}
	size := int64(0)
	for _, l := range removed {
		size += l.Size
		fmt.Fprintf(a.Out, "removed %s, %s, %s\n", short(l.Digest), labfile.Bytes(l.Size), l.Of)
	}
	if kept := len(going) - len(removed); kept > 0 {
		fmt.Fprintf(a.Out, "%s in use just now, or a minute ago, and stay\n", quantity(kept, "layer"))
	}
	fmt.Fprintf(a.Out, "%s removed, %s\n", quantity(len(removed), "layer"), labfile.Bytes(size))
	return nil
}
