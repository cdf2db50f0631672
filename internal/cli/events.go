package cli

import (
	"encoding/json"
	"io"
	"time"

	"kettlehole/internal/api"
)

// Event is one line of provision --events: something came into another state.
type Event struct {
	At     time.Time `json:"at"`
	Kind   string    `json:"kind"` // "run", "node" or "step"
	Run    int       `json:"run"`
	Node   string    `json:"node,omitempty"`
	Step   string    `json:"step,omitempty"`
	State  string    `json:"state"`
	Reason string    `json:"reason,omitempty"`
	Exit   int       `json:"exit,omitempty"`
}

// events writes every change of a run as a line of JSON.
type events struct {
	to   *json.Encoder
	seen map[string]string
	err  error
}

func newEvents(to io.Writer) *events {
	return &events{to: json.NewEncoder(to), seen: map[string]string{}}
}

func (e *events) show(s api.State) {
	if s.Run.N == 0 {
		return
	}
	say := func(key string, one Event) {
		if e.seen[key] == one.State || e.err != nil {
			return
		}
		e.seen[key] = one.State
		one.Run = s.Run.N
		e.err = e.to.Encode(one)
	}
	say("run", Event{At: s.Run.Started, Kind: "run", State: "started"})
	for _, n := range s.Nodes {
		for _, m := range n.Marks {
			one := Event{At: m.At, Kind: "node", Node: n.Name, State: m.State}
			if m.State == n.State {
				one.Reason = n.Reason
			}
			say("node "+n.Name+" "+m.State, one)
		}
	}
	for _, c := range s.Cells {
		one := Event{At: s.Now, Kind: "step", Node: c.Node, Step: c.Step, State: c.State, Reason: c.Reason, Exit: c.Exit}
		switch c.State {
		case api.Running:
			one.At = c.Started
		case api.Done, api.Failed:
			if c.Run != s.Run.N {
				continue
			}
			if before := e.seen["step "+c.Step+" "+c.Node]; before != api.Running && before != c.State { // so quick that its beginning was not seen
				say("step "+c.Step+" "+c.Node, Event{At: c.Started, Kind: "step", Node: c.Node, Step: c.Step, State: api.Running})
			}
			one.At = c.Ended
		}
		say("step "+c.Step+" "+c.Node, one)
	}
	if s.Run.Outcome != "" {
		say("end", Event{At: s.Run.Ended, Kind: "run", State: s.Run.Outcome, Reason: s.Error})
	}
}
