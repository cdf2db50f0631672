// Package rehearsal is the substrate that makes nothing: it lays a whole run
// on virtual time, from what is remembered of how long things take. It also
// says when a run that goes on will end. It is pure.
package rehearsal

import (
	"fmt"
	"time"

	"kettlehole/internal/api"
	"kettlehole/internal/labfile"
	"kettlehole/internal/plan"
	"kettlehole/internal/schedule"
	"kettlehole/internal/workstation"
)

// Room is a workstation that has room for every lab, and nothing on it. It is
// not changed.
var Room = workstation.Facts{Cores: 1 << 10, MemoryTotal: 1 << 50, MemoryAvailable: 1 << 50, DiskFree: 1 << 50, Root: true}

// Fault makes the script of a step fail on a node.
type Fault struct {
	Cell  schedule.Cell
	Times int // the first tries, -1 for all
}

// Drag makes a step take longer on a node, or shorter.
type Drag struct {
	Cell   schedule.Cell
	Factor float64
}

// Request says what to rehearse.
type Request struct {
	Plan   *plan.Plan
	Graph  *schedule.Graph
	Times  Times
	Faults []Fault
	Drags  []Drag
	Start  time.Time // what the virtual clock shows at first
}

// Result is how the run would go.
type Result struct {
	State   api.State       // at its end, as of a run that was
	Took    time.Duration   // in all
	Chain   []schedule.Cell // what makes it take that long
	Guessed []string        // steps whose times nobody knows yet, and that were taken to last a second
	// Peak is the memory that the nodes may take together, reached when the
	// last one is there, at PeakAt after the start.
	Peak   labfile.Bytes
	PeakAt time.Duration
}

// Rehearse goes through the run. An error names a fault or a drag that is
// about no step of the plan.
func Rehearse(want Request) (Result, error) {
	g, p := want.Graph, want.Plan
	fails, factor := map[int]int{}, map[int]float64{}
	for _, f := range want.Faults {
		i, err := find(g, p, f.Cell)
		if err != nil {
			return Result{}, err
		}
		fails[i] = f.Times
	}
	for _, d := range want.Drags {
		i, err := find(g, p, d.Cell)
		if err != nil {
			return Result{}, err
		}
		factor[i] = d.Factor
	}
	w := works(p, g, want.Times, nil)
	ground, each, guessed := want.Times.raising()
	there := map[string]time.Duration{}
	for i, n := range p.Nodes {
		there[n.Name] = ground + time.Duration(i+1)*each
	}
	built, whole := sharedTimes(p, g, w, factor)
	ground += whole
	for name := range there {
		there[name] += whole
	}
	steps := stepsOf(p)
	course := g.Course(schedule.Given{
		Node:   func(name string) time.Duration { return there[name] },
		AtOnce: func(name string) int { return steps[name].AtOnce },
		Act: func(i int) schedule.Act {
			if steps[g.Cells[i].Step].Shared {
				return schedule.Act{} // it is there when the node is
			}
			act := schedule.Act{Work: w.took[i].Work, Wait: w.took[i].Wait, Fails: fails[i]}
			if f, is := factor[i]; is {
				act.Work, act.Wait = time.Duration(f*float64(act.Work)), time.Duration(f*float64(act.Wait))
			}
			if retry := steps[g.Cells[i].Step].Retry; retry != nil {
				act.Retries, act.Pause = retry.Times, time.Duration(retry.Pause)
			}
			return act
		},
	})
	r := Result{Took: course.Ends, PeakAt: ground + time.Duration(len(p.Nodes))*each, Peak: p.Fit.Memory}
	r.Took = max(r.Took, r.PeakAt)
	for _, i := range course.Chain {
		r.Chain = append(r.Chain, g.Cells[i])
	}
	if guessed {
		r.Guessed = append(r.Guessed, "nodes")
	}
	for i, c := range g.Cells {
		if w.guessed[i] && (len(r.Guessed) == 0 || r.Guessed[len(r.Guessed)-1] != c.Step) {
			r.Guessed = append(r.Guessed, c.Step)
		}
	}
	r.State = picture(want, course, there, ground, each, r.Took)
	for i, span := range built {
		c := &r.State.Cells[i]
		c.State, c.Started, c.Ended = api.Done, want.Start.Add(span.Begins), want.Start.Add(span.Ends)
	}
	return r, nil
}

// sharedTimes gives when shared steps are done, one after the other before the
// first node is made, each at its first cell, and how long all take. A layer
// that is at hand would take no time; a rehearsal begins with none.
func sharedTimes(p *plan.Plan, g *schedule.Graph, w work, factor map[int]float64) (map[int]schedule.Span, time.Duration) {
	built := map[int]schedule.Span{}
	at := time.Duration(0)
	for _, s := range p.Steps {
		if !s.Shared || len(s.Nodes) == 0 {
			continue
		}
		i, _ := g.Index(schedule.Cell{Step: s.Name, Node: s.Nodes[0]})
		took := w.took[i].Work
		if f, is := factor[i]; is {
			took = time.Duration(f * float64(took))
		}
		built[i] = schedule.Span{Stage: schedule.Done, Begins: at, Ends: at + took}
		at += took
	}
	return built, at
}

func stepsOf(p *plan.Plan) map[string]plan.Step {
	steps := map[string]plan.Step{}
	for _, s := range p.Steps {
		steps[s.Name] = s
	}
	return steps
}

// find gives the place of a cell in the graph.
func find(g *schedule.Graph, p *plan.Plan, c schedule.Cell) (int, error) {
	if i, is := g.Index(c); is {
		return i, nil
	}
	if _, is := p.Node(c.Node); !is {
		return 0, fmt.Errorf("there is no node %q", c.Node)
	}
	if _, is := stepsOf(p)[c.Step]; !is {
		return 0, fmt.Errorf("there is no step %q", c.Step)
	}
	return 0, fmt.Errorf("step %q does not run on node %q", c.Step, c.Node)
}

// picture is the state that a keeper would show at the end of such a run.
func picture(want Request, course schedule.Course, there map[string]time.Duration, ground, each, took time.Duration) api.State {
	g, p := want.Graph, want.Plan
	at := func(d time.Duration) time.Time { return want.Start.Add(d) }
	s := api.State{Lab: p.Lab, File: p.File, Phase: api.PhaseLiving, Created: want.Start, Plan: p, Now: at(took),
		Run: api.Run{N: 1, Started: want.Start, Ended: at(took), Outcome: api.OutcomeDone, Rehearsed: true}}
	failed := func(i int) string {
		if course.Spans[i].Stage == schedule.Failed {
			return g.Cells[i].String() + " failed"
		}
		return ""
	}
	steps := stepsOf(p)
	blocked := g.Blocked(failed, func(int) string { return "" })
	s.Cells = make([]api.Cell, 0, len(g.Cells))
	ready, broken := map[string]time.Duration{}, map[string]string{}
	for i, c := range g.Cells {
		span := course.Spans[i]
		one := api.Cell{Step: c.Step, Node: c.Node, State: api.Waiting, Reason: blocked[i]}
		switch {
		case steps[c.Step].Shared && span.Stage == schedule.Done:
			one.State, one.Run, one.Layer = api.Reused, 1, "rehearsed"
			ready[c.Node] = max(ready[c.Node], span.Ends)
		case span.Stage == schedule.Done, span.Stage == schedule.Failed:
			one.State, one.Run, one.Started, one.Ended = api.Done, 1, at(span.Begins), at(span.Ends)
			if span.Waits < span.Ends {
				one.Waiting = at(span.Waits)
			}
			ready[c.Node] = max(ready[c.Node], span.Ends)
			if span.Stage == schedule.Failed {
				one.State, one.Exit, one.Reason = api.Failed, 1, "it was made to fail"
				if span.Tries > 1 {
					one.Reason = fmt.Sprintf("it was made to fail, the last of %d tries", span.Tries)
				}
				broken[c.Node] = c.Step
			}
		}
		if one.State == api.Waiting && broken[c.Node] == "" {
			broken[c.Node] = c.Step
		}
		s.Cells = append(s.Cells, one)
	}
	for i, n := range p.Nodes {
		one := api.Node{Name: n.Name, State: api.Ready, Marks: []api.Mark{{State: api.Creating, At: at(ground + time.Duration(i)*each)}, {State: api.Provisioning, At: at(there[n.Name])}}}
		if step := broken[n.Name]; step != "" {
			one.State = api.Provisioning
			if c, _ := g.Index(schedule.Cell{Step: step, Node: n.Name}); course.Spans[c].Stage == schedule.Failed {
				one.State, one.Reason = api.Failed, fmt.Sprintf("step %s failed", step)
				one.Marks = append(one.Marks, api.Mark{State: api.Failed, At: at(ready[n.Name])})
			}
			s.Run.Outcome = api.OutcomeFailed
		} else {
			one.Marks = append(one.Marks, api.Mark{State: api.Ready, At: at(max(ready[n.Name], there[n.Name]))})
		}
		s.Nodes = append(s.Nodes, one)
	}
	for _, f := range p.Forwards {
		s.Forwards = append(s.Forwards, api.Forward{Forward: f})
	}
	for _, i := range course.Chain {
		s.Run.Chain = append(s.Run.Chain, g.Cells[i])
	}
	return s
}
