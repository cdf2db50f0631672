package ledger_test

import (
	"context"
	"fmt"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kettlehole/internal/ledger"
)

// clock ticks a second at every look.
type clock struct {
	mu  sync.Mutex
	now time.Time
}

func (c *clock) Now() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.now = c.now.Add(time.Second)
	return c.now
}

func open(t *testing.T, path string, hook ledger.Hook) *ledger.Ledger {
	c := &clock{now: time.Unix(1_800_000_000, 0)}
	l, err := ledger.Open(path, ledger.Options{Now: c.Now, Hook: hook})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, l.Close()) })
	return l
}

func TestLabs(t *testing.T) {
	ctx := context.Background()
	l := open(t, filepath.Join(t.TempDir(), "a folder with ?#% in its name.db"), nil)
	_, err := l.Lab(ctx, "desk")
	assert.ErrorIs(t, err, ledger.ErrNoLab)
	require.NoError(t, l.AddLab(ctx, ledger.Lab{Name: "desk", ID: "desk-1", File: "/f", Folder: "/d", Plan: []byte("{}")}))
	assert.Error(t, l.AddLab(ctx, ledger.Lab{Name: "desk"}), "one lab of a name")
	require.NoError(t, l.SetPlan(ctx, "desk", []byte(`{"a":1}`), []byte("lab: desk")))
	require.NoError(t, l.SetState(ctx, "desk", ledger.Ending))
	lab, err := l.Lab(ctx, "desk")
	require.NoError(t, err)
	assert.Equal(t, ledger.Ending, lab.State)
	assert.Equal(t, `{"a":1}`, string(lab.Plan))
	assert.False(t, lab.Created.IsZero())
	require.NoError(t, l.DropLab(ctx, "desk"))
	labs, err := l.Labs(ctx)
	require.NoError(t, err)
	assert.Empty(t, labs)
}

func TestEntries(t *testing.T) {
	ctx := context.Background()
	l := open(t, filepath.Join(t.TempDir(), "l.db"), nil)
	states := func() (all []string) {
		entries, err := l.Entries(ctx, "desk")
		require.NoError(t, err)
		for _, e := range entries {
			all = append(all, e.Ref+" "+string(e.State)+" "+e.Detail)
		}
		return all
	}
	node := func(ref, detail string) ledger.Entry {
		return ledger.Entry{Kind: ledger.NodeK, Ref: ref, Detail: detail}
	}
	require.NoError(t, l.Intend(ctx, "desk", node("a-1", "x"), node("a-2", "y")))
	require.NoError(t, l.SetMade(ctx, "desk", node("a-1", "")))
	assert.Equal(t, []string{"a-1 made x", "a-2 intended y"}, states())
	require.NoError(t, l.Intend(ctx, "desk", node("a-1", "x"), node("a-2", "z")), "what is there stays as it is")
	assert.Equal(t, []string{"a-1 made x", "a-2 intended z"}, states())
	require.NoError(t, l.SetGone(ctx, "desk", ledger.NodeK, "a-1", "a-2", "never"))
	assert.Equal(t, []string{"a-1 gone x", "a-2 gone z"}, states())
	require.NoError(t, l.Intend(ctx, "desk", node("a-1", "x")), "what was gone is intended anew")
	assert.Equal(t, []string{"a-2 gone z", "a-1 intended x"}, states())
}

func TestRunsCellsValues(t *testing.T) {
	ctx := context.Background()
	l := open(t, filepath.Join(t.TempDir(), "l.db"), nil)
	for n := 1; n <= 3; n++ {
		run, err := l.StartRun(ctx, "desk", []byte("{}"))
		require.NoError(t, err)
		assert.Equal(t, n, run.N)
		require.NoError(t, l.EndRun(ctx, "desk", n, ledger.End{Outcome: "done", Picture: []byte("{}")}))
	}
	other, err := l.StartRun(ctx, "other", []byte("{}"))
	require.NoError(t, err)
	assert.Equal(t, 1, other.N)
	cell := ledger.Cell{Step: "s", Node: "a-1", Run: 3, Identity: "i", State: "running", Started: time.Unix(5, 7)}
	require.NoError(t, l.SetCell(ctx, "desk", cell))
	cell.State, cell.Exit, cell.Ended = "failed", 7, time.Unix(9, 0)
	require.NoError(t, l.SetCell(ctx, "desk", cell))
	cells, err := l.Cells(ctx, "desk")
	require.NoError(t, err)
	assert.Equal(t, []ledger.Cell{cell}, cells)
	require.NoError(t, l.SetValue(ctx, "desk", ledger.Value{Name: "v", Secret: true, Text: []byte{0, 1}}))
	values, err := l.Values(ctx, "desk")
	require.NoError(t, err)
	assert.Equal(t, []ledger.Value{{Name: "v", Secret: true, Text: []byte{0, 1}}}, values)
}

// Times outlive the lab, the newest of each kind; what a run looked like goes
// with it.
func TestTimesAndPictures(t *testing.T) {
	ctx := context.Background()
	l := open(t, filepath.Join(t.TempDir(), "l.db"), nil)
	require.NoError(t, l.AddLab(ctx, ledger.Lab{Name: "desk", ID: "desk-1"}))
	for n := range 7 {
		run, err := l.StartRun(ctx, "desk", []byte(`{"file":"x"}`))
		require.NoError(t, err)
		end := ledger.End{Outcome: "done", Picture: fmt.Appendf(nil, "picture %d", run.N), Took: map[string][]ledger.Took{"a": {{Work: time.Duration(n), Wait: 1}}}}
		if n == 0 {
			end.Took["b"] = []ledger.Took{{Work: 9}}
		}
		require.NoError(t, l.EndRun(ctx, "desk", run.N, end))
	}
	runs, err := l.Runs(ctx, "desk")
	require.NoError(t, err)
	assert.JSONEq(t, `{"file":"x"}`, string(runs[3].Wish))
	picture, err := l.Picture(ctx, "desk", 4)
	require.NoError(t, err)
	assert.Equal(t, "picture 4", string(picture))
	_, err = l.Picture(ctx, "desk", 8)
	assert.ErrorIs(t, err, ledger.ErrNoRun)
	require.NoError(t, l.DropLab(ctx, "desk"))
	_, err = l.Picture(ctx, "desk", 4)
	assert.ErrorIs(t, err, ledger.ErrNoRun)
	times, err := l.Times(ctx)
	require.NoError(t, err)
	assert.Equal(t, map[string][]ledger.Took{"a": {{2, 1}, {3, 1}, {4, 1}, {5, 1}, {6, 1}}, "b": {{Work: 9}}}, times)
}

// The hook sees every write twice, in order, also when several write at once;
// a cancelled context does not keep a record from being made.
func TestHook(t *testing.T) {
	var seen []int
	l := open(t, filepath.Join(t.TempDir(), "l.db"), func(n int, committed bool) {
		if committed {
			n = -n
		}
		seen = append(seen, n)
	})
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	var all sync.WaitGroup
	for range 10 {
		all.Go(func() { assert.NoError(t, l.SetState(ctx, "desk", ledger.Living)) })
	}
	all.Wait()
	require.Len(t, seen, 20)
	for i := range 10 {
		assert.Equal(t, []int{i + 1, -i - 1}, seen[2*i:2*i+2])
	}
}

// Several processes may have the database open; here several handles.
func TestShared(t *testing.T) {
	path := filepath.Join(t.TempDir(), "l.db")
	handles := []*ledger.Ledger{open(t, path, nil), open(t, path, nil), open(t, path, nil)}
	var all sync.WaitGroup
	for _, l := range handles {
		all.Go(func() {
			for range 20 {
				_, err := l.StartRun(context.Background(), "desk", []byte("{}"))
				assert.NoError(t, err)
			}
		})
	}
	all.Wait()
	runs, err := handles[0].Runs(context.Background(), "desk")
	require.NoError(t, err)
	assert.Len(t, runs, 60)
	assert.Equal(t, 60, runs[59].N)
}
