package main

import (
	"crypto/sha256"
	"crypto/subtle"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"slices"
	"sync"
	"time"

	"github.com/hashicorp/raft"
)

// Reading is one entry of the ledger.
type Reading struct {
	Index   uint64    `json:"index"`
	Station string    `json:"station"`
	Slope   float64   `json:"slope"` // degrees
	At      time.Time `json:"at"`
}

// order is what members agree on, one after the other.
type order struct {
	Put     *pair    `json:"put,omitempty"`
	Reading *Reading `json:"reading,omitempty"`
	Ticket  []byte   `json:"ticket,omitempty"` // SHA-256 of the admission ticket
}

type pair struct {
	Key   string `json:"key"`
	Value string `json:"value"`
}

// keptReadings bounds the readings a member remembers.
const keptReadings = 200

// store is what the agreed orders add up to. It is safe for concurrent use.
type store struct {
	mu    sync.RWMutex
	state contents
}

type contents struct {
	Pairs    map[string]string `json:"pairs"`
	Readings []Reading         `json:"readings"`
	Count    uint64            `json:"count"` // of all readings ever
	Ticket   []byte            `json:"ticket"`
}

var _ raft.FSM = (*store)(nil)

func newStore() *store { return &store{state: contents{Pairs: map[string]string{}}} }

// Apply adds an agreed order.
func (s *store) Apply(log *raft.Log) any {
	var o order
	if err := json.Unmarshal(log.Data, &o); err != nil {
		return fmt.Errorf("reading entry %d: %w", log.Index, err)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if o.Put != nil {
		s.state.Pairs[o.Put.Key] = o.Put.Value
	}
	if o.Reading != nil {
		o.Reading.Index = log.Index
		s.state.Count++
		s.state.Readings = append(s.state.Readings, *o.Reading)
		if extra := len(s.state.Readings) - keptReadings; extra > 0 {
			s.state.Readings = slices.Clone(s.state.Readings[extra:])
		}
	}
	if o.Ticket != nil {
		s.state.Ticket = o.Ticket
	}
	return nil
}

func hashTicket(ticket string) []byte {
	sum := sha256.Sum256([]byte("cairn ticket " + ticket))
	return sum[:]
}

// admits tells whether the ticket is the ledger's.
func (s *store) admits(ticket string) bool {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return len(s.state.Ticket) > 0 && subtle.ConstantTimeCompare(s.state.Ticket, hashTicket(ticket)) == 1
}

func (s *store) get(key string) (string, bool) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	value, known := s.state.Pairs[key]
	return value, known
}

func (s *store) readings() ([]Reading, uint64) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return slices.Clone(s.state.Readings), s.state.Count
}

// Snapshot copies the contents.
func (s *store) Snapshot() (raft.FSMSnapshot, error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	copied := s.state
	copied.Pairs, copied.Readings = maps.Clone(copied.Pairs), slices.Clone(copied.Readings)
	return copied, nil
}

// Restore takes the contents of a snapshot.
func (s *store) Restore(from io.ReadCloser) error {
	defer from.Close()
	var state contents
	if err := json.NewDecoder(from).Decode(&state); err != nil {
		return fmt.Errorf("restoring a snapshot: %w", err)
	}
	if state.Pairs == nil {
		state.Pairs = map[string]string{}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.state = state
	return nil
}

// Persist writes a snapshot.
func (c contents) Persist(sink raft.SnapshotSink) error {
	if err := json.NewEncoder(sink).Encode(c); err != nil {
		_ = sink.Cancel()
		return err
	}
	return sink.Close()
}

// Release has nothing to give back.
func (contents) Release() {}
