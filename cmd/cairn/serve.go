package main

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"github.com/hashicorp/go-hclog"
	"github.com/hashicorp/raft"
	boltdb "github.com/hashicorp/raft-boltdb/v2"
)

// localSocket is where the member on this machine takes orders.
const localSocket = "/run/cairn.sock"

const applyLimit = 3 * time.Second

// peer is one member of a ledger.
type peer struct {
	name   string
	listen string // address of its API
	store  *store
	raft   *raft.Raft

	transport *raft.NetworkTransport
	entries   *boltdb.BoltStore
}

// serve is a member's life.
func serve(args []string) error {
	var name, listen, data, socket string
	_, err := flags(args, func(f *flag.FlagSet) {
		f.StringVar(&name, "name", "", "name of this member")
		f.StringVar(&listen, "listen", "", "address and port of the API; Raft uses the port above")
		f.StringVar(&data, "data", "/var/lib/cairn", "folder for the ledger")
		f.StringVar(&socket, "socket", localSocket, "socket for commands on this machine")
	})
	if err != nil {
		return err
	}
	if name == "" || listen == "" {
		return fmt.Errorf("serve needs --name and --listen: %w", errUsage)
	}
	log.SetFlags(0)
	p := &peer{name: name, listen: listen, store: newStore()}
	if err := p.open(data); err != nil {
		return err
	}
	go p.tell()
	_ = os.Remove(socket)
	local, err := net.Listen("unix", socket)
	if err != nil {
		return fmt.Errorf("opening %s: %w", socket, err)
	}
	public, err := net.Listen("tcp", listen)
	if err != nil {
		return fmt.Errorf("opening the API: %w", err)
	}
	log.Printf("member %s listens on %s", name, listen)
	failed := make(chan error, 2)
	go func() { failed <- http.Serve(local, p.handler(true)) }()
	go func() { failed <- http.Serve(public, p.handler(false)) }()
	return <-failed
}

// raftAddress is the address one port above.
func raftAddress(listen string) (string, error) {
	host, port, err := net.SplitHostPort(listen)
	if err != nil {
		return "", err
	}
	number, err := strconv.Atoi(port)
	if err != nil {
		return "", err
	}
	return net.JoinHostPort(host, strconv.Itoa(number+1)), nil
}

// open starts consensus with what is on disk.
func (p *peer) open(data string) error {
	if err := os.MkdirAll(data, 0o700); err != nil {
		return fmt.Errorf("making %s: %w", data, err)
	}
	address, err := raftAddress(p.listen)
	if err != nil {
		return err
	}
	advertise, err := net.ResolveTCPAddr("tcp", address)
	if err != nil {
		return err
	}
	p.transport, err = raft.NewTCPTransport(address, advertise, 3, time.Second, io.Discard)
	if err != nil {
		return fmt.Errorf("opening the members' port: %w", err)
	}
	p.entries, err = boltdb.New(boltdb.Options{Path: filepath.Join(data, "entries.db"), NoSync: true})
	if err != nil {
		return fmt.Errorf("opening the ledger: %w", err)
	}
	snapshots, err := raft.NewFileSnapshotStore(data, 2, io.Discard)
	if err != nil {
		return fmt.Errorf("opening snapshots: %w", err)
	}
	config := raft.DefaultConfig()
	config.LocalID = raft.ServerID(p.name)
	config.HeartbeatTimeout, config.ElectionTimeout, config.LeaderLeaseTimeout = 400*time.Millisecond, 400*time.Millisecond, 200*time.Millisecond
	config.CommitTimeout = 20 * time.Millisecond
	config.Logger = hclog.New(&hclog.LoggerOptions{Level: hclog.Off})
	p.raft, err = raft.NewRaft(config, p.store, p.entries, p.entries, snapshots, p.transport)
	return err
}

// tell logs who leads, and how many readings there are.
func (p *peer) tell() {
	last, lastCount := raft.ServerID("-"), uint64(0)
	for round := 0; ; round++ {
		_, id := p.raft.LeaderWithID()
		if id != last {
			switch {
			case id == "":
				log.Print("no leader; writes are refused until there is one")
			default:
				log.Printf("leader is %s, term %d", id, p.raft.CurrentTerm())
			}
			last = id
		}
		if _, count := p.store.readings(); round%50 == 49 && count != lastCount {
			log.Printf("%d readings, level at entry %d", count, p.raft.AppliedIndex())
			lastCount = count
		}
		time.Sleep(100 * time.Millisecond)
	}
}

// member is a member as others see it.
type memberInfo struct {
	Name   string `json:"name"`
	API    string `json:"api"`
	Leader bool   `json:"leader"`
	Ready  bool   `json:"ready"`
}

func (p *peer) handler(local bool) http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /ready", func(w http.ResponseWriter, r *http.Request) { answer(w, nil, p.ready()) })
	mux.HandleFunc("GET /members", func(w http.ResponseWriter, r *http.Request) {
		all, err := p.members(r.Context())
		answer(w, all, err)
	})
	mux.HandleFunc("GET /readings", func(w http.ResponseWriter, r *http.Request) {
		readings, count := p.store.readings()
		answer(w, map[string]any{"readings": readings, "count": count}, nil)
	})
	mux.HandleFunc("GET /value", p.lead(func(w http.ResponseWriter, r *http.Request) {
		if err := p.raft.VerifyLeader().Error(); err != nil {
			answer(w, nil, err)
			return
		}
		value, known := p.store.get(r.URL.Query().Get("key"))
		if !known {
			http.Error(w, "there is no such key", http.StatusNotFound)
			return
		}
		answer(w, value, nil)
	}))
	mux.HandleFunc("POST /put", p.lead(func(w http.ResponseWriter, r *http.Request) {
		var one pair
		p.decide(w, r, &one, func() order { return order{Put: &one} })
	}))
	mux.HandleFunc("POST /reading", p.lead(func(w http.ResponseWriter, r *http.Request) {
		var one Reading
		p.decide(w, r, &one, func() order { return order{Reading: &one} })
	}))
	mux.HandleFunc("POST /admit", p.lead(p.admit))
	if local {
		mux.HandleFunc("POST /found", p.found)
		mux.HandleFunc("POST /join", p.join)
	}
	return mux
}

func answer(w http.ResponseWriter, what any, err error) {
	if err != nil {
		http.Error(w, err.Error(), http.StatusServiceUnavailable)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(what)
}

var errNoLeader = errors.New("the ledger has no leader now: too few members are there to agree")

// lead lets the leader answer, whoever was asked.
func (p *peer) lead(handle http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if p.raft.State() == raft.Leader {
			handle(w, r)
			return
		}
		_, id := p.raft.LeaderWithID()
		api, known := p.store.get("member " + string(id))
		if id == "" || !known || r.Header.Get("Cairn-Passed") != "" {
			answer(w, nil, errNoLeader)
			return
		}
		body, err := io.ReadAll(io.LimitReader(r.Body, 1<<20))
		if err != nil {
			answer(w, nil, err)
			return
		}
		answerRaw(w, call(r.Context(), nil, r.Method, api, r.URL.RequestURI(), body, true))
	}
}

// decide brings an order before the members.
func (p *peer) decide(w http.ResponseWriter, r *http.Request, into any, make func() order) {
	if err := json.NewDecoder(io.LimitReader(r.Body, 1<<20)).Decode(into); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	index, err := p.apply(make())
	answer(w, index, err)
}

func (p *peer) apply(o order) (uint64, error) {
	text, err := json.Marshal(o)
	if err != nil {
		return 0, err
	}
	future := p.raft.Apply(text, applyLimit)
	if err := future.Error(); err != nil {
		return 0, fmt.Errorf("the members did not agree: %w", err)
	}
	return future.Index(), nil
}

// found makes this member the first of a new ledger.
func (p *peer) found(w http.ResponseWriter, r *http.Request) {
	address, err := raftAddress(p.listen)
	if err == nil {
		servers := raft.Configuration{Servers: []raft.Server{{ID: raft.ServerID(p.name), Address: raft.ServerAddress(address)}}}
		err = p.raft.BootstrapCluster(servers).Error()
	}
	if err != nil {
		answer(w, nil, fmt.Errorf("founding the ledger: %w", err))
		return
	}
	if err := until(r.Context(), func() bool { return p.raft.State() == raft.Leader }); err != nil {
		answer(w, nil, err)
		return
	}
	ticket := rand.Text()
	_, err = p.apply(order{Ticket: hashTicket(ticket), Put: &pair{"member " + p.name, p.listen}})
	answer(w, ticket, err)
}

func until(ctx context.Context, held func() bool) error {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	for !held() {
		select {
		case <-ctx.Done():
			return fmt.Errorf("waiting for the members to agree: %w", ctx.Err())
		case <-time.After(10 * time.Millisecond):
		}
	}
	return nil
}

// admission asks to become a member.
type admission struct {
	Name   string   `json:"name"`
	API    string   `json:"api"`
	Ticket string   `json:"ticket"`
	Seeds  []string `json:"seeds,omitempty"`
}

// join brings this member into the ledger of the seeds.
func (p *peer) join(w http.ResponseWriter, r *http.Request) {
	var want admission
	if err := json.NewDecoder(r.Body).Decode(&want); err != nil {
		answer(w, nil, err)
		return
	}
	body, err := json.Marshal(admission{Name: p.name, API: p.listen, Ticket: want.Ticket})
	if err != nil {
		answer(w, nil, err)
		return
	}
	last := result{err: errors.New("no member to ask was named")}
	for _, seed := range want.Seeds {
		if last = call(r.Context(), nil, http.MethodPost, seed, "/admit", body, false); last.err == nil && last.status < 300 {
			break
		}
	}
	answerRaw(w, last)
}

// admit takes a new member in, if its ticket is the ledger's.
func (p *peer) admit(w http.ResponseWriter, r *http.Request) {
	var want admission
	if err := json.NewDecoder(r.Body).Decode(&want); err != nil {
		answer(w, nil, err)
		return
	}
	if !p.store.admits(want.Ticket) {
		http.Error(w, "the ticket is not this ledger's", http.StatusForbidden)
		return
	}
	address, err := raftAddress(want.API)
	if err == nil {
		_, err = p.apply(order{Put: &pair{"member " + want.Name, want.API}})
	}
	if err == nil {
		err = p.raft.AddVoter(raft.ServerID(want.Name), raft.ServerAddress(address), 0, 5*time.Second).Error()
	}
	if err == nil {
		log.Printf("member %s is admitted", want.Name)
	}
	answer(w, want.Name, err)
}

// levelling is how long a member may take to apply what was agreed on when it
// was asked. Readings come all the time, so that one is never level for long.
const levelling = 300 * time.Millisecond

// ready tells whether this member is level with its ledger.
func (p *peer) ready() error {
	_, id := p.raft.LeaderWithID()
	if id == "" {
		return errNoLeader
	}
	agreed := p.raft.CommitIndex()
	for deadline := time.Now().Add(levelling); p.raft.AppliedIndex() < agreed; time.Sleep(5 * time.Millisecond) {
		if time.Now().After(deadline) {
			return fmt.Errorf("member %s is at entry %d of %d", p.name, p.raft.AppliedIndex(), agreed)
		}
	}
	// A new member hears of its leader, and of its own admission, before it
	// has read what the ledger says of either.
	for _, name := range []string{p.name, string(id)} {
		if _, known := p.store.get("member " + name); !known {
			return fmt.Errorf("member %s has not read the admission of %s yet", p.name, name)
		}
	}
	for _, s := range p.raft.GetConfiguration().Configuration().Servers {
		if string(s.ID) == p.name {
			return nil
		}
	}
	return fmt.Errorf("member %s is not admitted yet", p.name)
}

// members asks every member whether it is ready.
func (p *peer) members(ctx context.Context) ([]memberInfo, error) {
	_, leader := p.raft.LeaderWithID()
	servers := p.raft.GetConfiguration().Configuration().Servers
	all := make([]memberInfo, len(servers))
	asked := make(chan struct{})
	for i, s := range servers {
		api, _ := p.store.get("member " + string(s.ID))
		all[i] = memberInfo{Name: string(s.ID), API: api, Leader: s.ID == leader}
		go func() {
			ask, cancel := context.WithTimeout(ctx, 2*time.Second)
			defer cancel()
			got := call(ask, nil, http.MethodGet, api, "/ready", nil, false)
			all[i].Ready = got.err == nil && got.status < 300
			asked <- struct{}{}
		}()
	}
	for range servers {
		<-asked
	}
	return all, nil
}
