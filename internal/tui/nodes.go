package tui

import (
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"kettlehole/internal/agent"
	"kettlehole/internal/api"
	"kettlehole/internal/draw"
	"kettlehole/internal/labfile"
	"kettlehole/internal/plan"
	"kettlehole/internal/tui/cell"
)

// nodesView lists the nodes by group, beside one node in depth.
type nodesView struct {
	list      list
	rows      []int // the row of each node when last drawn
	marked    map[string]bool
	commands  []string // that were run, the newest last
	asked     *asked   // nil while no answers are shown
	pane      *pane    // nil while no shell is shown
	paneSized bool     // the pane's shell knows its size
}

var _ view = (*nodesView)(nil)

func (*nodesView) name() string { return "nodes" }

// listWidth is the width of the list of nodes.
const listWidth = 58

// node gives the chosen node.
func (v *nodesView) node(w *world) (api.Node, bool) {
	p := w.plan()
	if p == nil || len(p.Nodes) == 0 {
		return api.Node{}, false
	}
	v.list.move(0, len(p.Nodes))
	return w.node(p.Nodes[v.list.chosen].Name), true
}

func (v *nodesView) draw(w *world, g *cell.Grid) {
	n, ok := v.node(w)
	if !ok {
		g.Text(2, 1, w.text().Strong(), "There are no nodes.")
		return
	}
	width := min(listWidth, g.Width)
	deep := g.Width >= 110
	if deep {
		for y := range g.Height {
			g.Text(width, y, w.faint(), "│")
		}
		right := cell.New(g.Width-width-3, g.Height)
		v.drawSide(w, right, n)
		g.Draw(width+2, 0, right)
	}
	left := cell.New(width, g.Height)
	if !deep {
		// A narrow screen has one node in depth below the list.
		half := g.Height / 2
		left = cell.New(g.Width, half)
		below := cell.New(g.Width-2, g.Height-half-1)
		v.drawSide(w, below, n)
		g.Line(0, half, g.Width, w.faint(), "─")
		g.Draw(1, half+1, below)
	}
	v.drawList(w, left)
	g.Draw(0, 0, left)
}

// drawSide draws what stands beside the list: a shell, what nodes answered, or
// the chosen node.
func (v *nodesView) drawSide(w *world, g *cell.Grid, n api.Node) {
	switch {
	case v.pane != nil:
		v.drawPane(w, g)
	case v.asked != nil:
		v.drawAnswers(w, g)
	default:
		v.drawDeep(w, g, n)
	}
}

// listRow is a line of the list: a group's heading, or a node.
type listRow struct {
	group string
	node  int // -1 for a heading
}

func (v *nodesView) drawList(w *world, g *cell.Grid) {
	p := w.plan()
	var rows []listRow
	chosen := 0
	for i, n := range p.Nodes {
		if n.Index == 1 {
			if i > 0 {
				rows = append(rows, listRow{"", -1})
			}
			rows = append(rows, listRow{n.Group, -1})
		}
		if i == v.list.chosen {
			chosen = len(rows)
		}
		rows = append(rows, listRow{"", i})
	}
	room := max(g.Height-3, 1)
	v.list.top = max(min(v.list.top, chosen-1), chosen-room+1, 0)
	v.rows = make([]int, len(p.Nodes))
	for i := range v.rows {
		v.rows[i] = -1
	}
	graphWidth := g.Width - 40
	for i, row := range rows[v.list.top:] {
		y := 1 + i
		if i >= room {
			break
		}
		if row.node < 0 {
			v.drawHeading(w, g, y, p, row.group)
			continue
		}
		v.rows[row.node] = y
		n := p.Nodes[row.node]
		state := w.node(n.Name)
		if row.node == v.list.chosen {
			g.Fill(0, y, g.Width, 1, w.theme.Chosen)
		}
		level, style := w.level(state.State)
		g.Text(2, y, style, level)
		if v.marked[n.Name] {
			g.Text(0, y, w.key(), "▸")
		}
		g.Clip(4, y, 15, w.text().Strong(), n.Name)
		g.Clip(20, y, 7, w.dim(), shortAddress(n))
		if w.lives() {
			if api.Runs(state.State) {
				graph(g, 28, y, graphWidth, cell.Fore(w.theme.Ice), w.cpu[n.Name])
			}
			if state.Memory > 0 {
				g.Right(g.Width-1, y, w.text(), labfile.Bytes(state.Memory).String())
			} else {
				g.Right(g.Width-1, y, style, state.State)
			}
		}
	}
	if w.lives() && g.Height > 12 {
		y := g.Height - 1
		g.Text(28, y, w.faint(), "cpu")
		g.Right(g.Width-1, y, w.faint(), "memory")
	}
}

func (v *nodesView) drawHeading(w *world, g *cell.Grid, y int, p *plan.Plan, group string) {
	if group == "" {
		return
	}
	ready, all := 0, 0
	for _, n := range p.Nodes {
		if n.Group == group {
			all++
			if w.node(n.Name).State == api.Ready {
				ready++
			}
		}
	}
	x := g.Text(2, y, w.dim(), group)
	words := count(all, "node")
	if w.lives() {
		words = fmt.Sprintf("%d of %d ready", ready, all)
	}
	x = g.Text(x+3, y, w.faint(), words)
	if words, well := frontsOf(w, group); words != "" && w.lives() {
		style := w.faint()
		if !well {
			style = cell.Fore(w.theme.Ochre)
		}
		g.Clip(x+3, y, g.Width-x-4, style, words)
	}
}

func shortAddress(n plan.Node) string {
	if len(n.Taps) == 0 {
		return ""
	}
	text := n.Address().String()
	return text[strings.LastIndexByte(text, '.'):]
}

func (v *nodesView) drawDeep(w *world, g *cell.Grid, n api.Node) {
	p := w.plan()
	planned, _ := p.Node(n.Name)
	x := g.Text(0, 1, w.text().Strong(), n.Name)
	_, style := w.level(n.State)
	x = g.Text(x+3, 1, style, n.State)
	if last := n.Marks[max(len(n.Marks)-1, 0):]; len(last) > 0 && last[0].State == n.State && w.lives() {
		x = g.Text(x+1, 1, w.dim(), "for "+draw.Age(w.now.Add(-w.skew).Sub(last[0].At)))
	}
	g.Text(x+3, 1, w.dim(), "container on image "+planned.Image)
	y := 2
	for _, line := range wrap(n.Reason, g.Width-12) {
		if line != "" {
			g.Text(12, y, style, line)
			y++
		}
	}
	y = max(y, 3)
	fact := func(name string, draw func(x int) int) {
		g.Text(0, y, w.dim(), name)
		draw(12)
		y++
	}
	for i, tap := range planned.Taps {
		name := ""
		if i == 0 {
			name = "addresses"
		}
		fact(name, func(x int) int {
			x = g.Text(x, y, w.text(), tap.Network)
			x = g.Text(x+1, y, w.text().Strong(), plan.Words(tap.Addresses()))
			if i == 0 {
				x = g.Text(x+3, y, w.dim(), "identity")
			}
			return x
		})
	}
	fact("names", func(x int) int {
		x = g.Text(x, y, w.text(), n.Name)
		return g.Clip(x+3, y, g.Width-x-3, w.text(), fmt.Sprintf("%s.%s.internal", n.Name, p.Lab))
	})
	y = v.drawFronts(w, g, y, n.Name)
	y = v.drawWays(w, g, y, n.Name)
	runs := w.lives() && api.Runs(n.State)
	if runs || !w.lives() {
		fact("get in", func(x int) int {
			x = g.Text(x, y, w.text(), "ssh "+n.Name+"."+p.Lab)
			x = g.Text(x+3, y, w.dim(), "or")
			x = g.Text(x+1, y, w.key(), "!")
			return g.Text(x+1, y, w.dim(), "here")
		})
	}
	y++
	if !runs {
		fact("may use", func(x int) int {
			return g.Text(x, y, w.text(), fmt.Sprintf("%s, %s of memory", coresOf(planned), planned.Memory))
		})
		return
	}
	graphWidth := max(g.Width-12-24, 10)
	g.Text(0, y, w.dim(), "cpu")
	graph(g, 12, y, graphWidth, cell.Fore(w.theme.Ice), w.cpu[n.Name])
	g.Text(12+graphWidth+2, y, w.text(), fmt.Sprintf("%.0f%% of %s", 100*n.CPU, coresOf(planned)))
	y++
	g.Text(0, y, w.dim(), "memory")
	graph(g, 12, y, graphWidth, cell.Fore(w.theme.Ice), w.memory[n.Name])
	g.Text(12+graphWidth+2, y, w.text(), fmt.Sprintf("%s of %s", labfile.Bytes(n.Memory), planned.Memory))
	y += 2
	v.drawServices(w, g, y, n)
}

func coresOf(n plan.Node) string {
	if n.CPU == 1000 {
		return "1 core"
	}
	return n.CPU.String() + " cores"
}

func (v *nodesView) drawServices(w *world, g *cell.Grid, y int, n api.Node) {
	if len(n.Services) == 0 {
		g.Text(0, y, w.dim(), "services")
		g.Text(12, y, w.dim(), "none")
		return
	}
	for i, s := range n.Services {
		if i == 0 {
			g.Text(0, y, w.dim(), "services")
		}
		x := g.Text(12, y, w.text().Strong(), s.Service)
		g.Clip(x+2, y, g.Width-x-2, w.serviceStyle(s), serviceWords(w, s))
		y++
		if i > 0 {
			continue
		}
		lines := w.output
		room := g.Height - y - 1 - len(n.Services)
		for _, line := range lines[max(0, len(lines)-max(room, 0)):] {
			stamp := ""
			if !line.at.IsZero() {
				stamp = line.at.Local().Format("15:04:05")
			}
			g.Text(2, y, w.faint(), stamp)
			g.Clip(12, y, g.Width-12, w.text(), line.text)
			y++
		}
	}
}

func (w *world) serviceStyle(s agent.Status) cell.Style {
	switch s.State {
	case "running":
		return cell.Fore(w.theme.Moss)
	case "pausing":
		return cell.Fore(w.theme.Brick)
	}
	return w.dim()
}

func serviceWords(w *world, s agent.Status) string {
	for_ := draw.Age(w.now.Add(-w.skew).Sub(time.UnixMilli(s.Since)))
	switch s.State {
	case "running":
		return fmt.Sprintf("running for %s, started %s", for_, times(s.Starts))
	case "pausing":
		return "will be started again; it " + s.Last
	}
	return s.State
}

func times(n int) string {
	if n == 1 {
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}

func (v *nodesView) press(a *App, key string) (tea.Cmd, bool) {
	n, ok := v.node(&a.world)
	if !ok {
		return nil, false
	}
	if v.asked != nil {
		switch key {
		case "esc":
			v.hideAnswers()
			return nil, true
		case "pgup", "pgdown":
			v.asked.top += step(key, 10)
			return nil, true
		}
	}
	if move := step(key, 10); move != 0 {
		v.list.move(move, len(a.world.plan().Nodes))
		return nil, true
	}
	switch key {
	case "space":
		v.mark(n.Name)
		v.list.move(1, len(a.world.plan().Nodes))
		return nil, true
	case "*":
		v.markAll(&a.world)
		return nil, true
	}
	if !a.world.lives() {
		return nil, false
	}
	switch key {
	case "!", "enter":
		return a.shell(n.Name), true
	case "s":
		return v.openPane(a, n.Name), true
	case "r":
		v.promptCommand(a)
	case "f":
		v.promptForward(a, n.Name)
	case "d":
		v.promptAdded(a, n.Name, "remove forward:", func(name string) tea.Cmd { return v.removeForward(a, name) })
	case "W":
		v.promptAdded(a, n.Name, "write into the lab file:", func(name string) tea.Cmd { return v.writeForward(a, name) })
	default:
		return nil, false
	}
	return nil, true
}

func (v *nodesView) click(a *App, x, y int) tea.Cmd {
	for i, row := range v.rows {
		if row == y && (x < listWidth || a.width < 110) {
			v.list.chosen = i
		}
	}
	return nil
}

func (v *nodesView) wheel(a *App, lines int) {
	if v.asked != nil {
		v.asked.top += lines
		return
	}
	if p := a.world.plan(); p != nil {
		v.list.move(lines/3, len(p.Nodes))
	}
}

func (v *nodesView) keys(w *world) []binding {
	if v.pane != nil {
		return []binding{{"Ctrl+]", "leave the shell; all other keys are its own"}}
	}
	keys := []binding{{"↑↓", "choose a node"}}
	if !w.lives() {
		return append(keys, binding{"p", "provision"}, binding{"q", "leave"})
	}
	if w.rests() {
		return append(keys, w.restKey(), binding{"t", "tear down"}, binding{"q", "leave"})
	}
	if v.asked != nil {
		keys = append(keys, binding{"Esc", "hide the answers"}, binding{"r", "run another command"}, binding{"PgUp PgDn", "scroll them"})
	} else {
		keys = append(keys, binding{"r", "run a command"})
	}
	return append(keys, binding{"Space", "mark it"}, binding{"s", "a shell beside"}, binding{"!", "a shell, full screen"}, binding{"f", "add a forward"},
		binding{"*", "mark all, or none"}, binding{"d", "remove a forward"}, binding{"W", "write one to the file"}, binding{"q", "leave"})
}
