package tui

import (
	"fmt"
	"path/filepath"
	"strings"

	tea "charm.land/bubbletea/v2"

	"kettlehole/internal/draw"
	"kettlehole/internal/labfile"
	"kettlehole/internal/plan"
	"kettlehole/internal/tui/cell"
)

// planView shows what the lab file means: the section, whether it fits, the
// order of the steps, and what there is to say.
type planView struct{ findings list }

var _ view = (*planView)(nil)

func (*planView) name() string { return "plan" }

// sideWidth is the width of the right-hand side.
const sideWidth = 52

func (v *planView) draw(w *world, g *cell.Grid) {
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
		at := v.drawFit(w, right, p, 1)
		v.drawFindings(w, right, at, right.Height)
		g.Draw(width+2, 0, right)
	}
	if side == 0 && len(w.mapping.Findings) > 0 {
		below := cell.New(g.Width-4, g.Height-y)
		v.drawFindings(w, below, 0, below.Height)
		g.Draw(2, y, below)
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
	v.findings.move(0, len(all))
	chosen := 1
	marks := map[int]labfile.Findings{}
	for _, f := range all {
		marks[f.Pos.Line] = append(marks[f.Pos.Line], f)
	}
	if len(all) > 0 {
		chosen = max(all[v.findings.chosen].Pos.Line, 1)
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
	s := draw.NewSection(p, width)
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
	if s.Hidden > 0 {
		g.Text(1, y, cell.Fore(w.theme.Ochre), fmt.Sprintf("%d more columns have no room on this screen", s.Hidden))
		y++
	}
	return y
}

// drawFit compares what nodes may use with what the workstation has.
func (v *planView) drawFit(w *world, g *cell.Grid, p *plan.Plan, y int) int {
	if p == nil {
		return y
	}
	var memory, available labfile.Bytes
	var cpu labfile.Cores
	for _, n := range p.Nodes {
		memory, cpu = memory+n.Memory, cpu+n.CPU
	}
	available = labfile.Bytes(w.mapping.Facts.MemoryAvailable)
	cores := w.mapping.Facts.Cores
	if cores == 0 {
		return y
	}
	if p.About != "" {
		for _, line := range wrap(p.About, g.Width) {
			g.Text(0, y, w.text(), line)
			y++
		}
		y++
	}
	g.Text(0, y, w.dim(), "does it fit")
	share := float64(memory) / float64(max(available, 1))
	style := cell.Fore(w.theme.Ice)
	verdict := fmt.Sprintf("%.0f%% of what is free, if all use theirs", 100*share)
	if share > 1 {
		style, verdict = cell.Fore(w.theme.Brick), "more than is free on the workstation now"
	}
	g.Text(0, y+1, w.text(), "memory")
	w.bar(g, 8, y+1, 20, style, min(share, 1))
	g.Text(30, y+1, w.text(), fmt.Sprintf("%s of %s", memory, available))
	g.Clip(8, y+2, g.Width-8, w.dim(), verdict)
	load := float64(cpu) / 1000 / float64(cores)
	style = cell.Fore(w.theme.Ice)
	verdict = "each can have its full share at once"
	if load > 1 {
		style = cell.Fore(w.theme.Ochre)
		verdict = fmt.Sprintf("all busy at once: %.0f%% of full speed", 100/load)
	}
	g.Text(0, y+3, w.text(), "cpu")
	w.bar(g, 8, y+3, 20, style, min(load, 1))
	g.Text(30, y+3, w.text(), fmt.Sprintf("%s of %d cores", cpu, cores))
	g.Clip(8, y+4, g.Width-8, w.dim(), verdict)
	return y + 7
}

func (v *planView) drawFindings(w *world, g *cell.Grid, y, bottom int) {
	all := w.mapping.Findings
	x := g.Text(0, y, w.dim(), "findings")
	if len(all) == 0 {
		g.Text(x+2, y, cell.Fore(w.theme.Moss), "none; it can be provisioned")
		return
	}
	var counts []string
	for _, s := range []labfile.Severity{labfile.Error, labfile.Caution, labfile.Note} {
		if n := all.Count(s); n > 0 {
			counts = append(counts, count(n, s.String()))
		}
	}
	worst := w.findingStyle(all[0].Severity)
	g.Text(x+2, y, worst, strings.Join(counts, ", "))
	y += 2
	v.findings.fit(len(all), max((bottom-y)/3, 1))
	for i, f := range all[v.findings.top:] {
		if y >= bottom {
			return
		}
		words := f.Message
		if f.Meant != "" {
			words += fmt.Sprintf("; did you mean %q?", f.Meant)
		}
		lines := wrap(words, g.Width-10)
		if f.Remedy != "" {
			for _, line := range wrap(f.Remedy, g.Width-10) {
				lines = append(lines, "\x00"+line)
			}
		}
		if v.findings.top+i == v.findings.chosen {
			g.Fill(0, y, g.Width, len(lines), w.theme.Chosen)
		}
		g.Text(0, y, w.findingStyle(f.Severity), map[labfile.Severity]string{labfile.Error: "✕", labfile.Caution: "▲", labfile.Note: "▪"}[f.Severity])
		if f.Pos.Line > 0 {
			g.Text(2, y, w.dim(), fmt.Sprintf("line %d", f.Pos.Line))
		}
		for _, line := range lines {
			style := w.text()
			if rest, isRemedy := strings.CutPrefix(line, "\x00"); isRemedy {
				style, line = w.dim(), rest
			}
			g.Text(10, y, style, line)
			y++
		}
		y++
	}
}

func (w *world) findingStyle(s labfile.Severity) cell.Style {
	switch s {
	case labfile.Error:
		return cell.Fore(w.theme.Brick)
	case labfile.Caution:
		return cell.Fore(w.theme.Ochre)
	}
	return w.dim()
}

// drawOrder lists the steps with what they wait for.
func (v *planView) drawOrder(w *world, g *cell.Grid, p *plan.Plan) {
	g.Text(0, 0, w.dim(), "order")
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
		rows = append(rows, []string{s.Name, nodesText(p, s.Nodes), strings.Join(needs, ", "), ends})
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
	if 2*len(rows)+3 <= g.Height {
		spread = 2
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

func (v *planView) press(a *App, key string) (tea.Cmd, bool) {
	all := a.world.mapping.Findings
	if move := step(key, 5); move != 0 {
		v.findings.move(move, len(all))
		return nil, true
	}
	switch key {
	case "enter", "e":
		if a.world.file == "" {
			return nil, true
		}
		line := 1
		if len(all) > 0 {
			v.findings.move(0, len(all))
			line = all[v.findings.chosen].Pos.Line
		}
		return a.edit(a.world.mapping.File, line), true
	}
	return nil, false
}

func (v *planView) click(a *App, x, y int) tea.Cmd { return nil }

func (v *planView) wheel(a *App, lines int) { v.findings.move(lines/3, len(a.world.mapping.Findings)) }

func (v *planView) keys(w *world) []binding {
	var keys []binding
	if len(w.mapping.Findings) > 0 {
		keys = append(keys, binding{"↑↓", "choose a finding"}, binding{"Enter", "open the file there"})
	} else if w.file != "" {
		keys = append(keys, binding{"e", "edit " + filepath.Base(w.file)})
	}
	if w.mapping.Plan != nil && !w.running() {
		if w.lives() {
			keys = append(keys, binding{"p", "provision what is due"})
		} else {
			keys = append(keys, binding{"p", "provision"})
		}
	}
	if w.lives() {
		keys = append(keys, binding{"t", "tear down"})
	}
	return append(keys, binding{"q", "leave"})
}
