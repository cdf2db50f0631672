package server

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"kettlehole/internal/agent"
	"kettlehole/internal/mask"
)

const (
	jobLogLimit  = 32 << 20 // bytes; as much again is kept put aside
	heldLimit    = 512 << 10
	tailLimit    = 4 << 10
	lingerOutput = 300 * time.Millisecond
	cancelGrace  = 2 * time.Second
)

// job is a script that runs or has run.
type job struct {
	done   chan struct{} // closed when result is there
	result agent.JobResult
	stop   chan string // a reason to end it
}

const jobMark = "KETTLEHOLE_JOB="

// job runs a script, or waits for the run with the same id.
func (s *Server) job(want agent.Job) (*agent.JobResult, error) {
	s.changed.L.Lock()
	j := s.jobs[want.ID]
	if j == nil {
		j = &job{done: make(chan struct{}), stop: make(chan string, 1)}
		s.jobs[want.ID] = j
		go func() {
			j.result = s.run(want, j.stop)
			s.rest.Reset(restAfter)
			close(j.done)
		}()
	}
	s.changed.L.Unlock()
	<-j.done
	return &j.result, nil
}

func (s *Server) cancel(id string) error {
	s.changed.L.Lock()
	j := s.jobs[id]
	s.changed.L.Unlock()
	if j == nil {
		return nil
	}
	select {
	case j.stop <- "cancelled":
	default:
	}
	<-j.done
	return nil
}

// run executes a script to its end.
func (s *Server) run(want agent.Job, stop <-chan string) agent.JobResult {
	fail := func(err error) agent.JobResult { return agent.JobResult{Exit: -1, Reason: err.Error()} }
	s.secrets.Add(want.Secrets...)
	folder := filepath.Join(s.options.Run, "jobs", filepath.Base(want.ID))
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return fail(err)
	}
	defer os.RemoveAll(folder)
	script, gives := filepath.Join(folder, "script"), filepath.Join(folder, "gives")
	if err := os.WriteFile(script, []byte(want.Script), 0o700); err != nil {
		return fail(err)
	}
	if err := os.WriteFile(gives, nil, 0o600); err != nil {
		return fail(err)
	}
	argv := []string{"/bin/sh", "-e", script}
	if strings.HasPrefix(want.Script, "#!") {
		argv = []string{script}
	}
	log, err := openLog(filepath.Join(s.options.Logs, filepath.Base(want.Log)), jobLogLimit)
	if err != nil {
		return fail(err)
	}
	out := s.newOutput(log, len(want.Hold) > 0)
	mark := jobMark + want.ID
	_, done, err := s.spawn(argv, s.environment(append(want.Env, "GIVES="+gives, mark)...), out.copy)
	if err != nil {
		_ = out.finish()
		return fail(err)
	}
	result := agent.JobResult{}
	limit := time.NewTimer(time.Duration(want.Limit))
	defer limit.Stop()
	select {
	case result.Exit = <-done:
	case result.Reason = <-stop:
		endMarked(mark, cancelGrace)
		result.Exit = <-done
	case <-limit.C:
		result.Reason = fmt.Sprintf("not done after %v", time.Duration(want.Limit))
		endMarked(mark, cancelGrace)
		result.Exit = <-done
	}
	select {
	case <-out.ended:
	case <-time.After(lingerOutput): // a program it left in the background holds the output
	}
	values, err := readGives(gives, want.Gives)
	for _, name := range want.Hold {
		s.secrets.Add(values[name])
	}
	result.Values = values
	switch {
	case result.Exit != 0 || result.Reason != "":
	case err != nil:
		result.Exit, result.Reason = -1, s.secrets.Text(err.Error())
	default:
		for _, name := range want.Gives {
			if values[name] == "" && result.Reason == "" {
				result.Exit, result.Reason = -1, fmt.Sprintf("it ended well but gave no %s; a script gives a value by a line %s=… added to the file $GIVES", name, name)
			}
		}
	}
	result.Tail = out.release()
	return result
}

// readGives reads lines of name=value. Only wanted names are accepted.
func readGives(path string, wanted []string) (map[string]string, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("reading what the script gives: %w", err)
	}
	values := map[string]string{}
	for _, line := range strings.Split(string(text), "\n") {
		if strings.TrimSpace(line) == "" {
			continue
		}
		name, value, found := strings.Cut(line, "=")
		if name = strings.TrimSpace(name); !found || !slices.Contains(wanted, name) {
			return values, fmt.Errorf("the script gives %q, which the step does not declare under gives", name)
		}
		values[name] = value
	}
	return values, nil
}

// spawn starts a program with its output in a pipe that copy reads. The
// program leads a session of its own.
func (s *Server) spawn(argv, env []string, copy func(io.ReadCloser)) (int, <-chan int, error) {
	null, err := os.Open(os.DevNull)
	if err != nil {
		return 0, nil, err
	}
	defer null.Close()
	reader, writer, err := os.Pipe()
	if err != nil {
		return 0, nil, err
	}
	defer writer.Close()
	pid, done, err := s.start(argv, env, []*os.File{null, writer, writer}, &syscall.SysProcAttr{Setsid: true})
	if err != nil {
		_ = reader.Close()
		return 0, nil, err
	}
	go copy(reader)
	return pid, done, nil
}

// output takes what a program prints to its log and its tail, masked. While it
// is held, it stays in memory, its middle left out if it is much.
type output struct {
	secrets *mask.Set
	ended   chan struct{}

	mu     sync.Mutex // guards what follows
	log    *logFile
	masked *mask.Writer
	tail   tail
	held   bool
	head   bytes.Buffer
	rest   tail
	lost   int
	closed bool
}

func (s *Server) newOutput(log *logFile, held bool) *output {
	o := &output{secrets: &s.secrets, ended: make(chan struct{}), log: log, held: held, tail: tail{limit: tailLimit}, rest: tail{limit: heldLimit}}
	o.masked = mask.NewWriter(&s.secrets, io.MultiWriter(log, &o.tail))
	return o
}

// copy reads a program's output until its end.
func (o *output) copy(from io.ReadCloser) {
	defer close(o.ended)
	defer from.Close()
	buffer := make([]byte, 32<<10)
	for {
		n, err := from.Read(buffer)
		o.mu.Lock()
		switch {
		case o.held && o.head.Len() < heldLimit:
			o.head.Write(buffer[:n])
		case o.held:
			before := len(o.rest.kept)
			_, _ = o.rest.Write(buffer[:n])
			o.lost += before + n - len(o.rest.kept)
		default:
			_, _ = o.masked.Write(buffer[:n]) // a full disk must not stop the program
		}
		o.mu.Unlock()
		if err != nil {
			break
		}
	}
	_ = o.finish()
}

// release lets held output go and gives the last lines, masked.
func (o *output) release() string {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.held {
		o.held = false
		_, _ = o.masked.Write(o.head.Bytes())
		if o.lost > 0 {
			_, _ = fmt.Fprintf(o.masked, "\n… %d bytes left out …\n", o.lost)
		}
		_, _ = o.masked.Write(o.rest.kept)
		o.head, o.rest.kept = bytes.Buffer{}, nil
	}
	_ = o.masked.Flush()
	o.close()
	text := strings.ToValidUTF8(string(o.tail.kept), "\uFFFD")
	return strings.TrimRight(text, "\n")
}

// finish ends the log once the program's output has ended.
func (o *output) finish() error {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.closed = true
	if o.held {
		return nil // release ends it
	}
	err := o.masked.Flush()
	o.close()
	return err
}

// close closes the log when output has ended and nothing is held.
func (o *output) close() {
	if o.closed && !o.held && o.log != nil {
		_ = o.log.Close()
		o.log = nil
	}
}
