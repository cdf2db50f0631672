package cli

import (
	"reflect"

	"github.com/spf13/cobra"

	"kettlehole/internal/labfile"
	"kettlehole/internal/labfile/shape"
	"kettlehole/internal/plan"
	"kettlehole/internal/schedule"
)

// PlanDocument is what plan --json prints: version 1. A later version may add
// keys; one that changes or takes away keys has another number.
type PlanDocument struct {
	Version    int              `json:"version"`
	File       string           `json:"file"`
	Findings   labfile.Findings `json:"findings"`
	Inputs     []labfile.Input  `json:"inputs,omitempty"`
	Difference []plan.Change    `json:"difference,omitempty"` // to the living lab; absent where it does not live
	Fit        *plan.Fit        `json:"fit,omitempty"`        // on this workstation at this moment
	Quorums    []plan.Quorum    `json:"quorums,omitempty"`
	Ahead      *Ahead           `json:"ahead,omitempty"`            // how a run from nothing would go here
	Plan       *plan.Plan       `json:"plan" jsonschema:"nullable"` // null where findings hold an error
}

// Ahead is how a run from nothing would go, by what is remembered of how long
// things take here.
type Ahead struct {
	Took    float64         `json:"took"`              // seconds
	Chain   []schedule.Cell `json:"chain"`             // what makes it take that long, first to last
	Guessed []string        `json:"guessed,omitempty"` // steps that were never seen here, taken to last a second
}

func (a *App) schemaCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "schema [lab | plan]",
		Short: "Print the JSON Schema of lab files, for editors",
		Long: `Schema prints a JSON Schema (2020-12). That of lab files gives completion and
explanations in editors; that of a plan describes what plan --json prints.`,
		Example:   "  kettlehole schema > lab.schema.json\n  kettlehole schema plan",
		Args:      cobra.MatchAll(cobra.MaximumNArgs(1), cobra.OnlyValidArgs),
		ValidArgs: []string{"lab", "plan"},
		RunE: func(_ *cobra.Command, args []string) error {
			text := shape.Schema()
			if first(args) == "plan" {
				text = shape.SchemaOf(reflect.TypeFor[PlanDocument](), "Kettlehole plan, version 1")
			}
			_, err := a.Out.Write(text)
			return err
		},
	}
}
