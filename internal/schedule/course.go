package schedule

import (
	"slices"
	"time"
)

// Act is what a cell does when its turn comes.
type Act struct {
	Work    time.Duration // of its script, at each try
	Wait    time.Duration // from then on until its condition holds
	Fails   int           // how many tries fail, the first ones; -1 for all
	Retries int           // how often it may try again
	Pause   time.Duration // before each further try
}

// Stage is how far a cell came.
type Stage int

// The stages of a cell.
const (
	Unbegun Stage = iota // it has not begun, or never does
	Begun
	Done
	Failed
)

// Span is when a cell did what it did; times count from the start of the run.
type Span struct {
	Stage  Stage
	Begins time.Duration
	Waits  time.Duration // since when it waits for its condition
	Ends   time.Duration
	Tries  int
	After  int // the cell whose end let it begin, -1 for none
}

// Course says how a run goes.
type Course struct {
	Spans []Span        // of the cells, in order
	Ends  time.Duration // of the last
	Chain []int         // the cells, first to last, that make the run as long as it is
}

// Given is what a course follows from. A nil function says nothing.
type Given struct {
	Now    time.Duration                   // nothing that has not begun begins before
	Node   func(name string) time.Duration // when a node is there for its steps
	AtOnce func(step string) int           // on how many nodes a step may run at the same time, 0 for all
	Act    func(i int) Act                 // of a cell that has not ended
	Known  func(i int) Span                // what is known already; Begun, Done and Failed count
}

// Course works out how a run goes in which every cell begins as soon as it
// may, the earlier one of the file first where only some may: the order in
// which a run really starts them.
func (g *Graph) Course(given Given) Course {
	c := &course{Graph: g, Given: given, spans: make([]Span, len(g.Cells)), missing: make([]int, len(g.Cells)), left: make([]int, len(g.steps)),
		limits: make([]int, len(g.steps)), running: make([]int, len(g.steps)), queues: make([]heap[int], len(g.steps)), users: make([][]int, len(g.steps)), next: make([]int, len(g.Cells))}
	c.events.less = func(a, b event) bool { return a.at < b.at || a.at == b.at && a.number < b.number }
	c.begin()
	for len(c.events.all) > 0 {
		e := c.events.take()
		c.now = max(c.now, e.at)
		if e.ends {
			c.end(e.cell)
		} else {
			c.met(e.cell, -1)
		}
	}
	result := Course{Spans: c.spans}
	last := -1
	for i, s := range c.spans {
		if s.Stage >= Done && (last < 0 || s.Ends > result.Ends) {
			last, result.Ends = i, s.Ends
		}
	}
	for i := last; i >= 0; i = c.spans[i].After {
		result.Chain = append(result.Chain, i)
	}
	slices.Reverse(result.Chain)
	return result
}

// course is one that is being worked out.
type course struct {
	*Graph
	Given
	now     time.Duration
	spans   []Span
	missing []int       // for each cell, how many things it still needs
	next    []int       // the cell after on the same node, plus one
	users   [][]int     // for each step, the steps that need it
	left    []int       // for each step, cells that are not done
	limits  []int       // for each step, how many may run at once, 0 for all
	running []int       // for each step
	queues  []heap[int] // for each step, cells that may start when another one ends
	events  heap[event]
	pushed  int // events so far
}

func (c *course) begin() {
	for s, one := range c.steps {
		c.left[s] = one.past - one.first
		if c.AtOnce != nil {
			c.limits[s] = c.AtOnce(one.name)
		}
		for _, need := range one.needs {
			c.users[need] = append(c.users[need], s)
		}
	}
	known := func(int) Span { return Span{} }
	if c.Known != nil {
		known = c.Known
	}
	// The first cell of a lane that is not done needs the node, the others
	// the one before.
	firstOf := func(i int) bool { return c.lane[i] < 0 || known(c.lane[i]).Stage == Done }
	for i := range c.Cells {
		c.spans[i].After = -1
		c.missing[i] = len(c.steps[c.of[i]].needs)
		if c.lane[i] >= 0 {
			c.next[c.lane[i]] = i + 1
			c.missing[i]++
		}
		if firstOf(i) {
			c.missing[i]++
		}
	}
	for s := range c.steps {
		if c.left[s] == 0 { // a step that no node runs is done
			c.stepDone(s, -1)
		}
	}
	for i := range c.Cells {
		switch was := known(i); was.Stage {
		case Begun:
			c.start(i, was.Begins, -1)
		case Done, Failed:
			was.After = -1
			c.spans[i] = was
			if was.Stage == Done {
				c.done(i)
			}
		default:
			if !firstOf(i) {
				continue
			}
			at := c.Given.Now
			if c.Node != nil {
				at = max(at, c.Node(c.Cells[i].Node))
			}
			c.push(event{at: at, cell: i})
		}
	}
	// What is done already lets nothing start before now.
	c.now = max(c.now, c.Given.Now)
}

func (c *course) push(e event) {
	c.pushed++
	e.number = c.pushed
	c.events.put(e)
}

// met takes note that a cell has one thing more that it needs, by the end of
// another cell or by its node.
func (c *course) met(i, by int) {
	c.missing[i]--
	if c.missing[i] > 0 || c.spans[i].Stage != Unbegun {
		return
	}
	s := c.of[i]
	if limit := c.limits[s]; limit > 0 && c.running[s] >= limit {
		if c.queues[s].less == nil {
			c.queues[s].less = func(a, b int) bool { return a < b } // the earlier one of the file first
		}
		c.queues[s].put(i)
		return
	}
	c.start(i, max(c.now, c.Given.Now), by)
}

// start lets a cell begin, and knows when it will end.
func (c *course) start(i int, at time.Duration, by int) {
	act := Act{}
	if c.Act != nil {
		act = c.Act(i)
	}
	span := Span{Stage: Done, Begins: at, After: by}
	end := at
	for {
		span.Tries++
		end += act.Work
		if act.Fails >= 0 && span.Tries > act.Fails {
			break
		}
		if span.Tries > act.Retries {
			span.Stage = Failed
			break
		}
		end += act.Pause
	}
	span.Waits = end
	if span.Stage == Done {
		end += act.Wait
	}
	span.Ends = max(end, c.Given.Now)
	c.spans[i] = span
	c.running[c.of[i]]++
	c.push(event{at: span.Ends, cell: i, ends: true})
}

// end is the end of a cell that began.
func (c *course) end(i int) {
	s := c.of[i]
	c.running[s]--
	if c.spans[i].Stage == Done {
		c.done(i)
	}
	if len(c.queues[s].all) > 0 && c.running[s] < c.limits[s] {
		c.start(c.queues[s].take(), c.now, i)
	}
}

// done lets those go on that need the cell.
func (c *course) done(i int) {
	s := c.of[i]
	c.left[s]--
	if c.left[s] == 0 {
		c.stepDone(s, i)
	}
	if next := c.next[i]; next > 0 {
		c.met(next-1, i)
	}
}

func (c *course) stepDone(s, by int) {
	for _, user := range c.users[s] {
		for i := c.steps[user].first; i < c.steps[user].past; i++ {
			c.met(i, by)
		}
	}
}

// event is the end of a cell, or that the node of a cell is there.
type event struct {
	at     time.Duration
	number int // those at the same time come in the order in which they were made
	cell   int
	ends   bool
}
