package run

import (
	"fmt"
	"slices"

	"kettlehole/internal/api"
	"kettlehole/internal/labfile"
	"kettlehole/internal/plan"
	"kettlehole/internal/schedule"
)

// Orders say of every cell of a graph what a person wants with it beyond what
// is due; the zero value wants nothing.
type Orders struct {
	again, skip, out map[int]bool
}

// NewOrders reads what a person wants. An error names what is no step or no
// node of the plan.
func NewOrders(p *plan.Plan, g *schedule.Graph, w api.Ways) (Orders, error) {
	o := Orders{map[int]bool{}, map[int]bool{}, map[int]bool{}}
	cells := func(step string) ([]int, error) {
		at := slices.IndexFunc(p.Steps, func(s plan.Step) bool { return s.Name == step })
		if at < 0 {
			return nil, fmt.Errorf("there is no step %q", step)
		}
		if p.Steps[at].Shared {
			return nil, fmt.Errorf("step %q is shared: what it left is kept, and made anew when the step changes", step)
		}
		var all []int
		for _, node := range p.Steps[at].Nodes {
			i, _ := g.Index(schedule.Cell{Step: step, Node: node})
			all = append(all, i)
		}
		return all, nil
	}
	if w.Only != "" {
		only, err := selected(p, w.Only)
		if err != nil {
			return o, err
		}
		for i, c := range g.Cells {
			o.out[i] = !slices.Contains(only, c.Node)
		}
	}
	for _, name := range w.Again {
		all, err := cells(name)
		if err != nil {
			return o, err
		}
		for _, i := range all {
			o.again[i] = !o.out[i]
		}
	}
	if w.From != "" {
		all, err := cells(w.From)
		if err != nil {
			return o, err
		}
		for _, i := range g.Following(slices.DeleteFunc(all, func(i int) bool { return o.out[i] })) {
			o.again[i] = !o.out[i]
		}
	}
	for _, c := range w.Skip {
		i, is := g.Index(c)
		if !is {
			return o, fmt.Errorf("there is no step %q on a node %q", c.Step, c.Node)
		}
		o.skip[i] = true
	}
	return o, nil
}

// selected gives the nodes of a selection over the nodes of a plan.
func selected(p *plan.Plan, text string) ([]string, error) {
	s, err := labfile.ParseSelection(text)
	if err != nil {
		return nil, err
	}
	var groups []labfile.Group
	for _, n := range p.Nodes {
		if n.Index == 1 {
			groups = append(groups, labfile.Group{Name: n.Group, Count: n.Count})
		}
	}
	return s.Nodes(groups)
}
