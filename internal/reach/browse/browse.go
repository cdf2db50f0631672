// Package browse is a proxy that lets a browser use a lab's own names and
// addresses: HTTP with CONNECT (RFC 9110, section 9.3.6) and SOCKS version 5
// (RFC 1928), both on one port. It leads into the lab and nowhere else.
package browse

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httputil"
	"strconv"
	"sync"
	"time"

	"kettlehole/internal/reach"
)

// Dial opens a connection to a host of the lab, by name or address.
type Dial func(ctx context.Context, host string, port uint16) (net.Conn, error)

const (
	// askLimit is how long a client may take to say where it wants to go.
	askLimit  = 10 * time.Second
	dialLimit = 10 * time.Second
)

// Proxy serves clients. It is safe for concurrent use.
type Proxy struct {
	dial   Dial
	script string // that tells browsers which names go here; see Script
	ctx    context.Context
	cancel context.CancelFunc
	busy   sync.WaitGroup
	web    *http.Server
	queue  *queue
}

// New makes a proxy into a lab.
func New(dial Dial, script string) *Proxy {
	p := &Proxy{dial: dial, script: script}
	p.ctx, p.cancel = context.WithCancel(context.Background())
	return p
}

// ScriptPath is where browsers find which names go through the proxy (the
// format of proxy auto-configuration, a script with one function).
const ScriptPath = "/proxy.pac"

// Serve serves a listener until it is closed.
func (p *Proxy) Serve(listener net.Listener) {
	p.queue = &queue{conns: make(chan net.Conn), ended: make(chan struct{}), at: listener.Addr()}
	p.web = &http.Server{Handler: http.HandlerFunc(p.http), ReadHeaderTimeout: askLimit}
	p.busy.Go(func() { _ = p.web.Serve(p.queue) })
	for {
		conn, err := listener.Accept()
		if errors.Is(err, net.ErrClosed) {
			return
		} else if err != nil {
			time.Sleep(10 * time.Millisecond)
			continue
		}
		p.busy.Go(func() { p.take(conn) })
	}
}

// Close ends all connections and waits for them. The listener is closed by
// whoever opened it.
func (p *Proxy) Close() {
	p.cancel()
	if p.queue != nil {
		_ = p.queue.Close()
		_ = p.web.Close()
	}
	p.busy.Wait()
}

// take tells the protocols apart by their first byte.
func (p *Proxy) take(conn net.Conn) {
	_ = conn.SetReadDeadline(time.Now().Add(askLimit))
	reader := bufio.NewReader(conn)
	first, err := reader.Peek(1)
	if err != nil {
		_ = conn.Close()
		return
	}
	if first[0] != version5 {
		p.queue.put(&ahead{conn, reader})
		return
	}
	defer conn.Close()
	host, port, err := readSocks(reader, conn)
	if err != nil {
		return
	}
	inner, err := p.reach(host, port)
	_, said := conn.Write(socksReply(err))
	if err != nil || said != nil {
		return
	}
	_ = conn.SetReadDeadline(time.Time{})
	p.join(&ahead{conn, reader}, inner)
}

func (p *Proxy) reach(host string, port uint16) (net.Conn, error) {
	ctx, cancel := context.WithTimeout(p.ctx, dialLimit)
	defer cancel()
	return p.dial(ctx, host, port)
}

func (p *Proxy) join(outer, inner net.Conn) {
	stop := context.AfterFunc(p.ctx, func() { _, _ = outer.Close(), inner.Close() })
	defer stop()
	reach.Join(outer, inner)
}

func (p *Proxy) http(w http.ResponseWriter, r *http.Request) {
	switch {
	case r.Method == http.MethodConnect:
		p.connect(w, r)
	case r.URL.IsAbs() && r.URL.Scheme == "http":
		p.forward(w, r)
	case r.URL.Path == ScriptPath:
		w.Header().Set("Content-Type", "application/x-ns-proxy-autoconfig")
		_, _ = io.WriteString(w, p.script) // a browser that went away is no concern
	default:
		http.Error(w, "This is a proxy into a lab. Browsers find their settings at "+ScriptPath, http.StatusNotFound)
	}
}

func (p *Proxy) connect(w http.ResponseWriter, r *http.Request) {
	host, text, err := net.SplitHostPort(r.Host)
	port, errPort := strconv.ParseUint(text, 10, 16)
	if err != nil || errPort != nil {
		http.Error(w, "there is no host and port in the request", http.StatusBadRequest)
		return
	}
	inner, err := p.reach(host, uint16(port))
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadGateway)
		return
	}
	outer, buffered, err := http.NewResponseController(w).Hijack()
	if err != nil {
		_ = inner.Close()
		return
	}
	if _, err := io.WriteString(outer, "HTTP/1.1 200 Connected\r\n\r\n"); err != nil {
		_, _ = outer.Close(), inner.Close()
		return
	}
	_ = outer.SetDeadline(time.Time{})
	p.join(&ahead{outer, buffered.Reader}, inner)
}

// forward passes a plain request on.
func (p *Proxy) forward(w http.ResponseWriter, r *http.Request) {
	transport := &http.Transport{DisableKeepAlives: true, DialContext: func(ctx context.Context, _, address string) (net.Conn, error) {
		host, text, err := net.SplitHostPort(address)
		if err != nil {
			return nil, err
		}
		port, err := strconv.ParseUint(text, 10, 16)
		if err != nil {
			return nil, err
		}
		return p.dial(ctx, host, uint16(port))
	}}
	(&httputil.ReverseProxy{Transport: transport, Rewrite: func(r *httputil.ProxyRequest) { r.Out.Host = r.In.Host },
		ErrorHandler: func(w http.ResponseWriter, _ *http.Request, err error) {
			http.Error(w, err.Error(), http.StatusBadGateway)
		}}).ServeHTTP(w, r)
}

// ahead is a connection of which some bytes were read already.
type ahead struct {
	net.Conn
	reader *bufio.Reader
}

func (a *ahead) Read(p []byte) (int, error) { return a.reader.Read(p) }

// CloseWrite passes the end of one direction on.
func (a *ahead) CloseWrite() error {
	if half, is := a.Conn.(interface{ CloseWrite() error }); is {
		return half.CloseWrite()
	}
	return a.Close()
}

// queue is a listener of connections that somebody else accepted.
type queue struct {
	conns chan net.Conn
	ended chan struct{}
	once  sync.Once
	at    net.Addr
}

func (q *queue) put(conn net.Conn) {
	select {
	case q.conns <- conn:
	case <-q.ended:
		_ = conn.Close()
	}
}

// Accept gives the next connection.
func (q *queue) Accept() (net.Conn, error) {
	select {
	case conn := <-q.conns:
		return conn, nil
	case <-q.ended:
		return nil, net.ErrClosed
	}
}

// Close ends the queue.
func (q *queue) Close() error {
	q.once.Do(func() { close(q.ended) })
	return nil
}

// Addr is where the connections came in.
func (q *queue) Addr() net.Addr { return q.at }

// Script tells browsers to go through the proxy at an address for hosts of a
// lab: plain names, names that end as the lab's do, and addresses of its
// networks, each as address and mask.
func Script(at, lab string, networks [][2]string) string {
	script := fmt.Sprintf("function FindProxyForURL(url, host) {\n  if (isPlainHostName(host) && host != \"localhost\" || dnsDomainIs(host, \".%[1]s\") || dnsDomainIs(host, \".%[1]s.internal\")) return \"PROXY %[2]s\";\n", lab, at)
	for _, n := range networks {
		script += fmt.Sprintf("  if (/^[0-9.]+$/.test(host) && isInNet(host, %q, %q)) return \"PROXY %s\";\n", n[0], n[1], at)
	}
	return script + "  return \"DIRECT\";\n}\n"
}
