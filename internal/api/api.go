// Package api is what a keeper and those who ask it say to one another: HTTP
// with JSON over a Unix socket. Times are UTC; durations and processor time
// are nanoseconds; sizes are bytes.
package api

import (
	"strconv"
	"strings"
	"time"

	"kettlehole/internal/agent"
	"kettlehole/internal/audit"
	"kettlehole/internal/labfile"
	"kettlehole/internal/ledger"
	"kettlehole/internal/plan"
	"kettlehole/internal/reach"
	"kettlehole/internal/schedule"
)

// The states of a node.
const (
	Absent       = "absent"
	Creating     = "creating"
	Booting      = "booting"
	Provisioning = "provisioning"
	Ready        = "ready"
	Failed       = "failed"  // also of a step
	Stopped      = "stopped" // it ended because that was asked for, and keeps its disk
	Lost         = "lost"
)

// The states of a step on a node.
const (
	Waiting = "waiting"
	Running = "running"
	Done    = "done"
	Reused  = "reused"
	Skipped = "skipped"
)

// The phases of a lab.
const (
	PhaseMaking   = "making"
	PhaseLiving   = "living"
	PhaseStopping = "stopping"
	PhaseStopped  = "stopped" // nothing of it runs; its disks and its plan are kept
	PhaseLeaving  = "leaving"
	PhaseGone     = "gone"
)

// The outcomes of a run.
const (
	OutcomeDone      = "done"
	OutcomeFailed    = "failed"
	OutcomeCancelled = "cancelled"
)

// State is everything about a living lab that people look at.
type State struct {
	Lab      string     `json:"lab"`
	File     string     `json:"file"`
	Phase    string     `json:"phase"`
	Created  time.Time  `json:"created"`
	Plan     *plan.Plan `json:"plan,omitempty"`
	Run      Run        `json:"run"`
	Nodes    []Node     `json:"nodes"`
	Cells    []Cell     `json:"cells"`
	Forwards []Forward  `json:"forwards"`
	Fronts   []Front    `json:"fronts,omitempty"`
	// Retrieved are the files that the lab wants on the workstation.
	Retrieved []Retrieved   `json:"retrieved,omitempty"`
	Now       time.Time     `json:"now"` // the keeper's clock when this was said
	Audit     *audit.Report `json:"audit,omitempty"`
	Error     string        `json:"error,omitempty"` // of the last thing that was asked for
	Fault     bool          `json:"fault,omitempty"` // the error is the workstation's, not the lab's
}

// Run is the newest run.
type Run struct {
	N       int       `json:"n"`
	Started time.Time `json:"started,omitzero"`
	Ended   time.Time `json:"ended,omitzero"`
	Outcome string    `json:"outcome,omitempty"`
	Doing   string    `json:"doing,omitempty"` // what is done before nodes can be made
	// Expected is when it will end, by what is remembered of how long things
	// take; zero where it has ended. Guessed counts what is left that nobody
	// knows the time of.
	Expected time.Time `json:"expected,omitzero"`
	Guessed  int       `json:"guessed,omitempty"`
	// Chain is what makes the run as long as it is, or will be, first to last.
	Chain     []schedule.Cell `json:"chain,omitempty"`
	Rehearsed bool            `json:"rehearsed,omitempty"` // it took place in virtual time alone
	Ways      Ways            `json:"ways,omitzero"`
}

// Node is the state of a node.
type Node struct {
	Name     string         `json:"name"`
	State    string         `json:"state"`
	Reason   string         `json:"reason,omitempty"`
	Marks    []Mark         `json:"marks,omitempty"` // how it came through its states in the newest run
	CPU      float64        `json:"cpu"`             // share of its own limit in the last second, 0 to 1
	Memory   int64          `json:"memory"`
	Services []agent.Status `json:"services,omitempty"`
}

// Mark is the moment at which a node entered a state.
type Mark struct {
	State string    `json:"state"`
	At    time.Time `json:"at"`
}

// Cell is the state of a step on a node.
type Cell struct {
	Step    string    `json:"step"`
	Node    string    `json:"node"`
	State   string    `json:"state"`
	Run     int       `json:"run,omitempty"` // in which it ran, or was done
	Started time.Time `json:"started,omitzero"`
	Waiting time.Time `json:"waiting,omitzero"` // since when its wait looks; of a reused one, again
	Ended   time.Time `json:"ended,omitzero"`
	Exit    int       `json:"exit,omitempty"`
	Reason  string    `json:"reason,omitempty"` // what it waits for, or why it failed
	Tail    string    `json:"tail,omitempty"`   // of a failed one, its last lines
	Layer   string    `json:"layer,omitempty"`  // of a shared step, the digest of what it left
}

// Origin says where a reused cell comes from: "run 3", "layer 0a1b2c3d".
func (c Cell) Origin() string {
	if c.Layer == "" {
		return "run " + strconv.Itoa(c.Run)
	}
	digest := strings.TrimPrefix(c.Layer, "sha256:")
	return "layer " + digest[:min(len(digest), 8)]
}

// Runs tells whether a node in this state can be asked for something.
func Runs(state string) bool {
	switch state {
	case Absent, Creating, Booting, Stopped, Lost:
		return false
	}
	return true
}

// Hinders tells whether the reason of a cell that has not begun keeps it from
// ever starting in this run.
func Hinders(reason string) bool {
	return strings.HasSuffix(reason, " failed") || strings.Contains(reason, "the node is ") || reason == LeftOut
}

// LeftOut is the reason of a cell that nobody wanted in this run.
const LeftOut = "left out of this run"

// Forward is the state of a forward.
type Forward struct {
	plan.Forward
	Open   int    `json:"open"`  // connections now
	Total  int64  `json:"total"` // connections so far
	In     int64  `json:"in"`    // bytes into the node so far
	Out    int64  `json:"out"`   // bytes out of the node so far
	Reason string `json:"reason,omitempty"`
}

// Front is the state of a front.
type Front struct {
	plan.Front
	States  []reach.MemberState `json:"states"`
	Refused int64               `json:"refused"` // connections for which no member was healthy
	Reason  string              `json:"reason,omitempty"`
}

// Retrieved is a file that the lab wants on the workstation.
type Retrieved struct {
	Name   string `json:"name"`
	Path   string `json:"path"`             // on the workstation, absolute
	Reason string `json:"reason,omitempty"` // why it is not there, or not the newest
}

// Access asks for a port of the workstation's loopback where ssh comes in.
type Access struct {
	Port string `json:"port"` // a number, "auto" or "off"
}

// NewForward asks for a forward more.
type NewForward struct {
	Name string `json:"name,omitempty"` // "" for the node's name and port
	Text string `json:"text"`           // as in a lab file: "9090 -> council-1:7001"
}

// Things is the answer to what a lab has made.
type Things struct {
	Entries []ledger.Entry `json:"entries"`
}

// Wanted asks for a run. A start goes by the plan that the lab has: file and
// inputs say nothing to it.
type Wanted struct {
	File   string          `json:"file,omitempty"` // an absolute path
	Inputs []labfile.Given `json:"inputs,omitempty"`
	// Agreed says that the person agreed to nodes going, or being made anew.
	Agreed bool `json:"agreed,omitempty"`
	// Tight allows to promise memory that is not there.
	Tight bool `json:"tight,omitempty"`
	// Proxies are the variables of the person's environment that name HTTP
	// proxies; programs on nodes with a way out get them.
	Proxies []string `json:"proxies,omitempty"`
	Ways    Ways     `json:"ways,omitzero"`
}

// Ways say how a run differs from doing just what is due.
type Ways struct {
	// Again names steps that run anew though they are done, From one that does
	// so with all that follows it.
	Again []string `json:"again,omitempty"`
	From  string   `json:"from,omitempty"`
	// Only is a selection of nodes; on the others nothing begins.
	Only string `json:"only,omitempty"`
	// Skip are cells that are taken for done without running.
	Skip []schedule.Cell `json:"skip,omitempty"`
}

// Problem is the answer to a request that failed.
type Problem struct {
	Error string `json:"error"`
	Fault bool   `json:"fault,omitempty"`
}
