package run_test

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"net"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kettlehole/internal/agent"
	"kettlehole/internal/api"
	"kettlehole/internal/fabric"
	"kettlehole/internal/labfile"
	"kettlehole/internal/ledger"
	"kettlehole/internal/mask"
	"kettlehole/internal/plan"
	"kettlehole/internal/run"
	"kettlehole/internal/schedule"
	"kettlehole/internal/substrate"
	"kettlehole/internal/workstation"
)

const desk = `
lab: desk
groups:
  council: {count: 3, services: {cairn: {run: cairn}, clock: {run: clock}}}
  gate: {networks: [lab]}
steps:
  prepare: {on: all, run: prepare}
  found: {on: council-1, start: cairn, run: found, gives: {ticket: secret}}
  join: {on: council-2.., takes: [ticket], start: cairn, run: join, wait: {port: 7000, within: 10s}}
  door: {on: gate, after: [join], run: door}
`

// world is a substrate, a record and a watcher in memory, with virtual time.
// What its nodes do is said by hooks.
type world struct {
	mu     sync.Mutex
	now    time.Time
	log    []string          // what nodes were asked to do, in order
	broken map[string]string // "step on node" to the reason of failure
	made   map[string]error  // node to the error of making it
	probes map[string]int    // node to how often a probe fails first
	cells  map[schedule.Cell]ledger.Cell
	values map[string]string
	states map[string]string
	seen   map[schedule.Cell][]string // states of each cell, in order
	reason map[string]bool
	jobs   map[string]bool
	still  bool // sleeping takes no time of this clock
	born   map[string]string
	stayed bool           // nodes run already
	fails  map[string]int // "step on node" to how many tries fail first
	files  map[string]string
	held   chan struct{} // if there is one, jobs wait for it
	busy   map[string]int
	most   map[string]int // step to the most nodes it ran on at once
}

func newWorld() *world {
	return &world{now: time.Unix(1000, 0), broken: map[string]string{}, made: map[string]error{}, probes: map[string]int{}, cells: map[schedule.Cell]ledger.Cell{},
		values: map[string]string{}, states: map[string]string{}, seen: map[schedule.Cell][]string{}, reason: map[string]bool{}, jobs: map[string]bool{},
		born: map[string]string{}, fails: map[string]int{}, files: map[string]string{}, busy: map[string]int{}, most: map[string]int{}}
}

func (w *world) Now() time.Time { w.mu.Lock(); defer w.mu.Unlock(); return w.now }

func (w *world) Sleep(ctx context.Context, d time.Duration) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.still {
		w.mu.Unlock()
		time.Sleep(time.Millisecond)
		w.mu.Lock()
		return ctx.Err()
	}
	w.now = w.now.Add(d)
	return ctx.Err()
}

func (w *world) Networks(context.Context, []fabric.Network) error { return nil }
func (w *world) Living(context.Context) ([]string, error)         { return nil, nil }
func (w *world) Usage(string) (substrate.Usage, error)            { return substrate.Usage{}, nil }
func (w *world) Make(_ context.Context, n substrate.Node) (substrate.Made, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return substrate.Made{Born: w.born[n.Name], Stayed: w.stayed}, w.made[n.Name]
}
func (w *world) Remove(context.Context, string) error                   { return nil }
func (w *world) Keep(context.Context, string, string) error             { return nil }
func (w *world) SetMade(context.Context, string, ...ledger.Entry) error { return nil }

func (w *world) Agent(node string) agent.Client {
	return agent.Client{Dial: func(context.Context) (net.Conn, error) {
		mine, theirs := net.Pipe()
		go w.serve(node, theirs)
		return mine, nil
	}}
}

// serve is the init of a node.
func (w *world) serve(node string, conn net.Conn) {
	defer conn.Close()
	line, err := bufio.NewReader(conn).ReadBytes('\n')
	if err != nil {
		return
	}
	var request agent.Request
	_ = json.Unmarshal(line, &request)
	reply := w.answer(node, request)
	text, _ := json.Marshal(reply)
	_, _ = conn.Write(append(text, '\n'))
}

func (w *world) answer(node string, r agent.Request) (reply agent.Reply) {
	w.mu.Lock()
	defer w.mu.Unlock()
	switch r.Op {
	case agent.OpStart:
		w.log = append(w.log, "start "+r.Service+" on "+node)
	case agent.OpJob:
		step, _, _ := strings.Cut(r.Job.ID, ".")
		what := step + " on " + node
		w.log = append(w.log, what)
		w.jobs[r.Job.ID+" "+node] = true
		w.now = w.now.Add(time.Second)
		reply.Job = &agent.JobResult{Values: map[string]string{}}
		w.busy[step]++
		w.most[step] = max(w.most[step], w.busy[step])
		if w.held != nil {
			w.mu.Unlock()
			<-w.held
			w.mu.Lock()
		}
		w.busy[step]--
		if w.fails[what] > 0 {
			w.fails[what]--
			reply.Job.Exit = 7
			return reply
		}
		if reason, broken := w.broken[what]; broken {
			reply.Job.Exit, reply.Job.Tail = 3, reason+" with S3CRET-TICKET"
			return reply
		}
		for _, name := range r.Job.Gives {
			reply.Job.Values[name] = "S3CRET-TICKET"
		}
		for _, env := range r.Job.Env {
			w.log = append(w.log, what+" sees "+env)
		}
	case agent.OpPut:
		for _, f := range r.Files {
			w.files[node+f.Path] = fmt.Sprintf("%o %s", f.Mode, f.Content)
		}
		if r.Files[0].Path != "/etc/hosts" {
			w.log = append(w.log, "put on "+node)
		}
	case agent.OpProbe:
		reply.Probe = &agent.ProbeResult{Held: w.probes[node] == 0, Seen: "connection refused"}
		if w.probes[node] > 0 {
			w.probes[node]--
		} else {
			w.log = append(w.log, "held on "+node)
		}
	}
	return reply
}

func (w *world) SetCell(_ context.Context, _ string, c ledger.Cell) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.cells[schedule.Cell{Step: c.Step, Node: c.Node}] = c
	return nil
}

func (w *world) Cells(context.Context, string) ([]ledger.Cell, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return slices.Collect(maps.Values(w.cells)), nil
}

func (w *world) Get(context.Context) (map[string]string, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return maps.Clone(w.values), nil
}

func (w *world) Set(_ context.Context, name, value string, _ bool) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.values[name] = value
	return nil
}

func (w *world) NodeIs(name, state, reason string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.states[name] = state
	w.reason[reason] = true
}

func (w *world) CellIs(c api.Cell) {
	w.mu.Lock()
	defer w.mu.Unlock()
	at := schedule.Cell{Step: c.Step, Node: c.Node}
	if states := w.seen[at]; len(states) == 0 || states[len(states)-1] != c.State {
		w.seen[at] = append(states, c.State)
	}
	if c.Reason != "" {
		w.reason[c.Reason] = true
	}
}

func planned(t *testing.T, text string) *plan.Plan {
	lab, findings := labfile.Parse([]byte(text), nil)
	require.NotNil(t, lab, findings)
	p, findings := plan.Make(lab, plan.Where{}, workstation.Facts{}, nil)
	require.NotNil(t, p, findings)
	return p
}

// do runs the plan for the n-th time.
func (w *world) do(ctx context.Context, t *testing.T, n int, text string) error {
	p := planned(t, text)
	g, findings := schedule.New(p)
	require.NotNil(t, g, findings)
	w.mu.Lock()
	w.log, w.seen = nil, map[schedule.Cell][]string{}
	w.mu.Unlock()
	r := &run.Run{N: n, Plan: p, Graph: g, Image: "digest", Substrate: w, Record: w, Values: w, Secrets: &mask.Set{}, Watcher: w, Clock: w}
	return r.Do(ctx)
}

// before tells whether one thing happened before another.
func (w *world) before(t *testing.T, first, second string) {
	t.Helper()
	a, b := slices.Index(w.log, first), slices.Index(w.log, second)
	assert.GreaterOrEqual(t, a, 0, "%q never happened: %v", first, w.log)
	assert.Less(t, a, b, "%q came not before %q: %v", first, second, w.log)
}

func TestOrderAndValues(t *testing.T) {
	w := newWorld()
	w.probes["council-3"] = 3
	require.NoError(t, w.do(t.Context(), t, 1, desk))
	w.before(t, "prepare on council-1", "found on council-1")
	w.before(t, "start cairn on council-1", "found on council-1")
	w.before(t, "found on council-1", "join on council-2")
	w.before(t, "join on council-3", "door on gate-1")
	w.before(t, "start clock on council-2", "prepare on council-2") // no step names it
	assert.Contains(t, w.log, "join on council-2 sees ticket=S3CRET-TICKET")
	assert.Equal(t, []string{api.Waiting, api.Running, api.Done}, w.seen[schedule.Cell{Step: "join", Node: "council-3"}])
	assert.True(t, w.reason["ticket from council-1"])
	assert.True(t, slices.ContainsFunc(slices.Collect(maps.Keys(w.reason)), func(r string) bool {
		return strings.HasPrefix(r, "connection refused, ") && strings.HasSuffix(r, " s of 10")
	}))
	for node, state := range w.states {
		assert.Equal(t, api.Ready, state, node)
	}
}

func TestReuse(t *testing.T) {
	w := newWorld()
	require.NoError(t, w.do(t.Context(), t, 1, desk))
	require.NoError(t, w.do(t.Context(), t, 2, desk))
	for _, line := range w.log {
		assert.True(t, strings.HasPrefix(line, "start ") || strings.HasPrefix(line, "held on "), "ran again: %s", line)
	}
	// Of a changed script, what it gave and what took that are due.
	require.NoError(t, w.do(t.Context(), t, 3, strings.Replace(desk, "run: join", "run: join --anew", 1)))
	assert.Contains(t, w.log, "join on council-2")
	assert.NotContains(t, w.log, "found on council-1")
	assert.NotContains(t, w.log, "prepare on council-2")
	assert.Equal(t, 1, w.cells[schedule.Cell{Step: "prepare", Node: "gate-1"}].Run)
	assert.Equal(t, 3, w.cells[schedule.Cell{Step: "join", Node: "council-2"}].Run)
}

// Each cell fails once: what does not depend on it is done, what does is not
// begun, and the next run does exactly what is left.
func TestEachFails(t *testing.T) {
	p := planned(t, desk)
	g, _ := schedule.New(p)
	for i, cell := range g.Cells {
		t.Run(strings.ReplaceAll(cell.String(), " ", "-"), func(t *testing.T) {
			w := newWorld()
			w.broken[cell.String()] = "it broke"
			err := w.do(t.Context(), t, 1, desk)
			require.ErrorContains(t, err, "step "+cell.Step+" on "+cell.Node+": exit code 3")
			assert.NotContains(t, err.Error(), "S3CRET")
			depends := map[int]bool{i: true}
			for range g.Cells {
				for j := range g.Cells {
					depends[j] = depends[j] || slices.ContainsFunc(g.Needs(j), func(n int) bool { return depends[n] })
				}
			}
			for j, other := range g.Cells {
				state := w.cells[other].State
				switch {
				case j == i:
					assert.Equal(t, api.Failed, state)
				case depends[j]:
					assert.Empty(t, state, "%s was begun", other)
				default:
					assert.Equal(t, api.Done, state, "%s", other)
				}
			}
			assert.Equal(t, api.Failed, w.states[cell.Node])
			delete(w.broken, cell.String())
			require.NoError(t, w.do(t.Context(), t, 2, desk))
			ran := 0
			for j, other := range g.Cells {
				assert.Equal(t, api.Done, w.cells[other].State)
				if slices.Contains(w.log, other.String()) {
					ran++
					assert.True(t, depends[j], "%s ran again", other)
				}
			}
			assert.Equal(t, len(depends)-count(depends, false), ran)
		})
	}
}

func count(all map[int]bool, value bool) (n int) {
	for _, v := range all {
		if v == value {
			n++
		}
	}
	return n
}

func TestNodeCannotBeMade(t *testing.T) {
	w := newWorld()
	w.made["council-2"] = fmt.Errorf("%w: no runtime", substrate.ErrWorkstation)
	err := w.do(t.Context(), t, 1, desk)
	assert.ErrorIs(t, err, substrate.ErrWorkstation)
	assert.Equal(t, api.Failed, w.states["council-2"])
	assert.Equal(t, api.Ready, w.states["council-3"])
	assert.NotContains(t, w.log, "door on gate-1")
	assert.True(t, w.reason["the node is failed"])
}

func TestWaitEnds(t *testing.T) {
	w := newWorld()
	w.probes["council-2"] = 1 << 20
	err := w.do(t.Context(), t, 1, desk)
	assert.ErrorContains(t, err, "waited 10s, and still: connection refused")
}

func TestCancelled(t *testing.T) {
	w := newWorld()
	ctx, cancel := context.WithCancelCause(t.Context())
	cancel(run.ErrCancelled)
	assert.ErrorIs(t, w.do(ctx, t, 1, desk), run.ErrCancelled)
	assert.Empty(t, w.log)
}

// A run that a keeper left in the middle asks for the same jobs by the same
// names; a later run asks by others.
func TestResumes(t *testing.T) {
	w := newWorld()
	w.broken["found on council-1"] = "x"
	require.Error(t, w.do(t.Context(), t, 1, desk))
	cell := schedule.Cell{Step: "found", Node: "council-1"}
	c := w.cells[cell]
	c.State = api.Running
	w.cells[cell] = c
	delete(w.broken, "found on council-1")
	require.NoError(t, w.do(t.Context(), t, 1, desk))
	assert.True(t, w.cells[cell].Started.Equal(c.Started), "its time goes on")
	assert.True(t, w.jobs["found.run1 council-1"])
	assert.False(t, w.jobs["found.run2 council-1"])
}

func TestFacts(t *testing.T) {
	p := planned(t, "lab: desk\nnetworks: {valley: {subnet: 10.61.0.0/24}, far-ridge: {subnet: 10.62.0.0/24}}\ngroups:\n  council: {count: 2, networks: {valley: .11, far-ridge: .11}}\n  field: {networks: {far-ridge: .21}}\n")
	node, _ := p.Node("council-2")
	assert.Equal(t, []string{
		"ADDRESS=10.61.0.12", "ADDRESSES_COUNCIL=10.61.0.11 10.61.0.12", "ADDRESSES_FIELD=10.62.0.21", "ADDRESS_FAR_RIDGE=10.62.0.12", "ADDRESS_VALLEY=10.61.0.12",
		"COUNT=2", "GROUP=council", "INDEX=2", "LAB=desk", "NODE=council-2", "NODES_COUNCIL=council-1 council-2", "NODES_FIELD=field-1",
	}, run.Environment(p, node))
	field, _ := p.Node("field-1")
	assert.Contains(t, run.Hosts(p, field), "10.62.0.11 council-1 council-1.desk.internal council council.desk.internal\n", "a name leads to the network that both are on")
	assert.Contains(t, run.Hosts(p, node), "10.61.0.11 council-1 ")
	sixes := planned(t, "lab: desk\nnetworks: {valley: {subnet: [10.61.0.0/24, fd61::/64]}, ridge: {subnet: fd62::/64}}\ngroups: {council: {networks: {valley: .11, ridge: .11}}, field: {networks: {ridge: .21}}}\n")
	both, _ := sixes.Node("council-1")
	env := strings.Join(run.Environment(sixes, both), "\n") + "\n"
	for _, want := range []string{"ADDRESS=10.61.0.11", "ADDRESS6=fd61::11", "ADDRESS6_VALLEY=fd61::11", "ADDRESS_RIDGE=fd62::11", "ADDRESS6_RIDGE=fd62::11", "ADDRESSES6_COUNCIL=fd61::11", "ADDRESSES_FIELD=fd62::21", "ADDRESSES6_FIELD=fd62::21"} {
		assert.Contains(t, env, want+"\n")
	}
	assert.Contains(t, run.Hosts(sixes, both), "10.61.0.11 council-1 council-1.desk.internal council council.desk.internal\nfd61::11 council-1 ")
	assert.Contains(t, run.Hosts(sixes, both), "fd62::21 field-1 ")
	var facts map[string]any
	require.NoError(t, json.Unmarshal(run.Facts(sixes, both), &facts))
	assert.Equal(t, map[string]any{"valley": "fd61::/64"}, facts["networks6"])
	require.NoError(t, json.Unmarshal(run.Facts(p, node), &facts))
	assert.Equal(t, "council-2", facts["node"])
	assert.Len(t, facts["nodes"], 3)
}

// files stand beside the lab files of these tests.
func files(name string) ([]byte, error) {
	return []byte(map[string]string{
		"hello.sh":  "#!/bin/sh\necho hello\n",
		"door.tmpl": "{{.node}} of {{.count}} listens on {{.address}}; ticket {{.values.ticket}}; far {{.inputs.far}}; {{range .nodes}}{{.name}} {{end}}\n",
		"bad.tmpl":  "{{.nobody}}\n",
	}[name]), nil
}

func TestRetry(t *testing.T) {
	const text = desk + "  late: {on: gate, run: late, retry: {times: 2, pause: 5s}}\n"
	w := newWorld()
	w.fails["late on gate-1"] = 2
	require.NoError(t, w.do(t.Context(), t, 1, text))
	assert.Equal(t, 3, times(w.log, "late on gate-1"))
	assert.True(t, w.reason["exit code 7; try 2 of 3 in 5s"])
	assert.True(t, w.jobs["late.run1.try3 gate-1"])

	w = newWorld()
	w.fails["late on gate-1"] = 5
	require.ErrorContains(t, w.do(t.Context(), t, 1, text), "exit code 7, the last of 3 tries")
	assert.Equal(t, 3, times(w.log, "late on gate-1"))
}

func times(log []string, line string) int {
	n := 0
	for _, l := range log {
		if l == line {
			n++
		}
	}
	return n
}

func TestAtOnce(t *testing.T) {
	for limit := 1; limit <= 3; limit++ {
		w := newWorld()
		w.held = make(chan struct{})
		ended := make(chan error)
		text := fmt.Sprintf("lab: desk\ngroups: {node: {count: 6}}\nsteps: {one: {on: all, run: x, at-once: %d}}\n", limit)
		go func() { ended <- w.do(t.Context(), t, 1, text) }()
		require.Eventually(t, func() bool {
			w.mu.Lock()
			defer w.mu.Unlock()
			return w.reason[fmt.Sprintf("its turn: %d at once", limit)]
		}, 10*time.Second, time.Millisecond)
		for left := 6; left > 0; left-- {
			require.Eventually(t, func() bool { w.mu.Lock(); defer w.mu.Unlock(); return w.busy["one"] == min(limit, left) }, 10*time.Second, time.Millisecond)
			w.held <- struct{}{}
		}
		require.NoError(t, <-ended)
		assert.Equal(t, limit, w.most["one"])
	}
}

func TestPutAndVariables(t *testing.T) {
	const text = `
lab: desk
inputs: {far: yonder}
networks: {valley: {subnet: 10.61.0.0/24, reserve: {service: .200-.209}}}
groups: {council: {count: 2}}
steps:
  found: {on: council-1, run: found, gives: [ticket]}
  door:
    on: council-2
    takes: ticket
    put: {door.tmpl: /etc/door.conf, hello.sh: /opt/hello}
    run: door
    env: {MOOD: calm}
`
	lab, findings := labfile.Parse([]byte(text), files)
	require.NotNil(t, lab, findings.Text("x", []byte(text)))
	p, _ := plan.Make(lab, plan.Where{}, workstation.Facts{}, nil)
	require.NotNil(t, p)
	w := newWorld()
	do := func(p *plan.Plan, n int) error {
		g, _ := schedule.New(p)
		return (&run.Run{N: n, Plan: p, Graph: g, Substrate: w, Record: w, Values: w, Secrets: &mask.Set{}, Watcher: w, Clock: w}).Do(t.Context())
	}
	require.NoError(t, do(p, 1))
	assert.Equal(t, "644 council-2 of 2 listens on 10.61.0.12; ticket S3CRET-TICKET; far yonder; council-1 council-2 \n", w.files["council-2/etc/door.conf"])
	assert.Equal(t, "755 #!/bin/sh\necho hello\n", w.files["council-2/opt/hello"])
	assert.Contains(t, w.log, "door on council-2 sees MOOD=calm")
	node, _ := p.Node("council-1")
	env := run.Environment(p, node)
	assert.Contains(t, env, "INPUT_FAR=yonder")
	assert.Contains(t, env, "RESERVE_SERVICE=10.61.0.200-10.61.0.209")

	// The same files are the same step, others are due.
	w.log = nil
	require.NoError(t, do(p, 2))
	assert.NotContains(t, w.log, "put on council-2")
	p.Steps[1].Put[1].Content = []byte("#!/bin/sh\necho changed\n")
	require.NoError(t, do(p, 3))
	assert.Contains(t, w.log, "put on council-2")

	p.Steps[1].Put[0].Content = []byte("{{.nobody}}")
	require.ErrorContains(t, do(p, 4), "filling template")
}

// A node more makes due what runs on it and what names it, and nothing else;
// a node whose disk is another one begins anew.
func TestWhatIsDue(t *testing.T) {
	text := func(count int) string {
		return fmt.Sprintf("lab: desk\ngroups: {council: {count: %d}, gate: {networks: {lab: .80}}}\nsteps: {plain: {on: council, run: plain}, asks: {on: gate, run: 'ping $NODES_COUNCIL'}, deaf: {on: gate, run: 'echo $ADDRESS'}}\n", count)
	}
	w := newWorld()
	require.NoError(t, w.do(t.Context(), t, 1, text(2)))
	require.NoError(t, w.do(t.Context(), t, 2, text(3)))
	ran := func() []string {
		return slices.DeleteFunc(slices.Clone(w.log), func(line string) bool { return strings.Contains(line, " sees ") })
	}
	assert.ElementsMatch(t, []string{"plain on council-3", "asks on gate-1"}, ran())
	assert.Contains(t, w.files["council-1/etc/hosts"], "council-3", "those who stay know the newcomer's name")

	w.born["council-2"] = "another disk"
	require.NoError(t, w.do(t.Context(), t, 3, text(3)))
	assert.Equal(t, []string{"plain on council-2"}, ran())
}

// While the workstation is pressed no more begins than the floor allows, the
// reason is told, and all comes to its end.
func TestPressure(t *testing.T) {
	w := newWorld()
	p := planned(t, "lab: desk\ngroups: {node: {count: 12}}\nsteps: {one: {on: all, run: x}, two: {on: all, wait: {port: 80}}}\n")
	g, _ := schedule.New(p)
	asked := 0
	w.held, w.still = make(chan struct{}), true
	r := &run.Run{N: 1, Plan: p, Graph: g, Substrate: w, Record: w, Values: w, Secrets: &mask.Set{}, Watcher: w, Clock: w, Floor: 2,
		Pressure: func() string { asked++; return "the disk is busy" }}
	ended := make(chan error)
	go func() { ended <- r.Do(t.Context()) }()
	for range 12 {
		time.Sleep(5 * time.Millisecond) // so that more would begin, if they could
		w.held <- struct{}{}
	}
	require.NoError(t, <-ended)
	assert.LessOrEqual(t, w.most["one"], 2)
	assert.True(t, w.reason["holding: the disk is busy"])
	assert.Positive(t, asked)
	for node, state := range w.states {
		assert.Equal(t, api.Ready, state, node)
	}
}

// What presses may be somebody else's and last: nothing is held for ever.
func TestPressureThatStays(t *testing.T) {
	w := newWorld()
	p := planned(t, "lab: desk\ngroups: {node: {count: 4}}\nsteps: {one: {on: all, run: x}}\n")
	g, _ := schedule.New(p)
	w.held = make(chan struct{})
	r := &run.Run{N: 1, Plan: p, Graph: g, Substrate: w, Record: w, Values: w, Secrets: &mask.Set{}, Watcher: w, Clock: w, Floor: 1,
		Pressure: func() string { return "memory is short" }}
	ended := make(chan error)
	go func() { ended <- r.Do(t.Context()) }()
	// The first holds the place; the others are let in as time passes.
	require.Eventually(t, func() bool { w.mu.Lock(); defer w.mu.Unlock(); return w.busy["one"] == 4 }, 10*time.Second, time.Millisecond)
	for range 4 {
		w.held <- struct{}{}
	}
	require.NoError(t, <-ended)
}
