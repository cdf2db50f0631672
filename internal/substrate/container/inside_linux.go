package container

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"kettlehole/internal/anchor"
	"kettlehole/internal/fabric"
	"kettlehole/internal/reach"
	"kettlehole/internal/reach/outward"
	"kettlehole/internal/reach/within"
	"kettlehole/internal/substrate"
)

// The operations of the worker inside a lab's namespaces.
const (
	opNetworks = "networks"
	opMake     = "make"
	opLiving   = "living"
	opRemove   = "remove"
	opKeep     = "keep"
	opWithin   = "within"
	opFronts   = "fronts"
)

type insideRequest struct {
	Op       string           `json:"op"`
	Networks []fabric.Network `json:"networks,omitempty"`
	Within   within.Config    `json:"within,omitzero"`
	Node     substrate.Node   `json:"node"`
	Runtime  string           `json:"runtime,omitempty"`
	Cgroup   string           `json:"cgroup,omitempty"`
	Path     string           `json:"path,omitempty"`
}

type insideReply struct {
	Error       string             `json:"error,omitempty"`
	Workstation bool               `json:"workstation,omitempty"` // the error is the workstation's
	Living      []string           `json:"living,omitempty"`
	Made        substrate.Made     `json:"made"`
	Fronts      []reach.FrontState `json:"fronts,omitempty"`
}

// atOnce is how many nodes are made at the same time. Most of a start is not
// work but waiting for the kernel to let a process enter its control groups.
const atOnce = 6

// inside works in a lab's namespaces: it makes networks and nodes. It keeps
// nothing in memory that matters, and may be killed and started again.
type inside struct {
	folder string
	slots  chan struct{}
	within *within.Within

	mu    sync.Mutex
	nodes map[string]*sync.Mutex // one maker of a node at a time
}

// Inside serves the worker's socket until it is closed. The process must be
// in the lab's namespaces; folder is the lab's.
func Inside(folder string, listener net.Listener) error {
	w := &inside{folder: folder, slots: make(chan struct{}, atOnce), nodes: map[string]*sync.Mutex{}, within: within.New(filepath.Join(folder, outward.Socket))}
	for _, name := range []string{"root", "bundle", "runtime"} {
		if err := os.MkdirAll(w.mount(name), 0o700); err != nil {
			return fmt.Errorf("preparing the worker: %w", err)
		}
	}
	if err := errors.Join(fabric.Prepare(), fabric.Still()); err != nil {
		return err
	}
	if err := w.goOn(); err != nil {
		fmt.Fprintln(os.Stderr, err) // the anchor's log; the keeper may ask for it again
	}
	for {
		conn, err := listener.Accept()
		if err != nil {
			return fmt.Errorf("accepting work: %w", err)
		}
		go w.serve(conn)
	}
}

func (w *inside) mount(parts ...string) string {
	return filepath.Join(append([]string{w.folder, anchor.Mounts}, parts...)...)
}

func (w *inside) serve(conn net.Conn) {
	defer conn.Close()
	decoder := json.NewDecoder(bufio.NewReader(conn))
	for {
		var request insideRequest
		if decoder.Decode(&request) != nil {
			return
		}
		var reply insideReply
		var err error
		switch request.Op {
		case opNetworks:
			err = fabric.Networks(request.Networks)
		case opMake:
			reply.Made, err = w.makeNode(request)
		case opRemove:
			err = w.removeNode(request)
		case opKeep:
			err = w.keepDisk(request)
		case opWithin:
			err = w.doWithin(request.Within)
		case opFronts:
			reply.Fronts = w.within.Fronts()
		case opLiving:
			reply.Living, err = w.living()
		default:
			err = fmt.Errorf("the worker does not know the request %q", request.Op)
		}
		if err != nil {
			reply.Error = err.Error()
			reply.Workstation = errors.Is(err, substrate.ErrWorkstation) || errors.Is(err, unix.ENOSPC) || errors.Is(err, unix.EPERM)
		}
		if json.NewEncoder(conn).Encode(reply) != nil {
			return
		}
	}
}

// withinFile holds what the lab does on its networks, for a worker that is
// started again.
const withinFile = "within.json"

// doWithin does what is asked for and writes it down.
func (w *inside) doWithin(config within.Config) error {
	text, err := json.Marshal(config)
	if err == nil {
		err = os.WriteFile(w.mount(withinFile), text, 0o600)
	}
	if err != nil {
		return fmt.Errorf("writing down what the lab does: %w", err)
	}
	return w.within.Do(config)
}

// goOn does again what the worker before this one did.
func (w *inside) goOn() error {
	text, err := os.ReadFile(w.mount(withinFile))
	if errors.Is(err, os.ErrNotExist) {
		return nil
	} else if err != nil {
		return err
	}
	var config within.Config
	if err := json.Unmarshal(text, &config); err != nil {
		return fmt.Errorf("reading what the lab does: %w", err)
	}
	return w.within.Do(config)
}

func (w *inside) lock(node string) *sync.Mutex {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.nodes[node] == nil {
		w.nodes[node] = &sync.Mutex{}
	}
	return w.nodes[node]
}

// makeNode makes a node and starts it, unless it runs.
func (w *inside) makeNode(request insideRequest) (made substrate.Made, err error) {
	node := request.Node
	lock := w.lock(node.Name)
	lock.Lock()
	defer lock.Unlock()
	w.slots <- struct{}{}
	defer func() { <-w.slots }()
	have := w.imprint(node.Name)
	same := have.Born != "" && have.is(node)
	if same && w.alive(node.Name) {
		return substrate.Made{Born: have.Born, Stayed: true}, nil
	}
	if err := w.clear(request); err != nil {
		return made, err
	}
	if !same {
		if have, err = w.freshDisk(node); err != nil {
			return made, err
		}
	}
	made.Born = have.Born
	return made, w.start(request)
}

// removeNode takes a node away, with its disk.
func (w *inside) removeNode(request insideRequest) error {
	lock := w.lock(request.Node.Name)
	lock.Lock()
	defer lock.Unlock()
	if err := w.clear(request); err != nil {
		return err
	}
	if err := os.RemoveAll(w.disk(request.Node.Name)); err != nil {
		return fmt.Errorf("removing the disk of %s: %w", request.Node.Name, err)
	}
	return nil
}

// keepDisk ends a node and moves its own files to the path. What every node
// gets for itself is not among them.
func (w *inside) keepDisk(request insideRequest) error {
	name := request.Node.Name
	lock := w.lock(name)
	lock.Lock()
	if err := w.clear(request); err != nil {
		lock.Unlock()
		return err
	}
	upper := w.disk(name, "upper")
	for _, own := range []string{"hosts", "hostname"} {
		if err := os.RemoveAll(filepath.Join(upper, "etc", own)); err != nil {
			lock.Unlock()
			return fmt.Errorf("keeping the disk of %s: %w", name, err)
		}
	}
	err := os.Rename(upper, request.Path)
	lock.Unlock()
	if err != nil {
		return fmt.Errorf("keeping the disk of %s: %w", name, err)
	}
	return w.removeNode(request)
}

// start starts a node that does not run.
func (w *inside) start(request insideRequest) error {
	node := request.Node
	namespace, err := fabric.Namespace(node.Name, node.Links)
	if err != nil {
		return err
	}
	defer namespace.Close() // from here on the node's processes hold it
	at := place{root: w.mount("root"), namespace: fmt.Sprintf("/proc/%d/fd/%d", os.Getpid(), namespace.Fd()), logs: w.disk(node.Name, "log"), cgroup: request.Cgroup}
	return apart(func() error {
		if err := w.mountRoot(node, at.root); err != nil {
			return err
		}
		return w.run(request, at, namespace)
	})
}

// apart calls do in a mount namespace of its own. A node's disk is mounted
// there alone: the runtime copies the mount namespace that it starts in, and
// reads the list of its mounts several times, so that with all disks in one
// place each node would cost the more the more there are. What was mounted
// lives on with the node's own mount namespace.
func apart(do func() error) error {
	done := make(chan error)
	go func() {
		runtime.LockOSThread() // never unlocked: the thread ends with its namespace
		err := unix.Unshare(unix.CLONE_FS | unix.CLONE_NEWNS)
		if err != nil {
			err = fmt.Errorf("setting mounts apart: %w", err)
		} else {
			err = do()
		}
		done <- err
	}()
	return <-done
}

// disk is a path in the folder of a node that outlives the namespaces.
func (w *inside) disk(node string, parts ...string) string {
	return filepath.Join(append([]string{w.folder, "nodes", node}, parts...)...)
}

// alive tells whether the node's first process runs: the process that the
// runtime wrote down, if it is still in the network namespace that was made
// for it.
func (w *inside) alive(node string) bool {
	pid, err := os.ReadFile(w.mount("bundle", node, "pid"))
	if err != nil {
		return false
	}
	want, err := os.ReadFile(w.mount("bundle", node, "namespace"))
	var have unix.Stat_t
	if err != nil || unix.Stat("/proc/"+strings.TrimSpace(string(pid))+"/ns/net", &have) != nil {
		return false
	}
	return string(want) == strconv.FormatUint(have.Ino, 10)
}

func (w *inside) living() ([]string, error) {
	entries, err := os.ReadDir(w.mount("bundle"))
	if err != nil {
		return nil, fmt.Errorf("listing nodes: %w", err)
	}
	var names []string
	for _, e := range entries {
		if w.alive(e.Name()) {
			names = append(names, e.Name())
		}
	}
	return names, nil
}

// clear takes away what is left of a node that died or was half made.
func (w *inside) clear(request insideRequest) error {
	name := request.Node.Name
	if _, err := os.Stat(w.mount("runtime", name)); err == nil {
		if err := w.runtime(request.Runtime, nil, nil, "delete", "--force", name); err != nil {
			return err
		}
	}
	return os.RemoveAll(w.mount("bundle", name))
}

// mountRoot lays the node's own files over the layers of its image.
func (w *inside) mountRoot(node substrate.Node, root string) error {
	upper, work := w.disk(node.Name, "upper"), w.disk(node.Name, "work")
	// A volatile overlay that was not unmounted leaves a mark in its work
	// folder and refuses to be mounted again until that is gone.
	if err := os.RemoveAll(work); err != nil {
		return fmt.Errorf("clearing the disk of %s: %w", node.Name, err)
	}
	for _, folder := range []string{work, filepath.Join(upper, "etc"), w.disk(node.Name, "log")} {
		if err := os.MkdirAll(folder, 0o755); err != nil {
			return fmt.Errorf("making the disk of %s: %w", node.Name, err)
		}
	}
	files := map[string]string{"hosts": node.Hosts, "hostname": node.Name + "\n"}
	for name, text := range files {
		if err := os.WriteFile(filepath.Join(upper, "etc", name), []byte(text), 0o644); err != nil {
			return fmt.Errorf("making the disk of %s: %w", node.Name, err)
		}
	}
	escape := strings.NewReplacer(`\`, `\\`, ":", `\:`, ",", `\,`).Replace
	var lower []string
	for _, layer := range node.Layers {
		lower = append(lower, escape(layer))
	}
	options := "lowerdir=" + strings.Join(lower, ":") + ",upperdir=" + escape(upper) + ",workdir=" + escape(work) + ",volatile"
	if err := unix.Mount("overlay", root, "overlay", unix.MS_NODEV, options); err != nil {
		return fmt.Errorf("mounting the disk of %s: %w", node.Name, err)
	}
	return nil
}

// openFiles is how many files a node's process may have open, where the
// workstation allows as many.
const openFiles = 65536

// run hands the node to the OCI runtime.
func (w *inside) run(request insideRequest, at place, namespace *os.File) error {
	name := request.Node.Name
	var files unix.Rlimit
	if err := unix.Getrlimit(unix.RLIMIT_NOFILE, &files); err != nil {
		return err
	}
	at.files = min(openFiles, files.Max) // raising the hard limit takes a privilege that not every root has
	at.mark = anchor.Mark + "=" + os.Getenv(anchor.Mark)
	description, err := spec(request.Node, at)
	if err != nil {
		return err
	}
	text, err := json.Marshal(description)
	if err != nil {
		return err
	}
	bundle := w.mount("bundle", name)
	if err := os.MkdirAll(bundle, 0o700); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(bundle, "config.json"), text, 0o600); err != nil {
		return err
	}
	var in unix.Stat_t
	if err := unix.Fstat(int(namespace.Fd()), &in); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(bundle, "namespace"), []byte(strconv.FormatUint(in.Ino, 10)), 0o600); err != nil {
		return err
	}
	socket, err := w.listen(name)
	if err != nil {
		return err
	}
	defer socket.Close()
	console, err := os.OpenFile(w.disk(name, "console.log"), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	defer console.Close()
	err = w.runtime(request.Runtime, console, []*os.File{socket}, "run", "--detach", "--preserve-fds", "1",
		"--pid-file", filepath.Join(bundle, "pid"), "--bundle", bundle, name)
	if err == nil {
		w.protect(name)
	}
	return err
}

// protect makes the kernel spare a node's init when the node's memory ends,
// where this root has the privilege to ask for that (CAP_SYS_RESOURCE).
func (w *inside) protect(node string) {
	if pid, err := os.ReadFile(w.mount("bundle", node, "pid")); err == nil {
		_ = os.WriteFile("/proc/"+strings.TrimSpace(string(pid))+"/oom_score_adj", []byte("-900"), 0)
	}
}

// listen opens the socket on which the node's init is managed. Its path lies
// outside of everything that the node can see.
func (w *inside) listen(node string) (*os.File, error) {
	path := filepath.Join("nodes", node, agentSocket) // relative to the lab's folder, since a socket's path is short
	if err := os.Remove(path); err != nil && !os.IsNotExist(err) {
		return nil, err
	}
	listener, err := net.ListenUnix("unix", &net.UnixAddr{Name: path})
	if err != nil {
		return nil, fmt.Errorf("opening the management socket of %s: %w", node, err)
	}
	defer listener.Close()
	listener.SetUnlinkOnClose(false)
	if err := os.Chmod(path, 0o600); err != nil {
		return nil, err
	}
	return listener.File()
}

// runtimeLimit is how long one call of the OCI runtime may take.
const runtimeLimit = 2 * time.Minute

// runtime calls the OCI runtime. Its own words about a failure are in its log.
func (w *inside) runtime(program string, console *os.File, files []*os.File, args ...string) error {
	log, err := os.CreateTemp(w.mount(), "runtime-*.log")
	if err != nil {
		return err
	}
	defer os.Remove(log.Name())
	defer log.Close()
	ctx, cancel := context.WithTimeout(context.Background(), runtimeLimit)
	defer cancel()
	cmd := exec.CommandContext(ctx, program, append([]string{"--root", w.mount("runtime"), "--log", log.Name(), "--log-format", "json"}, args...)...)
	if console != nil {
		cmd.Stdout, cmd.Stderr = console, console
	}
	// The runtime is a Go program that lives for milliseconds.
	cmd.Env = append(os.Environ(), "GOGC=off", "GOMAXPROCS=1")
	cmd.ExtraFiles = files
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("%w: %s %s: %v%s", substrate.ErrWorkstation, filepath.Base(program), args[0], err, lastWords(log))
	}
	return nil
}

// lastWords reads the runtime's last message.
func lastWords(log *os.File) string {
	words := ""
	for scanner := bufio.NewScanner(log); scanner.Scan(); {
		var line struct {
			Level string `json:"level"`
			Msg   string `json:"msg"`
		}
		if json.Unmarshal(scanner.Bytes(), &line) == nil && line.Msg != "" {
			words = ": " + line.Msg
			if text, err := strconv.Unquote(line.Msg); err == nil {
				words = ": " + text
			}
		}
	}
	return words
}
