package tui

import (
	"fmt"
	"strings"

	"kettlehole/internal/draw"
	"kettlehole/internal/labfile"
	"kettlehole/internal/plan"
	"kettlehole/internal/tui/cell"
)

// planView shows what the lab file means: the section, whether it fits, the
// order of the steps, and what there is to say.
type planView struct {
	items list // inputs, then findings
	pan   int  // columns of the section that are left out at the left
	// typing is what a person types for the chosen input; nil while nobody does.
	typing *string
	spots  []spot
}

// spot is a place that a click means something in.
type spot struct {
	y, from, until int
	item           int // in the list
	low, high      float64
	scale          bool // a click between from and until chooses between low and high
}

var _ view = (*planView)(nil)

func (*planView) name() string { return "plan" }

// sideWidth is the width of the right-hand side.
const sideWidth = 52

func (v *planView) draw(w *world, g *cell.Grid) {
	v.spots = nil
	v.items.move(0, len(w.inputs())+len(w.mapping.Findings))
	switch {
	case w.file == "" && w.plan() == nil:
		g.Text(2, 1, w.text().Strong(), "No lab file is open.")
		x := g.Text(2, 3, w.dim(), "Leave with q and name one:  ")
		g.Text(x, 3, w.text(), "kettlehole FILE")
		return
	case w.mapErr != nil:
		g.Text(2, 1, cell.Fore(w.theme.Brick), "The lab file cannot be read.")
		for i, line := range wrap(w.mapErr.Error(), g.Width-4) {
			g.Text(2, 3+i, w.text(), line)
		}
		return
	}
	side := sideWidth
	if g.Width < 110 {
		side = 0
	}
	width := g.Width - side
	p := w.plan()
	y := 1
	if p != nil {
		y = v.drawSection(w, g, p, width-2)
	} else if side > 0 {
		v.drawSource(w, g, width-2)
	}
	if side > 0 {
		for row := range g.Height {
			g.Text(width, row, w.faint(), "│")
		}
		right := cell.New(side-3, g.Height)
		v.drawSide(w, right, p)
		g.Draw(width+2, 0, right)
		for i := range v.spots {
			v.spots[i].from, v.spots[i].until = v.spots[i].from+width+2, v.spots[i].until+width+2
		}
	}
	if side == 0 && len(w.mapping.Findings)+len(w.inputs()) > 0 {
		below := cell.New(g.Width-4, g.Height-y)
		v.drawFindings(w, below, v.drawInputs(w, below, 0), below.Height)
		g.Draw(2, y, below)
		for i := range v.spots {
			v.spots[i].y, v.spots[i].from, v.spots[i].until = v.spots[i].y+y, v.spots[i].from+2, v.spots[i].until+2
		}
		return
	}
	if p != nil && y+3 < g.Height {
		g.Line(0, y, width, w.faint(), "─")
		below := cell.New(width-3, g.Height-y-1)
		v.drawOrder(w, below, p)
		g.Draw(1, y+1, below)
	}
}

// drawSource shows the lab file around the chosen finding, where there is no
// plan to draw.
func (v *planView) drawSource(w *world, g *cell.Grid, width int) {
	all := w.mapping.Findings
	chosen := 1
	marks := map[int]labfile.Findings{}
	for _, f := range all {
		marks[f.Pos.Line] = append(marks[f.Pos.Line], f)
	}
	if at := v.items.chosen - len(w.inputs()); at >= 0 && at < len(all) {
		chosen = max(all[at].Pos.Line, 1)
	} else if len(all) > 0 {
		chosen = max(all[0].Pos.Line, 1)
	}
	lines := strings.Split(string(w.mapping.Source), "\n")
	first := max(min(chosen-g.Height/2, len(lines)-g.Height+2), 1)
	for i := first; i <= len(lines) && i-first+1 < g.Height; i++ {
		y := i - first + 1
		here := marks[i]
		number, style := w.faint(), w.dim()
		if i == chosen && len(all) > 0 {
			g.Fill(0, y, width, 1, w.theme.Chosen)
			style = w.text()
		}
		if len(here) > 0 {
			number, style = w.findingStyle(here[0].Severity), w.text()
		}
		g.Right(5, y, number, fmt.Sprint(i))
		g.Clip(7, y, width-8, style, strings.ReplaceAll(lines[i-1], "\t", " "))
		for _, f := range here {
			word := []rune(lines[i-1])
			from := min(max(f.Pos.Column-1, 0), len(word))
			until := min(from+f.Width, len(word))
			g.Clip(7+from, y, width-8-from, w.findingStyle(f.Severity).Strong(), string(word[from:until]))
		}
	}
}

// drawSection draws the section and gives the row below it.
func (v *planView) drawSection(w *world, g *cell.Grid, p *plan.Plan, width int) int {
	s := draw.NewSection(p, width, v.pan)
	for _, m := range s.Marks {
		style := w.dim()
		switch m.Role {
		case draw.Ground:
			style = cell.Fore(w.theme.Earth)
		case draw.Way:
			style = cell.Fore(w.theme.Ochre)
		case draw.Name:
			style = w.text().Strong()
		case draw.Network, draw.Column:
			style = cell.Fore(w.theme.Ice)
		case draw.Contact:
			style = cell.Fore(w.theme.Motion)
		case draw.Address:
			style = w.text()
		}
		g.Text(1+m.X, 1+m.Y, style, m.Text)
		if m.Role == draw.Name && m.Node != "" && w.lives() && !strings.Contains(m.Text, "…") {
			level, colour := w.level(w.node(m.Node).State)
			g.Text(1+m.X+cell.Width(m.Text)+1, 1+m.Y, colour, level)
		}
	}
	y := 1 + s.Height
	v.pan = min(v.pan, s.Left)
	switch {
	case s.Hidden > 0 && s.Left > 0:
		g.Text(1, y, cell.Fore(w.theme.Ochre), fmt.Sprintf("%d columns are to the left, %d to the right: ← →", s.Left, s.Hidden))
		y++
	case s.Hidden+s.Left > 0:
		side := "right"
		if s.Left > 0 {
			side = "left"
		}
		g.Text(1, y, cell.Fore(w.theme.Ochre), fmt.Sprintf("%d more columns are to the %s: ← →", s.Hidden+s.Left, side))
		y++
	}
	return y
}

// drawOrder lists the steps with what they wait for.
func (v *planView) drawOrder(w *world, g *cell.Grid, p *plan.Plan) {
	g.Text(0, 0, w.dim(), "order")
	if len(p.Steps) == 0 {
		g.Text(8, 0, w.dim(), "no steps: a node is ready when it has booted")
		return
	}
	g.Text(8, 0, w.dim(), "a step starts on a node when its earlier steps there, and what it needs, are done")
	columns := []int{0, 12, 12, 12}
	rows := make([][]string, 0, len(p.Steps))
	for _, s := range p.Steps {
		var needs []string
		for _, value := range s.Takes {
			needs = append(needs, "the "+value)
		}
		needs = append(needs, s.After...)
		ends := ""
		if s.Wait != nil {
			ends = waitText(*s.Wait)
		}
		on := nodesText(p, s.Nodes)
		if s.Shared {
			on = "once, for " + on
		}
		rows = append(rows, []string{s.Name, on, strings.Join(needs, ", "), ends})
	}
	titles := []string{"step", "on", "needs", "ends when"}
	for i := 1; i < len(columns); i++ {
		wide := len(titles[i-1])
		for _, row := range rows {
			wide = max(wide, min(cell.Width(row[i-1]), 34))
		}
		columns[i] = columns[i-1] + wide + 3
	}
	for i, title := range titles {
		g.Text(columns[i], 2, w.faint(), title)
	}
	spread := 1
	if 2*len(rows)+5 <= g.Height {
		spread = 2
	}
	if y := 4 + len(rows)*spread; y < g.Height && w.mapping.Graph != nil && len(rows) > 1 {
		x := g.Text(0, y, w.dim(), "longest chain")
		g.Clip(x+2, y, g.Width-x-2, w.text(), w.chainText())
	}
	for i, row := range rows {
		y := 3 + i*spread
		if y == g.Height-1 && i < len(rows)-1 {
			g.Text(0, y, w.dim(), fmt.Sprintf("and %d more", len(rows)-i))
			return
		}
		for at, text := range row {
			style := w.dim()
			if at == 0 {
				style = w.text().Strong()
			} else if at == 1 {
				style = w.text()
			}
			room := g.Width - columns[at]
			if at+1 < len(columns) {
				room = columns[at+1] - columns[at] - 2
			}
			g.Clip(columns[at], y, room, style, text)
		}
	}
}

// chainText names the longest chain of steps, with the time that it takes where
// that is known.
func (w *world) chainText() string {
	if len(w.ahead.Chain) == 0 {
		return "kettlehole plan works it out" // of so many cells it takes longer than a frame
	}
	words := count(len(w.ahead.Chain), "step")
	if len(w.ahead.Guessed) == 0 {
		words = fmt.Sprintf("about %.1f s", w.ahead.Took.Seconds())
	}
	return words + ": " + chainWords(w.ahead.Chain)
}

func waitText(wait labfile.Wait) string {
	switch wait.Kind {
	case labfile.WaitPort:
		return fmt.Sprintf("port %d answers", wait.Port)
	case labfile.WaitFile:
		return wait.Text + " is there"
	case labfile.WaitService:
		return "service " + wait.Text + " runs"
	case labfile.WaitHTTP:
		return wait.Text + " answers"
	case labfile.WaitName:
		return wait.Text + " resolves"
	}
	return "'" + firstLine(wait.Text) + "' succeeds"
}

// nodesText names nodes shortly: whole groups by their name.
func nodesText(p *plan.Plan, nodes []string) string {
	if len(nodes) == len(p.Nodes) {
		return "all nodes"
	}
	byGroup := map[string][]plan.Node{}
	for _, name := range nodes {
		n, _ := p.Node(name)
		byGroup[n.Group] = append(byGroup[n.Group], n)
	}
	var parts []string
	for _, group := range p.Groups() {
		of := byGroup[group]
		switch {
		case len(of) == 0:
		case len(of) == of[0].Count && len(of) > 1:
			parts = append(parts, fmt.Sprintf("%s (all %d)", group, len(of)))
		case len(of) <= 3:
			for _, n := range of {
				parts = append(parts, n.Name)
			}
		default:
			parts = append(parts, fmt.Sprintf("%s to %s", of[0].Name, of[len(of)-1].Name))
		}
	}
	return strings.Join(parts, ", ")
}
