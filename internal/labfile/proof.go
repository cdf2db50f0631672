package labfile

// CheckKind says what a [Check] looks at.
type CheckKind string

// The kinds of check.
const (
	CheckReach CheckKind = "reach" // every pair of nodes
	CheckRun   CheckKind = "run"   // a command
	CheckHTTP  CheckKind = "http"  // an HTTP answer
	CheckPort  CheckKind = "port"  // a node's port
)

// Workstation is where a check looks from that is not on a node.
const Workstation = "workstation"

// Check is an expectation, a part of the proof that the lab works.
type Check struct {
	Name   string    `json:"name"` // a sentence: "the door answers"
	Kind   CheckKind `json:"kind"`
	From   string    `json:"from"` // a node, or [Workstation]
	Reach  Selection `json:"reach,omitzero"`
	Over   string    `json:"over,omitempty"`
	Run    string    `json:"run,omitempty"`
	HTTP   string    `json:"http,omitempty"`
	Status int       `json:"status,omitempty"`
	Says   string    `json:"says,omitempty"` // must stand in what comes back
	Node   string    `json:"node,omitempty"` // of a port
	Port   uint16    `json:"port,omitempty"`
	Within Duration  `json:"within"`
	Pos    Pos       `json:"-"`
	FromAt Pos       `json:"-"`
	OverAt Pos       `json:"-"`
	PortAt Pos       `json:"-"`
}

// FaultKind says what a [Drill] does.
type FaultKind string

// The kinds of fault.
const (
	FaultKill  FaultKind = "kill"
	FaultPause FaultKind = "pause"
	FaultCut   FaultKind = "cut"
	FaultSlow  FaultKind = "slow"
	FaultLossy FaultKind = "lossy"
)

// Drill is a planned fault with an expectation, and its healing.
type Drill struct {
	Name   string     `json:"name"` // a sentence: "a council node dies"
	Fault  FaultKind  `json:"fault"`
	On     Selection  `json:"on"`
	From   *Selection `json:"from,omitempty"` // the other side of a link; nil for all others
	Over   string     `json:"over,omitempty"` // "" for every network
	By     Duration   `json:"by,omitempty"`
	Share  float64    `json:"share,omitempty"` // percent
	For    Duration   `json:"for"`
	Holds  []Ref      `json:"holds,omitempty"`
	Breaks []Ref      `json:"breaks,omitempty"`
	Outage Duration   `json:"outage"`
	Pos    Pos        `json:"-"`
	OverAt Pos        `json:"-"`
}
