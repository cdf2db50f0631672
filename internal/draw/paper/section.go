package paper

import (
	"fmt"
	"strings"
	"time"
	"unicode/utf8"

	"kettlehole/internal/draw"
	"kettlehole/internal/plan"
)

const (
	margin    = 36.0 // on every side
	cellSize  = 8.0  // of letters in the drawing
	cellWide  = cellSize * advance
	cellHigh  = 12.0
	columns   = 160 // of cells on the narrowest sheet: A4 across
	tableSize = 7.5
	tableHigh = 11.0
)

// Section is the drawing of a lab with a table of its addresses and ports.
// made is the date that stands on it.
func Section(p *plan.Plan, made time.Time) Sheet {
	section := draw.NewSection(p, columns, 0)
	s := Sheet{Width: 2*margin + columns*cellWide, Title: p.Lab}
	y := margin
	s.label(margin, y, 16, p.Lab)
	date := made.Format("2006-01-02")
	s.label(s.Width-margin-float64(len(date))*9*advance, y+6, 9, date)
	y += 24
	if p.About != "" {
		for _, line := range wrapped(p.About, int((s.Width-2*margin)/(9*advance))) {
			s.label(margin, y, 9, line)
			y += 9 * leading
		}
	}
	y += 14
	s.marks(section, y)
	y += float64(section.Height)*cellHigh + 16
	s.Height = s.tables(p, y) + margin
	return s
}

// marks draws the section's marks from the row at top.
func (s *Sheet) marks(section draw.Section, top float64) {
	x := func(column int) float64 { return margin + float64(column)*cellWide }
	y := func(row int) float64 { return top + float64(row)*cellHigh }
	middle := cellHigh / 2
	for _, m := range section.Marks {
		wide := utf8.RuneCountInString(m.Text)
		switch {
		case m.Role == draw.Ground:
			s.line(x(m.X), y(m.Y), x(m.X+wide), y(m.Y), 1.5, false)
		case m.Role == draw.Network:
			s.line(x(m.X), y(m.Y)+middle, x(m.X+wide), y(m.Y)+middle, 1.2, false)
		case m.Role == draw.Column:
			s.line(x(m.X)+cellWide/2, y(m.Y), x(m.X)+cellWide/2, y(m.Y+1), 0.8, false)
		case m.Role == draw.Contact:
			s.line(x(m.X)+cellWide/2, y(m.Y), x(m.X)+cellWide/2, y(m.Y)+middle, 0.8, false)
			s.Dots = append(s.Dots, Dot{x(m.X) + cellWide/2, y(m.Y) + middle, 2.2})
		case m.Role == draw.Way && m.Text == "╎":
			s.line(x(m.X)+cellWide/2, y(m.Y)-middle, x(m.X)+cellWide/2, y(m.Y+1), 0.6, true)
		case m.Role == draw.Way && m.Text == "▾":
			tip := y(m.Y) + middle
			s.line(x(m.X)+cellWide/2, y(m.Y), x(m.X)+cellWide/2, tip, 0.6, true)
			s.line(x(m.X), tip-3, x(m.X)+cellWide/2, tip, 0.6, false)
			s.line(x(m.X)+cellWide, tip-3, x(m.X)+cellWide/2, tip, 0.6, false)
		default:
			s.label(x(m.X), y(m.Y)+1, cellSize, m.Text)
		}
	}
	if section.Hidden > 0 {
		s.label(margin, y(section.Height), cellSize, fmt.Sprintf("%d more columns have no room here; all stand in the table", section.Hidden))
	}
}

// tables lists nodes with their addresses and forwards with their ports, and
// gives where they end.
func (s *Sheet) tables(p *plan.Plan, y float64) float64 {
	rows := [][]string{{"node", "addresses", "cpu", "memory", "services"}}
	for _, n := range p.Nodes {
		var addresses, services []string
		for _, tap := range n.Taps {
			addresses = append(addresses, tap.Network+" "+plan.Words(tap.Addresses()))
		}
		for _, one := range n.Services {
			services = append(services, one.Name)
		}
		rows = append(rows, []string{n.Name, strings.Join(addresses, ", "), n.CPU.String(), n.Memory.String(), strings.Join(services, ", ")})
	}
	y = s.table(rows, y)
	if len(p.Forwards) > 0 {
		rows = [][]string{{"forward", "workstation", "node"}}
		for _, f := range p.Forwards {
			rows = append(rows, []string{f.Name, f.Listen.String(), fmt.Sprintf("%s:%d", f.Node, f.NodePort)})
		}
		y = s.table(rows, y+14)
	}
	return y
}

// table writes rows in columns, the first row as a title. Columns that have no
// room are cut, the widest first.
func (s *Sheet) table(rows [][]string, y float64) float64 {
	room := int((s.Width - 2*margin) / (tableSize * advance))
	wide := make([]int, len(rows[0]))
	for _, row := range rows {
		for i, text := range row {
			wide[i] = max(wide[i], utf8.RuneCountInString(text))
		}
	}
	const apart = 3
	for total(wide)+apart*(len(wide)-1) > room {
		widest := 0
		for i := range wide {
			if wide[i] > wide[widest] {
				widest = i
			}
		}
		wide[widest]--
	}
	for r, row := range rows {
		x := margin
		for i, text := range row {
			if runes := []rune(text); len(runes) > wide[i] {
				text = string(runes[:max(wide[i]-1, 0)]) + "…"
			}
			if text != "" {
				s.label(x, y, tableSize, text)
			}
			x += float64(wide[i]+apart) * tableSize * advance
		}
		y += tableHigh
		if r == 0 {
			s.line(margin, y-1, s.Width-margin, y-1, 0.4, false)
			y += 2
		}
	}
	return y
}

func total(all []int) int {
	sum := 0
	for _, n := range all {
		sum += n
	}
	return sum
}

// wrapped breaks a text into lines of at most some characters, none where there
// is nothing to say.
func wrapped(text string, width int) []string {
	if text = strings.TrimSpace(text); text == "" {
		return nil
	}
	return draw.Wrap(text, width, utf8.RuneCountInString)
}
