package tui

import (
	"slices"
	"time"

	"kettlehole/internal/api"
	"kettlehole/internal/labfile"
	"kettlehole/internal/ledger"
	"kettlehole/internal/mapping"
	"kettlehole/internal/plan"
	"kettlehole/internal/rehearsal"
	"kettlehole/internal/tui/cell"
	"kettlehole/internal/tui/theme"
	"kettlehole/internal/workstation"
)

// world is everything that views draw from. The app alone changes it.
type world struct {
	theme   theme.Theme
	lab     string          // the open lab's name, "" for none
	file    string          // its lab file, "" where only its name is known
	given   []labfile.Given // values for inputs, the strongest first
	mapping mapping.Result
	mapErr  error
	times   rehearsal.Times  // that are remembered here
	ahead   rehearsal.Result // of a run from nothing, by these times
	state   api.State        // its Phase is "" while the lab does not live
	things  []ledger.Entry
	labs    []labLine
	pulse   workstation.Pulse
	busy    float64 // share of the processors in the last second
	cpu     map[string][]float64
	memory  map[string][]float64
	flows   map[string]*flow // of forwards, by name
	skew    time.Duration    // how far this clock is ahead of the keeper's
	now     time.Time
	output  []logLine // of what is looked at
	beside  besideMsg // of what is looked at beside it
}

// history is how many readings of a node are kept, one a second.
const history = 120

// lives tells whether the open lab has something on this workstation.
func (w *world) lives() bool {
	return w.state.Phase != "" && w.state.Phase != api.PhaseGone && w.state.Plan != nil
}

// rests tells whether the open lab is stopped.
func (w *world) rests() bool { return w.lives() && w.state.Phase == api.PhaseStopped }

// running tells whether a run goes on.
func (w *world) running() bool {
	return w.lives() && w.state.Run.N > 0 && w.state.Run.Outcome == ""
}

// plan is what the lab lives by, or what its file means.
func (w *world) plan() *plan.Plan {
	if w.mapping.Plan != nil {
		return w.mapping.Plan
	}
	return w.state.Plan
}

// node gives the state of a node.
func (w *world) node(name string) api.Node {
	at := slices.IndexFunc(w.state.Nodes, func(n api.Node) bool { return n.Name == name })
	if at < 0 || !w.lives() {
		return api.Node{Name: name, State: api.Absent}
	}
	return w.state.Nodes[at]
}

// ready counts the nodes that are ready.
func (w *world) ready() (ready, all int) {
	for _, n := range w.state.Nodes {
		if n.State == api.Ready {
			ready++
		}
	}
	return ready, len(w.state.Nodes)
}

// elapsed is how long the newest run has taken so far, or took.
func (w *world) elapsed() time.Duration {
	run := w.state.Run
	if run.N == 0 {
		return 0
	}
	end := run.Ended
	if end.IsZero() {
		end = w.now.Add(-w.skew)
	}
	return max(end.Sub(run.Started), 0)
}

// remember keeps the readings of nodes for the graphs.
func (w *world) remember() {
	if w.cpu == nil || !w.lives() {
		w.cpu, w.memory = map[string][]float64{}, map[string][]float64{}
	}
	for _, n := range w.state.Nodes {
		if n.Memory == 0 {
			continue
		}
		w.cpu[n.Name] = keep(w.cpu[n.Name], n.CPU)
		planned, _ := w.state.Plan.Node(n.Name)
		w.memory[n.Name] = keep(w.memory[n.Name], float64(n.Memory)/float64(max(planned.Memory, 1)))
	}
}

func keep(all []float64, next float64) []float64 {
	all = append(all, next)
	return all[max(0, len(all)-history):]
}

// Styles by meaning.
func (w *world) text() cell.Style  { return cell.Fore(w.theme.Text) }
func (w *world) dim() cell.Style   { return cell.Fore(w.theme.Dim) }
func (w *world) faint() cell.Style { return cell.Fore(w.theme.Faint) }
func (w *world) key() cell.Style   { return cell.Fore(w.theme.Motion).Strong() }

// level is the rising level of a node and its colour.
func (w *world) level(state string) (string, cell.Style) {
	switch state {
	case api.Creating:
		return "▁", cell.Fore(w.theme.Motion)
	case api.Booting:
		return "▃", cell.Fore(w.theme.Motion)
	case api.Provisioning:
		return "▅", cell.Fore(w.theme.Motion)
	case api.Ready:
		return "█", cell.Fore(w.theme.Moss)
	case api.Failed:
		return "✕", cell.Fore(w.theme.Brick)
	case api.Stopped:
		return "▢", w.dim()
	case api.Lost:
		return "?", cell.Fore(w.theme.Brick)
	}
	return "·", w.dim()
}

// eighths are the levels of a meter of one cell.
var eighths = []string{" ", "▁", "▂", "▃", "▄", "▅", "▆", "▇", "█"}

// meter is one cell filled by a share from 0 to 1.
func meter(share float64) string {
	at := int(share*8 + 0.5)
	return eighths[min(max(at, 0), 8)]
}

// graph draws the last readings, the newest at the right, at least the lowest
// level where there is any reading.
func graph(g *cell.Grid, x, y, width int, style cell.Style, readings []float64) {
	readings = readings[max(0, len(readings)-width):]
	for i, share := range readings {
		g.Text(x+width-len(readings)+i, y, style, eighths[min(max(int(share*8+0.5), 1), 8)])
	}
}

// bar draws a share of width cells, the rest shaded.
func (w *world) bar(g *cell.Grid, x, y, width int, style cell.Style, share float64) {
	full := min(max(int(share*float64(width)+0.5), 0), width)
	if share > 0 {
		full = max(full, 1)
	}
	g.Line(x, y, full, style, "█")
	g.Line(x+full, y, width-full, w.faint(), "░")
}

// difference is what a run would change of the living lab.
func (w *world) difference() []plan.Change {
	if w.mapping.Living == nil || w.mapping.Plan == nil {
		return nil
	}
	return plan.Difference(w.mapping.Living, w.mapping.Plan)
}
