package draw

import (
	"fmt"
	"time"
)

// PieceKind says what a lane shows over a piece of time.
type PieceKind int

// What lanes show.
const (
	Idle   PieceKind = iota // the node waits for others
	Making                  // it is created or boots
	Work                    // a step's script runs
	Wait                    // a step waits for its condition
)

// Piece is a piece of a lane; times count from the start of the run.
type Piece struct {
	Kind        PieceKind
	Name        string // of the step, or of the state in which it is made
	State       string // of the step
	From, Until time.Duration
	Chain       bool // it belongs to the longest chain
}

// Lane is what a node, or several folded into one, did in a run.
type Lane struct {
	Name   string // of the node, or of the group
	Group  string
	Nodes  int    // how many are folded here, 0 for a node by itself
	State  string // of the node; of a folded lane, the one that is farthest behind
	Pieces []Piece
	// Waits says what it waits for at the end, "" for nothing; Hindered that
	// this never comes.
	Waits    string
	Hindered bool
}

// Axis is a time axis of a number of columns. It compresses as time grows.
type Axis struct {
	Columns int
	Span    time.Duration // the time that Columns stand for
}

// shortest is the span of an axis at the beginning.
const shortest = 2 * time.Second

// NewAxis gives an axis on which elapsed and a little more has its place.
func NewAxis(columns int, elapsed time.Duration) Axis {
	return Axis{Columns: max(columns, 1), Span: max(shortest, elapsed+elapsed/8)}
}

// At gives the column of a moment after the beginning, kept on the axis.
func (a Axis) At(t time.Duration) int {
	return min(max(int(int64(a.Columns)*int64(t)/int64(a.Span)), 0), a.Columns-1)
}

// Tick is a labelled place on an axis.
type Tick struct {
	X    int
	Text string
}

// steps between ticks that people read easily.
var steps = []time.Duration{
	100 * time.Millisecond, 200 * time.Millisecond, 500 * time.Millisecond, time.Second, 2 * time.Second, 5 * time.Second, 10 * time.Second,
	15 * time.Second, 30 * time.Second, time.Minute, 2 * time.Minute, 5 * time.Minute, 10 * time.Minute, 30 * time.Minute, time.Hour,
}

// TickRoom is the least number of columns from tick to tick.
const TickRoom = 12

// Ticks gives labels at round moments, none nearer than TickRoom to the next.
func (a Axis) Ticks() []Tick {
	step := steps[len(steps)-1]
	for _, s := range steps {
		if int64(a.Columns)*int64(s)/int64(a.Span) >= TickRoom {
			step = s
			break
		}
	}
	var ticks []Tick
	for t := time.Duration(0); t < a.Span && len(ticks) < a.Columns; t += step {
		ticks = append(ticks, Tick{a.At(t), Moment(t, step)})
	}
	return ticks
}

// Moment says a time after the beginning as minutes and seconds, with tenths
// where precision is finer than a second.
func Moment(t, precision time.Duration) string {
	minutes := int(t / time.Minute)
	rest := t - time.Duration(minutes)*time.Minute
	if precision < time.Second {
		return fmt.Sprintf("%d:%04.1f", minutes, rest.Seconds())
	}
	return fmt.Sprintf("%d:%02d", minutes, int(rest.Seconds()))
}

// Age says a duration in the words of a person.
func Age(d time.Duration) string {
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h", int(d.Hours()))
	}
	return fmt.Sprintf("%d days", int(d.Hours()/24))
}
