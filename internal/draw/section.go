// Package draw is the geometry of our drawings, without any colour or device.
// It is pure; a drawing is a list of marks on a grid of character cells.
package draw

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"unicode/utf8"

	"kettlehole/internal/plan"
)

// Role says what a mark is about, so that a device can choose how it looks.
type Role int

// The roles of marks.
const (
	Ground  Role = iota // the workstation's surface
	Way                 // a forward, coming down from the surface
	Name                // of a node, network or group
	Fact                // a size, a subnet
	Network             // a network's line
	Column              // a node's line
	Contact             // where a node taps a network
	Address
)

// Mark is a piece of text at a place, X and Y counting from 0.
type Mark struct {
	X, Y int
	Text string
	Role Role
	Node string // the node, or a group's first, that the mark belongs to
}

// Section is a drawing of a lab: networks are horizontal lines, nodes columns
// that tap them, forwards come down from the workstation's surface.
type Section struct {
	Marks         []Mark
	Width, Height int
	Folded        bool // some groups are drawn as one column
	Hidden        int  // columns that found no place at the right
	Left          int  // columns that were left out at the left
}

// column is a node, or a whole group.
type column struct {
	name, size string
	nodes      []plan.Node
	ways       []plan.Forward
	x, width   int
}

const (
	waysTop     = 2 // first row of the ways
	namesTop    = 4
	networksTop = 8
	networkRows = 4
	gap         = 2 // least space between columns
	widest      = 6 // most space added to it
)

// NewSection draws a plan no wider than width. Groups are folded into one
// column each, the largest first, until all fit. Where they do not even so,
// left columns are left out at the left.
func NewSection(p *plan.Plan, width, left int) Section {
	margin := utf8.RuneCountInString("workstation")
	for _, n := range p.Networks {
		margin = max(margin, utf8.RuneCountInString(n.Name), utf8.RuneCountInString(reservesText(p, n.Name)))
		for _, one := range n.Ranges() {
			margin = max(margin, len(one.String()))
		}
	}
	margin += 3
	folded := map[string]bool{}
	columns := columnsOf(p, folded)
	for margin+total(columns) > width {
		largest := largestUnfolded(p, folded)
		if largest == "" {
			break
		}
		folded[largest] = true
		columns = columnsOf(p, folded)
	}
	if margin+total(columns) <= width {
		left = 0
	}
	left = min(max(left, 0), max(len(columns)-1, 0))
	columns = columns[left:]
	s := Section{Left: left, Folded: len(folded) > 0, Height: networksTop + networkRows*len(p.Networks)}
	// Spare width goes between the columns, up to a point.
	apart := gap
	if len(columns) > 0 {
		apart += min(max((width-margin-total(columns))/len(columns), 0), widest)
	}
	x := margin
	for i := range columns {
		if x+columns[i].width > width && i > 0 {
			s.Hidden = len(columns) - i
			columns = columns[:i]
			break
		}
		columns[i].x = x
		x += columns[i].width + apart
	}
	s.Width = min(max(x, margin+1), width)
	s.ground(s.Width)
	for i, n := range p.Networks {
		s.network(n, i, margin, columns, reservesText(p, n.Name))
	}
	for _, c := range columns {
		s.column(c, p.Networks)
	}
	return s
}

func (s *Section) add(x, y int, role Role, node, text string) {
	s.Marks = append(s.Marks, Mark{X: x, Y: y, Text: text, Role: role, Node: node})
}

func total(columns []column) int {
	sum := 0
	for _, c := range columns {
		sum += c.width + gap
	}
	return sum
}

func largestUnfolded(p *plan.Plan, folded map[string]bool) string {
	best, most := "", 1
	for _, n := range p.Nodes {
		if n.Count > most && !folded[n.Group] {
			best, most = n.Group, n.Count
		}
	}
	return best
}

func columnsOf(p *plan.Plan, folded map[string]bool) []column {
	var columns []column
	for _, n := range p.Nodes {
		if folded[n.Group] && n.Index > 1 {
			last := &columns[len(columns)-1]
			last.nodes = append(last.nodes, n)
			continue
		}
		c := column{name: n.Name, nodes: []plan.Node{n}, size: fmt.Sprintf("%sc %s", n.CPU, n.Memory.Short())}
		if folded[n.Group] {
			c.name, c.size = fmt.Sprintf("%s-1…%d", n.Group, n.Count), fmt.Sprintf("%d × %sc %s", n.Count, n.CPU, n.Memory.Short())
		}
		columns = append(columns, c)
	}
	for i := range columns {
		c := &columns[i]
		wide := 0
		for _, f := range p.Forwards {
			if slices.ContainsFunc(c.nodes, func(n plan.Node) bool { return n.Name == f.Node }) {
				c.ways = append(c.ways, f)
				wide += wayWidth(f) + 1
			}
		}
		c.width = max(utf8.RuneCountInString(c.name), utf8.RuneCountInString(c.size), wide, 8)
		for _, n := range c.nodes {
			for _, tap := range n.Taps {
				c.width = max(c.width, utf8.RuneCountInString(addressText(c.nodes, tap.Network)))
			}
		}
	}
	return columns
}

func port(f plan.Forward) string { return fmt.Sprintf(":%d", f.Listen.Port()) }

func wayWidth(f plan.Forward) int {
	return max(len(port(f)), 2+utf8.RuneCountInString(f.Name))
}

func (s *Section) ground(width int) {
	s.add(0, 0, Fact, "", "workstation")
	s.add(0, 1, Ground, "", strings.Repeat("▔", width))
}

// row is the row of the i-th network's line.
func row(i int) int { return networksTop + networkRows*i }

func (s *Section) network(n plan.Network, i, margin int, columns []column, kept string) {
	y := row(i)
	end := margin
	for _, c := range columns {
		end = c.x + c.width
	}
	s.add(margin-1, y, Network, "", strings.Repeat("━", max(end-margin+1, 1)))
	s.add(0, y, Name, "", n.Name)
	for _, one := range n.Ranges() {
		y++
		s.add(0, y, Fact, "", one.String())
	}
	switch {
	case kept != "":
		s.add(0, y+1, Fact, "", kept)
	case n.Auto:
		s.add(0, y+1, Fact, "", "chosen for you")
	}
}

// reservesText says which places of a network no node gets: "kept .200–.219".
func reservesText(p *plan.Plan, network string) string {
	var all []string
	for _, r := range p.Reserves {
		if r.Network != network {
			continue
		}
		part := func(a netip.Addr) string {
			text := a.String()
			return text[strings.LastIndexByte(text, '.'):]
		}
		if r.First == r.Last {
			all = append(all, part(r.First))
		} else {
			all = append(all, part(r.First)+"–"+part(r.Last))
		}
	}
	if len(all) == 0 {
		return ""
	}
	return "kept " + strings.Join(all, " ")
}

func (s *Section) column(c column, networks []plan.Network) {
	node := c.nodes[0]
	x := c.x
	for _, f := range c.ways {
		s.add(x, 0, Way, f.Node, port(f))
		s.add(x+1, waysTop, Way, f.Node, "╎")
		s.add(x+3, waysTop, Fact, f.Node, f.Name)
		s.add(x+1, waysTop+1, Way, f.Node, "▾")
		x += wayWidth(f) + 1
	}
	s.add(c.x, namesTop, Name, node.Name, c.name)
	s.add(c.x, namesTop+1, Fact, node.Name, c.size)
	deepest := -1
	for i, n := range networks {
		if address := addressText(c.nodes, n.Name); address != "" {
			s.add(c.x, row(i)+1, Address, node.Name, address)
			deepest = i
		}
	}
	if deepest < 0 {
		return
	}
	line := c.x + 1
	for y := namesTop + 2; y < row(deepest); y++ {
		on := (y-networksTop)%networkRows == 0 && y >= networksTop
		beside := y > networksTop && (y-networksTop)%networkRows == 1
		switch {
		case on && addressText(c.nodes, networks[(y-networksTop)/networkRows].Name) != "":
		case beside && addressText(c.nodes, networks[(y-networksTop)/networkRows].Name) != "":
			// The address stands there; the line goes on below it.
		default:
			s.add(line, y, Column, node.Name, "│")
		}
	}
	for i, n := range networks {
		if addressText(c.nodes, n.Name) != "" {
			s.add(line, row(i), Contact, node.Name, "●")
		}
	}
}

// addressText is the last part of a node's address on a network, or of the
// first and last of several; empty where they are not on it.
func addressText(nodes []plan.Node, network string) string {
	var all []string
	for _, n := range nodes {
		for _, tap := range n.Taps {
			if tap.Network != network {
				continue
			}
			if tap.Address.Addr().Is6() {
				text := tap.Address.Addr().String()
				all = append(all, text[strings.LastIndex(text, "::"):])
				continue
			}
			parts := strings.Split(tap.Address.Addr().String(), ".")
			keep := max(1, (32-tap.Address.Bits()+7)/8)
			all = append(all, "."+strings.Join(parts[max(0, len(parts)-keep):], "."))
		}
	}
	switch len(all) {
	case 0:
		return ""
	case 1:
		return all[0]
	}
	return all[0] + "–" + all[len(all)-1]
}
