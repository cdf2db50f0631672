// Package container lays nodes on OCI containers, inside the namespaces that a
// lab's anchor holds.
package container

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"path/filepath"
	"time"

	"kettlehole/internal/agent"
	"kettlehole/internal/anchor"
	"kettlehole/internal/fabric"
	"kettlehole/internal/longpath"
	"kettlehole/internal/reach"
	"kettlehole/internal/reach/within"
	"kettlehole/internal/substrate"
)

// agentSocket is where a node's init listens, in the node's folder.
const agentSocket = "init.sock"

// Containers is the substrate of one lab. It is safe for concurrent use.
type Containers struct {
	folder string // the lab's
	find   func() string
	cgroup *Cgroup
}

var _ substrate.Substrate = (*Containers)(nil)

// New gives the substrate of the lab whose folder and control group are given.
// find gives the path of the OCI runtime, "" where there is none; it is asked
// for each node, since a runtime may be installed meanwhile. Nothing is made.
func New(folder string, find func() string, cgroup *Cgroup) *Containers {
	return &Containers{folder: folder, find: find, cgroup: cgroup}
}

// Networks makes the lab's networks so that these and no others are there.
func (c *Containers) Networks(ctx context.Context, networks []fabric.Network) error {
	_, err := c.ask(ctx, insideRequest{Op: opNetworks, Networks: networks})
	return err
}

// Within makes the lab answer for names, spread connections and let out what
// may leave, as the config says. Its networks must be there. It stays so until
// another one comes, whether this process lives or not.
func (c *Containers) Within(ctx context.Context, config within.Config) error {
	_, err := c.ask(ctx, insideRequest{Op: opWithin, Within: config})
	return err
}

// Fronts tells how the lab's fronts are, by name.
func (c *Containers) Fronts(ctx context.Context) ([]reach.FrontState, error) {
	reply, err := c.ask(ctx, insideRequest{Op: opFronts})
	return reply.Fronts, err
}

// Make makes and starts a node, unless it runs as it should.
func (c *Containers) Make(ctx context.Context, node substrate.Node) (substrate.Made, error) {
	runtime := c.find()
	if runtime == "" {
		return substrate.Made{}, fmt.Errorf("%w: no OCI runtime is installed; on Debian: apt-get install runc", substrate.ErrWorkstation)
	}
	reply, err := c.ask(ctx, insideRequest{Op: opMake, Node: node, Runtime: runtime, Cgroup: c.cgroup.Node(node.Name)})
	if err == nil && reply.Made.Stayed {
		err = c.cgroup.limit(node.Name, node.CPU, node.Memory)
	}
	return reply.Made, err
}

// Remove takes a node and its disk away.
func (c *Containers) Remove(ctx context.Context, node string) error {
	_, err := c.ask(ctx, insideRequest{Op: opRemove, Node: substrate.Node{Name: node}, Runtime: c.find()})
	return err
}

// Keep ends a node and moves what was written to its disk to a path.
func (c *Containers) Keep(ctx context.Context, node, path string) error {
	_, err := c.ask(ctx, insideRequest{Op: opKeep, Node: substrate.Node{Name: node}, Runtime: c.find(), Path: path})
	return err
}

// Living lists the nodes that run.
func (c *Containers) Living(ctx context.Context) ([]string, error) {
	reply, err := c.ask(ctx, insideRequest{Op: opLiving})
	return reply.Living, err
}

// Usage reads what a node uses.
func (c *Containers) Usage(node string) (substrate.Usage, error) { return c.cgroup.Usage(node) }

// Logs is the folder on the workstation that holds a node's logs.
func (c *Containers) Logs(node string) string { return filepath.Join(c.folder, "nodes", node, "log") }

// Agent is the way to manage a node.
func (c *Containers) Agent(node string) agent.Client {
	path := filepath.Join(c.folder, "nodes", node, agentSocket)
	return agent.Client{Dial: func(ctx context.Context) (net.Conn, error) { return longpath.Dial(ctx, path) }}
}

// ask sends one request to the worker. A worker that is just being started
// again is waited for.
func (c *Containers) ask(ctx context.Context, request insideRequest) (reply insideReply, err error) {
	conn, err := longpath.Dial(ctx, filepath.Join(c.folder, anchor.Socket))
	if err != nil {
		return reply, fmt.Errorf("reaching the worker: %w", err)
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	err = json.NewEncoder(conn).Encode(request)
	if err == nil {
		err = json.NewDecoder(conn).Decode(&reply)
	}
	switch {
	case ctx.Err() != nil:
		err = ctx.Err()
	case err != nil:
		err = fmt.Errorf("the worker ended while it was asked to %s: %w", request.Op, err)
	case reply.Workstation:
		err = &workstationError{reply.Error}
	case reply.Error != "":
		err = errors.New(reply.Error)
	}
	return reply, err
}

// workstationError is a failure of the workstation that the worker tells of.
type workstationError struct{ words string }

func (e *workstationError) Error() string        { return e.words }
func (e *workstationError) Is(target error) bool { return target == substrate.ErrWorkstation }
