package labfile

import "time"

// Step is a script that prepares nodes. On each node it first puts its files,
// then starts the services that it names, then runs its script, then waits.
type Step struct {
	Name   string    `json:"name"`
	On     Selection `json:"on"`
	After  []Ref     `json:"after,omitempty"` // steps that must be done on all their nodes before
	Takes  []Ref     `json:"takes,omitempty"` // values that the script sees as variables
	Gives  []Value   `json:"gives,omitempty"`
	Put    []File    `json:"put,omitempty"`
	Start  []Ref     `json:"start,omitempty"`  // services
	Script string    `json:"script,omitempty"` // the script's text, whether it stood in the file or beside it
	Source string    `json:"source,omitempty"` // the script's path, empty where the text stood in the file
	Env    []Var     `json:"env,omitempty"`
	Shared bool      `json:"shared,omitempty"` // depends on nothing of the node
	AtOnce int       `json:"atOnce,omitempty"` // on how many nodes at the same time; 0 for all
	Retry  *Retry    `json:"retry,omitempty"`
	Within Duration  `json:"within"` // how long the script may run
	Wait   *Wait     `json:"wait,omitempty"`
	Pos    Pos       `json:"-"`
	// ScriptPos is where the script, or its path, stands.
	ScriptPos Pos `json:"-"`
}

// Value is a name under which a step gives a text to later steps.
type Value struct {
	Name   string `json:"name"`
	Secret bool   `json:"secret"`
	Pos    Pos    `json:"-"`
}

// Var is a variable that a step's script sees.
type Var struct {
	Name  string `json:"name"`
	Value string `json:"value"`
	Pos   Pos    `json:"-"`
}

// File is a file beside the lab file that a step puts on its nodes.
type File struct {
	Source   string `json:"source"` // relative to the lab file
	Target   string `json:"target"` // absolute, on the node
	Content  []byte `json:"content"`
	Template bool   `json:"template,omitempty"` // a Go text/template over the node's facts
	Pos      Pos    `json:"-"`
}

// Retry says how a script that failed is begun again.
type Retry struct {
	Times int      `json:"times"` // after the first
	Pause Duration `json:"pause"`
}

// WaitKind says what a [Wait] looks at.
type WaitKind string

// The conditions that may end a step.
const (
	WaitPort    WaitKind = "port"    // the node accepts TCP connections on this port
	WaitFile    WaitKind = "file"    // this path exists on the node
	WaitRun     WaitKind = "run"     // this command exits 0 on the node
	WaitService WaitKind = "service" // this service of the node runs, and has for a second
	WaitHTTP    WaitKind = "http"    // this address answers with a status from 200 to 399
	WaitName    WaitKind = "name"    // this name has an address
)

// Wait is the condition that ends a step.
type Wait struct {
	Kind WaitKind `json:"kind"`
	Port uint16   `json:"port,omitempty"`
	// Text is the path, command, service, address or name of the other kinds.
	Text   string   `json:"text,omitempty"`
	Within Duration `json:"within"`
	Pos    Pos      `json:"-"`
}

// What a lab file need not say.
const (
	DefaultImage    = "workstation"
	DefaultCPU      = Cores(500)
	DefaultMemory   = 128 * MiB
	DefaultDisk     = 1 * GiB
	DefaultWithin   = Duration(time.Minute)      // of a wait
	DefaultLimit    = Duration(10 * time.Minute) // of a script
	DefaultPause    = Duration(time.Second)      // before a retry
	DefaultCheck    = Duration(10 * time.Second) // of a check
	DefaultFault    = Duration(10 * time.Second) // of a drill
	DefaultLateness = Duration(100 * time.Millisecond)
	DefaultShare    = 20.0 // percent lost
)
