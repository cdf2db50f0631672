package paper_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kettlehole/internal/draw"
	"kettlehole/internal/draw/paper"
)

// drawRun draws lanes whose pieces follow one another.
func drawRun(t *rapid.T) (lanes []draw.Lane, elapsed time.Duration) {
	for i := range rapid.IntRange(1, 100).Draw(t, "nodes") {
		l := draw.Lane{Name: fmt.Sprintf("a-group-of-nodes-%d", i+1), State: "provisioning"}
		at := time.Duration(0)
		for range rapid.IntRange(0, 8).Draw(t, "pieces") {
			until := at + time.Duration(rapid.IntRange(0, 5000).Draw(t, "took"))*time.Millisecond
			l.Pieces = append(l.Pieces, draw.Piece{Kind: draw.PieceKind(rapid.IntRange(0, 3).Draw(t, "kind")), Name: rapid.SampledFrom([]string{"a", "prepare", "a-step-with-a-long-name"}).Draw(t, "step"),
				State: rapid.SampledFrom([]string{"done", "failed"}).Draw(t, "state"), From: at, Until: until, Chain: rapid.Bool().Draw(t, "chain")})
			at = until
		}
		if rapid.Bool().Draw(t, "waits") {
			l.Waits = "a-step-with-a-long-name on a-group-of-nodes-1 failed"
		}
		elapsed = max(elapsed, at)
		lanes = append(lanes, l)
	}
	return lanes, elapsed
}

// No label lies on another one or leaves the sheet, and no box leaves it,
// whatever the run.
func TestLanesAreDisjoint(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		lanes, elapsed := drawRun(t)
		s := paper.Lanes(paper.Run{Title: "desk", Words: "run 1", Chain: []string{"prepare on a-1", "join on b-1"}}, lanes, elapsed)
		names := map[string]bool{}
		for i, a := range s.Labels {
			names[a.Text[:min(len(a.Text), 18)]] = true
			require.True(t, a.X >= 0 && a.Y >= 0 && a.X+a.W <= s.Width+0.01 && a.Y+a.H <= s.Height+0.01, "%q leaves the sheet", a.Text)
			for _, b := range s.Labels[:i] {
				require.True(t, a.X+a.W <= b.X+0.01 || b.X+b.W <= a.X+0.01 || a.Y+a.H <= b.Y+0.01 || b.Y+b.H <= a.Y+0.01, "%q and %q lie on one another", a.Text, b.Text)
			}
		}
		for _, b := range s.Boxes {
			require.True(t, b.X >= 0 && b.X+b.W <= s.Width && b.Y+b.H <= s.Height && b.W > 0)
		}
		for _, l := range lanes {
			require.True(t, names[l.Name[:min(len(l.Name), 18)]], "%s is nowhere", l.Name)
		}
	})
}
