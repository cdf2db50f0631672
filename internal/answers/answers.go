// Package answers compares what many nodes answered to one question: those that
// said the same stand together, and the others show where they differ. It is
// pure.
package answers

import (
	"slices"
	"strings"
)

// Answer is what one node said.
type Answer struct {
	Node string `json:"node"`
	Exit int    `json:"exit"` // exit code; -1 where it could not be asked
	Out  string `json:"out"`  // standard output
	Err  string `json:"err"`  // standard error
	// Failed says why it could not be asked.
	Failed string `json:"failed,omitempty"`
}

// Line is a line of a group's answer.
type Line struct {
	Text string `json:"text"`
	Mark Mark   `json:"mark,omitempty"`
	Err  bool   `json:"err,omitempty"` // of standard error
}

// Mark says how a line differs from the most common answer.
type Mark string

// The marks.
const (
	Own   Mark = "own"   // the most common answer has no such line
	Lacks Mark = "lacks" // a line of the most common answer that is missing here
)

// Group is a set of nodes that said the same.
type Group struct {
	Nodes  []string `json:"nodes"`
	Exit   int      `json:"exit"`
	Failed string   `json:"failed,omitempty"`
	Lines  []Line   `json:"lines"`
}

// most bounds the lines that are compared one by one.
const most = 2000

// Compare puts answers that are the same together: the most common first, then
// by the first node. The order of nodes is that of the answers.
func Compare(all []Answer) []Group {
	type same struct {
		exit             int
		out, err, failed string
	}
	var order []same
	nodes := map[same][]string{}
	for _, a := range all {
		key := same{a.Exit, a.Out, a.Err, a.Failed}
		if nodes[key] == nil {
			order = append(order, key)
		}
		nodes[key] = append(nodes[key], a.Node)
	}
	slices.SortStableFunc(order, func(a, b same) int {
		// Those that could not be asked are no answer to compare others with.
		if (a.failed == "") != (b.failed == "") {
			if a.failed == "" {
				return -1
			}
			return 1
		}
		return len(nodes[b]) - len(nodes[a])
	})
	var groups []Group
	for i, key := range order {
		g := Group{Nodes: nodes[key], Exit: key.exit, Failed: key.failed, Lines: lines(key.out, key.err)}
		if i > 0 && key.failed == "" {
			g.Lines = mark(groups[0].Lines, g.Lines)
		}
		groups = append(groups, g)
	}
	return groups
}

func lines(out, err string) []Line {
	var all []Line
	for i, text := range []string{out, err} {
		if text == "" {
			continue
		}
		for line := range strings.SplitSeq(strings.TrimSuffix(text, "\n"), "\n") {
			all = append(all, Line{Text: line, Err: i == 1})
		}
	}
	return all
}

// mark puts the lines that only one side has into b, by the longest common
// subsequence.
func mark(a, b []Line) []Line {
	a = slices.DeleteFunc(slices.Clone(a), func(l Line) bool { return l.Mark == Lacks })
	if len(a) > most || len(b) > most {
		return b
	}
	same := func(i, j int) bool { return a[i].Text == b[j].Text && a[i].Err == b[j].Err }
	// length[i][j] is that of a[i:] and b[j:].
	length := make([][]int, len(a)+1)
	for i := range length {
		length[i] = make([]int, len(b)+1)
	}
	for i := len(a) - 1; i >= 0; i-- {
		for j := len(b) - 1; j >= 0; j-- {
			if same(i, j) {
				length[i][j] = length[i+1][j+1] + 1
			} else {
				length[i][j] = max(length[i+1][j], length[i][j+1])
			}
		}
	}
	var all []Line
	i, j := 0, 0
	for i < len(a) || j < len(b) {
		switch {
		case i < len(a) && j < len(b) && same(i, j):
			all = append(all, b[j])
			i, j = i+1, j+1
		case j == len(b) || i < len(a) && length[i+1][j] >= length[i][j+1]:
			all = append(all, Line{Text: a[i].Text, Mark: Lacks, Err: a[i].Err})
			i++
		default:
			all = append(all, Line{Text: b[j].Text, Mark: Own, Err: b[j].Err})
			j++
		}
	}
	return all
}

// Worst is the exit code that stands for all: the greatest, and 255 where a
// node could not be asked.
func Worst(all []Answer) int {
	worst := 0
	for _, a := range all {
		exit := a.Exit
		if a.Failed != "" {
			exit = 255
		}
		worst = max(worst, exit)
	}
	return worst
}
