package labfile

import (
	"fmt"
	"path"
	"regexp"
	"strings"

	"kettlehole/internal/labfile/shape"
)

// Parse reads a lab file. The lab is nil where the findings hold an error;
// cautions and notes leave it usable. Findings come sorted, all of the file at
// once. read gives the scripts and other files that the file names. given are
// the values that a person gave for inputs: of several for one input the first
// holds.
func Parse(source []byte, read Reader, given ...Given) (*Lab, Findings) {
	r := &reader{read: read, lab: &Lab{}}
	if root, ok := r.open(source); ok {
		r.root(root, given)
		r.check()
		r.caution()
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
	// counts holds the number of nodes of each group, for the checks.
	counts map[string]int
}

func (r *reader) root(root node, given []Given) {
	const owner = "a lab file"
	fields := r.fields(root, owner)
	if fields == nil {
		return
	}
	at := map[string]node{}
	for _, f := range fields {
		at[f.key] = f.value
	}
	each := func(key string, read func(field)) {
		value, said := at[key]
		if !said {
			return
		}
		entries := r.fields(value, key)
		switch key { // the sections that are long in large labs
		case "forwards":
			r.lab.Forwards = make([]Forward, 0, len(entries))
		case "steps":
			r.lab.Steps = make([]Step, 0, len(entries))
		}
		for _, f := range entries {
			read(f)
		}
	}
	r.readInputs(at["inputs"], given)
	if value, said := at["lab"]; said {
		r.lab.Name = r.label(value, "the lab's name")
	} else {
		r.add(Finding{Pos: Pos{1, 1}, Message: "the lab has no name", Remedy: "begin the file with a line such as lab: try"})
	}
	if value, said := at["about"]; said {
		r.lab.About, _ = r.text(value, "about")
	}
	if value, said := at["programs"]; said {
		if r.lab.Programs, _ = r.text(value, "programs"); r.lab.Programs != "" && !local(r.lab.Programs) {
			r.wrong(value, "programs is a folder beside the lab file; %q leads out of it", r.lab.Programs)
		}
	}
	if value, said := at["modules"]; said {
		r.lab.Modules = r.texts(value, "modules")
		for i, one := range r.lab.Modules {
			if !moduleName.MatchString(one.Name) {
				r.add(Finding{Pos: one.Pos, Width: len(one.Name), Message: fmt.Sprintf("%q is no name of a kernel module", one.Name), Remedy: "write one such as br_netfilter"})
			}
			r.lab.Modules[i].Name = strings.ReplaceAll(one.Name, "-", "_")
		}
	}
	each("networks", r.network)
	each("reserve", r.reserve)
	each("images", r.image)
	each("groups", r.group)
	each("fronts", r.front)
	each("forwards", r.forward)
	each("steps", r.step)
	each("retrieve", r.retrieve)
	each("checks", r.readCheck)
	each("drills", r.drill)
	for _, f := range fields {
		switch f.key {
		case "lab", "about", "inputs", "programs", "modules", "networks", "reserve", "images", "groups", "fronts", "forwards", "steps", "retrieve", "checks", "drills":
		default:
			unknown[shape.File](&r.tree, f, owner)
		}
	}
	if len(r.lab.Groups) == 0 {
		r.add(Finding{Pos: Pos{1, 1}, Message: "the lab has no group of nodes", Remedy: "add groups: {node: {count: 1}}"})
	}
	if len(r.lab.Networks) == 0 {
		r.lab.Networks = []Network{{Name: "lab"}}
	}
}

// moduleName is how the kernel names modules (modprobe(8)).
var moduleName = regexp.MustCompile(`^[a-zA-Z0-9_-]{1,55}$`)

// label reads a name that becomes part of a host name.
func (r *reader) label(n node, owner string) string {
	text, ok := r.text(n, owner)
	if ok && !isLabel(text) {
		r.wrong(n, "%s is made of small letters, digits and dashes, begins with a letter and has at most 63 characters; %q does not", owner, text)
	}
	return text
}

// said reads a text that is not empty.
func (r *reader) said(n node, owner string) string {
	text, ok := r.text(n, owner)
	if ok && strings.TrimSpace(text) == "" {
		r.wrong(n, "%s says nothing", owner)
	}
	return text
}

// command reads a shell text that is not empty. It is never rewritten.
func (r *reader) command(n node, owner string) string {
	text, ok := r.literal(n, owner)
	if ok && strings.TrimSpace(text) == "" {
		r.wrong(n, "%s says nothing to run", owner)
	}
	return text
}

// key reads a label that stands as the key of an entry.
func (r *reader) key(f field, owner string) string {
	if !isLabel(f.key) {
		r.wrong(f.at, "%s is made of small letters, digits and dashes, begins with a letter and has at most 63 characters; %q does not", owner, f.key)
	}
	return f.key
}

// value reads a scalar with a grammar of its own.
func value[T any](r *reader, n node, owner string, parse func(string) (T, error)) T {
	var zero T
	text, ok := r.scalar(n, owner)
	if !ok {
		return zero
	}
	v, err := parse(text)
	if err != nil {
		r.wrong(n, "%s: %v", owner, err)
		return zero
	}
	return v
}

// selection reads a selection of nodes.
func (r *reader) selection(n node, owner string) Selection {
	text, ok := r.scalar(n, owner)
	if !ok {
		return Selection{}
	}
	s, err := ParseSelection(text)
	s.Pos, s.at = n.pos, n.span()
	if err != nil {
		r.selectionError(s, err)
		s.Include = nil
	}
	return s
}

// selectionError reports a mistake in a selection.
func (r *reader) selectionError(s Selection, err error) {
	wrong := err.(*SelectionError)
	pos, width := s.at.inside(wrong.Column, wrong.Width)
	r.add(Finding{Pos: pos, Width: width, Message: wrong.Reason,
		Meant: nearest(wrong.Name, names(r.lab.Groups, func(g Group) string { return g.Name }))})
}

// file reads a file beside the lab file.
func (r *reader) file(n node, kind, name string) []byte {
	if !local(name) {
		r.wrong(n, "%s is a file beside the lab file; %q leads out of its folder", kind, name)
		return nil
	}
	content, err := r.read(name)
	if err != nil {
		r.wrong(n, "%s %q cannot be read: %v", kind, name, err)
	}
	return content
}

func local(file string) bool {
	clean := path.Clean(file)
	return file != "" && !path.IsAbs(clean) && clean != ".." && !strings.HasPrefix(clean, "../")
}

// absolute reads a path on a node.
func (r *reader) absolute(n node, owner string) string {
	text, ok := r.text(n, owner)
	if ok && !path.IsAbs(text) {
		r.wrong(n, "%s is an absolute path on the node", owner)
	}
	return text
}

// nodePath splits "council-1:/var/lib/desk".
func (r *reader) nodePath(n node, owner string) (name, file string, at Pos) {
	text, ok := r.text(n, owner)
	if !ok {
		return "", "", n.pos
	}
	at, _ = n.span().inside(1, 0)
	name, file, found := strings.Cut(text, ":")
	if !found || name == "" || !path.IsAbs(file) {
		r.wrong(n, "%q is no file of a node; write a node and an absolute path, such as council-1:/var/lib/desk/admin.json", text)
	}
	return name, file, at
}

// nodePort splits "council:7000".
func (r *reader) nodePort(n node, owner, example string) (name string, port uint16, at Pos) {
	text, ok := r.scalar(n, owner)
	if !ok {
		return "", 0, n.pos
	}
	at, _ = n.span().inside(1, 0)
	name, digits, found := strings.Cut(text, ":")
	port, err := parsePort(digits)
	if !found || err != nil || !isLabel(name) {
		r.wrong(n, "%q is no %s and port; write one such as %s", text, owner, example)
	}
	return name, port, at
}

// only reports an entry that a kind of thing has no use for.
func (r *reader) only(at map[string]node, owner, kind string, keys ...string) {
	for _, key := range keys {
		if n, said := at[key]; said {
			r.wrong(n, "%s: %s means nothing with %s", owner, key, kind)
		}
	}
}

// oneOf finds the single entry of keys that is there.
func (r *reader) oneOf(at map[string]node, where field, owner string, strange bool, keys ...string) string {
	found := ""
	for _, key := range keys {
		n, said := at[key]
		if said && found != "" {
			r.wrong(n, "%s has %s already; it takes one of %s", owner, found, strings.Join(keys, ", "))
		} else if said {
			found = key
		}
	}
	if found == "" && !strange {
		r.add(Finding{Pos: where.at.pos, Width: where.at.width, Message: fmt.Sprintf("%s needs one of %s", owner, strings.Join(keys, ", "))})
	}
	return found
}
