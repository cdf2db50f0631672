package labfile

import (
	"net/netip"
	"strconv"
	"strings"
	"time"
)

// Pos is a place in a lab file. Line and Column count from 1, Column in
// characters; the zero Pos means that no place is known.
type Pos struct {
	Line   int `json:"line"`
	Column int `json:"column"`
}

// Reader gives the content of a file that a lab file names. The path is
// relative to the lab file's own folder, as it stands in the lab file.
type Reader func(path string) ([]byte, error)

// Lab is a lab file that was understood. Everything in it stands in file
// order. A Lab is not changed after [Parse] returns it and may be read by any
// number of goroutines.
type Lab struct {
	Name     string    `json:"name"`
	About    string    `json:"about,omitempty"`
	Programs string    `json:"programs,omitempty"` // folder of the lab's own programs, relative to the file; "" for none
	Networks []Network `json:"networks"`
	Groups   []Group   `json:"groups"`
	Forwards []Forward `json:"forwards,omitempty"`
	Steps    []Step    `json:"steps,omitempty"`
}

// Network is a layer-2 segment of the lab.
type Network struct {
	Name   string       `json:"name"`
	Subnet netip.Prefix `json:"subnet,omitzero"` // the zero Prefix where the file says 'auto'
	Pos    Pos          `json:"-"`
}

// Auto tells whether the planner chooses the network's range.
func (n Network) Auto() bool { return !n.Subnet.IsValid() }

// Group is a number of nodes that are alike.
type Group struct {
	Name     string    `json:"name"`
	Count    int       `json:"count"`
	Image    string    `json:"image"`
	CPU      Cores     `json:"cpu"`
	Memory   Bytes     `json:"memory"`
	Networks []Tap     `json:"networks"`
	Services []Service `json:"services,omitempty"`
	Pos      Pos       `json:"-"`
}

// has tells whether a node of this name belongs to the group.
func (g Group) has(node string) bool {
	number, found := strings.CutPrefix(node, g.Name+"-")
	n, err := strconv.Atoi(number)
	return found && err == nil && n >= 1 && n <= g.Count
}

// Tap is a group's place on one network.
type Tap struct {
	Network string `json:"network"`
	// Host is the host part of the first node's address, from one octet
	// (".11") to four; empty where the planner chooses.
	Host []byte `json:"host,omitempty"`
	Pos  Pos    `json:"-"`
}

// Service is a program that a node keeps running.
type Service struct {
	Name string `json:"name"`
	Run  string `json:"run"` // a command line for /bin/sh
	Pos  Pos    `json:"-"`
}

// Forward leads from a port of the workstation to a port of a node, over TCP.
type Forward struct {
	Name     string     `json:"name"`
	Bind     netip.Addr `json:"bind"`     // 127.0.0.1 unless the file says otherwise
	Port     uint16     `json:"port"`     // 0 where the planner chooses ('auto')
	Node     string     `json:"node"`     // a node's name
	NodePort uint16     `json:"nodePort"` // never 0
	Pos      Pos        `json:"-"`
	NodePos  Pos        `json:"-"` // of the node's name
}

// Step is a script that prepares nodes. On each node it first starts the
// services that it names, then runs its script, then waits.
type Step struct {
	Name   string    `json:"name"`
	On     Selection `json:"on"`
	After  []Ref     `json:"after,omitempty"` // steps that must be done on all their nodes before
	Takes  []Ref     `json:"takes,omitempty"` // values that the script sees as variables
	Gives  []Value   `json:"gives,omitempty"`
	Start  []Ref     `json:"start,omitempty"`  // services
	Script string    `json:"script,omitempty"` // the script's text, whether it stood in the file or beside it
	Source string    `json:"source,omitempty"` // the script's path, empty where the text stood in the file
	Wait   *Wait     `json:"wait,omitempty"`
	Pos    Pos       `json:"-"`
}

// Ref is a name that refers to something declared elsewhere in the file.
type Ref struct {
	Name string `json:"name"`
	Pos  Pos    `json:"-"`
}

// Value is a name under which a step gives a text to later steps.
type Value struct {
	Name   string `json:"name"`
	Secret bool   `json:"secret"`
	Pos    Pos    `json:"-"`
}

// WaitKind says what a [Wait] looks at.
type WaitKind string

// The conditions that may end a step.
const (
	WaitPort WaitKind = "port" // the node accepts TCP connections on this port
	WaitFile WaitKind = "file" // this path exists on the node
	WaitRun  WaitKind = "run"  // this command exits 0 on the node
)

// Wait is the condition that ends a step.
type Wait struct {
	Kind   WaitKind      `json:"kind"`
	Port   uint16        `json:"port,omitempty"`
	File   string        `json:"file,omitempty"`
	Run    string        `json:"run,omitempty"`
	Within time.Duration `json:"within"` // in nanoseconds in JSON
	Pos    Pos           `json:"-"`
}

// What a lab file need not say.
const (
	DefaultImage  = "workstation"
	DefaultCPU    = Cores(500)
	DefaultMemory = 128 * MiB
	DefaultWithin = time.Minute
	// StepLimit is how long a step's script may run.
	StepLimit = 10 * time.Minute
)
