package server_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"kettlehole/internal/agent"
	"kettlehole/internal/agent/server"
)

// folderVariable makes this test program an init that serves in a folder.
const folderVariable = "KETTLEHOLE_TEST_INIT_FOLDER"

func TestMain(m *testing.M) {
	folder := os.Getenv(folderVariable)
	if folder == "" {
		os.Exit(m.Run())
	}
	if err := serveIn(folder); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func serveIn(folder string) error {
	if err := unix.Prctl(unix.PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0); err != nil {
		return err
	}
	s, err := server.New(server.Options{Run: filepath.Join(folder, "run"), Logs: filepath.Join(folder, "log")})
	if err != nil {
		return err
	}
	listener, err := net.Listen("unix", filepath.Join(folder, "sock"))
	if err != nil {
		return err
	}
	return s.Serve(listener)
}

type node struct {
	agent.Client
	folder string
	t      *testing.T
}

func start(t *testing.T) node {
	folder, err := os.MkdirTemp("", "init") // short, for the socket's path
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, os.RemoveAll(folder)) })
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), folderVariable+"="+folder)
	cmd.Stderr = os.Stderr
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	n := node{t: t, folder: folder, Client: agent.Client{Dial: func(ctx context.Context) (net.Conn, error) {
		var d net.Dialer
		return d.DialContext(ctx, "unix", filepath.Join(folder, "sock"))
	}}}
	require.Eventually(t, func() bool { return n.ask(agent.Request{Op: agent.OpHello}) == nil }, 10*time.Second, 5*time.Millisecond)
	n.configure(agent.Configure{})
	return n
}

func (n node) ask(r agent.Request) error {
	_, err := n.Do(n.t.Context(), r)
	return err
}

func (n node) configure(c agent.Configure) {
	c.Env = append(c.Env, "PATH="+os.Getenv("PATH"), "ADDRESS=127.0.0.1")
	require.NoError(n.t, n.ask(agent.Request{Op: agent.OpConfigure, Configure: &c}))
}

func (n node) log(name string) string {
	text, err := os.ReadFile(filepath.Join(n.folder, "log", name))
	require.NoError(n.t, err)
	return string(text)
}

// bare is a log without its time stamps.
func bare(log string) string {
	var lines []string
	for _, line := range strings.Split(strings.TrimSuffix(log, "\n"), "\n") {
		_, text, _ := strings.Cut(line, " ")
		lines = append(lines, text)
	}
	return strings.Join(lines, "\n")
}

func (n node) job(j agent.Job) agent.JobResult {
	if j.Limit == 0 {
		j.Limit = int64(20 * time.Second)
	}
	if j.Log == "" {
		j.Log = j.ID + ".log"
	}
	r, err := n.Job(n.t.Context(), j)
	require.NoError(n.t, err)
	return r
}

func TestJobs(t *testing.T) {
	n := start(t)
	r := n.job(agent.Job{ID: "good", Script: "echo one; echo two >&2; echo ticket=a=b >> $GIVES", Gives: []string{"ticket"}})
	assert.Equal(t, agent.JobResult{Values: map[string]string{"ticket": "a=b"}, Tail: "one\ntwo"}, r)
	assert.Equal(t, "one\ntwo", bare(n.log("good.log")))
	r = n.job(agent.Job{ID: "exit", Script: "echo last words; exit 7"})
	assert.Equal(t, 7, r.Exit)
	assert.Equal(t, "last words", r.Tail)
	assert.Equal(t, 1, n.job(agent.Job{ID: "first", Script: "false\necho not reached"}).Exit, "a script ends at its first failure")
	assert.Equal(t, 128+9, n.job(agent.Job{ID: "signal", Script: "kill -9 $$"}).Exit)
	assert.Equal(t, "value", n.job(agent.Job{ID: "env", Script: "#!/bin/sh\necho $name", Env: []string{"name=value"}}).Tail)
	r = n.job(agent.Job{ID: "none", Script: "true", Gives: []string{"ticket"}})
	assert.Equal(t, -1, r.Exit)
	assert.Contains(t, r.Reason, "gave no ticket")
	r = n.job(agent.Job{ID: "other", Script: "echo x=1 >> $GIVES"})
	assert.Contains(t, r.Reason, "does not declare")
	assert.NotZero(t, n.job(agent.Job{ID: "interpreter", Script: "#!/no/such\n"}).Exit)
}

// Asked again by the same name, a job is waited for and not run again, also
// by one who comes while it runs.
func TestJobRunsOnce(t *testing.T) {
	n := start(t)
	var all sync.WaitGroup
	for range 5 {
		all.Go(func() {
			r, err := n.Job(t.Context(), agent.Job{ID: "once", Log: "once.log", Limit: int64(time.Minute), Script: "echo run; sleep 0.3"})
			assert.NoError(t, err)
			assert.Equal(t, "run", r.Tail)
		})
	}
	all.Wait()
	assert.Equal(t, "run", bare(n.log("once.log")))
	// Whoever asked may go away; the job goes on.
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	_, err := n.Job(ctx, agent.Job{ID: "left", Log: "left.log", Limit: int64(time.Minute), Script: "sleep 0.4; echo ended"})
	assert.ErrorIs(t, err, context.DeadlineExceeded)
	assert.Equal(t, "ended", n.job(agent.Job{ID: "left"}).Tail)
}

// A job is ended with its whole tree of processes, also those that left its
// session.
func TestJobEnds(t *testing.T) {
	n := start(t)
	script := "echo $$ > pids; setsid sh -c 'echo $$ >> pids; sleep 60' & (trap '' TERM; sleep 61) & sleep 62"
	script = strings.ReplaceAll(script, "pids", filepath.Join(n.folder, "pids"))
	go func() {
		time.Sleep(300 * time.Millisecond)
		_, _ = n.Do(context.Background(), agent.Request{Op: agent.OpCancel, Job: &agent.Job{ID: "tree"}})
	}()
	r := n.job(agent.Job{ID: "tree", Script: script})
	assert.Equal(t, "cancelled", r.Reason)
	assert.NotZero(t, r.Exit)
	text, err := os.ReadFile(filepath.Join(n.folder, "pids"))
	require.NoError(t, err)
	for _, pid := range strings.Fields(string(text)) {
		_, err := os.Stat("/proc/" + pid)
		assert.ErrorIs(t, err, os.ErrNotExist)
	}
	r = n.job(agent.Job{ID: "late", Script: "sleep 60", Limit: int64(200 * time.Millisecond)})
	assert.Equal(t, "not done after 200ms", r.Reason)
}

// A secret is nowhere in a log: printed before it is given, in the middle of a
// line, cut in two, or by a later job.
func TestSecrets(t *testing.T) {
	n := start(t)
	const secret = "K7Q2-winter-9981"
	r := n.job(agent.Job{ID: "gives", Gives: []string{"ticket"}, Hold: []string{"ticket"}, Script: `
echo the ticket is ` + secret + `
printf 'cut K7Q2-win'; sleep 0.1; echo 'ter-9981 in two'
echo ticket=` + secret + ` >> $GIVES
echo 1>&2 error: ` + secret})
	assert.Equal(t, secret, r.Values["ticket"])
	assert.NotContains(t, r.Tail, secret)
	assert.Contains(t, r.Tail, "cut •••••••• in two")
	assert.NotContains(t, n.log("gives.log"), secret)
	r = n.job(agent.Job{ID: "takes", Env: []string{"ticket=" + secret}, Script: "echo $ticket; exit 1"})
	assert.Equal(t, "••••••••", r.Tail)
	n.configure(agent.Configure{Services: []agent.Service{{Name: "talker", Run: "sh -c 'echo " + secret + "; sleep 60'"}}})
	require.NoError(t, n.ask(agent.Request{Op: agent.OpStart, Service: "talker"}))
	require.Eventually(t, func() bool {
		text, _ := os.ReadFile(filepath.Join(n.folder, "log", "talker.log"))
		return strings.Contains(string(text), "••••••••")
	}, 5*time.Second, 10*time.Millisecond)
	assert.NotContains(t, n.log("talker.log"), secret)
}

// Much output, and output that is no text, goes to the log as it is and does
// not fill the memory.
func TestMuchOutput(t *testing.T) {
	n := start(t)
	r := n.job(agent.Job{ID: "much", Script: `i=0; while [ $i -lt 70 ]; do head -c 1000000 /dev/zero | tr '\0' 'x'; echo; i=$((i+1)); done; printf 'bad \377\376 end'`})
	require.Zero(t, r.Exit, r.Reason)
	assert.True(t, strings.HasSuffix(r.Tail, "bad \uFFFD end"), "%q", r.Tail[max(0, len(r.Tail)-20):])
	assert.Less(t, len(r.Tail), 10_000)
	var size int64
	for _, name := range []string{"much.log", "much.log.1"} {
		info, err := os.Stat(filepath.Join(n.folder, "log", name))
		require.NoError(t, err)
		size += info.Size()
	}
	assert.Less(t, size, int64(70<<20), "what is older is left out")
	held := n.job(agent.Job{ID: "held", Script: `head -c 3000000 /dev/zero | tr '\0' 'y'; echo t=secret >> $GIVES`, Gives: []string{"t"}, Hold: []string{"t"}})
	require.Zero(t, held.Exit)
	assert.Contains(t, n.log("held.log"), "bytes left out")
}

func TestServices(t *testing.T) {
	n := start(t)
	n.configure(agent.Configure{Services: []agent.Service{{Name: "steady", Run: "sleep 60"}, {Name: "brittle", Run: "sh -c 'echo up; exit 3'"}}})
	assert.Error(t, n.ask(agent.Request{Op: agent.OpStart, Service: "nobody"}))
	var mu sync.Mutex
	now := map[string]agent.Status{}
	ctx, cancel := context.WithCancel(t.Context())
	watched := make(chan struct{})
	go func() {
		_ = n.Watch(ctx, func(s agent.Status) { mu.Lock(); defer mu.Unlock(); now[s.Service] = s })
		close(watched)
	}()
	status := func(name string) agent.Status { mu.Lock(); defer mu.Unlock(); return now[name] }
	for _, name := range []string{"steady", "steady", "brittle"} {
		require.NoError(t, n.ask(agent.Request{Op: agent.OpStart, Service: name}))
	}
	require.Eventually(t, func() bool { return status("steady").State == "running" && status("brittle").Starts >= 3 }, 10*time.Second, 10*time.Millisecond)
	assert.Equal(t, 1, status("steady").Starts, "one that runs is left alone")
	assert.Contains(t, status("brittle").Last, "ended with code 3")
	first := status("steady").PID
	require.NoError(t, unix.Kill(first, unix.SIGKILL))
	require.Eventually(t, func() bool { s := status("steady"); return s.State == "running" && s.PID != first }, 5*time.Second, 10*time.Millisecond)
	require.NoError(t, n.ask(agent.Request{Op: agent.OpStop, Service: "steady"}))
	require.NoError(t, n.ask(agent.Request{Op: agent.OpStop, Service: "steady"}), "twice is no error")
	require.Eventually(t, func() bool { return status("steady").State == "stopped" }, 5*time.Second, 10*time.Millisecond)
	cancel()
	<-watched
}

func TestExec(t *testing.T) {
	n := start(t)
	out, code, err := n.Run(t.Context(), 100, "sh", "-c", "echo hello; exit 4")
	require.NoError(t, err)
	assert.Equal(t, "hello\n", out)
	assert.Equal(t, 4, code)
	_, _, err = n.Run(t.Context(), 100, "no-such-program")
	var refused *agent.Refused
	assert.ErrorAs(t, err, &refused)
	s, err := n.Exec(t.Context(), agent.Exec{Argv: []string{"sh", "-c", "cat; echo $MORE >&2"}, Env: []string{"MORE=more"}})
	require.NoError(t, err)
	input := bytes.Repeat([]byte("0123456789abcdef"), 20_000)
	go func() { _, _ = s.Write(input); _ = s.CloseInput() }()
	var stdout, stderr bytes.Buffer
	code, err = s.Wait(&stdout, &stderr)
	require.NoError(t, err)
	assert.Zero(t, code)
	assert.Equal(t, input, stdout.Bytes())
	assert.Equal(t, "more\n", stderr.String())
	s, err = n.Exec(t.Context(), agent.Exec{Argv: []string{"sleep", "60"}})
	require.NoError(t, err)
	require.NoError(t, s.Signal(byte(unix.SIGTERM)))
	code, err = s.Wait(&stdout, &stderr)
	require.NoError(t, err)
	assert.Equal(t, 128+15, code)
}

func TestTerminal(t *testing.T) {
	n := start(t)
	s, err := n.Exec(t.Context(), agent.Exec{Argv: []string{"sh", "-c", "stty size; read line; stty size; echo got $line"}, TTY: true, Rows: 33, Cols: 99})
	require.NoError(t, err)
	var out bytes.Buffer
	ended := make(chan int)
	go func() { code, _ := s.Wait(&out, &out); ended <- code }()
	time.Sleep(200 * time.Millisecond)
	require.NoError(t, s.Resize(40, 120))
	_, err = s.Write([]byte("typed\n"))
	require.NoError(t, err)
	assert.Zero(t, <-ended)
	for _, want := range []string{"33 99", "40 120", "got typed"} {
		assert.Contains(t, out.String(), want)
	}
	// A person who goes away takes the program along.
	s, err = n.Exec(t.Context(), agent.Exec{Argv: []string{"sh", "-c", "echo $$ > " + n.folder + "/pid; sleep 60"}, TTY: true})
	require.NoError(t, err)
	var pid []byte
	require.Eventually(t, func() bool { pid, _ = os.ReadFile(n.folder + "/pid"); return len(pid) > 0 }, 5*time.Second, 5*time.Millisecond)
	require.NoError(t, s.Close())
	assert.Eventually(t, func() bool { _, err := os.Stat("/proc/" + strings.TrimSpace(string(pid))); return err != nil }, 5*time.Second, 5*time.Millisecond)
}

func TestProbesAndDial(t *testing.T) {
	n := start(t)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	port := uint16(listener.Addr().(*net.TCPAddr).Port)
	for _, c := range []struct {
		probe agent.Probe
		held  bool
		seen  string
	}{
		{agent.Probe{Port: port}, true, ""},
		{agent.Probe{File: n.folder}, true, ""},
		{agent.Probe{File: n.folder + "/none"}, false, "is not there"},
		{agent.Probe{Run: "true"}, true, ""},
		{agent.Probe{Run: "echo not yet >&2; exit 3"}, false, "exit code 3: not yet"},
		{agent.Probe{Run: "exit 1"}, false, "exit code 1: no word"},
	} {
		got, err := n.Probe(t.Context(), c.probe)
		require.NoError(t, err)
		assert.Equal(t, c.held, got.Held, "%v", c.probe)
		assert.Contains(t, got.Seen, c.seen)
	}
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			_, _ = conn.Write([]byte("welcome"))
			_ = conn.Close()
		}
	}()
	conn, err := n.DialPort(t.Context(), port)
	require.NoError(t, err)
	_, isTCP := conn.(*net.TCPConn)
	assert.True(t, isTCP)
	var got bytes.Buffer
	_, err = got.ReadFrom(conn)
	require.NoError(t, err)
	assert.Equal(t, "welcome", got.String())
	require.NoError(t, conn.Close())
	require.NoError(t, listener.Close())
	_, err = n.DialPort(t.Context(), port)
	assert.ErrorContains(t, err, "connection refused")
	seen, err := n.Probe(t.Context(), agent.Probe{Port: port})
	require.NoError(t, err)
	assert.Contains(t, seen.Seen, "connection refused")
}

func TestBrokenRequests(t *testing.T) {
	n := start(t)
	for _, line := range []string{"not json\n", "{\"op\":\"nothing\"}\n", "{\"op\":\"job\"}\n", "{\"op\":\"exec\"}\n", "{\"op\":\"exec\",\"exec\":{}}\n", "{\"op\":\"dial\"}\n"} {
		conn, err := n.Dial(t.Context())
		require.NoError(t, err)
		_, err = conn.Write([]byte(line))
		require.NoError(t, err)
		require.NoError(t, conn.SetReadDeadline(time.Now().Add(5*time.Second)))
		answer := make([]byte, 500)
		size, err := conn.Read(answer)
		require.NoError(t, err)
		assert.Contains(t, string(answer[:size]), `"error":`, line)
		require.NoError(t, conn.Close())
	}
	assert.NoError(t, n.ask(agent.Request{Op: agent.OpHello}), "it goes on")
}

func FuzzFrames(f *testing.F) {
	var good bytes.Buffer
	_ = agent.WriteFrame(&good, agent.FrameInput, []byte("hello"))
	f.Add(good.Bytes())
	f.Add([]byte{'i', 0xff, 0xff, 0xff, 0xff})
	f.Fuzz(func(t *testing.T, data []byte) {
		reader := bytes.NewReader(data)
		for {
			_, content, err := agent.ReadFrame(reader, nil)
			if err != nil {
				return
			}
			if len(content) > agent.MaxFrame {
				t.Fatal("a frame larger than allowed")
			}
		}
	})
}

func TestPut(t *testing.T) {
	n := start(t)
	target := filepath.Join(n.folder, "new", "folder", "file")
	for _, content := range []string{"one", "two"} {
		require.NoError(t, n.ask(agent.Request{Op: agent.OpPut, Files: []agent.File{{Path: target, Content: []byte(content), Mode: 0o750}}}))
		text, err := os.ReadFile(target)
		require.NoError(t, err)
		assert.Equal(t, content, string(text))
	}
	info, err := os.Stat(target)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o750), info.Mode())
	entries, err := os.ReadDir(filepath.Dir(target))
	require.NoError(t, err)
	assert.Len(t, entries, 1) // nothing half-made stays
	for _, path := range []string{"relative", filepath.Join(target, "below-a-file"), filepath.Dir(target)} {
		assert.Error(t, n.ask(agent.Request{Op: agent.OpPut, Files: []agent.File{{Path: path}}}), path)
	}
}

func TestProbeServiceAndName(t *testing.T) {
	n := start(t)
	n.configure(agent.Configure{Services: []agent.Service{{Name: "steady", Run: "sleep 60"}, {Name: "brief", Run: "false"}, {Name: "idle", Run: "sleep 60"}}})
	require.NoError(t, n.ask(agent.Request{Op: agent.OpStart, Service: "steady"}))
	require.NoError(t, n.ask(agent.Request{Op: agent.OpStart, Service: "brief"}))
	look := func(p agent.Probe) agent.ProbeResult {
		r, err := n.Probe(t.Context(), p)
		require.NoError(t, err)
		return r
	}
	assert.Eventually(t, func() bool { return look(agent.Probe{Service: "steady"}).Held }, 10*time.Second, 50*time.Millisecond)
	assert.False(t, look(agent.Probe{Service: "brief"}).Held)
	assert.Contains(t, look(agent.Probe{Service: "idle"}).Seen, "service idle is stopped")
	assert.Contains(t, look(agent.Probe{Service: "none"}).Seen, "no service")
	assert.True(t, look(agent.Probe{Name: "localhost"}).Held)
	assert.Contains(t, look(agent.Probe{Name: "a..b"}).Seen, "has no address")
}

func TestDialAddress(t *testing.T) {
	n := start(t)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer listener.Close()
	go func() {
		if conn, err := listener.Accept(); err == nil {
			_, _ = conn.Write([]byte("hello"))
			_ = conn.Close()
		}
	}()
	conn, err := n.DialAddress(t.Context(), listener.Addr().String())
	require.NoError(t, err)
	defer conn.Close()
	got, err := io.ReadAll(conn)
	require.NoError(t, err)
	assert.Equal(t, "hello", string(got))
	_, err = n.DialAddress(t.Context(), "127.0.0.1:1")
	assert.ErrorContains(t, err, "connection refused")
}

// What a service runs is a shell's command line, of one command or several;
// one whose command line changed is started again, one that is no longer
// wanted ends.
func TestServiceChanges(t *testing.T) {
	n := start(t)
	file := filepath.Join(n.folder, "said")
	says := func() string { text, _ := os.ReadFile(file); return string(text) }
	n.configure(agent.Configure{Services: []agent.Service{{Name: "one", Run: "cd / && word=first; echo $word > " + file + "; sleep 60"}}})
	require.NoError(t, n.ask(agent.Request{Op: agent.OpStart, Service: "one"}))
	require.Eventually(t, func() bool { return says() == "first\n" }, 10*time.Second, 5*time.Millisecond)
	n.configure(agent.Configure{Services: []agent.Service{{Name: "one", Run: "while :; do echo second > " + file + "; sleep 0.02; done"}}})
	require.Eventually(t, func() bool { return says() == "second\n" }, 10*time.Second, 5*time.Millisecond)
	n.configure(agent.Configure{Services: []agent.Service{{Name: "other", Run: "sleep 60"}}})
	require.Error(t, n.ask(agent.Request{Op: agent.OpStart, Service: "one"}))
	require.Eventually(t, func() bool { // nobody writes any more
		require.NoError(t, os.WriteFile(file, nil, 0o600))
		time.Sleep(100 * time.Millisecond)
		return says() == ""
	}, 10*time.Second, 10*time.Millisecond)
}
