// Package client is the keeper's API as Go calls.
package client

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"syscall"
	"time"

	"kettlehole/internal/agent"
	"kettlehole/internal/api"
	"kettlehole/internal/home"
	"kettlehole/internal/ledger"
	"kettlehole/internal/longpath"
	"kettlehole/internal/mapping"
	"kettlehole/internal/passing"
	"kettlehole/internal/plan"
	"kettlehole/internal/workstation"
)

// ErrNoLab says that no lab of that name lives.
var ErrNoLab = ledger.ErrNoLab

// Problem is what a keeper answered instead of doing what it was asked.
type Problem struct{ api.Problem }

func (p *Problem) Error() string { return p.Problem.Error }

// Station is where labs live: a state folder, and how keepers are started.
type Station struct {
	Home home.Home
	// Keeper is the command that works as a lab's keeper, to which the lab's
	// name is added.
	Keeper []string
}

// Labs lists what lives, as the ledger has it. Nothing is started.
func (s Station) Labs(ctx context.Context) ([]ledger.Lab, error) {
	if _, err := os.Stat(s.Home.Ledger()); errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	l, err := ledger.Open(s.Home.Ledger(), ledger.Options{Now: time.Now})
	if err != nil {
		return nil, err
	}
	defer l.Close()
	return l.Labs(ctx)
}

// Runs lists the runs of a lab that lives, oldest first. Nothing is started.
func (s Station) Runs(ctx context.Context, lab string) ([]ledger.Run, error) {
	l, err := ledger.Open(s.Home.Ledger(), ledger.Options{Now: time.Now})
	if err != nil {
		return nil, err
	}
	defer l.Close()
	return l.Runs(ctx, lab)
}

// Times gives how long things took on this workstation. Nothing is started.
func (s Station) Times() (map[string][]ledger.Took, error) {
	if _, err := os.Stat(s.Home.Ledger()); errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	l, err := ledger.Open(s.Home.Ledger(), ledger.Options{Now: time.Now})
	if err != nil {
		return nil, err
	}
	defer l.Close()
	return l.Times(context.Background())
}

// Picture gives the state of a lab at the end of an earlier run. Nothing is
// started.
func (s Station) Picture(ctx context.Context, lab string, run int) (api.State, error) {
	var state api.State
	l, err := ledger.Open(s.Home.Ledger(), ledger.Options{Now: time.Now})
	if err != nil {
		return state, err
	}
	defer l.Close()
	text, err := l.Picture(ctx, lab, run)
	if err != nil {
		return state, err
	}
	return state, json.Unmarshal(text, &state)
}

// Made tells which nodes of a lab were made; where that cannot be read, all may
// have been.
func (s Station) Made(lab string) func(node string) bool {
	all := func(string) bool { return true }
	l, err := ledger.Open(s.Home.Ledger(), ledger.Options{Now: time.Now})
	if err != nil {
		return all
	}
	defer l.Close()
	entries, err := l.Entries(context.Background(), lab)
	if err != nil {
		return all
	}
	return ledger.NodesMade(entries)
}

// LayerUsers gives, for the path of each layer, the labs that use it. Nothing
// is started.
func (s Station) LayerUsers(ctx context.Context) (map[string][]string, error) {
	users := map[string][]string{}
	labs, err := s.Labs(ctx)
	if err != nil || len(labs) == 0 {
		return users, err
	}
	l, err := ledger.Open(s.Home.Ledger(), ledger.Options{Now: time.Now})
	if err != nil {
		return nil, err
	}
	defer l.Close()
	for _, lab := range labs {
		entries, err := l.Entries(ctx, lab.Name)
		if err != nil {
			return nil, err
		}
		for _, e := range entries {
			if e.Kind == ledger.Layer && e.State != ledger.Gone {
				users[e.Ref] = append(users[e.Ref], lab.Name)
			}
		}
	}
	return users, nil
}

// Holds tells what the labs that live hold of the workstation.
func (s Station) Holds() []workstation.Hold {
	labs, err := s.Labs(context.Background())
	if err != nil {
		return nil
	}
	return mapping.Holds(labs)
}

// LivingPlan gives the plan by which a lab lives, nil where it does not.
func (s Station) LivingPlan(lab string) *plan.Plan {
	labs, err := s.Labs(context.Background())
	if err != nil {
		return nil
	}
	for _, l := range labs {
		var p plan.Plan
		if l.Name == lab && json.Unmarshal(l.Plan, &p) == nil {
			return &p
		}
	}
	return nil
}

// Lab speaks to the keeper of one lab. It is safe for concurrent use.
type Lab struct {
	Name    string
	station Station
	http    http.Client
}

// Open gives the way to a lab's keeper. Nothing is started until it is asked
// something.
func (s Station) Open(lab string) *Lab {
	l := &Lab{Name: lab, station: s}
	l.http.Transport = &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) { return l.reach(ctx) }, MaxIdleConns: 2}
	return l
}

// startLimit is how long a keeper may take to listen.
const startLimit = 10 * time.Second

// reach connects to the keeper, and starts it where none listens.
func (l *Lab) reach(ctx context.Context) (net.Conn, error) {
	socket := l.station.Home.Keeper(l.Name, "sock")
	if err := l.station.Home.Make(); err != nil {
		return nil, err
	}
	conn, err := longpath.Dial(ctx, socket)
	if !errors.Is(err, longpath.ErrNobody) {
		return conn, err
	}
	deadline := time.After(startLimit)
	var ended <-chan struct{}
	for {
		conn, err := longpath.Dial(ctx, socket)
		if !errors.Is(err, longpath.ErrNobody) {
			return conn, err
		}
		if ended == nil {
			if ended, err = l.start(); err != nil {
				return nil, err
			}
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-deadline:
			return nil, fmt.Errorf("the lab's keeper does not answer; its log is %s", l.station.Home.Keeper(l.Name, "log"))
		case <-ended:
			// Another one was quicker, or was just about to end; else it is tried again.
			ended = nil
			time.Sleep(10 * time.Millisecond)
		case <-time.After(2 * time.Millisecond):
		}
	}
}

// start starts the keeper, detached. The channel closes when it ends.
func (l *Lab) start() (<-chan struct{}, error) {
	if len(l.station.Keeper) == 0 {
		return nil, fmt.Errorf("nobody keeps %s, and no keeper can be started from here", l.Name)
	}
	log, err := os.OpenFile(l.station.Home.Keeper(l.Name, "log"), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return nil, fmt.Errorf("starting the lab's keeper: %w", err)
	}
	defer log.Close()
	command := l.station.Keeper
	cmd := exec.Command(command[0], append(command[1:len(command):len(command)], l.Name)...)
	cmd.Stdout, cmd.Stderr, cmd.Dir = log, log, "/"
	cmd.Env = append(os.Environ(), home.Variable+"="+string(l.station.Home))
	cmd.SysProcAttr = detached()
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("starting the lab's keeper: %w", err)
	}
	ended := make(chan struct{})
	go func() {
		_ = cmd.Wait()
		close(ended)
	}()
	return ended, nil
}

// askAgain is how often a keeper is asked that dies over the question.
const askAgain = 3

// do sends a request. The caller closes the body.
func (l *Lab) do(ctx context.Context, method, path string, body any) (*http.Response, error) {
	var text []byte
	if body != nil {
		var err error
		if text, err = json.Marshal(body); err != nil {
			return nil, err
		}
	}
	var response *http.Response
	var err error
	for range askAgain {
		var request *http.Request
		if request, err = http.NewRequestWithContext(ctx, method, "http://keeper"+path, bytes.NewReader(text)); err != nil {
			return nil, err
		}
		response, err = l.http.Do(request)
		if !errors.Is(err, syscall.ECONNRESET) && !errors.Is(err, syscall.EPIPE) && !errors.Is(err, io.EOF) {
			break
		}
		// A keeper that was just killed: its socket outlives it by a moment. All
		// that may be asked may be asked twice.
	}
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, fmt.Errorf("asking the keeper of %s: %w", l.Name, errors.Unwrap(err))
	}
	if response.StatusCode >= 400 {
		defer response.Body.Close()
		problem := &Problem{}
		if err := json.NewDecoder(response.Body).Decode(&problem.Problem); err != nil {
			return nil, fmt.Errorf("asking the keeper of %s: %s", l.Name, response.Status)
		}
		return nil, problem
	}
	return response, nil
}

func (l *Lab) post(ctx context.Context, path string, body any) error {
	response, err := l.do(ctx, http.MethodPost, path, body)
	if err != nil {
		return err
	}
	return response.Body.Close()
}

func (l *Lab) get(ctx context.Context, path string, into any) error {
	response, err := l.do(ctx, http.MethodGet, path, nil)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	return json.NewDecoder(response.Body).Decode(into)
}

// Provision begins a run by the lab file. What the environment of this process
// says of HTTP proxies goes along.
func (l *Lab) Provision(ctx context.Context, want api.Wanted) error {
	return l.run(ctx, "/provision", want)
}

// Start begins a run by the plan that the lab has. No file is read.
func (l *Lab) Start(ctx context.Context, want api.Wanted) error { return l.run(ctx, "/start", want) }

// Stop begins to stop the lab.
func (l *Lab) Stop(ctx context.Context) error { return l.post(ctx, "/stop", nil) }

func (l *Lab) run(ctx context.Context, path string, want api.Wanted) error {
	for _, name := range []string{"HTTP_PROXY", "HTTPS_PROXY", "NO_PROXY", "http_proxy", "https_proxy", "no_proxy"} {
		if value := os.Getenv(name); value != "" {
			want.Proxies = append(want.Proxies, name+"="+value)
		}
	}
	return l.post(ctx, path, want)
}

// Cancel ends the run that goes on.
func (l *Lab) Cancel(ctx context.Context) error { return l.post(ctx, "/cancel", nil) }

// Teardown begins to take the lab down.
func (l *Lab) Teardown(ctx context.Context) error { return l.post(ctx, "/teardown", nil) }

// AddForward adds a forward to the living lab and gives what it opened, a way
// for each port.
func (l *Lab) AddForward(ctx context.Context, want api.NewForward) (added []plan.Forward, err error) {
	response, err := l.do(ctx, http.MethodPost, "/forwards", want)
	if err != nil {
		return nil, err
	}
	defer response.Body.Close()
	return added, json.NewDecoder(response.Body).Decode(&added)
}

// RemoveForward takes a forward away that was added to the living lab.
func (l *Lab) RemoveForward(ctx context.Context, name string) error {
	response, err := l.do(ctx, http.MethodDelete, "/forwards/"+url.PathEscape(name), nil)
	if err != nil {
		return err
	}
	return response.Body.Close()
}

// SetAccess opens a port of the workstation's loopback where ssh comes in, or
// closes it.
func (l *Lab) SetAccess(ctx context.Context, want api.Access) error {
	return l.post(ctx, "/access", want)
}

// Login opens a connection on which the node speaks SSH. It is the bare one of
// the operating system.
func (l *Lab) Login(ctx context.Context, node string) (net.Conn, error) {
	return l.upgrade(ctx, "/nodes/"+url.PathEscape(node)+"/ssh")
}

// State gives the lab's state.
func (l *Lab) State(ctx context.Context) (s api.State, err error) {
	err = l.get(ctx, "/state", &s)
	return s, err
}

// Things lists what the lab has made.
func (l *Lab) Things(ctx context.Context) ([]ledger.Entry, error) {
	var things api.Things
	err := l.get(ctx, "/things", &things)
	return things.Entries, err
}

// Follow calls each with the state, and again whenever it changed, until each
// returns false, the lab is gone, or ctx ends.
func (l *Lab) Follow(ctx context.Context, each func(api.State) bool) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	response, err := l.do(ctx, http.MethodGet, "/events", nil)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	decoder := json.NewDecoder(bufio.NewReader(response.Body))
	var known *plan.Plan
	for {
		var state api.State
		if err := decoder.Decode(&state); err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			return fmt.Errorf("the keeper of %s ended: %w", l.Name, err)
		}
		if state.Plan == nil {
			state.Plan = known
		}
		known = state.Plan
		if !each(state) || state.Phase == api.PhaseGone {
			return nil
		}
	}
}

// Logs gives a log of a node, or without a name the names of its logs. The
// caller closes it.
func (l *Lab) Logs(ctx context.Context, node, name string, follow, tail bool) (io.ReadCloser, error) {
	query := url.Values{"node": {node}}
	if name != "" {
		query.Set("name", name+".log")
	}
	if follow {
		query.Set("follow", "yes")
	}
	if tail {
		query.Set("tail", "yes")
	}
	response, err := l.do(ctx, http.MethodGet, "/logs?"+query.Encode(), nil)
	if err != nil {
		return nil, err
	}
	return response.Body, nil
}

// Agent is the way to manage a node. The lab's keeper opens each connection,
// and what goes over it does not pass through the keeper.
func (l *Lab) Agent(node string) agent.Client {
	return agent.Client{Dial: func(ctx context.Context) (net.Conn, error) {
		conn, err := l.upgrade(ctx, "/nodes/"+url.PathEscape(node)+"/agent")
		if err != nil {
			return nil, err
		}
		defer conn.Close()
		var said api.Problem
		file, err := passing.Receive(conn.(*net.UnixConn), &said)
		if err == nil && file == nil {
			err = errors.New("the keeper passed no connection")
		}
		if err != nil {
			return nil, fmt.Errorf("asking the keeper of %s: %w", l.Name, err)
		}
		defer file.Close()
		return net.FileConn(file)
	}}
}

// upgrade asks the keeper to speak another protocol on the connection, and
// reads nothing of that.
func (l *Lab) upgrade(ctx context.Context, path string) (net.Conn, error) {
	conn, err := l.reach(ctx)
	if err != nil {
		return nil, err
	}
	_, err = fmt.Fprintf(conn, "POST %s HTTP/1.1\r\nHost: keeper\r\nContent-Length: 0\r\n\r\n", path)
	if err != nil {
		return nil, errors.Join(err, conn.Close())
	}
	response, err := http.ReadResponse(bufio.NewReader(single{conn}), nil)
	if err == nil && response.StatusCode != http.StatusSwitchingProtocols {
		problem := &Problem{}
		if err = json.NewDecoder(response.Body).Decode(&problem.Problem); err == nil {
			err = problem
		}
	}
	if err != nil {
		return nil, errors.Join(err, conn.Close())
	}
	return conn, nil
}

// single reads one byte at a time, so that nothing is read ahead.
type single struct{ io.Reader }

func (s single) Read(p []byte) (int, error) { return s.Reader.Read(p[:min(len(p), 1)]) }
