package schedule_test

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kettlehole/internal/plan"
	"kettlehole/internal/schedule"
)

// drawActs draws what cells do, in small times.
func drawActs(t *rapid.T, n int) []time.Duration {
	all := make([]time.Duration, n)
	for i := range all {
		all[i] = time.Duration(rapid.IntRange(0, 5).Draw(t, "work"))
	}
	return all
}

// Without bounds a course is as long as the longest chain. With them nothing
// begins before what it needs, never more than may run at once, nothing idles
// that could run, and no order of the bounded cells that an exhaustive search
// finds takes less than what a chain needs nor does ours take more than the
// worst of them.
func TestCourse(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		p := drawPlan(t)
		g, findings := schedule.New(p)
		require.NotNil(t, g, findings)
		work := drawActs(t, len(g.Cells))
		act := func(i int) schedule.Act { return schedule.Act{Work: work[i]} }
		free := g.Course(schedule.Given{Act: act})
		_, longest := g.Chain(func(i int) time.Duration { return work[i] })
		require.Equal(t, longest, free.Ends)

		bounded := p.Steps[rapid.IntRange(0, len(p.Steps)-1).Draw(t, "bounded")].Name
		atOnce := func(step string) int {
			if step == bounded {
				return 1
			}
			return 0
		}
		course := g.Course(schedule.Given{Act: act, AtOnce: atOnce})
		var inTurn []schedule.Span
		for i, s := range course.Spans {
			require.Equal(t, schedule.Done, s.Stage)
			require.Equal(t, work[i], s.Ends-s.Begins)
			could := time.Duration(0)
			for _, need := range g.Needs(i) {
				require.GreaterOrEqual(t, s.Begins, course.Spans[need].Ends, "%s begins before what it needs", g.Cells[i])
				could = max(could, course.Spans[need].Ends)
			}
			if g.Cells[i].Step != bounded {
				require.Equal(t, could, s.Begins, "%s idles", g.Cells[i])
			} else {
				inTurn = append(inTurn, s)
			}
		}
		slices.SortFunc(inTurn, func(a, b schedule.Span) int { return int(a.Begins-b.Begins)*100 + int(a.Ends-b.Ends) })
		for i := 1; i < len(inTurn); i++ {
			require.GreaterOrEqual(t, inTurn[i].Begins, inTurn[i-1].Ends, "two at once")
		}
		best, worst := exhaustive(g, work, bounded)
		require.GreaterOrEqual(t, course.Ends, best)
		require.LessOrEqual(t, course.Ends, worst)
		sum := time.Duration(0)
		for at, i := range course.Chain {
			sum += work[i]
			if at > 0 {
				require.Equal(t, course.Spans[course.Chain[at-1]].Ends, course.Spans[i].Begins, "the chain has a gap")
			}
		}
		require.Equal(t, course.Ends, sum, "the chain is as long as the run")
	})
}

// exhaustive tries every order in which the cells of a step can take turns, and
// gives the least and the most time that the whole takes.
func exhaustive(g *schedule.Graph, work []time.Duration, bounded string) (best, worst time.Duration) {
	var turns []int
	for i, c := range g.Cells {
		if c.Step == bounded {
			turns = append(turns, i)
		}
	}
	best = -1
	permute(turns, 0, func(order []int) {
		before := map[int]int{}
		for at := 1; at < len(order); at++ {
			before[order[at]] = order[at-1]
		}
		memo := map[int]time.Duration{}
		path := map[int]bool{}
		possible := true
		var end func(i int) time.Duration
		end = func(i int) time.Duration {
			if known, is := memo[i]; is {
				return known
			}
			if path[i] {
				possible = false
				return 0
			}
			path[i] = true
			begin := time.Duration(0)
			for _, need := range g.Needs(i) {
				begin = max(begin, end(need))
			}
			if last, is := before[i]; is {
				begin = max(begin, end(last))
			}
			path[i] = false
			memo[i] = begin + work[i]
			return memo[i]
		}
		whole := time.Duration(0)
		for i := range g.Cells {
			whole = max(whole, end(i))
		}
		if !possible {
			return
		}
		if best < 0 || whole < best {
			best = whole
		}
		worst = max(worst, whole)
	})
	return best, worst
}

func permute(all []int, at int, each func([]int)) {
	if at >= len(all) {
		each(all)
		return
	}
	for i := at; i < len(all); i++ {
		all[at], all[i] = all[i], all[at]
		permute(all, at+1, each)
		all[at], all[i] = all[i], all[at]
	}
}

func TestCourseOfFailures(t *testing.T) {
	g, _ := schedule.New(demo())
	index := func(step, node string) int {
		i, is := g.Index(schedule.Cell{Step: step, Node: node})
		require.True(t, is)
		return i
	}
	join := index("join", "a-2")
	course := func(act schedule.Act) schedule.Course {
		return g.Course(schedule.Given{Act: func(i int) schedule.Act {
			if i == join {
				return act
			}
			return schedule.Act{Work: 10}
		}})
	}
	good := course(schedule.Act{Work: 5, Wait: 7})
	assert.EqualValues(t, schedule.Span{Stage: schedule.Done, Begins: 20, Waits: 25, Ends: 32, Tries: 1, After: index("found", "a-1")}, good.Spans[join])
	assert.EqualValues(t, 42, good.Ends)
	again := course(schedule.Act{Work: 5, Fails: 2, Retries: 2, Pause: 3})
	assert.EqualValues(t, 20+5+3+5+3+5, again.Spans[join].Ends)
	assert.Equal(t, 3, again.Spans[join].Tries)
	for _, act := range []schedule.Act{{Work: 5, Wait: 9, Fails: 3, Retries: 2, Pause: 3}, {Work: 5, Wait: 9, Fails: -1, Retries: 2, Pause: 3}} {
		broken := course(act)
		assert.Equal(t, schedule.Failed, broken.Spans[join].Stage)
		assert.EqualValues(t, 20+3*5+2*3, broken.Spans[join].Ends, "what failed does not wait for its condition")
		assert.Equal(t, schedule.Unbegun, broken.Spans[index("door", "b-1")].Stage)
	}
	// From the middle: what is done stays, what goes on ends as late as it
	// must, nothing begins in the past.
	half := g.Course(schedule.Given{Now: 50, Act: func(int) schedule.Act { return schedule.Act{Work: 10} }, Node: func(name string) time.Duration {
		return map[string]time.Duration{"b-1": 70}[name]
	}, Known: func(i int) schedule.Span {
		switch i {
		case index("prepare", "a-1"), index("prepare", "a-2"):
			return schedule.Span{Stage: schedule.Done, Begins: 1, Ends: 11}
		case index("found", "a-1"):
			return schedule.Span{Stage: schedule.Begun, Begins: 45}
		}
		return schedule.Span{}
	}})
	assert.EqualValues(t, 55, half.Spans[index("found", "a-1")].Ends)
	assert.EqualValues(t, 55, half.Spans[join].Begins)
	assert.EqualValues(t, 70, half.Spans[index("prepare", "b-1")].Begins)
	assert.EqualValues(t, 90, half.Ends)
}

func TestBlockedAndFollowing(t *testing.T) {
	g, _ := schedule.New(demo())
	none := func(int) string { return "" }
	blocked := g.Blocked(func(i int) string {
		if g.Cells[i].Step == "found" {
			return "found failed"
		}
		return ""
	}, none)
	words := map[string]string{}
	for i, why := range blocked {
		words[g.Cells[i].String()] = why
	}
	assert.Equal(t, "found failed", words["join on a-2"])
	assert.Equal(t, "join on a-2, and there found failed", words["door on b-1"])
	assert.Empty(t, words["prepare on b-1"])
	own := g.Blocked(none, func(i int) string {
		if g.Cells[i].Node == "a-2" {
			return "the node is lost"
		}
		return ""
	})
	assert.Equal(t, "the node is lost", own[4])
	var following []string
	join, _ := g.Index(schedule.Cell{Step: "found", Node: "a-1"})
	for _, i := range g.Following([]int{join}) {
		following = append(following, g.Cells[i].String())
	}
	assert.Equal(t, []string{"found on a-1", "join on a-2", "door on b-1"}, following)
	// Steps that all come after one another on many nodes are told in no time.
	wide := &plan.Plan{}
	for s := range 40 {
		step := plan.Step{Name: fmt.Sprintf("s%d", s)}
		for n := range 50 {
			step.Nodes = append(step.Nodes, fmt.Sprintf("n-%d", n))
		}
		if s > 0 {
			step.After = []string{fmt.Sprintf("s%d", s-1)}
		}
		wide.Steps = append(wide.Steps, step)
	}
	g, _ = schedule.New(wide)
	all := g.Blocked(func(i int) string {
		if i == 0 {
			return "s0 failed"
		}
		return ""
	}, none)
	assert.Contains(t, all[len(all)-1], "s0 failed")
}

// BenchmarkCourse is a run of 100 steps on 500 nodes, every tenth of which
// comes after all of another.
func BenchmarkCourse(b *testing.B) {
	p := &plan.Plan{}
	for s := range 100 {
		step := plan.Step{Name: fmt.Sprintf("s%d", s), AtOnce: s % 7}
		for n := range 500 {
			step.Nodes = append(step.Nodes, fmt.Sprintf("n-%d", n))
		}
		if s%10 == 9 {
			step.After = []string{fmt.Sprintf("s%d", s-5)}
		}
		p.Steps = append(p.Steps, step)
	}
	b.ReportAllocs()
	for b.Loop() {
		g, _ := schedule.New(p)
		c := g.Course(schedule.Given{Act: func(i int) schedule.Act { return schedule.Act{Work: time.Duration(1 + i%13)} }})
		if c.Ends == 0 {
			b.Fatal("it takes no time")
		}
	}
}
