package rehearsal

import (
	"slices"
	"time"

	"kettlehole/internal/ledger"
	"kettlehole/internal/plan"
	"kettlehole/internal/schedule"
)

// Times is how long things took before, by their kind ([plan.Likeness]).
type Times map[string][]ledger.Took

// Times of things that were never seen.
const (
	guessWork   = time.Second
	guessWait   = time.Second
	guessNode   = 20 * time.Millisecond
	guessGround = 100 * time.Millisecond
)

// of gives the middle of what was seen, false where nothing was.
func (t Times) of(key string) (ledger.Took, bool) {
	all := t[key]
	if len(all) == 0 {
		return ledger.Took{}, false
	}
	return ledger.Took{Work: middle(all, func(o ledger.Took) time.Duration { return o.Work }), Wait: middle(all, func(o ledger.Took) time.Duration { return o.Wait })}, true
}

func middle(all []ledger.Took, of func(ledger.Took) time.Duration) time.Duration {
	times := make([]time.Duration, len(all))
	for i, one := range all {
		times[i] = of(one)
	}
	slices.Sort(times)
	return times[len(times)/2]
}

// work is what is known or guessed of every cell of a plan.
type work struct {
	took    []ledger.Took
	guessed []bool
}

// works looks up the time of every cell. seen are times of this very run by
// the name of the step, which count where nothing else is known; may be nil.
func works(p *plan.Plan, g *schedule.Graph, times Times, seen Times) work {
	w := work{make([]ledger.Took, len(g.Cells)), make([]bool, len(g.Cells))}
	nodes := map[string]plan.Node{}
	for _, n := range p.Nodes {
		nodes[n.Name] = n
	}
	type kind struct{ step, group string }
	known := map[kind]ledger.Took{}
	guess := map[kind]bool{}
	i := 0
	for _, s := range p.Steps {
		for _, name := range s.Nodes {
			node := nodes[name]
			if s.Shared {
				node = nodes[s.Nodes[0]] // done once for all
			}
			of := kind{s.Name, node.Group} // the nodes of a group are alike
			if _, is := known[of]; !is {
				took, found := times.of(plan.Likeness(s, node))
				if !found {
					took, found = seen.of(s.Name)
				}
				if !found {
					if s.Script != "" {
						took.Work = guessWork
					}
					if s.Wait != nil {
						took.Wait = guessWait
					}
				}
				known[of], guess[of] = took, !found && took != ledger.Took{}
			}
			w.took[i], w.guessed[i] = known[of], guess[of]
			i++
		}
	}
	return w
}

// raising says when the i-th node is there for its steps: nodes are made one
// after the other.
func (t Times) raising() (ground, node time.Duration, guessed bool) {
	first, known := t.of(plan.GroundLikeness)
	each, knownEach := t.of(plan.NodeLikeness)
	if !known {
		first.Work = guessGround
	}
	if !knownEach {
		each.Work = guessNode
	}
	return first.Work, each.Work, !known || !knownEach
}
