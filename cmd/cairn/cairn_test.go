package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/hashicorp/raft"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// testPeer is a member on loopback whose consensus can be stopped.
type testPeer struct {
	*peer
	local  *httptest.Server
	public *http.Server
	data   string
}

// port gives a free port whose successor is free too.
func port(t *testing.T) int {
	for range 50 {
		one, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		number := one.Addr().(*net.TCPAddr).Port
		two, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", number+1))
		_ = one.Close()
		if err == nil {
			_ = two.Close()
			return number
		}
	}
	t.Fatal("no two free ports")
	return 0
}

func startPeer(t *testing.T, name, listen, data string) *testPeer {
	p := &testPeer{peer: &peer{name: name, listen: listen, store: newStore()}, data: data}
	require.NoError(t, p.open(data))
	listener, err := net.Listen("tcp", listen)
	require.NoError(t, err)
	p.public = &http.Server{Handler: p.handler(false)}
	go func() { _ = p.public.Serve(listener) }()
	p.local = httptest.NewServer(p.handler(true))
	return p
}

func (p *testPeer) stop(t *testing.T) {
	p.local.Close()
	require.NoError(t, p.public.Close())
	require.NoError(t, p.raft.Shutdown().Error())
	require.NoError(t, p.transport.Close())
	require.NoError(t, p.entries.Close())
}

func (p *testPeer) ask(t *testing.T, method, path string, body any) result {
	text, err := json.Marshal(body)
	require.NoError(t, err)
	return call(t.Context(), nil, method, strings.TrimPrefix(p.local.URL, "http://"), path, text, false)
}

func put3(t *testing.T, p *testPeer, key, value string) error {
	return p.ask(t, http.MethodPost, "/put", pair{key, value}).failure()
}

// Consensus is true: of three members one may go and writes go on; with two
// gone they are refused; with them back they go on, and all know all.
func TestConsensus(t *testing.T) {
	folder := t.TempDir()
	var peers []*testPeer
	for i := range 3 {
		name := fmt.Sprintf("m-%d", i+1)
		peers = append(peers, startPeer(t, name, fmt.Sprintf("127.0.0.1:%d", port(t)), filepath.Join(folder, name)))
	}
	found := peers[0].ask(t, http.MethodPost, "/found", nil)
	require.NoError(t, found.failure())
	var ticket string
	require.NoError(t, json.Unmarshal(found.body, &ticket))
	assert.Error(t, peers[1].ready(), "not admitted, and ready")
	assert.Error(t, peers[1].ask(t, http.MethodPost, "/join", admission{Ticket: "wrong", Seeds: []string{peers[0].listen}}).failure())
	for _, p := range peers[1:] {
		require.NoError(t, p.ask(t, http.MethodPost, "/join", admission{Ticket: ticket, Seeds: []string{"127.0.0.1:1", peers[0].listen}}).failure())
		require.Eventually(t, func() bool { return p.ready() == nil }, 10*time.Second, 10*time.Millisecond)
	}
	eventually := func(words string, try func() error) {
		t.Helper()
		var err error
		if !assert.Eventually(t, func() bool { err = try(); return err == nil }, 15*time.Second, 20*time.Millisecond, words) {
			t.Fatal(err)
		}
	}
	eventually("any member takes a write", func() error { return put3(t, peers[2], "a", "1") })
	reopen := func(i int) { p := peers[i]; peers[i] = startPeer(t, p.name, p.listen, p.data) }
	peers[2].stop(t)
	eventually("one gone", func() error { return put3(t, peers[1], "b", "2") })
	peers[1].stop(t)
	assert.Eventually(t, func() bool { return put3(t, peers[0], "c", "3") != nil }, 10*time.Second, 20*time.Millisecond, "two gone, and writes are accepted")
	reopen(1)
	reopen(2)
	eventually("both back", func() error { return put3(t, peers[0], "d", "4") })
	for _, p := range peers {
		eventually("all know all", func() error {
			value, known := p.store.get("d")
			if _, b := p.store.get("b"); !known || value != "4" || !b {
				return fmt.Errorf("%s does not know all", p.name)
			}
			return nil
		})
	}
	var r result
	eventually("any member answers", func() error {
		r = peers[1].ask(t, http.MethodGet, "/value?key=b", nil)
		return r.failure()
	})
	assert.Equal(t, "\"2\"\n", string(r.body))
	all, err := peers[0].members(context.Background())
	require.NoError(t, err)
	assert.Len(t, all, 3)
	page := httptest.NewRecorder()
	eventually("a reading is taken", func() error {
		return peers[0].ask(t, http.MethodPost, "/reading", Reading{Station: "field-9", Slope: 31.4, At: time.Now()}).failure()
	})
	eventually("the reading is everywhere", func() error {
		if readings, _ := peers[0].store.readings(); len(readings) == 0 {
			return fmt.Errorf("not yet")
		}
		return nil
	})
	require.NoError(t, show(t.Context(), page, []string{"127.0.0.1:1", peers[0].listen}))
	for _, want := range []string{"field-9", "31.4", "m-3", "leads"} {
		assert.Contains(t, page.Body.String(), want)
	}
	for _, p := range peers {
		p.stop(t)
	}
}

type sink struct{ bytes.Buffer }

func (*sink) ID() string    { return "x" }
func (*sink) Cancel() error { return nil }
func (*sink) Close() error  { return nil }

// A snapshot holds all that the orders added up to, bounded readings and all.
func TestSnapshot(t *testing.T) {
	s := newStore()
	apply := func(i int, o order) {
		text, err := json.Marshal(o)
		require.NoError(t, err)
		assert.Nil(t, s.Apply(&raft.Log{Index: uint64(i), Data: text}))
	}
	apply(1, order{Put: &pair{"k", "v"}})
	for i := range keptReadings + 50 {
		apply(i+2, order{Reading: &Reading{Station: "s"}})
	}
	assert.NotNil(t, s.Apply(&raft.Log{Index: 9, Data: []byte("broken")}))
	readings, total := s.readings()
	assert.Len(t, readings, keptReadings)
	assert.EqualValues(t, keptReadings+50, total)
	snapshot, err := s.Snapshot()
	require.NoError(t, err)
	var kept sink
	require.NoError(t, snapshot.Persist(&kept))
	other := newStore()
	require.NoError(t, other.Restore(io.NopCloser(&kept.Buffer)))
	assert.Equal(t, s.state, other.state)
	assert.Error(t, other.Restore(io.NopCloser(strings.NewReader("broken"))))
}

func TestTicket(t *testing.T) {
	s := newStore()
	assert.False(t, s.admits(""), "without a ledger nobody is admitted")
	s.state.Ticket = hashTicket("right")
	assert.True(t, s.admits("right"))
	assert.False(t, s.admits("wrong"))
}

func TestWrongUse(t *testing.T) {
	for _, words := range [][]string{{"serve"}, {"join"}, {"member"}, {"put", "k"}, {"get"}, {"station"}, {"door", "--nonsense"}} {
		assert.ErrorIs(t, commands[words[0]](words[1:]), errUsage, words)
	}
}
