// Package substrate is what a node is laid on: the interface that run and
// reach know, whatever a node really is.
package substrate

import (
	"context"
	"errors"

	"kettlehole/internal/agent"
	"kettlehole/internal/fabric"
)

// ErrWorkstation marks failures for which the workstation must be changed,
// not the lab: no runtime, no privilege, a full disk.
var ErrWorkstation = errors.New("the workstation cannot do this")

// Node is everything needed to make a node.
type Node struct {
	Name   string        `json:"name"`
	Links  []fabric.Link `json:"links"`
	Layers []string      `json:"layers"` // folders of the image, the uppermost first
	CPU    int64         `json:"cpu"`    // thousandths of a core
	Memory int64         `json:"memory"` // bytes
	Hosts  string        `json:"hosts"`  // text of /etc/hosts
}

// Made is what became of a node that was to be made.
type Made struct {
	// Born names the node's disk: it is another one once the node was made anew.
	Born   string `json:"born"`
	Stayed bool   `json:"stayed,omitempty"` // it ran already
}

// Usage is what a node uses now.
type Usage struct {
	CPU    int64 `json:"cpu"`    // nanoseconds of processor time so far
	Memory int64 `json:"memory"` // bytes
}

// Substrate makes and removes nodes. Its methods are safe for concurrent use
// on different nodes.
type Substrate interface {
	// Networks makes the lab's networks so that these and no others are there.
	Networks(ctx context.Context, networks []fabric.Network) error
	// Make makes and starts a node. One that runs is left as it is, but for its
	// limits; of one that died what is left goes first, but its disk is kept.
	// One that was made with other links or layers is removed and made anew.
	Make(ctx context.Context, node Node) (Made, error)
	// Remove takes a node and its disk away. One that is not there is no error.
	Remove(ctx context.Context, node string) error
	// Keep ends a node and moves what was written to its disk, over its layers,
	// to a path that does not exist yet. The node is gone then.
	Keep(ctx context.Context, node, path string) error
	// Living lists the nodes that run.
	Living(ctx context.Context) ([]string, error)
	// Agent is the way to manage a node, which need not be there yet.
	Agent(node string) agent.Client
	// Usage reads what a node uses.
	Usage(node string) (Usage, error)
}
