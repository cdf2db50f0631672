package paper

import (
	"slices"
	"strings"
	"time"

	"kettlehole/internal/draw"
)

// Measures of the drawing of lanes, in points.
const (
	laneNames = 130.0 // before the time axis
	laneTime  = 640.0 // of the time axis
	laneHigh  = 21.0
	barHigh   = 8.0
	laneSize  = 6.5 // of the names below bars
	// axisColumns is how many letters have room along the axis.
	axisColumns = 133
	// leastName is how many letters of a name must have room for it to be seen.
	leastName = 4
	// shortest is the least time that the axis stands for.
	shortest = 100 * time.Millisecond
)

// How dark the pieces of a lane are.
const (
	inkWork   = 0.62
	inkMaking = 0.30
	inkWait   = 0.10
)

// Run says what stands over a drawing of lanes.
type Run struct {
	Title string
	Words string // what run this is, when, and how it ended
	Chain []string
}

// Lanes is the drawing of a run: a lane for each node on one time axis.
func Lanes(run Run, lanes []draw.Lane, elapsed time.Duration) Sheet {
	s := Sheet{Width: 2*margin + laneNames + laneTime, Title: run.Title}
	y := margin
	s.label(margin, y, 16, run.Title)
	y += 24
	s.label(margin, y, 9, run.Words)
	y += 9*leading + 4
	s.legend(y)
	y += 22
	left := margin + laneNames
	axis := draw.Axis{Columns: axisColumns, Span: max(elapsed+elapsed/50, shortest)}
	x := func(t time.Duration) float64 {
		return left + laneTime*float64(min(max(t, 0), axis.Span))/float64(axis.Span)
	}
	bottom := y + 14 + float64(len(lanes))*laneHigh
	for _, tick := range axis.Ticks() {
		at := left + float64(tick.X)*laneTime/float64(axis.Columns)
		s.label(at, y, cellSize, tick.Text)
		s.Grid = append(s.Grid, Line{at, y + 12, at, bottom, 0.2, true})
	}
	y += 14
	for _, l := range lanes {
		s.lane(l, y, left, x)
		y += laneHigh
	}
	y += 10
	for _, line := range wrapped(strings.Join(run.Chain, ", then "), int((s.Width-2*margin)/(tableSize*advance))-len("longest chain: ")) {
		if y += tableHigh; line != "" {
			s.label(margin, y-tableHigh, tableSize, "longest chain: "+line)
		}
	}
	s.Height = y + margin
	return s
}

// legend says what the pieces mean.
func (s *Sheet) legend(y float64) {
	x := margin
	for _, one := range []struct {
		kind draw.PieceKind
		text string
	}{{draw.Making, "made"}, {draw.Work, "works"}, {draw.Wait, "waits for its condition"}, {draw.Idle, "waits for others"}} {
		s.piece(draw.Piece{Kind: one.kind, State: "done"}, x, x+18, y)
		s.label(x+22, y-1, cellSize, one.text)
		x += 22 + float64(len(one.text))*cellSize*advance + 14
	}
	s.line(x, y+barHigh+1.6, x+18, y+barHigh+1.6, 1.2, false)
	s.label(x+22, y-1, cellSize, "longest chain")
	x += 22 + float64(len("longest chain"))*cellSize*advance + 14
	s.piece(draw.Piece{Kind: draw.Work, State: failed}, x, x+18, y)
	s.label(x+22, y-1, cellSize, failed)
}

// failed is the state of a step that did not end well.
const failed = "failed"

func (s *Sheet) lane(l draw.Lane, y, left float64, x func(time.Duration) float64) {
	const room = 25 // letters
	name := l.Name
	if l.State != "" && len(name)+2+len(l.State) <= room {
		name += "  " + l.State
	}
	s.label(margin, y-1, cellSize, cut(name, room))
	type words struct {
		x    float64
		text string
	}
	var names []words
	last := ""
	for _, p := range l.Pieces {
		from, until := x(p.From), x(p.Until)
		if p.Kind != draw.Idle {
			until = max(until, from+1)
		}
		s.piece(p, from, until, y)
		if (p.Kind == draw.Work || p.Kind == draw.Wait) && p.Name != last {
			names = append(names, words{from, p.Name})
			last = p.Name
		}
	}
	if l.Waits != "" {
		text := "waits for " + l.Waits
		if l.Hindered {
			text = "cannot start: " + l.Waits
		}
		at := left
		if len(l.Pieces) > 0 {
			at = x(l.Pieces[len(l.Pieces)-1].Until) + 2
		}
		// It moves to the left where it has no room, up to the name before, or
		// stands before the first one.
		wide := float64(len([]rune(text))+2) * laneSize * advance
		at = max(min(at, s.Width-margin-wide), left)
		if len(names) > 0 {
			before := names[len(names)-1]
			behind := func(letters int) float64 { return before.x + float64(letters+2)*laneSize*advance }
			whole := len([]rune(before.text))
			if behind(whole)+wide <= s.Width-margin {
				at = max(at, behind(whole))
			} else {
				at = max(at, behind(min(whole, leastName)))
			}
		}
		if len(names) > 0 && at+wide > s.Width-margin && names[0].x-left > wide {
			names = slices.Insert(names, 0, words{names[0].x - wide, text})
		} else {
			names = append(names, words{at, text})
		}
	}
	for i, n := range names {
		end := s.Width - margin
		if i+1 < len(names) {
			end = names[i+1].x - 2
		}
		fits := int((end - n.x) / (laneSize * advance))
		if fits >= min(len([]rune(n.text)), leastName) {
			s.label(n.x, y+barHigh+2.5, laneSize, cut(n.text, fits))
		}
	}
}

// piece draws one piece of a lane.
func (s *Sheet) piece(p draw.Piece, from, until, y float64) {
	ink := map[draw.PieceKind]float64{draw.Work: inkWork, draw.Making: inkMaking, draw.Wait: inkWait}
	switch {
	case p.Kind == draw.Idle:
		s.line(from, y+barHigh/2, until, y+barHigh/2, 0.4, true)
	case p.State == failed:
		s.Boxes = append(s.Boxes, Box{from, y, until - from, barHigh, 0})
		s.line(from, y, until, y+barHigh, 0.6, false)
		s.line(from, y+barHigh, until, y, 0.6, false)
	default:
		s.Boxes = append(s.Boxes, Box{from, y, until - from, barHigh, ink[p.Kind]})
	}
	if p.Chain {
		s.line(from, y+barHigh+1.6, until, y+barHigh+1.6, 1.2, false)
	}
}

// cut shortens a text to a number of letters.
func cut(text string, letters int) string {
	runes := []rune(text)
	if len(runes) <= letters {
		return text
	}
	return string(slices.Concat(runes[:max(letters-1, 0)], []rune("…")))
}
