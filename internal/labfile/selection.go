package labfile

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// Selection says which nodes: "all", a group, a node, "council-2..",
// "council-2..3", several joined by commas, "all except gate".
type Selection struct {
	Include []Term `json:"include"`
	Except  []Term `json:"except,omitempty"`
	Text    string `json:"text"`
	Pos     Pos    `json:"-"`
	at      span
}

// Term is one part of a [Selection]. Group is empty for "all". First and Last
// are node numbers from 1: both 0 for a whole group, Last 0 for an open end.
type Term struct {
	Group string `json:"group,omitempty"`
	First int    `json:"first,omitempty"`
	Last  int    `json:"last,omitempty"`
	// Column is where the term begins in the selection's text, from 1.
	Column int    `json:"-"`
	Text   string `json:"-"`
}

// SelectionError is a mistake in the text of a selection.
type SelectionError struct {
	Column int // in characters from 1, inside the selection's text
	Width  int
	Reason string
	Name   string // the group that is not there; empty for other mistakes
}

func (e *SelectionError) Error() string { return e.Reason }

var (
	numbered     = regexp.MustCompile(`^([a-z][a-z0-9-]*?)-([1-9][0-9]{0,5})(\.\.([1-9][0-9]{0,5})?)?$`)
	endsNumber   = regexp.MustCompile(`-[0-9]+$`)
	envName      = regexp.MustCompile(`^[a-z_][a-z0-9_]{0,62}$`)
	variableName = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)
	archiveDate  = regexp.MustCompile(`^20[0-9]{2}(0[1-9]|1[0-2])(0[1-9]|[12][0-9]|3[01])$`)
	hostName     = regexp.MustCompile(`^[a-z0-9]([a-z0-9.-]{0,251}[a-z0-9])?$`)
	exceptWords  = regexp.MustCompile(`\s+except\s+`)
)

// isLabel tells whether a name may be a part of host names: a DNS label (RFC
// 1035, section 2.3.1) in small letters.
func isLabel(name string) bool {
	if name == "" || len(name) > 63 || name[0] < 'a' || name[0] > 'z' || name[len(name)-1] == '-' {
		return false
	}
	for _, c := range []byte(name) {
		if (c < 'a' || c > 'z') && (c < '0' || c > '9') && c != '-' {
			return false
		}
	}
	return true
}

// ParseSelection reads a selection. Its error is a [*SelectionError].
func ParseSelection(text string) (Selection, error) {
	s := Selection{Text: text}
	include, except, found := text, "", false
	start := 0
	if at := exceptWords.FindStringIndex(text); at != nil {
		include, except, found, start = text[:at[0]], text[at[1]:], true, at[1]
	}
	var err error
	if s.Include, err = parseTerms(include, 0); err != nil {
		return s, err
	}
	if found {
		if s.Except, err = parseTerms(except, start); err != nil {
			return s, err
		}
	}
	return s, nil
}

func parseTerms(text string, offset int) ([]Term, error) {
	var terms []Term
	for _, part := range strings.Split(text, ",") {
		word := strings.TrimSpace(part)
		column := offset + strings.Index(part, word) + 1
		offset += len(part) + 1
		switch m := numbered.FindStringSubmatch(word); {
		case word == "":
			return nil, &SelectionError{Column: column, Width: 1, Reason: "a selection names nodes: all, a group, a node such as council-1, or council-2.."}
		case word == "all":
			terms = append(terms, Term{Column: column, Text: word})
		case m != nil:
			term := Term{Group: m[1], Column: column, Text: word}
			term.First, _ = strconv.Atoi(m[2])
			switch {
			case m[3] == "":
				term.Last = term.First
			case m[4] != "":
				term.Last, _ = strconv.Atoi(m[4])
				if term.Last < term.First {
					return nil, &SelectionError{Column: column, Width: len(word), Reason: fmt.Sprintf("the range %s ends before it begins", word)}
				}
			}
			terms = append(terms, term)
		case isLabel(word):
			terms = append(terms, Term{Group: word, Column: column, Text: word})
		default:
			return nil, &SelectionError{Column: column, Width: len(word), Reason: fmt.Sprintf("%q is no selection of nodes; write all, a group, a node such as council-1, or council-2..", word)}
		}
	}
	return terms, nil
}

// NodeName is the name of the n-th node of a group, n from 1.
func NodeName(group string, n int) string { return group + "-" + strconv.Itoa(n) }

// Nodes gives the names of the nodes that the selection means, in the order
// of groups and of their numbers, each once. Its error, a [*SelectionError],
// is about a group or a node that is not there.
func (s Selection) Nodes(groups []Group) ([]string, error) {
	members, err := s.members(groups)
	if err != nil {
		return nil, err
	}
	var nodes []string
	for i, chosen := range members {
		for n, is := range chosen {
			if is {
				nodes = append(nodes, NodeName(groups[i].Name, n+1))
			}
		}
	}
	return nodes, nil
}

// members tells for each group which of its nodes are meant; nil for none.
func (s Selection) members(groups []Group) ([][]bool, error) {
	members := make([][]bool, len(groups))
	for i, terms := range [][]Term{s.Include, s.Except} {
		for _, term := range terms {
			if err := term.mark(groups, members, i == 0); err != nil {
				return nil, err
			}
		}
	}
	return members, nil
}

// mark sets in members the nodes of a term.
func (t Term) mark(groups []Group, members [][]bool, as bool) error {
	set := func(at, first, last int) {
		if members[at] == nil {
			if !as {
				return
			}
			members[at] = make([]bool, groups[at].Count)
		}
		for n := first; n <= last; n++ {
			members[at][n-1] = as
		}
	}
	if t.Group == "" {
		for at := range groups {
			set(at, 1, groups[at].Count)
		}
		return nil
	}
	at := slices.IndexFunc(groups, func(g Group) bool { return g.Name == t.Group })
	if at < 0 {
		return &SelectionError{Column: t.Column, Width: len(t.Text), Reason: fmt.Sprintf("there is no group %q", t.Group), Name: t.Group}
	}
	count := groups[at].Count
	first, last := max(t.First, 1), t.Last
	if t.First > count || t.Last > count {
		return &SelectionError{Column: t.Column, Width: len(t.Text), Reason: fmt.Sprintf("%s is more than group %q has, which counts %d", t.Text, t.Group, count)}
	}
	if last == 0 {
		last = count
	}
	set(at, first, last)
	return nil
}
