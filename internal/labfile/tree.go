package labfile

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
)

// maxSource bounds what a person can have meant as a lab file.
const maxSource = 4 << 20

// tree is the YAML of a lab file with places, and collects what is wrong.
type tree struct {
	findings Findings
	anchors  map[string]ast.Node
}

func (t *tree) add(f Finding) { t.findings = append(t.findings, f) }

func (t *tree) wrong(n node, format string, args ...any) {
	t.add(Finding{Pos: n.pos, Width: n.width, Message: fmt.Sprintf(format, args...)})
}

// node is a YAML value and its place.
type node struct {
	value ast.Node // nil for an empty value
	pos   Pos
	width int
}

// field is one entry of a mapping.
type field struct {
	key   string
	at    node // the key
	value node
}

// open parses the source. It returns false where there is no mapping to read.
func (t *tree) open(source []byte) (node, bool) {
	fail := func(pos Pos, message, remedy string) (node, bool) {
		t.add(Finding{Pos: pos, Message: message, Remedy: remedy})
		return node{}, false
	}
	if len(source) > maxSource {
		return fail(Pos{}, "the file is larger than 4 MiB, which no lab file is", "")
	}
	if !utf8.Valid(source) {
		line, column := 1, 1
		for rest := source; len(rest) > 0; {
			r, size := utf8.DecodeRune(rest)
			if r == utf8.RuneError && size == 1 {
				break
			}
			if column++; r == '\n' {
				line, column = line+1, 1
			}
			rest = rest[size:]
		}
		return fail(Pos{line, column}, "the file is not UTF-8 text here", "save the file as UTF-8")
	}
	file, err := parse(source)
	if err != nil {
		var broken yaml.Error
		if errors.As(err, &broken) && broken.GetToken() != nil {
			place := broken.GetToken().Position
			remedy := ""
			if strings.ContainsRune(broken.GetMessage(), '\t') {
				remedy = "YAML is indented with blanks, never with tabs"
			}
			return fail(Pos{place.Line, place.Column}, "this is not YAML: "+strings.ReplaceAll(broken.GetMessage(), "\t", "tab"), remedy)
		}
		return fail(Pos{}, "this is not YAML: "+err.Error(), "")
	}
	docs := slices.DeleteFunc(file.Docs, func(d *ast.DocumentNode) bool { return d.Body == nil })
	switch {
	case len(docs) == 0:
		return fail(Pos{}, "the file is empty", "a lab file needs at least a name and a group: lab: try, groups: {node: {}}")
	case len(docs) > 1:
		place := docs[1].Body.GetToken().Position
		return fail(Pos{place.Line, place.Column}, "a second document begins here", "a lab file is one YAML document; remove the --- line")
	}
	return t.node(docs[0].Body), true
}

// parse keeps the YAML package's own failures on broken input inside.
func parse(source []byte) (file *ast.File, err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("the text cannot be read (%v)", r)
		}
	}()
	return parser.ParseBytes(source, 0, parser.AllowDuplicateMapKey())
}

// node unwraps anchors, aliases and tags.
func (t *tree) node(value ast.Node) node {
	for range 16 {
		switch v := value.(type) {
		case *ast.AnchorNode:
			t.anchors[v.Name.GetToken().Value] = v.Value
			value = v.Value
		case *ast.AliasNode:
			value = t.anchors[v.Value.GetToken().Value]
		case *ast.TagNode:
			value = v.Value
		case nil, *ast.NullNode:
			n := node{}
			if v != nil {
				n.place(v)
			}
			return n
		default:
			n := node{value: value}
			n.place(value)
			return n
		}
	}
	return node{}
}

func (n *node) place(value ast.Node) {
	token := value.GetToken()
	switch v := value.(type) {
	case *ast.MappingNode:
		if len(v.Values) > 0 && !v.IsFlowStyle {
			token = v.Values[0].Key.GetToken()
		}
	case *ast.MappingValueNode:
		token = v.Key.GetToken()
	}
	if token != nil && token.Position != nil {
		n.pos = Pos{token.Position.Line, token.Position.Column}
		n.width = utf8.RuneCountInString(strings.TrimSpace(token.Origin))
		if strings.Contains(strings.TrimSpace(token.Origin), "\n") {
			n.width = 1
		}
	}
}

// what names the kind of a value for a person.
func (n node) what() string {
	switch n.value.(type) {
	case nil:
		return "nothing"
	case *ast.MappingNode, *ast.MappingValueNode:
		return "a mapping"
	case *ast.SequenceNode:
		return "a list"
	}
	return "a single value"
}

func (n node) empty() bool { return n.value == nil }

// fields gives the entries of a mapping in file order; a value that is no
// mapping is a finding. owner says whose it is, for the message.
func (t *tree) fields(n node, owner string) []field {
	var values []*ast.MappingValueNode
	switch v := n.value.(type) {
	case *ast.MappingNode:
		values = v.Values
	case *ast.MappingValueNode:
		values = []*ast.MappingValueNode{v}
	case nil:
		return nil
	default:
		t.wrong(n, "%s is a mapping of names to values, not %s", owner, n.what())
		return nil
	}
	fields := make([]field, 0, len(values))
	seen := map[string]Pos{}
	for _, value := range values {
		at := t.node(value.Key)
		key := value.Key.GetToken().Value
		if _, merge := value.Key.(*ast.MergeKeyNode); merge {
			fields = append(fields, t.fields(t.node(value.Value), owner)...)
			continue
		}
		if first, twice := seen[key]; twice {
			t.wrong(at, "%q stands here a second time; the first is on line %d", key, first.Line)
			continue
		}
		seen[key] = at.pos
		f := field{key: key, at: at, value: t.node(value.Value)}
		if f.value.empty() && f.value.pos == (Pos{}) {
			f.value.pos, f.value.width = at.pos, at.width
		}
		fields = append(fields, f)
	}
	return fields
}

// unknown reports a key that the language does not have.
func (t *tree) unknown(f field, owner string, known ...string) {
	finding := Finding{Pos: f.at.pos, Width: f.at.width, Message: fmt.Sprintf("%s has no %q", owner, f.key)}
	if finding.Meant = nearest(f.key, known); finding.Meant == "" {
		finding.Remedy = "known here: " + strings.Join(known, ", ")
	}
	t.add(finding)
}

// text gives a scalar as it was written, without quotes.
func (t *tree) text(n node, owner string) (string, bool) {
	switch v := n.value.(type) {
	case *ast.LiteralNode:
		return v.Value.Value, true
	case *ast.StringNode:
		return v.Value, true
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode, *ast.InfinityNode, *ast.NanNode:
		return n.value.GetToken().Value, true
	}
	t.wrong(n, "%s is one value, not %s", owner, n.what())
	return "", false
}

// texts gives a list of scalars; a single scalar is a list of one.
func (t *tree) texts(n node, owner string) []Ref {
	sequence, isList := n.value.(*ast.SequenceNode)
	if !isList {
		if text, ok := t.text(n, owner); ok {
			return []Ref{{text, n.pos}}
		}
		return nil
	}
	var refs []Ref
	for _, value := range sequence.Values {
		one := t.node(value)
		if text, ok := t.text(one, owner); ok {
			refs = append(refs, Ref{text, one.pos})
		}
	}
	return refs
}
