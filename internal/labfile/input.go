package labfile

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"kettlehole/internal/labfile/shape"
)

// Kind is the type of an [Input].
type Kind string

// The kinds of input.
const (
	Numeric Kind = "number"
	Textual Kind = "text"
	Boolean Kind = "true/false"
)

// Input is a value that a person may change for one run. Its values are kept
// as text, as they were written.
type Input struct {
	Name    string   `json:"name"`
	Kind    Kind     `json:"kind"`
	Default string   `json:"default"`
	Value   string   `json:"value"`          // what holds: the default, or what a person gave
	From    string   `json:"from,omitempty"` // where a person gave it; empty for the default
	Min     *float64 `json:"min,omitempty"`
	Max     *float64 `json:"max,omitempty"`
	OneOf   []string `json:"oneOf,omitempty"`
	About   string   `json:"about,omitempty"`
	Pos     Pos      `json:"-"`
	used    bool
	broken  bool // has no value that could stand anywhere; a finding says so
}

// Whole tells whether the input takes whole numbers only, as its default is.
func (in Input) Whole() bool { return in.Kind == Numeric && !strings.ContainsAny(in.Default, ".e") }

// Given is a value that a person gave for an input.
type Given struct {
	Name string `json:"name"`
	Text string `json:"text"`
	From string `json:"from"` // where it was given, for messages: "-i"
	// Ambient is set for what stood in the environment, where a name that is
	// no input of this file may belong to another.
	Ambient bool `json:"ambient,omitempty"`
}

// ParseGiven reads "name=value".
func ParseGiven(text, from string) (Given, error) {
	name, value, found := strings.Cut(text, "=")
	if name = strings.TrimSpace(name); !found || !envName.MatchString(name) {
		return Given{}, fmt.Errorf("%q is no input; write a name and a value, such as %s field_count=4", text, from)
	}
	return Given{Name: name, Text: value, From: from}, nil
}

// InputVariable is what the names of variables begin with that give inputs.
const InputVariable = "KETTLEHOLE_INPUT_"

// GivenByEnvironment finds inputs among variables of the form NAME=value.
func GivenByEnvironment(environ []string) []Given {
	var all []Given
	for _, variable := range environ {
		name, value, _ := strings.Cut(variable, "=")
		if rest, ours := strings.CutPrefix(name, InputVariable); ours {
			all = append(all, Given{Name: strings.ToLower(rest), Text: value, From: name, Ambient: true})
		}
	}
	slices.SortFunc(all, func(a, b Given) int { return strings.Compare(a.Name, b.Name) })
	return all
}

// ParseInputs reads a file of inputs: a YAML mapping of names to values.
func ParseInputs(source []byte, from string) ([]Given, Findings) {
	var t tree
	var all []Given
	if root, ok := t.open(source); ok {
		for _, f := range t.fields(root, "a file of inputs") {
			if text, ok := t.literal(f.value, "an input"); ok {
				all = append(all, Given{Name: f.key, Text: text, From: from})
			}
		}
	}
	return all, t.findings
}

func (r *reader) readInputs(n node, given []Given) {
	r.tree.inputs = map[string]*Input{}
	for _, f := range r.fields(n, "inputs") {
		in := r.input(f)
		r.lab.Inputs = append(r.lab.Inputs, in)
	}
	for i := range r.lab.Inputs {
		r.tree.inputs[r.lab.Inputs[i].Name] = &r.lab.Inputs[i]
	}
	known := names(r.lab.Inputs, func(in Input) string { return in.Name })
	done := map[string]bool{}
	for _, g := range given {
		in := r.tree.inputs[g.Name]
		switch {
		case in == nil && g.Ambient:
			r.add(Finding{Severity: Caution, Message: fmt.Sprintf("%s names no input of this file", g.From), Meant: nearest(g.Name, known)})
		case in == nil:
			f := Finding{Message: fmt.Sprintf("%s %s=%s: there is no input %q", g.From, g.Name, g.Text, g.Name), Meant: nearest(g.Name, known)}
			if f.Meant == "" && len(known) > 0 {
				f.Remedy = "the inputs of this file: " + strings.Join(known, ", ")
			}
			r.add(f)
		case !done[g.Name]:
			done[g.Name] = true
			value, reason := in.accept(g.Text)
			if reason != "" {
				r.add(Finding{Pos: in.Pos, Width: len(in.Name), Message: fmt.Sprintf("%s=%s, given by %s: %s", g.Name, g.Text, g.From, reason)})
				in.broken = true
				continue
			}
			in.Value, in.From = value, g.From
		}
	}
}

// accept gives the value that a text is for the input, or the reason why it is
// none.
func (in Input) accept(text string) (value, reason string) {
	value = text
	switch in.Kind {
	case Boolean:
		if text != "true" && text != "false" {
			return "", "it is true or false"
		}
	case Numeric:
		number, err := strconv.ParseFloat(strings.TrimSpace(text), 64)
		switch {
		case err != nil || math.IsInf(number, 0) || math.IsNaN(number):
			return "", "it is a number"
		case in.Whole() && number != math.Trunc(number):
			return "", "it is a whole number"
		case in.Min != nil && number < *in.Min:
			return "", "it is at least " + shortest(*in.Min)
		case in.Max != nil && number > *in.Max:
			return "", "it is at most " + shortest(*in.Max)
		}
		value = strings.TrimSpace(text)
	case Textual:
		if strings.ContainsAny(text, "\x00") {
			return "", "it is text"
		}
	}
	if in.OneOf != nil && !slices.Contains(in.OneOf, value) {
		return "", "it is one of " + strings.Join(in.OneOf, ", ")
	}
	return value, ""
}

// Accept tells whether a text may be given for the input, and in which form it
// is kept. Its error says what may be given instead.
func (in Input) Accept(text string) (string, error) {
	value, reason := in.accept(text)
	if reason != "" {
		return "", fmt.Errorf("%s: %s", in.Name, reason)
	}
	return value, nil
}

func shortest(number float64) string { return strconv.FormatFloat(number, 'f', -1, 64) }

// input reads a declaration, {default: 2, min: 1}, or a default alone.
func (r *reader) input(f field) Input {
	in := Input{Name: f.key, Pos: f.at.pos}
	owner := fmt.Sprintf("input %q", in.Name)
	if !envName.MatchString(in.Name) {
		r.wrong(f.at, "an input's name is made of small letters, digits and underscores, since scripts see it as a variable; %q is not", in.Name)
	}
	var first node
	switch {
	case f.value.is(yaml.MappingNode):
	case f.value.empty():
		r.add(Finding{Pos: f.at.pos, Width: f.at.width, Message: owner + " has no default", Remedy: fmt.Sprintf("write %s: {default: 2}, or %s: 2", in.Name, in.Name)})
		in.broken = true
		return in
	default:
		in.Kind, in.Default = r.value(f.value, owner)
		in.Value = in.Default
		return in
	}
	var low, high node
	var choices []node
	for _, e := range r.fields(f.value, owner) {
		switch e.key {
		case "default":
			first = e.value
		case "min":
			low = e.value
		case "max":
			high = e.value
		case "one of":
			if !e.value.is(yaml.SequenceNode) || len(e.value.value.Content) == 0 {
				r.wrong(e.value, "one of is a list of values, such as [small, large]")
				continue
			}
			for _, value := range e.value.value.Content {
				choices = append(choices, r.node(value))
			}
		case "about":
			in.About, _ = r.text(e.value, "about")
		default:
			unknown[shape.Input](&r.tree, e, owner)
		}
	}
	if first.empty() {
		r.add(Finding{Pos: f.at.pos, Width: f.at.width, Message: owner + " has no default", Remedy: "add default:, which also says what kind of value it is"})
		in.broken = true
		return in
	}
	in.Kind, in.Default = r.value(first, owner)
	for _, one := range choices {
		kind, value := r.value(one, owner)
		if kind != in.Kind {
			r.wrong(one, "%s is a %s by its default, and %s is not", owner, in.Kind, value)
		}
		in.OneOf = append(in.OneOf, value)
	}
	in.Min, in.Max = r.bound(low, in, "min"), r.bound(high, in, "max")
	if in.Min != nil && in.Max != nil && *in.Min > *in.Max {
		r.wrong(low, "min %s is above max %s", shortest(*in.Min), shortest(*in.Max))
	}
	if value, reason := in.accept(in.Default); reason != "" {
		r.wrong(first, "the default of %s is not allowed: %s", owner, reason)
		in.broken = true
	} else {
		in.Value = value
	}
	return in
}

// value reads a scalar and its kind.
func (r *reader) value(n node, owner string) (Kind, string) {
	text, ok := r.literal(n, "the value of "+owner)
	if !ok {
		return Textual, ""
	}
	if n.plain() {
		if n.tagged(boolTag) && (text == "true" || text == "false") {
			return Boolean, text
		}
		r.quoteIt(n, text)
		if n.tagged(intTag, floatTag) {
			if _, err := strconv.ParseFloat(text, 64); err == nil {
				return Numeric, text // as written, so that .11 stays a place on a network
			}
			r.wrong(n, "%s: %s is no number that this reader takes; write it in decimal, or as text with quotes", owner, text)
		}
	}
	return Textual, text
}

func (r *reader) bound(n node, in Input, key string) *float64 {
	if n.empty() {
		return nil
	}
	if in.Kind != Numeric {
		r.wrong(n, "%s bounds a number, and input %q is a %s by its default", key, in.Name, in.Kind)
		return nil
	}
	text, ok := r.literal(n, key)
	number, err := strconv.ParseFloat(text, 64)
	if ok && err != nil {
		r.wrong(n, "%s is a number, not %q", key, text)
	}
	if err != nil {
		return nil
	}
	return &number
}
