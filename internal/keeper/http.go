package keeper

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"kettlehole/internal/agent"
	"kettlehole/internal/api"
	"kettlehole/internal/passing"
	"kettlehole/internal/plan"
	"kettlehole/internal/run"
)

// refresh is the shortest time between two states sent to a follower, and
// refreshCell what each cell adds: a large state is work for both.
const (
	refresh     = 50 * time.Millisecond
	refreshCell = 200 * time.Microsecond
)

// server answers people and their programs.
func (k *Keeper) server(ctx context.Context) *http.Server {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /state", func(w http.ResponseWriter, r *http.Request) {
		state, _, _ := k.board.look()
		reply(w, state)
	})
	mux.HandleFunc("GET /events", k.events)
	mux.HandleFunc("GET /things", k.things)
	mux.HandleFunc("GET /logs", k.logs)
	mux.HandleFunc("POST /provision", func(w http.ResponseWriter, r *http.Request) {
		var wanted api.Wanted
		err := json.NewDecoder(r.Body).Decode(&wanted)
		if err == nil {
			err = k.provision(r.Context(), wanted)
		}
		done(w, err)
	})
	mux.HandleFunc("POST /cancel", func(w http.ResponseWriter, r *http.Request) {
		k.cancelRun()
		done(w, nil)
	})
	mux.HandleFunc("POST /stop", func(w http.ResponseWriter, r *http.Request) { done(w, k.stop(r.Context())) })
	mux.HandleFunc("POST /start", func(w http.ResponseWriter, r *http.Request) {
		var wanted api.Wanted
		err := json.NewDecoder(r.Body).Decode(&wanted)
		if err == nil {
			err = k.start(r.Context(), wanted)
		}
		done(w, err)
	})
	mux.HandleFunc("POST /teardown", func(w http.ResponseWriter, r *http.Request) { done(w, k.startTeardown(r.Context())) })
	mux.HandleFunc("POST /nodes/{node}/agent", k.agent)
	mux.HandleFunc("POST /nodes/{node}/ssh", k.ssh)
	mux.HandleFunc("POST /access", func(w http.ResponseWriter, r *http.Request) {
		var wanted api.Access
		err := json.NewDecoder(r.Body).Decode(&wanted)
		if err == nil {
			err = k.setAccess(r.Context(), wanted)
		}
		done(w, err)
	})
	mux.HandleFunc("POST /forwards", func(w http.ResponseWriter, r *http.Request) {
		var wanted api.NewForward
		err := json.NewDecoder(r.Body).Decode(&wanted)
		if err == nil {
			var added []plan.Forward
			if added, err = k.addForward(r.Context(), wanted); err == nil {
				reply(w, added)
				return
			}
		}
		done(w, err)
	})
	mux.HandleFunc("DELETE /forwards/{name}", func(w http.ResponseWriter, r *http.Request) {
		done(w, k.removeForward(r.Context(), r.PathValue("name")))
	})
	counted := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		k.asked.Add(1)
		k.answering.Add(1)
		defer k.answering.Add(-1)
		mux.ServeHTTP(w, r)
	})
	return &http.Server{Handler: counted, BaseContext: func(net.Listener) context.Context { return ctx }, ReadHeaderTimeout: 5 * time.Second}
}

func reply(w http.ResponseWriter, what any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(what) // a client that went away is no concern
}

// done answers a request that gives nothing back.
func done(w http.ResponseWriter, err error) {
	if err == nil {
		w.WriteHeader(http.StatusNoContent)
		return
	}
	if errors.Is(err, errOver) {
		panic(http.ErrAbortHandler) // the client asks again, and starts another keeper
	}
	status := http.StatusInternalServerError
	var refused *refusal
	if errors.As(err, &refused) {
		status = http.StatusConflict
	}
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(api.Problem{Error: err.Error(), Fault: isFault(err)})
}

// events streams the state, a line of JSON for every change, several changes
// in a short time as one. The plan is sent only when it is another one.
func (k *Keeper) events(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "application/x-ndjson")
	encoder := json.NewEncoder(w)
	flusher := http.NewResponseController(w)
	var sent any
	for {
		state, _, changed := k.board.look()
		if sent != nil && sent == any(state.Plan) {
			state.Plan = nil
		} else {
			sent = any(state.Plan)
		}
		if encoder.Encode(state) != nil || flusher.Flush() != nil || state.Phase == api.PhaseGone {
			return
		}
		select {
		case <-r.Context().Done():
			return
		case <-time.After(refresh + time.Duration(len(state.Cells))*refreshCell):
		}
		select {
		case <-r.Context().Done():
			return
		case <-changed:
		}
	}
}

func (k *Keeper) things(w http.ResponseWriter, r *http.Request) {
	entries, err := k.ledger.Entries(r.Context(), k.options.Lab)
	if err != nil {
		done(w, err)
		return
	}
	reply(w, api.Things{Entries: entries})
}

// logs sends a log of a node, or without a name the names of its logs, one a
// line. With follow it goes on as the log grows. A node may do with its log
// folder what it likes, so that nothing outside of the folder is ever opened,
// and nothing but regular files.
func (k *Keeper) logs(w http.ResponseWriter, r *http.Request) {
	node, name := r.URL.Query().Get("node"), r.URL.Query().Get("name")
	k.mu.Lock()
	p, containers := k.living, k.containers
	k.mu.Unlock()
	if p == nil || containers == nil {
		done(w, &refusal{fmt.Sprintf("there is no lab %q", k.options.Lab)})
		return
	}
	if _, known := p.Node(node); !known {
		done(w, &refusal{fmt.Sprintf("there is no node %q", node)})
		return
	}
	if digest := k.sharedStep(node, name); digest != "" {
		folder, err := os.OpenRoot(k.options.Home.Images())
		if err != nil {
			done(w, err)
			return
		}
		defer folder.Close()
		k.sendLog(w, r, folder, node, filepath.Base(k.sharedLog(digest)))
		return
	}
	folder, err := os.OpenRoot(containers.Logs(node))
	if err != nil {
		done(w, &refusal{fmt.Sprintf("node %s has no logs yet", node)})
		return
	}
	defer folder.Close()
	if name == "" {
		k.logNames(w, folder, node)
		return
	}
	k.sendLog(w, r, folder, node, name)
}

// sharedStep is the digest of the layer that the log of a node is about, ""
// for every other log.
func (k *Keeper) sharedStep(node, name string) string {
	state, _, _ := k.board.look()
	for _, c := range state.Cells {
		if c.Node == node && c.Layer != "" && name == run.LogName(c.Run, c.Step) {
			return c.Layer
		}
	}
	return ""
}

// sendLog sends a file of the folder, and goes on as it grows where that is
// asked for.
func (k *Keeper) sendLog(w http.ResponseWriter, r *http.Request, folder *os.Root, node, name string) {
	file, err := openRegular(folder, name)
	if err != nil {
		done(w, &refusal{fmt.Sprintf("node %s has no log %q", node, strings.TrimSuffix(name, ".log"))})
		return
	}
	defer file.Close()
	if r.URL.Query().Get("tail") != "" {
		skipTo(file, 64<<10)
	}
	flusher := http.NewResponseController(w)
	for {
		if _, err := io.Copy(w, file); err != nil || r.URL.Query().Get("follow") == "" || flusher.Flush() != nil {
			return
		}
		select {
		case <-r.Context().Done():
			return
		case <-time.After(refresh):
		}
	}
}

func (k *Keeper) logNames(w http.ResponseWriter, folder *os.Root, node string) {
	state, _, _ := k.board.look()
	for _, c := range state.Cells {
		if c.Node == node && c.Layer != "" {
			_, _ = fmt.Fprintln(w, run.JobName(c.Run, c.Step))
		}
	}
	entries, err := os.ReadDir(folder.Name())
	if err != nil {
		done(w, err)
		return
	}
	for _, e := range entries {
		if name, isLog := strings.CutSuffix(e.Name(), ".log"); isLog && e.Type().IsRegular() {
			_, _ = fmt.Fprintln(w, name)
		}
	}
}

// openRegular opens a file of the folder. The name may not lead anywhere else.
func openRegular(folder *os.Root, name string) (*os.File, error) {
	if name != filepath.Base(name) {
		return nil, os.ErrNotExist
	}
	info, err := folder.Lstat(name)
	if err != nil || !info.Mode().IsRegular() {
		return nil, os.ErrNotExist
	}
	return folder.OpenFile(name, os.O_RDONLY|nonBlocking, 0)
}

// skipTo moves to the first whole line of the last limit bytes.
func skipTo(file *os.File, limit int64) {
	info, err := file.Stat()
	if err != nil || info.Size() <= limit {
		return
	}
	if _, err := file.Seek(-limit, io.SeekEnd); err != nil {
		return
	}
	one := make([]byte, 1)
	for range limit {
		if n, err := file.Read(one); n == 0 || err != nil || one[0] == '\n' {
			return
		}
	}
}

// agent gives the client a connection to a node's init: the connection itself,
// so that what goes over it does not pass through here, and outlives this
// keeper.
func (k *Keeper) agent(w http.ResponseWriter, r *http.Request) {
	client, err := k.way(r.PathValue("node"))
	if err != nil {
		done(w, err)
		return
	}
	inner, err := client.Dial(r.Context())
	if err != nil {
		done(w, &refusal{fmt.Sprintf("node %s does not run", r.PathValue("node"))})
		return
	}
	defer inner.Close()
	outer := upgrade(w, "kettlehole-agent")
	if outer == nil {
		return
	}
	defer outer.Close()
	if socket, is := outer.(*net.UnixConn); is {
		_ = passing.Send(socket, api.Problem{}, inner.(*net.UnixConn)) // the client may have gone
	}
}

// ssh lets the client into a node; what follows is SSH.
func (k *Keeper) ssh(w http.ResponseWriter, r *http.Request) {
	name := r.PathValue("node")
	if _, err := k.way(name); err != nil {
		done(w, err)
		return
	}
	k.mu.Lock()
	server := k.login
	k.mu.Unlock()
	if server == nil {
		done(w, &refusal{"the lab has no keys yet"})
		return
	}
	if outer := upgrade(w, "ssh"); outer != nil {
		if err := server.Serve(outer, name); err != nil {
			k.options.Log.Info("ssh", "node", name, "error", err)
		}
	}
}

// way gives the way to manage a node.
func (k *Keeper) way(node string) (agent.Client, error) {
	k.mu.Lock()
	p, containers, resting := k.living, k.containers, k.resting
	k.mu.Unlock()
	if p == nil || containers == nil {
		return agent.Client{}, &refusal{fmt.Sprintf("there is no lab %q", k.options.Lab)}
	}
	if resting {
		return agent.Client{}, &refusal{atRest + "; kettlehole start brings it back"}
	}
	if _, known := p.Node(node); !known {
		return agent.Client{}, &refusal{fmt.Sprintf("there is no node %q", node)}
	}
	return containers.Agent(node), nil
}

// upgrade makes the request's connection one of another protocol (RFC 9110,
// section 7.8), nil where that fails. The caller closes it.
func upgrade(w http.ResponseWriter, protocol string) net.Conn {
	conn, buffered, err := http.NewResponseController(w).Hijack()
	if err != nil {
		done(w, err)
		return nil
	}
	_ = conn.SetDeadline(time.Time{})
	if _, err := io.WriteString(conn, "HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: "+protocol+"\r\n\r\n"); err != nil {
		_ = conn.Close()
		return nil
	}
	if buffered.Reader.Buffered() > 0 {
		return &readAhead{conn, buffered}
	}
	return conn
}

// readAhead is a connection of which some bytes were read already.
type readAhead struct {
	net.Conn
	reader io.Reader
}

func (r *readAhead) Read(p []byte) (int, error) { return r.reader.Read(p) }
