package mapping

import (
	"encoding/json"

	"kettlehole/internal/home"
	"kettlehole/internal/ledger"
	"kettlehole/internal/plan"
	"kettlehole/internal/workstation"
	"kettlehole/internal/workstation/survey"
)

// Holds tells what labs hold of the workstation: what their nodes may use, and
// what they use now. One that is stopped keeps its ports, and no memory.
func Holds(labs []ledger.Lab) []workstation.Hold {
	var all []workstation.Hold
	for _, l := range labs {
		var p plan.Plan
		if json.Unmarshal(l.Plan, &p) != nil {
			continue
		}
		hold := workstation.Hold{Lab: l.Name, MemoryUsed: survey.GroupMemory(home.Group(l.ID))}
		for _, n := range p.Nodes {
			if l.State != ledger.Resting {
				hold.MemoryLimit += int64(n.Memory)
			}
		}
		for _, f := range p.Forwards {
			hold.Ports = append(hold.Ports, f.Listen.String())
		}
		if p.Access.IsValid() {
			hold.Ports = append(hold.Ports, p.Access.String())
		}
		all = append(all, hold)
	}
	return all
}
