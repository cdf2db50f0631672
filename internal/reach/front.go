package reach

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"sync"
	"time"
)

const (
	// healthEvery is how often the health of a member is looked at, and
	// healthLimit how long it may take to answer. Together they are less than a
	// second.
	healthEvery = 250 * time.Millisecond
	healthLimit = 500 * time.Millisecond
	// memberLimit is how long a connection to a member may take to come about,
	// before the next one is tried.
	memberLimit = time.Second
	// patience is how long a connection waits while no member is healthy.
	patience = time.Second
	// drain is how long connections to a member go on that is out.
	drain = 10 * time.Second
)

// Target is a member as a front is told of it.
type Target struct {
	Node    string         `json:"node"`
	Address netip.AddrPort `json:"address"`
}

// FrontConfig says what a front is.
type FrontConfig struct {
	Name       string           `json:"name"`
	Listen     []netip.AddrPort `json:"listen"`
	Targets    []Target         `json:"targets"`
	HealthPort uint16           `json:"healthPort"`
	HealthPath string           `json:"healthPath,omitempty"` // of an HTTP request; "" where an open port is enough
}

// Same tells whether two fronts listen alike, so that one may become the other.
func (c FrontConfig) Same(o FrontConfig) bool {
	return c.Name == o.Name && slices.Equal(c.Listen, o.Listen)
}

// MemberState is how a member of a front is.
type MemberState struct {
	Node    string    `json:"node"`
	Healthy bool      `json:"healthy"`
	Since   time.Time `json:"since"`
	Reason  string    `json:"reason,omitempty"` // why it is out
	Open    int       `json:"open"`             // connections now
	Total   int64     `json:"total"`            // connections so far
}

// FrontState is how a front is.
type FrontState struct {
	Name    string        `json:"name"`
	Members []MemberState `json:"members"`
	Refused int64         `json:"refused"` // connections for which there was no member
}

// Front listens on an address of the lab and leads each connection to the
// healthy member that has the fewest.
type Front struct {
	dialer    net.Dialer
	listeners []net.Listener
	ctx       context.Context
	cancel    context.CancelFunc
	busy      sync.WaitGroup

	mu      sync.Mutex
	config  FrontConfig
	members []*member
	refused int64
}

// member is one node behind a front.
type member struct {
	Target
	state MemberState
	stop  context.CancelFunc    // of its watch
	conns map[net.Conn]net.Conn // from the asker's side to the member's, nil while it is dialled
}

// OpenFront begins to listen and to look at the members.
func OpenFront(config FrontConfig) (*Front, error) {
	f := &Front{dialer: net.Dialer{FallbackDelay: -1}}
	f.ctx, f.cancel = context.WithCancel(context.Background())
	for _, at := range config.Listen {
		listener, err := net.Listen("tcp", at.String())
		if err != nil {
			return nil, errors.Join(fmt.Errorf("front %s: listening on %s: %w", config.Name, at, err), f.Close())
		}
		f.listeners = append(f.listeners, listener)
		f.busy.Go(func() { accept(listener, func(conn net.Conn) { f.busy.Go(func() { f.lead(conn) }) }) })
	}
	f.Become(config)
	return f, nil
}

// Become changes the members and how their health is told. Connections to one
// that is no member any more go on for a while.
func (f *Front) Become(config FrontConfig) {
	f.mu.Lock()
	defer f.mu.Unlock()
	keep := config.HealthPort == f.config.HealthPort && config.HealthPath == f.config.HealthPath
	f.config = config
	var members []*member
	for _, target := range config.Targets {
		if at := slices.IndexFunc(f.members, func(m *member) bool { return m.Target == target }); at >= 0 && keep {
			members = append(members, f.members[at])
			continue
		}
		ctx, stop := context.WithCancel(f.ctx)
		m := &member{Target: target, stop: stop, conns: map[net.Conn]net.Conn{}}
		m.state = MemberState{Node: target.Node, Reason: "not looked at yet", Since: time.Now()}
		members = append(members, m)
		f.busy.Go(func() { f.watch(ctx, m, config.HealthPort, config.HealthPath) })
	}
	for _, m := range f.members {
		if !slices.Contains(members, m) {
			m.stop()
			f.drain(m)
		}
	}
	f.members = members
}

// drain ends the connections of a member in a while, unless it comes back. The
// caller holds the lock.
func (f *Front) drain(m *member) {
	left := m.state.Since
	time.AfterFunc(drain, func() {
		f.mu.Lock()
		defer f.mu.Unlock()
		if m.state.Healthy || m.state.Since != left {
			return
		}
		for outer, inner := range m.conns {
			Reset(outer)
			if inner != nil {
				Reset(inner)
			}
		}
	})
}

// Close stops listening and ends all connections.
func (f *Front) Close() error {
	f.cancel()
	var all []error
	for _, listener := range f.listeners {
		all = append(all, listener.Close())
	}
	f.busy.Wait()
	return errors.Join(all...)
}

// State tells how the front is.
func (f *Front) State() FrontState {
	f.mu.Lock()
	defer f.mu.Unlock()
	state := FrontState{Name: f.config.Name, Refused: f.refused}
	for _, m := range f.members {
		state.Members = append(state.Members, m.state)
	}
	return state
}

// watch looks at the health of a member until it is none.
func (f *Front) watch(ctx context.Context, m *member, port uint16, path string) {
	for ctx.Err() == nil {
		err := f.look(ctx, netip.AddrPortFrom(m.Address.Addr(), port), path)
		if ctx.Err() != nil {
			return
		}
		f.tell(m, err)
		select {
		case <-ctx.Done():
		case <-time.After(healthEvery):
		}
	}
}

// look tells what speaks against a member.
func (f *Front) look(ctx context.Context, at netip.AddrPort, path string) error {
	ctx, cancel := context.WithTimeout(ctx, healthLimit)
	defer cancel()
	if path == "" {
		conn, err := f.dialer.DialContext(ctx, "tcp", at.String())
		if err == nil {
			Reset(conn) // leaves nothing to wait for on the member
		}
		return err
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+at.String()+path, nil)
	if err != nil {
		return err
	}
	client := http.Client{Transport: &http.Transport{DialContext: f.dialer.DialContext, DisableKeepAlives: true},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	answer, err := client.Do(request)
	if err != nil {
		return err
	}
	_ = answer.Body.Close()
	if answer.StatusCode >= http.StatusBadRequest {
		return fmt.Errorf("it answers %s", answer.Status)
	}
	return nil
}

// tell records how a member was found.
func (f *Front) tell(m *member, err error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	healthy, reason := err == nil, ""
	if op, is := errors.AsType[*net.OpError](err); is && op.Timeout() {
		reason = "it does not answer"
	} else if is && op.Err != nil {
		reason = op.Err.Error()
	} else if err != nil {
		reason = err.Error()
	}
	changed := healthy != m.state.Healthy
	m.state.Healthy, m.state.Reason = healthy, reason
	if changed {
		m.state.Since = time.Now()
	}
	if changed && !healthy {
		f.drain(m)
	}
}

// lead joins a connection to a member. One that cannot be reached is out at
// once, and the next is tried.
func (f *Front) lead(outer net.Conn) {
	tried := map[*member]bool{}
	deadline := time.Now().Add(patience)
	for {
		m := f.choose(outer, tried)
		if m == nil && time.Now().Before(deadline) && f.ctx.Err() == nil {
			// One that has just come up is found at the next look.
			clear(tried)
			time.Sleep(healthEvery / 5)
			continue
		}
		if m == nil {
			f.refuse()
			Reset(outer)
			return
		}
		tried[m] = true
		ctx, cancel := context.WithTimeout(f.ctx, memberLimit)
		inner, err := f.dialer.DialContext(ctx, "tcp", m.Address.String())
		cancel()
		if err == nil {
			stop := context.AfterFunc(f.ctx, func() { _, _ = outer.Close(), inner.Close() })
			f.join(m, outer, inner)
			Join(outer, inner)
			stop()
			f.leave(m, outer)
			return
		}
		f.leave(m, outer)
		f.tell(m, err)
	}
}

// choose takes the healthy member with the fewest connections, of those the
// one that had the fewest so far; nil where there is none.
func (f *Front) choose(conn net.Conn, tried map[*member]bool) *member {
	f.mu.Lock()
	defer f.mu.Unlock()
	var best *member
	for _, m := range f.members {
		if m.state.Healthy && !tried[m] && (best == nil || m.state.Open < best.state.Open || m.state.Open == best.state.Open && m.state.Total < best.state.Total) {
			best = m
		}
	}
	if best == nil || f.ctx.Err() != nil {
		return nil
	}
	best.state.Open++
	best.state.Total++
	best.conns[conn] = nil
	return best
}

func (f *Front) refuse() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.refused++
}

func (f *Front) join(m *member, outer, inner net.Conn) {
	f.mu.Lock()
	defer f.mu.Unlock()
	m.conns[outer] = inner
}

func (f *Front) leave(m *member, conn net.Conn) {
	f.mu.Lock()
	defer f.mu.Unlock()
	m.state.Open--
	delete(m.conns, conn)
}
