package labfile

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"

	"kettlehole/internal/labfile/shape"
)

// tree is the YAML of a lab file with places, and collects what is wrong.
type tree struct {
	findings Findings
	inputs   map[string]*Input // for substitution; nil until they are read
	entries  int               // how many were visited, through aliases too
	merges   int               // how deep in merge keys
}

// Bounds on what aliases and merges may make of a file.
const (
	maxEntries = 200_000
	maxMerges  = 16
)

func (t *tree) add(f Finding) { t.findings = append(t.findings, f) }

func (t *tree) wrong(n node, format string, args ...any) {
	t.add(Finding{Pos: n.pos, Width: n.width, Message: fmt.Sprintf(format, args...)})
}

// node is a YAML value and its place.
type node struct {
	value *yaml.Node // nil for an empty value
	pos   Pos
	width int
}

// field is one entry of a mapping.
type field struct {
	key   string
	flow  bool // stands inside braces
	at    node // the key
	value node
}

// node unwraps aliases.
func (t *tree) node(value *yaml.Node) node {
	n := node{value: value, pos: Pos{value.Line, value.Column}, width: utf8.RuneCountInString(value.Value)}
	if value.Kind == yaml.AliasNode {
		n.value = value.Alias
		n.width++
	}
	switch {
	case n.value.Kind == yaml.ScalarNode && n.value.Tag == nullTag:
		n.value = nil
	case n.value.Kind != yaml.ScalarNode:
		n.width = max(n.width, 1)
	case n.value.Style&(yaml.LiteralStyle|yaml.FoldedStyle) != 0, strings.Contains(n.value.Value, "\n"):
		n.width = 1
	case !n.plain():
		n.width += 2
	}
	return n
}

// The tags of the scalars that the language tells apart (YAML 1.2.2, chapter
// 10).
const (
	nullTag  = "!!null"
	boolTag  = "!!bool"
	intTag   = "!!int"
	floatTag = "!!float"
	mergeTag = "!!merge"
)

func (n node) is(kind yaml.Kind) bool { return n.value != nil && n.value.Kind == kind }

// tagged tells whether the node is a scalar with one of the tags.
func (n node) tagged(tags ...string) bool {
	return n.is(yaml.ScalarNode) && slices.Contains(tags, n.value.Tag)
}

// what names the kind of a value for a person.
func (n node) what() string {
	switch {
	case n.value == nil:
		return "nothing"
	case n.is(yaml.MappingNode):
		return "a mapping"
	case n.is(yaml.SequenceNode):
		return "a list"
	}
	return "a single value"
}

func (n node) empty() bool { return n.value == nil }

// fields gives the entries of a mapping in file order; a value that is no
// mapping is a finding. owner says whose it is, for the message.
func (t *tree) fields(n node, owner string) []field {
	if n.value == nil {
		return nil
	}
	if !n.is(yaml.MappingNode) {
		t.wrong(n, "%s is a mapping of names to values, not %s", owner, n.what())
		return nil
	}
	count := len(n.value.Content) / 2
	if t.entries += count; t.entries > maxEntries {
		if t.entries-count <= maxEntries {
			t.wrong(n, "the file grows beyond all bounds here, through its aliases")
		}
		return nil
	}
	fields := make([]field, 0, count)
	seen := make(map[string]Pos, count)
	var merges []node
	for i := 0; i < 2*count; i += 2 {
		at, value := t.node(n.value.Content[i]), t.node(n.value.Content[i+1])
		if at.tagged(mergeTag) {
			merges = append(merges, value)
			continue
		}
		key := n.value.Content[i].Value
		if at.value != nil && at.value.Kind != yaml.ScalarNode {
			t.wrong(at, "a name is one value, not %s", at.what())
			continue
		}
		if first, twice := seen[key]; twice {
			t.wrong(at, "%q stands here a second time; the first is on line %d", key, first.Line)
			continue
		}
		seen[key] = at.pos
		if value.empty() && value.width == 0 {
			value.pos, value.width = at.pos, at.width
		}
		fields = append(fields, field{key: key, flow: n.value.Style&yaml.FlowStyle != 0, at: at, value: value})
	}
	for _, merge := range merges {
		for _, f := range t.merged(merge, owner) {
			if _, own := seen[f.key]; !own {
				seen[f.key] = f.at.pos
				fields = append(fields, f)
			}
		}
	}
	return fields
}

// merged gives the entries that a merge key brings in, from one mapping or a
// list of them (YAML merge key, yaml.org/type/merge).
func (t *tree) merged(n node, owner string) []field {
	if t.merges++; t.merges > maxMerges {
		t.wrong(n, "merges are nested deeper than any lab file needs")
		return nil
	}
	defer func() { t.merges-- }()
	if !n.is(yaml.SequenceNode) {
		return t.fields(n, owner)
	}
	var all []field
	for _, value := range n.value.Content {
		all = append(all, t.fields(t.node(value), owner)...)
	}
	return all
}

// unknown reports a key that T does not have.
func unknown[T any](t *tree, f field, owner string) {
	known := shape.Keys[T]()
	finding := Finding{Pos: f.at.pos, Width: f.at.width, Message: fmt.Sprintf("%s has no %q", owner, f.key)}
	if finding.Meant = nearest(f.key, known); finding.Meant == "" {
		finding.Remedy = "known here: " + strings.Join(known, ", ")
		if owners := shape.Owners(f.key); len(owners) > 0 {
			finding.Remedy = fmt.Sprintf("%s belongs to %s; is the indentation right?", f.key, strings.Join(owners, " or "))
		} else if f.flow && slices.Contains(known, "run") {
			finding.Remedy = "inside braces a comma ends a value; if this belongs to the one before it, put that in quotes"
		}
	}
	t.add(finding)
}

// anchors gives the names of the anchors in a text, for what was meant.
func anchors(source string) []string {
	all := map[string]bool{}
	for word := range strings.FieldsSeq(source) {
		if name, is := strings.CutPrefix(word, "&"); is && name != "" {
			all[name] = true
		}
	}
	return slices.Sorted(maps.Keys(all))
}
