package tui

import (
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"kettlehole/internal/api"
	"kettlehole/internal/draw"
	"kettlehole/internal/labfile"
	"kettlehole/internal/mapping"
	"kettlehole/internal/reach"
	"kettlehole/internal/tui/cell"
)

// flow is how much went through a forward in each of the last seconds.
type flow struct {
	last  int64 // bytes so far, in and out
	at    time.Time
	rates []float64 // bytes a second
}

// rate is that of the newest second.
func (f *flow) rate() float64 {
	if f == nil || len(f.rates) == 0 {
		return 0
	}
	return f.rates[len(f.rates)-1]
}

// rememberFlows keeps the rates of forwards for the graphs.
func (w *world) rememberFlows() {
	if w.flows == nil || !w.lives() {
		w.flows = map[string]*flow{}
	}
	for _, f := range w.state.Forwards {
		sum, one := f.In+f.Out, w.flows[f.Name]
		switch {
		case one == nil || sum < one.last:
			w.flows[f.Name] = &flow{last: sum, at: w.now}
		default:
			if passed := w.now.Sub(one.at).Seconds(); passed > 0.2 {
				one.rates = keep(one.rates, float64(sum-one.last)/passed)
				one.last, one.at = sum, w.now
			}
		}
	}
}

// drawWays lists the forwards that lead to a node, and gives the line below.
func (v *nodesView) drawWays(w *world, g *cell.Grid, y int, node string) int {
	name := "leads here"
	for _, f := range w.state.Forwards {
		if f.Node != node || !w.lives() {
			continue
		}
		g.Text(0, y, w.dim(), name)
		name = ""
		protocol := ""
		if f.UDP {
			protocol = "/udp"
		}
		x := g.Text(12, y, w.text().Strong(), f.Listen.String()+protocol)
		x = g.Text(x+2, y, w.dim(), fmt.Sprintf("to %d", f.NodePort))
		x = g.Text(x+2, y, w.text(), f.Name)
		if f.Added {
			x = g.Text(x+2, y, cell.Fore(w.theme.Ochre), "added by hand")
		}
		if w.rests() {
			y++
			continue
		}
		if f.Reason != "" {
			g.Clip(x+2, y, g.Width-x-2, cell.Fore(w.theme.Brick), f.Reason)
		}
		y++
		v.drawFlow(w, g, y, f)
		y++
	}
	return y
}

// drawFlow draws the traffic of a forward, the highest rate as high as a line
// is.
func (v *nodesView) drawFlow(w *world, g *cell.Grid, y int, f api.Forward) {
	one := w.flows[f.Name]
	words := fmt.Sprintf("%s, %d in all, %s", count(f.Open, "connection"), f.Total, labfile.Bytes(f.In+f.Out))
	if rate := one.rate(); rate > 0 {
		words = fmt.Sprintf("%s/s   %s", labfile.Bytes(rate), words)
	}
	width := max(g.Width-12-cell.Width(words)-2, 0)
	if one != nil && width >= 8 {
		highest := 1.0
		for _, r := range one.rates {
			highest = max(highest, r)
		}
		var shares []float64
		for _, r := range one.rates {
			shares = append(shares, r/highest)
		}
		graph(g, 12, y, width, cell.Fore(w.theme.Ice), shares)
	}
	g.Right(g.Width-1, y, w.dim(), words)
}

// drawFronts lists the fronts that a node stands behind.
func (v *nodesView) drawFronts(w *world, g *cell.Grid, y int, node string) int {
	name := "behind"
	for _, f := range w.state.Fronts {
		for _, m := range f.States {
			if m.Node != node || !w.lives() {
				continue
			}
			g.Text(0, y, w.dim(), name)
			name = ""
			x := g.Text(12, y, w.text().Strong(), f.Name)
			x = g.Text(x+2, y, w.dim(), fmt.Sprintf("%s:%d", f.Address.Addr(), f.Port))
			x = drawHealth(w, g, x+2, y, m)
			g.Text(x+2, y, w.dim(), fmt.Sprintf("%s, %d in all", count(m.Open, "connection"), m.Total))
			y++
		}
	}
	return y
}

func drawHealth(w *world, g *cell.Grid, x, y int, m reach.MemberState) int {
	since := draw.Age(w.now.Add(-w.skew).Sub(m.Since))
	if m.Healthy {
		return g.Text(x, y, cell.Fore(w.theme.Moss), "healthy for "+since)
	}
	return g.Text(x, y, cell.Fore(w.theme.Brick), "out for "+since+": "+m.Reason)
}

// frontsOf says in a few words how the fronts of a group are.
func frontsOf(w *world, group string) (words string, well bool) {
	well = true
	var all []string
	for _, f := range w.state.Fronts {
		healthy, mine := 0, false
		for _, m := range f.States {
			if n, ok := w.plan().Node(m.Node); ok && n.Group == group {
				mine = true
				if m.Healthy {
					healthy++
				}
			}
		}
		if mine {
			all = append(all, fmt.Sprintf("front %s %d of %d healthy", f.Name, healthy, len(f.States)))
			well = well && healthy == len(f.States)
		}
	}
	return strings.Join(all, "   "), well
}

// promptForward asks for a way to the chosen node.
func (v *nodesView) promptForward(a *App, node string) {
	a.prompt = &prompt{label: "forward:", text: "auto -> " + node + ":", enter: func(text string) tea.Cmd {
		lab := a.options.Station.Open(a.world.lab)
		return func() tea.Msg {
			added, err := lab.AddForward(a.ctx, api.NewForward{Text: text})
			if err != nil {
				return saidMsg{true, "forward: " + err.Error()}
			}
			return saidMsg{false, fmt.Sprintf("%s leads to %s:%d; W writes it into the lab file", added[0].Listen, added[0].Node, added[0].NodePort)}
		}
	}}
}

// saidMsg is something to say to the person.
type saidMsg struct {
	grave bool
	words string
}

// added lists the forwards that were added, those of the chosen node first.
func (v *nodesView) added(w *world, node string) []string {
	var mine, others []string
	for _, f := range w.state.Forwards {
		name, _, _ := strings.Cut(f.Name, ":")
		switch {
		case !f.Added || slices.Contains(mine, name) || slices.Contains(others, name):
		case f.Node == node:
			mine = append(mine, name)
		default:
			others = append(others, name)
		}
	}
	return append(mine, others...)
}

// promptAdded asks which of the forwards that were added is meant.
func (v *nodesView) promptAdded(a *App, node, label string, do func(name string) tea.Cmd) {
	names := v.added(&a.world, node)
	if len(names) == 0 {
		a.say(false, "no forward was added to this lab; f adds one")
		return
	}
	a.prompt = &prompt{label: label, text: names[0], choices: names, enter: do}
}

func (v *nodesView) removeForward(a *App, name string) tea.Cmd {
	lab := a.options.Station.Open(a.world.lab)
	return func() tea.Msg {
		if err := lab.RemoveForward(a.ctx, name); err != nil {
			return saidMsg{true, "forward: " + err.Error()}
		}
		return saidMsg{false, "forward " + name + " is gone"}
	}
}

func (v *nodesView) writeForward(a *App, name string) tea.Cmd {
	forward, err := a.world.state.Plan.Declared(name)
	if err == nil {
		err = mapping.WriteForward(a.world.state.File, forward)
	}
	if err != nil {
		a.say(true, "forward: %v", err)
		return nil
	}
	a.say(false, "the lab file has it now: %s: %s", forward.Name, forward)
	return nil
}
