package lanes_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"kettlehole/internal/api"
	"kettlehole/internal/draw"
	"kettlehole/internal/draw/lanes"
	"kettlehole/internal/plan"
	"kettlehole/internal/schedule"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func at(seconds int) time.Time { return noon.Add(time.Duration(seconds) * time.Second) }

func TestOf(t *testing.T) {
	p := &plan.Plan{Nodes: []plan.Node{{Name: "a-1", Group: "a"}, {Name: "b-1", Group: "b"}, {Name: "c-1", Group: "c"}}, Steps: []plan.Step{{Name: "one"}, {Name: "two"}}}
	s := api.State{Plan: p, Now: at(20), Run: api.Run{N: 3, Started: noon, Chain: []schedule.Cell{{Step: "two", Node: "a-1"}}},
		Nodes: []api.Node{{Name: "a-1", State: api.Provisioning, Marks: []api.Mark{{State: api.Creating, At: at(1)}, {State: api.Booting, At: at(2)}, {State: api.Provisioning, At: at(3)}}},
			{Name: "b-1", State: api.Failed}, {Name: "c-1", State: api.Absent}},
		Cells: []api.Cell{
			{Step: "two", Node: "a-1", State: api.Running, Run: 3, Started: at(10), Waiting: at(15)},
			{Step: "one", Node: "a-1", State: api.Done, Run: 3, Started: at(4), Ended: at(6)},
			{Step: "one", Node: "b-1", State: api.Reused, Run: 1, Started: at(-50), Ended: at(-40)},
			{Step: "two", Node: "b-1", State: api.Waiting, Reason: "two on a-1 failed"},
			{Step: "gone", Node: "b-1", State: api.Done, Run: 3, Started: at(1), Ended: at(2)},
		}}
	all, elapsed := lanes.Of(s)
	second := time.Second
	assert.Equal(t, 20*second, elapsed)
	assert.Equal(t, []draw.Piece{
		{Kind: draw.Idle, Until: second},
		{Kind: draw.Making, Name: api.Creating, State: api.Creating, From: second, Until: 2 * second},
		{Kind: draw.Making, Name: api.Booting, State: api.Booting, From: 2 * second, Until: 3 * second},
		{Kind: draw.Idle, From: 3 * second, Until: 4 * second},
		{Kind: draw.Work, Name: "one", State: api.Done, From: 4 * second, Until: 6 * second},
		{Kind: draw.Idle, From: 6 * second, Until: 10 * second},
		{Kind: draw.Work, Name: "two", State: api.Running, From: 10 * second, Until: 15 * second, Chain: true},
		{Kind: draw.Wait, Name: "two", State: api.Running, From: 15 * second, Until: 20 * second, Chain: true},
	}, all[0].Pieces)
	assert.Equal(t, "two on a-1 failed", all[1].Waits)
	assert.True(t, all[1].Hindered)
	assert.Equal(t, []draw.Piece{{Kind: draw.Idle, Until: 20 * second}}, all[1].Pieces, "what earlier runs did is not this one's")
	assert.Empty(t, all[2].Pieces)
	again := s.Cells[2]
	again.Waiting = at(5)
	s.Cells[2] = again
	all, _ = lanes.Of(s)
	assert.Contains(t, all[1].Pieces, draw.Piece{Kind: draw.Wait, Name: "one", State: api.Reused, From: 5 * second, Until: 20 * second}, "it waits again now")
	s.Cells[2].Ended = at(7)
	all, _ = lanes.Of(s)
	assert.Contains(t, all[1].Pieces, draw.Piece{Kind: draw.Wait, Name: "one", State: api.Reused, From: 5 * second, Until: 7 * second})
	s.Run.Doing = "the image is made"
	all, _ = lanes.Of(s)
	assert.Equal(t, "the image is made", all[2].Waits)
	s.Run.Ended, s.Run.Outcome = at(12), api.OutcomeFailed
	_, elapsed = lanes.Of(s)
	assert.Equal(t, 12*second, elapsed)
	none, _ := lanes.Of(api.State{})
	assert.Empty(t, none)
}
