package labfile

import (
	"fmt"
	"net/netip"
	"path"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"
)

// Parse reads a lab file. The lab is nil where the findings hold an error;
// cautions and notes leave it usable. Findings come sorted, all of the file at
// once. read gives the scripts that the file names.
func Parse(source []byte, read Reader) (*Lab, Findings) {
	r := &reader{tree: tree{anchors: map[string]ast.Node{}}, read: read, lab: &Lab{}}
	if root, ok := r.open(source); ok {
		r.root(root)
		r.check()
	}
	r.findings.Sort()
	if r.findings.Count(Error) > 0 {
		return nil, r.findings
	}
	return r.lab, r.findings
}

// reader turns the tree into a Lab. Names are read first; what refers to them
// is checked afterwards, so that the order of keys does not matter.
type reader struct {
	tree
	read Reader
	lab  *Lab
}

func (r *reader) root(root node) {
	named := false
	for _, f := range r.fields(root, "a lab file") {
		switch f.key {
		case "lab":
			r.lab.Name, named = r.label(f.value, "the lab's name"), true
		case "about":
			r.lab.About, _ = r.text(f.value, "about")
		case "programs":
			r.lab.Programs, _ = r.text(f.value, "programs")
			if r.lab.Programs != "" && !local(r.lab.Programs) {
				r.wrong(f.value, "programs is a folder beside the lab file; %q leads out of it", r.lab.Programs)
			}
		case "networks":
			for _, n := range r.fields(f.value, "networks") {
				r.network(n)
			}
		case "groups":
			for _, g := range r.fields(f.value, "groups") {
				r.group(g)
			}
		case "forwards":
			for _, one := range r.fields(f.value, "forwards") {
				r.forward(one)
			}
		case "steps":
			for _, s := range r.fields(f.value, "steps") {
				r.step(s)
			}
		default:
			r.unknown(f, "a lab file", "lab", "about", "programs", "networks", "groups", "forwards", "steps")
		}
	}
	if !named {
		r.add(Finding{Pos: Pos{1, 1}, Message: "the lab has no name", Remedy: "begin the file with a line such as lab: try"})
	}
	if len(r.lab.Groups) == 0 {
		r.add(Finding{Pos: Pos{1, 1}, Message: "the lab has no group of nodes", Remedy: "add groups: {node: {count: 1}}"})
	}
	if len(r.lab.Networks) == 0 {
		r.lab.Networks = []Network{{Name: "lab"}}
	}
}

// label reads a name that becomes part of a host name.
func (r *reader) label(n node, owner string) string {
	text, ok := r.text(n, owner)
	if ok && !dnsLabel.MatchString(text) {
		r.wrong(n, "%s is made of small letters, digits and dashes, begins with a letter and has at most 63 characters; %q does not", owner, text)
	}
	return text
}

func (r *reader) network(f field) {
	n := Network{Name: r.label(f.at, "a network's name"), Pos: f.at.pos}
	owner := fmt.Sprintf("network %q", n.Name)
	for _, e := range r.fields(f.value, owner) {
		switch e.key {
		case "subnet":
			text, ok := r.text(e.value, "a subnet")
			if !ok || text == "auto" {
				continue
			}
			prefix, err := netip.ParsePrefix(text)
			switch {
			case err != nil:
				r.wrong(e.value, "%q is no subnet; write one such as 10.61.0.0/24, or auto", text)
			case !prefix.Addr().Is4():
				r.wrong(e.value, "%s is not an IPv4 range, and only those are built yet", text)
			case prefix.Masked() != prefix:
				r.add(Finding{Pos: e.value.pos, Width: e.value.width, Meant: prefix.Masked().String(),
					Message: fmt.Sprintf("%s has host bits set", text)})
			case prefix.Bits() < 8 || prefix.Bits() > 30:
				r.wrong(e.value, "a subnet is between /8 and /30; %s is not", text)
			default:
				n.Subnet = prefix
			}
		default:
			r.unknown(e, owner, "subnet")
		}
	}
	r.lab.Networks = append(r.lab.Networks, n)
}

func (r *reader) group(f field) {
	g := Group{Name: r.label(f.at, "a group's name"), Count: 1, Image: DefaultImage, CPU: DefaultCPU, Memory: DefaultMemory, Pos: f.at.pos}
	if endsNumber.MatchString(g.Name) {
		r.wrong(f.at, "a group's name does not end in a number; %q would look like a node", g.Name)
	}
	if g.Name == "all" {
		r.wrong(f.at, `"all" means every node and cannot be a group's name`)
	}
	owner := fmt.Sprintf("group %q", g.Name)
	for _, e := range r.fields(f.value, owner) {
		switch e.key {
		case "count":
			if text, ok := r.text(e.value, "count"); ok {
				count, err := strconv.Atoi(text)
				if err != nil || count < 0 || count > 10_000 {
					r.wrong(e.value, "count is a whole number from 0 to 10000; %q is not", text)
					continue
				}
				g.Count = count
			}
		case "image":
			g.Image, _ = r.text(e.value, "image")
			if g.Image != DefaultImage {
				r.add(Finding{Pos: e.value.pos, Width: e.value.width, Meant: nearest(g.Image, []string{DefaultImage}),
					Message: fmt.Sprintf("there is no image %q", g.Image), Remedy: "the image that is there: workstation"})
			}
		case "cpu":
			g.CPU = value(r, e.value, "cpu", ParseCores)
		case "memory":
			g.Memory = value(r, e.value, "memory", ParseBytes)
			if g.Memory > 0 && g.Memory < 16*MiB {
				r.wrong(e.value, "a node needs at least 16M of memory")
			}
		case "networks":
			g.Networks = r.taps(e.value)
		case "services":
			for _, s := range r.fields(e.value, "services") {
				g.Services = append(g.Services, r.service(s))
			}
		default:
			r.unknown(e, owner, "count", "image", "cpu", "memory", "networks", "services")
		}
	}
	r.lab.Groups = append(r.lab.Groups, g)
}

// value reads a scalar with a grammar of its own.
func value[T any](r *reader, n node, owner string, parse func(string) (T, error)) T {
	var zero T
	text, ok := r.text(n, owner)
	if !ok {
		return zero
	}
	v, err := parse(text)
	if err != nil {
		r.wrong(n, "%s: %v", owner, err)
	}
	return v
}

func (r *reader) taps(n node) []Tap {
	if _, isList := n.value.(*ast.SequenceNode); isList {
		var taps []Tap
		for _, ref := range r.texts(n, "a network") {
			taps = append(taps, Tap{Network: ref.Name, Pos: ref.Pos})
		}
		return taps
	}
	var taps []Tap
	for _, e := range r.fields(n, "networks of a group") {
		tap := Tap{Network: e.key, Pos: e.at.pos}
		if text := ""; !e.value.empty() {
			text, _ = r.text(e.value, "the place on a network")
			if text != "auto" {
				host, err := parseHost(text)
				if err != nil {
					r.wrong(e.value, "%v", err)
				}
				tap.Host = host
			}
		}
		taps = append(taps, tap)
	}
	return taps
}

// parseHost reads the host part of an address, ".11" or ".3.11".
func parseHost(text string) ([]byte, error) {
	var host []byte
	parts := strings.Split(strings.TrimPrefix(text, "."), ".")
	if strings.HasPrefix(text, ".") && len(parts) <= 3 {
		for _, part := range parts {
			octet, err := strconv.ParseUint(part, 10, 8)
			if err != nil {
				break
			}
			host = append(host, byte(octet))
		}
	}
	if len(host) != len(parts) || len(host) == 0 {
		return nil, fmt.Errorf("%q is no place on a network; write the last part of the first node's address, such as .11, or auto", text)
	}
	return host, nil
}

func (r *reader) service(f field) Service {
	s := Service{Name: r.label(f.at, "a service's name"), Pos: f.at.pos}
	owner := fmt.Sprintf("service %q", s.Name)
	for _, e := range r.fields(f.value, owner) {
		switch e.key {
		case "run":
			s.Run, _ = r.text(e.value, "run")
		default:
			r.unknown(e, owner, "run")
		}
	}
	if strings.TrimSpace(s.Run) == "" {
		r.wrong(f.at, "%s says nothing to run", owner)
	}
	return s
}

func (r *reader) forward(f field) {
	one := value(r, f.value, "forward", ParseForward)
	one.Name, one.Pos, one.NodePos = r.label(f.at, "a forward's name"), f.value.pos, f.value.pos
	if text, ok := f.value.value.(*ast.StringNode); ok {
		one.NodePos.Column += max(strings.LastIndex(text.Value, one.Node), 0)
	}
	r.lab.Forwards = append(r.lab.Forwards, one)
}

func (r *reader) step(f field) {
	s := Step{Name: r.label(f.at, "a step's name"), Pos: f.at.pos}
	owner := fmt.Sprintf("step %q", s.Name)
	scripts, hasOn := 0, false
	for _, e := range r.fields(f.value, owner) {
		switch e.key {
		case "on":
			hasOn = true
			if text, ok := r.text(e.value, "on"); ok {
				s.On = r.selection(e.value, text)
			}
		case "after":
			s.After = r.texts(e.value, "after")
		case "takes":
			s.Takes = r.texts(e.value, "takes")
		case "start":
			s.Start = r.texts(e.value, "start")
		case "gives":
			s.Gives = r.gives(e.value)
		case "run":
			s.Script, _ = r.text(e.value, "run")
			scripts++
		case "script":
			scripts++
			if text, ok := r.text(e.value, "script"); ok {
				s.Source = text
				s.Script = r.script(e.value, text)
			}
		case "wait":
			s.Wait = r.wait(e.value)
		default:
			r.unknown(e, owner, "on", "after", "takes", "gives", "run", "script", "start", "wait")
		}
	}
	if scripts > 1 {
		r.wrong(f.at, "%s has both run and script; it takes one of them", owner)
	}
	if !hasOn {
		r.add(Finding{Pos: f.at.pos, Width: f.at.width, Message: owner + " does not say on which nodes", Remedy: "add a line such as on: all"})
	}
	if scripts == 0 && len(s.Start) == 0 && s.Wait == nil {
		r.add(Finding{Pos: f.at.pos, Width: f.at.width, Message: owner + " does nothing", Remedy: "give it run, script, start or wait"})
	}
	r.lab.Steps = append(r.lab.Steps, s)
}

func (r *reader) selection(n node, text string) Selection {
	s, err := ParseSelection(text)
	if err != nil {
		r.selectionError(n.pos, err)
	}
	s.Pos = n.pos
	return s
}

// selectionError reports a mistake in a selection that stands at pos.
func (r *reader) selectionError(pos Pos, err error) {
	wrong := err.(*SelectionError)
	var names []string
	for _, g := range r.lab.Groups {
		names = append(names, g.Name)
	}
	r.add(Finding{Pos: Pos{pos.Line, pos.Column + wrong.Column - 1}, Width: wrong.Width, Message: wrong.Reason,
		Meant: nearest(quoted(wrong.Reason), names)})
}

// quoted gives the first quoted word of a message.
func quoted(message string) string {
	if parts := strings.SplitN(message, `"`, 3); len(parts) == 3 {
		return parts[1]
	}
	return ""
}

func (r *reader) gives(n node) []Value {
	var values []Value
	add := func(name string, at node, kind string) {
		v := Value{Name: name, Secret: kind == "secret", Pos: at.pos}
		if !envName.MatchString(name) {
			r.wrong(at, "a value's name is made of small letters, digits and underscores, since scripts see it as a variable; %q is not", name)
		}
		values = append(values, v)
	}
	if _, isList := n.value.(*ast.SequenceNode); isList {
		for _, ref := range r.texts(n, "gives") {
			add(ref.Name, node{pos: ref.Pos, width: len(ref.Name)}, "text")
		}
		return values
	}
	for _, e := range r.fields(n, "gives") {
		kind, ok := r.text(e.value, "the kind of a value")
		if ok && kind != "secret" && kind != "text" {
			r.add(Finding{Pos: e.value.pos, Width: e.value.width, Message: fmt.Sprintf("a value is text or secret, not %q", kind), Meant: nearest(kind, []string{"text", "secret"})})
		}
		add(e.key, e.at, kind)
	}
	return values
}

func (r *reader) script(n node, file string) string {
	if !local(file) {
		r.wrong(n, "a script is a file beside the lab file; %q leads out of its folder", file)
		return ""
	}
	text, err := r.read(file)
	if err != nil {
		r.add(Finding{Pos: n.pos, Width: n.width, Message: fmt.Sprintf("the script %q cannot be read: %v", file, err)})
	}
	if strings.ContainsRune(string(text), 0) {
		r.wrong(n, "%q is no text, and a script is", file)
	}
	return string(text)
}

func local(file string) bool {
	clean := path.Clean(file)
	return file != "" && !path.IsAbs(clean) && clean != ".." && !strings.HasPrefix(clean, "../")
}

func (r *reader) wait(n node) *Wait {
	w := &Wait{Within: DefaultWithin, Pos: n.pos}
	kinds, strange := 0, false
	for _, e := range r.fields(n, "wait") {
		switch e.key {
		case "port":
			w.Kind, w.Port = WaitPort, value(r, e.value, "port", parsePort)
			kinds++
		case "file":
			w.Kind = WaitFile
			w.File, _ = r.text(e.value, "file")
			if !path.IsAbs(w.File) {
				r.wrong(e.value, "a file to wait for is an absolute path on the node")
			}
			kinds++
		case "run":
			w.Kind = WaitRun
			w.Run, _ = r.text(e.value, "run")
			kinds++
		case "within":
			w.Within = value(r, e.value, "within", parseWithin)
		default:
			strange = true
			r.unknown(e, "wait", "port", "file", "run", "within")
		}
	}
	if kinds != 1 && !strange {
		r.wrong(n, "wait looks at one of port, file, run")
	}
	return w
}

func parseWithin(text string) (time.Duration, error) {
	d, err := time.ParseDuration(text)
	if err != nil || d <= 0 || d > 24*time.Hour {
		return 0, fmt.Errorf("%q is no duration; write one such as 30s or 2m", text)
	}
	return d, nil
}
