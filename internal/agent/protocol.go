// Package agent is the way to manage a node: the protocol that a node's init
// speaks, and its client. It runs over any stream connection that the
// substrate provides and never over the lab's networks.
//
// A connection carries requests one after another. A request is one line of
// JSON, a [Request]; the answer is one line of JSON, a [Reply]. After an exec
// request that was answered without error, the connection carries frames (see
// [WriteFrame]) until the program ends; after a watch request, a line of JSON,
// a [Status], for every change. Dial and listen end the connection with a socket
// beside the reply; take and send carry a bundle after it.
package agent

import (
	"encoding/binary"
	"fmt"
	"io"

	"kettlehole/internal/bundle"
)

// Op names what a request wants.
type Op string

// The operations of a node's init.
const (
	OpHello     Op = "hello"     // answers at once; the node has booted
	OpConfigure Op = "configure" // environment, facts and services
	OpStart     Op = "start"     // a service; one that runs is left alone
	OpStop      Op = "stop"      // a service
	OpHalt      Op = "halt"      // ends everything but the init, services first
	OpJob       Op = "job"       // runs a script to its end; asked again with the same id, waits for the same run
	OpCancel    Op = "cancel"    // ends a job with all its processes
	OpProbe     Op = "probe"     // looks once at a port, a file or a command
	OpDial      Op = "dial"      // passes a connected socket (SCM_RIGHTS, unix(7)) beside the reply
	OpListen    Op = "listen"    // passes a socket that listens, in the same way
	OpPut       Op = "put"       // writes files, each whole or not at all
	OpExec      Op = "exec"      // runs a program, streaming
	OpTake      Op = "take"      // takes a bundle of files (package bundle) that follows the reply, and replies again
	OpSend      Op = "send"      // sends one after the reply
	OpWatch     Op = "watch"     // streams the state of services
	OpReach     Op = "reach"     // ICMP echo to addresses
)

// Request is what a client asks.
type Request struct {
	Op        Op         `json:"op"`
	Configure *Configure `json:"configure,omitempty"`
	Service   string     `json:"service,omitempty"`
	Job       *Job       `json:"job,omitempty"`
	Probe     *Probe     `json:"probe,omitempty"`
	Port      uint16     `json:"port,omitempty"`    // of the node itself
	Address   string     `json:"address,omitempty"` // host and port, as the node sees them
	UDP       bool       `json:"udp,omitempty"`     // of a dial; TCP otherwise
	Files     []File     `json:"files,omitempty"`
	Exec      *Exec      `json:"exec,omitempty"`
	Paths     []string   `json:"paths,omitempty"`   // to send, or the one target; relative to /root
	Several   bool       `json:"several,omitempty"` // things come, so that the target is a folder
	Reach     []string   `json:"reach,omitempty"`
}

// Reply answers a request.
type Reply struct {
	Error string           `json:"error,omitempty"`
	Job   *JobResult       `json:"job,omitempty"`
	Probe *ProbeResult     `json:"probe,omitempty"`
	Reach map[string]int64 `json:"reach,omitempty"` // address to microseconds, -1 where no answer came
	Count *bundle.Count    `json:"count,omitempty"` // of a bundle that was taken
}

// Configure is what a node is told once it has booted; it may be told again.
type Configure struct {
	Env      []string  `json:"env"`     // of every program that the init starts
	Facts    []byte    `json:"facts"`   // becomes /run/kettlehole/lab.json
	Secrets  []string  `json:"secrets"` // masked in every log from now on
	Services []Service `json:"services"`
}

// Service is a program that the init keeps running once it is started.
type Service struct {
	Name string `json:"name"`
	Run  string `json:"run"` // a command line for /bin/sh
}

// Job is a script to run to its end. Its output goes to a log file on the
// node, with secrets masked.
type Job struct {
	ID      string   `json:"id"`
	Script  string   `json:"script"` // executed by the interpreter of its first line, or /bin/sh
	Env     []string `json:"env"`
	Log     string   `json:"log"`     // name of the log file
	Limit   int64    `json:"limit"`   // nanoseconds
	Secrets []string `json:"secrets"` // values it takes, to be masked
	// Gives are the names of the values the script may give; those in Hold are
	// secret, so that output is held back until the script has ended and the
	// values are known.
	Gives []string `json:"gives,omitempty"`
	Hold  []string `json:"hold,omitempty"`
}

// JobResult is how a job ended.
type JobResult struct {
	Exit   int               `json:"exit"`   // exit code; 128 plus the signal's number for a signal
	Reason string            `json:"reason"` // why, where it is not the script's own exit
	Values map[string]string `json:"values,omitempty"`
	Tail   string            `json:"tail"` // the last lines of output, masked
}

// Probe is a look at one condition.
type Probe struct {
	Port uint16 `json:"port,omitempty"` // something accepts TCP connections
	File string `json:"file,omitempty"` // the path exists
	Run  string `json:"run,omitempty"`  // the command exits 0
	// Service runs, and has for a second.
	Service string `json:"service,omitempty"`
	Name    string `json:"name,omitempty"` // the name has an address
}

// File is a file to be put on a node.
type File struct {
	Path    string `json:"path"` // absolute
	Content []byte `json:"content"`
	Mode    uint32 `json:"mode"` // permission bits
}

// ProbeResult tells whether the condition holds, and if not, what was seen.
type ProbeResult struct {
	Held bool   `json:"held"`
	Seen string `json:"seen,omitempty"`
}

// Exec is a program to run with its streams on the connection.
type Exec struct {
	Argv []string `json:"argv"`
	Env  []string `json:"env,omitempty"` // added to the node's own
	TTY  bool     `json:"tty,omitempty"`
	Rows uint16   `json:"rows,omitempty"`
	Cols uint16   `json:"cols,omitempty"`
}

// LoginShell is a person's shell on a node.
var LoginShell = []string{"/bin/bash", "-l"}

// FileServer serves the node's files on its input and output, as SFTP. It lies
// beside the init in every image.
var FileServer = []string{"/opt/kettlehole/files"}

// Status is the state of one service.
type Status struct {
	Service string `json:"service"`
	State   string `json:"state"` // "stopped", "running", "pausing" (before it is started again)
	PID     int    `json:"pid,omitempty"`
	Starts  int    `json:"starts"`
	Since   int64  `json:"since"` // unix time in milliseconds of the last change
	Last    string `json:"last,omitempty"`
}

// The kinds of frames on an exec connection.
const (
	FrameInput  byte = 'i' // to the program
	FrameEOF    byte = 'e' // no more input
	FrameSize   byte = 'w' // rows and columns, two big-endian 16-bit numbers
	FrameSignal byte = 's' // one byte, the number of a signal
	FrameOutput byte = 'o' // from the program's standard output, or its terminal
	FrameErrors byte = 'r' // from its standard error
	FrameExit   byte = 'x' // exit code as a big-endian 32-bit number; the last frame
)

// MaxFrame bounds the content of a frame in bytes.
const MaxFrame = 32 << 10

// WriteFrame writes a frame: kind, length of the content as a big-endian
// 32-bit number, content. It writes once, so that frames of several writers
// that take turns never mix.
func WriteFrame(w io.Writer, kind byte, content []byte) error {
	frame := make([]byte, 5+len(content))
	frame[0] = kind
	binary.BigEndian.PutUint32(frame[1:], uint32(len(content)))
	copy(frame[5:], content)
	_, err := w.Write(frame)
	return err
}

// ReadFrame reads a frame. It keeps the content in buffer where that is large
// enough.
func ReadFrame(r io.Reader, buffer []byte) (kind byte, content []byte, err error) {
	var head [5]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return 0, nil, err
	}
	size := binary.BigEndian.Uint32(head[1:])
	if size > MaxFrame {
		return 0, nil, fmt.Errorf("reading frame: %d bytes are more than a frame may have", size)
	}
	if int(size) > cap(buffer) {
		buffer = make([]byte, size)
	}
	content = buffer[:size]
	_, err = io.ReadFull(r, content)
	return head[0], content, err
}
