package draw_test

import (
	"fmt"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kettlehole/internal/draw"
	"kettlehole/internal/labfile"
	"kettlehole/internal/plan"
	"kettlehole/internal/workstation"
)

func planOf(t require.TestingT, text string) *plan.Plan {
	lab, findings := labfile.Parse([]byte(text), nil)
	require.NotNil(t, lab, findings)
	p, findings := plan.Make(lab, plan.Where{}, workstation.Facts{}, nil)
	require.NotNil(t, p, findings)
	return p
}

const demo = `
lab: desk
networks: {valley: {subnet: 10.61.0.0/24}, ridge: {subnet: 10.62.0.0/16}}
groups:
  council: {count: 2, cpu: 1, memory: 256M, networks: {valley: .11}}
  field: {count: %d, networks: {valley: .21, ridge: .1.21}}
forwards: {door: 8080 -> council-1:80, debug: 9090 -> council-1:7000}
`

// text prints the marks of a section.
func text(s draw.Section) string {
	rows := make([][]rune, s.Height)
	for i := range rows {
		rows[i] = []rune(strings.Repeat(" ", s.Width+40))
	}
	for _, m := range s.Marks {
		for i, r := range []rune(m.Text) {
			rows[m.Y][m.X+i] = r
		}
	}
	var b strings.Builder
	for _, row := range rows {
		b.WriteString(strings.TrimRight(string(row), " ") + "\n")
	}
	return b.String()
}

func TestSection(t *testing.T) {
	s := draw.NewSection(planOf(t, fmt.Sprintf(demo, 1)), 60, 0)
	assert.False(t, s.Folded)
	assert.Equal(t, strings.TrimPrefix(`
workstation    :8080  :9090
▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔▔
                ╎ door ╎ debug
                ▾      ▾
               council-1          council-2    field-1
               1c 256M            1c 256M      0.5c 128M
                │                  │            │
                │                  │            │
valley        ━━●━━━━━━━━━━━━━━━━━━●━━━━━━━━━━━━●━━━━━━━
10.61.0.0/24   .11                .12          .21
                                                │
                                                │
ridge         ━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━●━━━━━━━
10.62.0.0/16                                   .1.21


`, "\n"), text(s))
}

func TestFolds(t *testing.T) {
	s := draw.NewSection(planOf(t, fmt.Sprintf(demo, 60)), 100, 0)
	assert.True(t, s.Folded)
	assert.Zero(t, s.Hidden)
	assert.Contains(t, text(s), "field-1…60")
	assert.Contains(t, text(s), "60 × 0.5c 128M")
	assert.Contains(t, text(s), ".21–.80")
	assert.Contains(t, text(s), "council-2", "only the largest group is folded")
	narrow := draw.NewSection(planOf(t, fmt.Sprintf(demo, 60)), 40, 0)
	assert.Positive(t, narrow.Hidden)
}

// In a drawing of any lab in any width no two words overlap, and nothing lies
// outside of the drawing.
func TestNothingOverlaps(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var b strings.Builder
		b.WriteString("lab: x\nnetworks: {one: {subnet: auto}, a-long-name-of-a-network: {subnet: auto}}\ngroups:\n")
		for i := range rapid.IntRange(1, 8).Draw(t, "groups") {
			on := rapid.SampledFrom([]string{"[one]", "[a-long-name-of-a-network]", "[one, a-long-name-of-a-network]"}).Draw(t, "on")
			fmt.Fprintf(&b, "  %s%c: {count: %d, networks: %s}\n", strings.Repeat("g", rapid.IntRange(1, 20).Draw(t, "name")), 'a'+i, rapid.IntRange(1, 30).Draw(t, "count"), on)
		}
		p := planOf(t, b.String())
		for i := range rapid.IntRange(0, 4).Draw(t, "ways") {
			p.Forwards = append(p.Forwards, plan.Forward{Name: strings.Repeat("f", i+1), Node: p.Nodes[i%len(p.Nodes)].Name})
		}
		width := rapid.IntRange(20, 300).Draw(t, "width")
		s := draw.NewSection(p, width, 0)
		taken := map[[2]int]string{}
		for _, m := range s.Marks {
			require.GreaterOrEqual(t, m.X, 0)
			require.Less(t, m.Y, s.Height)
			if m.Role == draw.Network || m.Role == draw.Contact || m.Role == draw.Ground {
				continue
			}
			for i := range utf8.RuneCountInString(m.Text) {
				at := [2]int{m.X + i, m.Y}
				require.Empty(t, taken[at], "%q lies over %q", m.Text, taken[at])
				taken[at] = m.Text
			}
		}
	})
}

func TestAxis(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		a := draw.NewAxis(rapid.IntRange(1, 300).Draw(t, "columns"), time.Duration(rapid.Int64Range(0, int64(30*time.Minute)).Draw(t, "elapsed")))
		last := -draw.TickRoom
		for _, tick := range a.Ticks() {
			require.GreaterOrEqual(t, tick.X-last, min(draw.TickRoom-1, a.Columns), "labels keep apart")
			require.Less(t, tick.X, a.Columns)
			last = tick.X
		}
		earlier := time.Duration(rapid.Int64Range(0, int64(a.Span)).Draw(t, "earlier"))
		require.LessOrEqual(t, a.At(earlier), a.At(earlier+time.Second), "time runs one way")
	})
	assert.Equal(t, "1:02.5", draw.Moment(62500*time.Millisecond, 100*time.Millisecond))
	for d, words := range map[time.Duration]string{9 * time.Second: "9 s", 90 * time.Second: "1 min", 47 * time.Hour: "47 h", 72 * time.Hour: "3 days"} {
		assert.Equal(t, words, draw.Age(d))
	}
	assert.Equal(t, "12:00", draw.Moment(12*time.Minute, time.Second))
}

func TestWrap(t *testing.T) {
	for _, c := range []struct {
		text  string
		width int
		want  []string
	}{
		{"", 10, []string{""}},
		{"one two three", 7, []string{"one two", "three"}},
		{"one two", 7, []string{"one two"}},
		{"a-word-that-is-longer than the line", 8, []string{"a-word-that-is-longer", "than the", "line"}},
		{"first\n\nsecond  one", 20, []string{"first", "", "second one"}},
		{"any", 0, []string{"any"}},
	} {
		assert.Equal(t, c.want, draw.Wrap(c.text, c.width, func(s string) int { return len(s) }), c.text)
	}
}
