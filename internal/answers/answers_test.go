package answers_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"kettlehole/internal/answers"
)

func TestCompare(t *testing.T) {
	groups := answers.Compare([]answers.Answer{
		{Node: "a-1", Out: "one\nthree\n"},
		{Node: "a-2", Out: "one\ntwo\nthree\n"},
		{Node: "a-3", Out: "one\ntwo\nthree\n"},
		{Node: "b-1", Exit: -1, Failed: "it does not run"},
		{Node: "c-1", Out: "one\ntwo\nfour\n", Err: "oh\n", Exit: 3},
		{Node: "a-4", Out: "one\ntwo\nthree\n"},
	})
	assert.Equal(t, []answers.Group{
		{Nodes: []string{"a-2", "a-3", "a-4"}, Lines: []answers.Line{{Text: "one"}, {Text: "two"}, {Text: "three"}}},
		{Nodes: []string{"a-1"}, Lines: []answers.Line{{Text: "one"}, {Text: "two", Mark: answers.Lacks}, {Text: "three"}}},
		{Nodes: []string{"c-1"}, Exit: 3, Lines: []answers.Line{{Text: "one"}, {Text: "two"}, {Text: "three", Mark: answers.Lacks}, {Text: "four", Mark: answers.Own}, {Text: "oh", Mark: answers.Own, Err: true}}},
		{Nodes: []string{"b-1"}, Exit: -1, Failed: "it does not run"},
	}, groups)
	assert.Empty(t, answers.Compare(nil))
}

func TestWorst(t *testing.T) {
	assert.Zero(t, answers.Worst([]answers.Answer{{}, {}}))
	assert.Equal(t, 3, answers.Worst([]answers.Answer{{Exit: 1}, {Exit: 3}, {}}))
	assert.Equal(t, 255, answers.Worst([]answers.Answer{{Exit: 1}, {Exit: -1, Failed: "away"}}))
}

// Every node stands in one group; what is not marked is in both answers, and
// without what is lacking a group's lines are what its nodes said.
func TestComparison(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		word := rapid.SampledFrom([]string{"a", "b", "c", ""})
		text := rapid.Custom(func(t *rapid.T) string {
			return strings.Join(rapid.SliceOfN(word, 0, 6).Draw(t, "lines"), "\n")
		})
		var all []answers.Answer
		said := map[string]string{}
		for i := range rapid.IntRange(1, 6).Draw(t, "nodes") {
			a := answers.Answer{Node: string(rune('a' + i)), Out: text.Draw(t, "out")}
			said[a.Node] = a.Out
			all = append(all, a)
		}
		groups := answers.Compare(all)
		seen := 0
		for i, g := range groups {
			seen += len(g.Nodes)
			assert.LessOrEqual(t, len(g.Nodes), len(groups[0].Nodes))
			var own, common []string
			for _, l := range g.Lines {
				if l.Mark != answers.Lacks {
					own = append(own, l.Text)
				}
				if l.Mark != answers.Own {
					common = append(common, l.Text)
				}
			}
			for _, node := range g.Nodes {
				assert.Equal(t, strings.TrimSuffix(said[node], "\n"), strings.Join(own, "\n"))
			}
			if i > 0 {
				assert.Equal(t, strings.TrimSuffix(said[groups[0].Nodes[0]], "\n"), strings.Join(common, "\n"))
			}
		}
		assert.Equal(t, len(all), seen)
	})
}
