package login

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"kettlehole/internal/agent"
)

// ServerVersion is how the keeper calls itself (RFC 4253, section 4.2).
const ServerVersion = "SSH-2.0-kettlehole"

// handshakeLimit is how long a client may take to come in.
const handshakeLimit = 20 * time.Second

// ErrNoNode says that there is no such node.
var ErrNoNode = errors.New("there is no such node")

// Server lets clients into the nodes of one lab. Its methods are safe for
// concurrent use.
type Server struct {
	Keys *Keys
	Lab  string
	// Node gives the way to manage a node, or [ErrNoNode].
	Node func(name string) (agent.Client, error)

	ctx    context.Context
	cancel context.CancelFunc
	busy   sync.WaitGroup
	once   sync.Once
}

func (s *Server) begin() {
	s.once.Do(func() { s.ctx, s.cancel = context.WithCancel(context.Background()) })
}

// Close ends all sessions and waits for them.
func (s *Server) Close() {
	s.begin()
	s.cancel()
	s.busy.Wait()
}

// Listen lets clients in on a listener until that is closed. They say with the
// name of the user which node they mean.
func (s *Server) Listen(listener net.Listener) {
	s.begin()
	for {
		conn, err := listener.Accept()
		if errors.Is(err, net.ErrClosed) {
			return
		} else if err != nil {
			time.Sleep(10 * time.Millisecond)
			continue
		}
		s.busy.Go(func() { _ = s.Serve(conn, "") })
	}
}

// Serve speaks with one client about a node, or where node is "" about the one
// that the client's user name means. It closes the connection.
func (s *Server) Serve(conn net.Conn, node string) error {
	s.begin()
	defer conn.Close()
	stop := context.AfterFunc(s.ctx, func() { _ = conn.Close() })
	defer stop()
	name := node
	if name == "" {
		name = "lab" // the host that a client on a port of the workstation meets
	}
	host, err := s.Keys.certified([]string{name + "." + s.Lab, name, name + "." + s.Lab + ".internal"})
	if err != nil {
		return fmt.Errorf("certifying %s: %w", name, err)
	}
	config := &ssh.ServerConfig{ServerVersion: ServerVersion, PublicKeyCallback: func(_ ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
		if !bytes.Equal(key.Marshal(), s.Keys.client.Marshal()) {
			return nil, errors.New("this key is not the lab's")
		}
		return nil, nil
	}}
	config.AddHostKey(host)
	_ = conn.SetDeadline(time.Now().Add(handshakeLimit))
	client, channels, requests, err := ssh.NewServerConn(conn, config)
	if err != nil {
		return fmt.Errorf("letting a client in: %w", err)
	}
	_ = conn.SetDeadline(time.Time{})
	if node == "" {
		node = strings.TrimSuffix(client.User(), "."+s.Lab)
	}
	way, err := s.Node(node)
	v := &visit{server: s, conn: client, node: node, way: way, missing: err, listeners: map[string]net.Listener{}}
	defer v.end()
	v.busy.Go(func() { v.global(requests) })
	for channel := range channels {
		v.busy.Go(func() { v.open(channel) })
	}
	return nil
}

// visit is one client that came in.
type visit struct {
	server  *Server
	conn    *ssh.ServerConn
	node    string
	way     agent.Client
	missing error // why there is no way to the node
	busy    sync.WaitGroup

	mu        sync.Mutex
	listeners map[string]net.Listener // of ports on the node that lead to the client
}

func (v *visit) end() {
	_ = v.conn.Close()
	v.mu.Lock()
	for _, l := range v.listeners {
		_ = l.Close()
	}
	v.mu.Unlock()
	v.busy.Wait()
}

func (v *visit) open(asked ssh.NewChannel) {
	if v.missing != nil {
		_ = asked.Reject(ssh.ConnectionFailed, fmt.Sprintf("node %q: %v", v.node, v.missing))
		return
	}
	switch asked.ChannelType() {
	case "session":
		channel, requests, err := asked.Accept()
		if err == nil {
			v.session(channel, requests)
		}
	case "direct-tcpip":
		v.dial(asked)
	default:
		_ = asked.Reject(ssh.UnknownChannelType, "only sessions and TCP connections lead into a node")
	}
}

// dial opens a connection from inside the node (RFC 4254, section 7.2).
func (v *visit) dial(asked ssh.NewChannel) {
	var to struct {
		Host     string
		Port     uint32
		From     string
		FromPort uint32
	}
	if err := ssh.Unmarshal(asked.ExtraData(), &to); err != nil || to.Port == 0 || to.Port > 65535 {
		_ = asked.Reject(ssh.ConnectionFailed, "the request is not understood")
		return
	}
	conn, err := v.way.DialAddress(v.server.ctx, net.JoinHostPort(to.Host, strconv.Itoa(int(to.Port))))
	if err != nil {
		_ = asked.Reject(ssh.ConnectionFailed, err.Error())
		return
	}
	channel, requests, err := asked.Accept()
	if err != nil {
		_ = conn.Close()
		return
	}
	go ssh.DiscardRequests(requests)
	joinChannel(channel, conn)
}

// global answers requests beside the channels: ports of the node that lead to
// the client (RFC 4254, section 7.1).
func (v *visit) global(requests <-chan *ssh.Request) {
	for request := range requests {
		switch request.Type {
		case "tcpip-forward":
			v.listen(request)
		case "cancel-tcpip-forward":
			v.unlisten(request)
		default:
			answer(request, false, nil)
		}
	}
}

func answer(request *ssh.Request, ok bool, payload []byte) {
	if request.WantReply {
		_ = request.Reply(ok, payload)
	}
}

type listenRequest struct {
	Address string
	Port    uint32
}

func (r listenRequest) key() string { return net.JoinHostPort(r.Address, strconv.Itoa(int(r.Port))) }

// host is the address to listen on, of what a client calls it (RFC 4254,
// section 7.1).
func (r listenRequest) host() string {
	switch r.Address {
	case "localhost":
		return "127.0.0.1"
	case "*":
		return ""
	}
	return r.Address
}

func (v *visit) listen(request *ssh.Request) {
	var want listenRequest
	if err := ssh.Unmarshal(request.Payload, &want); err != nil || want.Port > 65535 || v.missing != nil {
		answer(request, false, nil)
		return
	}
	listener, err := v.way.Listen(v.server.ctx, net.JoinHostPort(want.host(), strconv.Itoa(int(want.Port))))
	if err != nil {
		answer(request, false, nil)
		return
	}
	var payload []byte
	port := uint32(listener.Addr().(*net.TCPAddr).Port)
	if want.Port == 0 {
		payload = ssh.Marshal(struct{ Port uint32 }{port})
	}
	want.Port = port
	v.mu.Lock()
	v.listeners[want.key()] = listener
	v.mu.Unlock()
	answer(request, true, payload)
	v.busy.Go(func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			v.busy.Go(func() { v.lead(conn, want) })
		}
	})
}

func (v *visit) unlisten(request *ssh.Request) {
	var want listenRequest
	if err := ssh.Unmarshal(request.Payload, &want); err != nil {
		answer(request, false, nil)
		return
	}
	v.mu.Lock()
	listener := v.listeners[want.key()]
	delete(v.listeners, want.key())
	v.mu.Unlock()
	if listener != nil {
		_ = listener.Close()
	}
	answer(request, listener != nil, nil)
}

// lead passes a connection to a port of the node on to the client.
func (v *visit) lead(conn net.Conn, at listenRequest) {
	from := conn.RemoteAddr().(*net.TCPAddr)
	channel, requests, err := v.conn.OpenChannel("forwarded-tcpip", ssh.Marshal(struct {
		Address  string
		Port     uint32
		From     string
		FromPort uint32
	}{at.Address, at.Port, from.IP.String(), uint32(from.Port)}))
	if err != nil {
		_ = conn.Close()
		return
	}
	go ssh.DiscardRequests(requests)
	joinChannel(channel, conn)
}
