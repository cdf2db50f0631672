// Package measure_test measures what must be quick and small. `make bench`
// runs it; it asserts nothing about time, since that is the machine's to say.
package measure_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kettlehole/internal/agent"
	"kettlehole/internal/anchor"
	"kettlehole/internal/fabric"
	"kettlehole/internal/home"
	"kettlehole/internal/image"
	"kettlehole/internal/ledger"
	"kettlehole/internal/substrate"
	"kettlehole/internal/substrate/container"
	"kettlehole/internal/testbed"
)

// rounds is how often each thing is measured.
const rounds = 5

func ready(t *testing.T) {
	if os.Getenv("KETTLEHOLE_MEASURE") == "" {
		t.Skip("measures only in make bench")
	}
	testbed.Kernel(t)
}

// report prints median, least and most of some durations.
func report(what, wanted string, all []time.Duration) {
	slices.Sort(all)
	fmt.Printf("%-62s median %8.1f ms   min %8.1f   max %8.1f   to reach %s\n", what, ms(all[len(all)/2]), ms(all[0]), ms(all[len(all)-1]), wanted)
}

// reportNumbers prints median, least and most of something else.
func reportNumbers(what, format, wanted string, all []float64) {
	slices.Sort(all)
	fmt.Printf("%-62s median "+format+"      min "+format+"      max "+format+"      to reach %s\n", what, all[len(all)/2], all[0], all[len(all)-1], wanted)
}

func ms(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// TestMeasureNodes: from nothing to nodes made, started, one command executed
// in each, all reached from the first; then all taken away.
func TestMeasureNodes(t *testing.T) {
	ready(t)
	sizes := []int{3, 10, 50, 100}
	wanted := map[int]string{3: "70 ms", 10: "160 ms", 50: "700 ms", 100: "1400 ms"}
	up, down := map[int][]time.Duration{}, map[int][]time.Duration{}
	parts := map[string][]time.Duration{}
	layers := prepare(t)
	bare, yard := map[int][]time.Duration{}, newYardstick(t)
	for range rounds { // interleaved, so that a busy moment hits all sizes alike
		for _, n := range sizes {
			l := &lab{t: t, layers: layers, parts: parts, n: n}
			up[n] = append(up[n], l.up())
			down[n] = append(down[n], l.down())
			bare[n] = append(bare[n], yard.up(n))
		}
	}
	for _, n := range sizes {
		report(fmt.Sprintf("%d nodes made, started, commanded, reached", n), wanted[n], up[n])
	}
	for _, n := range sizes {
		report(fmt.Sprintf("  for comparison: the OCI runtime alone, %d plain containers", n), "-", bare[n])
	}
	for _, n := range sizes {
		report(fmt.Sprintf("%d nodes taken away, until the last process is gone", n), map[bool]string{true: "150 ms", false: "-"}[n == 100], down[n])
	}
	for _, part := range []string{"anchor", "networks", "make", "exec", "reach"} {
		report("  of 100 nodes: "+part, "-", parts[part])
	}
}

func prepare(t *testing.T) []string {
	root, err := image.Workstation(filepath.Join(testbed.Programs(t), "kettlehole-init"), filepath.Join(testbed.Programs(t), "kettlehole-files"))
	require.NoError(t, err)
	layer, err := image.NewStore(t.TempDir()).Layer(t.Context(), root, func(image.Layer) error { return nil })
	require.NoError(t, err)
	return []string{layer.Path}
}

type lab struct {
	t      *testing.T
	layers []string
	parts  map[string][]time.Duration
	n      int
	folder string
	cgroup *container.Cgroup
}

// up makes a lab with the parts that a keeper uses, ledger and all.
func (l *lab) up() time.Duration {
	t, ctx := l.t, l.t.Context()
	state := t.TempDir()
	l.folder = filepath.Join(state, "lab")
	book, err := ledger.Open(filepath.Join(state, "ledger.db"), ledger.Options{Now: time.Now})
	require.NoError(t, err)
	defer book.Close()
	id := fmt.Sprintf("measure-%d-%d", os.Getpid(), time.Now().UnixNano())
	began := time.Now()
	last := began
	part := func(name string) {
		if l.n == 100 {
			l.parts[name] = append(l.parts[name], time.Since(last))
		}
		last = time.Now()
	}
	l.cgroup, err = container.NewCgroup(home.Group(id))
	require.NoError(t, err)
	folder, group := l.folder, l.cgroup
	t.Cleanup(func() { // where the measuring broke off
		_ = anchor.End(context.Background(), folder)
		_ = group.Remove(context.Background())
	})
	require.NoError(t, book.Intend(ctx, "lab", ledger.Entry{Kind: ledger.Anchor, Ref: "anchor"}))
	require.NoError(t, anchor.Start(ctx, filepath.Join(testbed.Programs(t), "kettlehole-anchor"), l.folder, id, func(int) error {
		return book.SetMade(ctx, "lab", ledger.Entry{Kind: ledger.Anchor, Ref: "anchor"})
	}))
	part("anchor")
	c := container.New(l.folder, container.FindRuntime, l.cgroup)
	require.NoError(t, c.Networks(ctx, []fabric.Network{{Name: "valley"}}))
	part("networks")
	var entries []ledger.Entry
	for i := range l.n {
		entries = append(entries, ledger.Entry{Kind: ledger.NodeK, Ref: name(i)})
	}
	require.NoError(t, book.Intend(ctx, "lab", entries...))
	l.each(func(i int) error {
		node := substrate.Node{Name: name(i), Layers: l.layers, CPU: 500, Memory: 64 << 20, Hosts: "127.0.0.1 localhost\n",
			Links: []fabric.Link{{Network: "valley", Name: "eth0", MAC: fmt.Sprintf("02:00:00:00:00:%02x", i+1), Address: netip.PrefixFrom(address(i), 24)}}}
		if _, err := c.Make(ctx, node); err != nil {
			return err
		}
		return book.SetMade(ctx, "lab", entries[i])
	})
	part("make")
	l.each(func(i int) error {
		out, code, err := c.Agent(name(i)).Run(ctx, 100, "hostname")
		if err == nil && (code != 0 || strings.TrimSpace(out) != name(i)) {
			err = fmt.Errorf("%s says %q", name(i), out)
		}
		return err
	})
	part("exec")
	var all []string
	for i := range l.n {
		all = append(all, address(i).String())
	}
	times, err := c.Agent(name(0)).Reach(ctx, all)
	require.NoError(t, err)
	for who, took := range times {
		require.GreaterOrEqual(t, took, int64(0), who)
	}
	part("reach")
	return time.Since(began)
}

func name(i int) string { return fmt.Sprintf("node-%d", i+1) }

func address(i int) netip.Addr { return netip.AddrFrom4([4]byte{10, 61, 0, byte(i + 1)}) }

func (l *lab) each(do func(i int) error) {
	var all sync.WaitGroup
	errs := make([]error, l.n)
	for i := range l.n {
		all.Go(func() { errs[i] = do(i) })
	}
	all.Wait()
	for _, err := range errs {
		require.NoError(l.t, err)
	}
}

func (l *lab) down() time.Duration {
	began := time.Now()
	require.NoError(l.t, anchor.End(context.Background(), l.folder))
	took := time.Since(began)
	require.NoError(l.t, l.cgroup.Remove(context.Background()))
	return took
}

// TestMeasureExec: a command in a node that is there, by the init's socket.
func TestMeasureExec(t *testing.T) {
	ready(t)
	l := &lab{t: t, layers: prepare(t), parts: map[string][]time.Duration{}, n: 1}
	l.up()
	defer l.down()
	client := container.New(l.folder, container.FindRuntime, l.cgroup).Agent(name(0))
	var all []time.Duration
	for range 200 {
		began := time.Now()
		_, code, err := client.Run(t.Context(), 100, "/bin/true")
		require.NoError(t, err)
		require.Zero(t, code)
		all = append(all, time.Since(began))
	}
	report("one command in a node", "about 1 ms", all)
	_, err := client.Do(t.Context(), agent.Request{Op: agent.OpHello})
	require.NoError(t, err)
	time.Sleep(3 * time.Second)
	out, _, err := client.Run(t.Context(), 4000, "sh", "-c", "grep VmRSS /proc/1/status")
	require.NoError(t, err)
	fmt.Printf("%-62s %s   to reach 5 MB\n", "resident memory of a node's init, after 200 commands", strings.Join(strings.Fields(out)[1:], " "))
}

// TestMeasureDemo: the demo by its own command, and what its keeper takes.
func TestMeasureDemo(t *testing.T) {
	ready(t)
	program := filepath.Join(testbed.Programs(t), "kettlehole")
	env := append(os.Environ(), "KETTLEHOLE_HOME="+filepath.Join(t.TempDir(), "home"))
	run := func(args ...string) []byte {
		cmd := exec.Command(program, args...)
		cmd.Env = env
		var errs bytes.Buffer
		cmd.Stderr = &errs
		out, err := cmd.Output()
		require.NoError(t, err, "%s", errs.String())
		return out
	}
	var all []time.Duration
	resident := ""
	for i := range rounds + 1 {
		began := time.Now()
		var state struct{ Forwards []struct{ Listen string } }
		require.NoError(t, json.Unmarshal(run("provision", "--json", testbed.Demo()), &state))
		page := exec.Command("curl", "-sf", "--retry", "20", "--retry-delay", "0", "--retry-all-errors", "http://"+state.Forwards[0].Listen+"/")
		out, err := page.Output()
		require.NoError(t, err)
		require.Contains(t, string(out), "Avalanche desk")
		if i > 0 { // the first makes the image
			all = append(all, time.Since(began))
		}
		time.Sleep(2 * time.Second)
		resident = fmt.Sprintf("%d MB", keeperKilobytes(t, "avalanche-desk")>>10)
		run("teardown", "--yes")
	}
	report("the demo, from the command to six ready and the page answering", "5000 ms", all)
	fmt.Printf("%-62s %s   to reach 30 MB\n", "resident memory of a keeper with six nodes", resident)
}
