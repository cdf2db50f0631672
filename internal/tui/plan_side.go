package tui

import (
	"fmt"
	"strconv"
	"strings"

	"kettlehole/internal/labfile"
	"kettlehole/internal/plan"
	"kettlehole/internal/tui/cell"
)

// inputs are those of the open file.
func (w *world) inputs() []labfile.Input {
	if w.mapping.Lab == nil {
		return nil
	}
	return w.mapping.Lab.Inputs
}

// drawSide draws what stands beside the section: what the lab is, its inputs,
// whether it fits, what would change, what there is to say.
func (v *planView) drawSide(w *world, g *cell.Grid, p *plan.Plan) {
	y := 1
	if p != nil && p.About != "" {
		for _, line := range wrap(p.About, g.Width) {
			g.Text(0, y, w.text(), line)
			y++
		}
		y++
	}
	y = v.drawInputs(w, g, y)
	if p != nil && w.mapping.Plan != nil {
		y = v.drawFit(w, g, w.mapping.Plan, y)
		y = v.drawFronts(w, g, w.mapping.Plan, y)
		y = v.drawDifference(w, g, y)
	}
	v.drawFindings(w, g, y, g.Height)
}

// drawFronts lists the addresses that stand before groups.
func (v *planView) drawFronts(w *world, g *cell.Grid, p *plan.Plan, y int) int {
	for i, f := range p.Fronts {
		if i == 0 {
			g.Text(0, y, w.dim(), "fronts")
			y++
		}
		x := g.Text(0, y, w.text(), f.Name)
		x = max(x+2, 12)
		g.Clip(x, y, g.Width-x, w.dim(), f.String())
		y++
	}
	if len(p.Fronts) > 0 {
		y++
	}
	return y
}

// The columns of an input's line.
const (
	dialAt    = 18 // where the value stands
	trackAt   = 27
	trackWide = 16
)

// drawInputs draws every input as a dial.
func (v *planView) drawInputs(w *world, g *cell.Grid, y int) int {
	all := w.inputs()
	if len(all) == 0 {
		return y
	}
	g.Text(0, y, w.dim(), "inputs")
	y++
	for i, in := range all {
		chosen := i == v.items.chosen
		if chosen {
			g.Fill(0, y, g.Width, 1, w.theme.Chosen)
		}
		v.spots = append(v.spots, spot{y: y, until: g.Width, item: i})
		g.Clip(0, y, dialAt-1, w.text(), in.Name)
		value, style := in.Value, w.text().Strong()
		if in.From != "" {
			style = cell.Fore(w.theme.Motion).Strong()
		}
		if chosen && v.typing != nil {
			value, style = *v.typing+"▏", cell.Fore(w.theme.Ochre).Strong()
		}
		v.drawDial(w, g, y, i, in, value, style)
		y++
		if !chosen {
			continue
		}
		about := in.About
		if in.From != "" {
			about = strings.TrimPrefix(about+"; the file says "+in.Default, "; ")
		}
		for _, line := range wrap(about, g.Width-2) {
			g.Text(2, y, w.dim(), line)
			y++
		}
	}
	return y + 1
}

// drawDial draws an input's value, and where it stands among what it may be.
func (v *planView) drawDial(w *world, g *cell.Grid, y, item int, in labfile.Input, value string, style cell.Style) {
	choices := in.OneOf
	if in.Kind == labfile.Boolean {
		choices = []string{"false", "true"}
	}
	if len(choices) > 0 && v.typing == nil {
		x := dialAt
		for _, choice := range choices {
			if choice == in.Value {
				x = g.Text(x, y, style, choice) + 2
			} else {
				x = g.Text(x, y, w.faint(), choice) + 2
			}
		}
		return
	}
	number, err := strconv.ParseFloat(in.Value, 64)
	if in.Min == nil || in.Max == nil || err != nil || *in.Max <= *in.Min {
		g.Clip(dialAt, y, g.Width-dialAt, style, value)
		return
	}
	g.Clip(dialAt, y, trackAt-dialAt-1, style, value)
	low, high := strconv.FormatFloat(*in.Min, 'f', -1, 64), strconv.FormatFloat(*in.Max, 'f', -1, 64)
	// A long number takes its room from the track.
	wide := trackWide - max(0, len(high)+trackAt+trackWide+2-g.Width)
	g.Right(trackAt-1, y, w.faint(), low)
	g.Line(trackAt+1, y, wide, w.faint(), "─")
	at := int((number-*in.Min)/(*in.Max-*in.Min)*float64(wide-1) + 0.5)
	g.Line(trackAt+1, y, at, cell.Fore(w.theme.Ice), "━")
	g.Text(trackAt+1+at, y, cell.Fore(w.theme.Motion), "●")
	g.Text(trackAt+wide+2, y, w.faint(), high)
	v.spots = append(v.spots, spot{y: y, from: trackAt + 1, until: trackAt + 1 + wide, item: item, low: *in.Min, high: *in.Max, scale: true})
}

// drawFit compares what nodes may use with what the workstation has, and says
// what more of each group would meet.
func (v *planView) drawFit(w *world, g *cell.Grid, p *plan.Plan, y int) int {
	f := p.Fit
	if f.Cores == 0 {
		return y
	}
	g.Text(0, y, w.dim(), "does it fit")
	share := float64(f.Memory) / float64(max(f.MemoryFree, 1))
	style := cell.Fore(w.theme.Ice)
	if share > 1 {
		style = cell.Fore(w.theme.Brick)
	}
	g.Text(0, y+1, w.text(), "memory")
	w.bar(g, 8, y+1, 18, style, min(share, 1))
	g.Clip(28, y+1, g.Width-28, w.text(), fmt.Sprintf("%s of %s", f.Memory, f.MemoryFree))
	load, words := f.Load(), "each its full share"
	style = cell.Fore(w.theme.Ice)
	if load > 1 {
		style = cell.Fore(w.theme.Ochre)
		words = fmt.Sprintf("%.0f%% if all are busy", 100/load)
	}
	g.Text(0, y+2, w.text(), "cpu")
	w.bar(g, 8, y+2, 18, style, min(load, 1))
	g.Clip(28, y+2, g.Width-28, w.text(), fmt.Sprintf("%s of %d cores", f.CPU, f.Cores))
	g.Clip(28, y+3, g.Width-28, w.dim(), words)
	y += 5
	quorums := map[string]plan.Quorum{}
	for _, q := range p.Quorums() {
		quorums[q.Group] = q
	}
	for i, room := range f.Rooms {
		if i == 6 && len(f.Rooms) > 7 {
			g.Text(0, y, w.dim(), fmt.Sprintf("and %d more groups", len(f.Rooms)-i))
			y++
			break
		}
		g.Clip(0, y, 11, w.text(), room.Group)
		g.Clip(12, y, g.Width-12, w.dim(), room.String())
		y++
		if q, is := quorums[room.Group]; is {
			style := cell.Fore(w.theme.Moss)
			if q.Count%2 == 0 || q.Bears == 0 {
				style = cell.Fore(w.theme.Ochre)
			}
			g.Clip(12, y, g.Width-12, style, q.String())
			y++
		}
	}
	return y + 1
}

// drawDifference says what a run would change of the living lab.
func (v *planView) drawDifference(w *world, g *cell.Grid, y int) int {
	if w.mapping.Living == nil {
		return y
	}
	changes := w.difference()
	x := g.Text(0, y, w.dim(), "to the living lab")
	if len(changes) == 0 {
		g.Text(x+2, y, cell.Fore(w.theme.Moss), "nothing; it stays as it is")
		return y + 2
	}
	y++
	for i, c := range changes {
		if i == 9 && len(changes) > 10 {
			g.Text(0, y, w.dim(), fmt.Sprintf("and %d more; kettlehole plan lists them", len(changes)-i))
			y++
			break
		}
		style := w.dim()
		switch c.Kind {
		case plan.New, plan.Due:
			style = cell.Fore(w.theme.Motion)
		case plan.Changes:
			style = cell.Fore(w.theme.Ochre)
		case plan.Anew, plan.Goes:
			style = cell.Fore(w.theme.Brick)
		}
		g.Text(0, y, style, string(c.Kind))
		x := g.Text(11, y, w.text(), c.Name) + 1
		g.Clip(x, y, g.Width-x, w.dim(), strings.Join(c.Why, "; "))
		y++
	}
	return y + 1
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
	inputs := len(w.inputs())
	shown := list{chosen: max(v.items.chosen-inputs, 0)}
	shown.fit(len(all), max((bottom-y)/3, 1))
	for i, f := range all[shown.top:] {
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
		item := inputs + shown.top + i
		v.spots = append(v.spots, spot{y: y, until: g.Width, item: item})
		if item == v.items.chosen {
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
