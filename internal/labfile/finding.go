package labfile

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"
)

// Severity orders findings; the gravest is the smallest.
type Severity int

// The three weights of a [Finding].
const (
	Error   Severity = iota // will not work
	Caution                 // works and may hurt
	Note                    // worth knowing
)

var severityNames = []string{"error", "caution", "note"}

func (s Severity) String() string { return severityNames[s] }

// MarshalText gives the severity's name.
func (s Severity) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// UnmarshalText reads a severity's name.
func (s *Severity) UnmarshalText(text []byte) error {
	at := slices.Index(severityNames, string(text))
	if at < 0 {
		return fmt.Errorf("reading severity: %q is none of %s", text, strings.Join(severityNames, ", "))
	}
	*s = Severity(at)
	return nil
}

// Finding is one thing to say about a lab, with its place in the file.
type Finding struct {
	Severity Severity `json:"severity"`
	Pos      Pos      `json:"at,omitzero"`
	// Width is the number of characters that the finding is about, 0 where
	// that is not known.
	Width   int    `json:"width,omitempty"`
	Message string `json:"message"`
	// Meant is the name that was probably meant, empty where none is near.
	Meant  string `json:"meant,omitempty"`
	Remedy string `json:"remedy,omitempty"`
}

// Findings is what there is to say about a lab.
type Findings []Finding

// Sort puts errors before cautions before notes, each in file order.
func (f Findings) Sort() {
	slices.SortStableFunc(f, func(a, b Finding) int {
		return cmp.Or(cmp.Compare(a.Severity, b.Severity),
			cmp.Compare(a.Pos.Line, b.Pos.Line), cmp.Compare(a.Pos.Column, b.Pos.Column))
	})
}

// Count tells how many findings have the severity.
func (f Findings) Count(s Severity) int {
	n := 0
	for _, one := range f {
		if one.Severity == s {
			n++
		}
	}
	return n
}

// Text prints the findings for a reader: place, reason, the line itself with
// a caret under the word, and the name that was meant. source is the text of
// the file; name stands before each place.
func (f Findings) Text(name string, source []byte) string {
	var b strings.Builder
	lines := strings.Split(string(source), "\n")
	for _, one := range f {
		place := name
		if one.Pos.Line > 0 {
			place = fmt.Sprintf("%s:%d:%d", name, one.Pos.Line, one.Pos.Column)
		}
		fmt.Fprintf(&b, "%s: %s: %s\n", place, one.Severity, one.Message)
		hint := ""
		if one.Meant != "" {
			hint = fmt.Sprintf(" did you mean %q?", one.Meant)
		}
		if one.Pos.Line > 0 && one.Pos.Line <= len(lines) {
			line := excerpt(lines[one.Pos.Line-1])
			fmt.Fprintf(&b, "%5d | %s\n", one.Pos.Line, line)
			indent := min(max(one.Pos.Column-1, 0), utf8.RuneCountInString(line))
			width := min(max(one.Width, 1), 80)
			fmt.Fprintf(&b, "      | %s%s%s\n", strings.Repeat(" ", indent), strings.Repeat("^", width), hint)
		} else if hint != "" {
			fmt.Fprintf(&b, "      |%s\n", hint)
		}
		if one.Remedy != "" {
			fmt.Fprintf(&b, "        %s\n", one.Remedy)
		}
	}
	return b.String()
}

// Words gives the findings of one severity as one sentence without places, for
// what came from no file.
func (f Findings) Words(s Severity) string {
	var all []string
	for _, one := range f {
		if one.Severity == s {
			all = append(all, strings.TrimSuffix(one.Message+"; "+one.Remedy, "; "))
		}
	}
	return strings.Join(all, "; ")
}

// excerpt is a line fit to be shown: tabs as one blank so that the caret stays
// in its column, control characters left out, and not endless.
func excerpt(line string) string {
	line = strings.Map(func(r rune) rune {
		switch {
		case r == '\t':
			return ' '
		case r < ' ' || r == 0x7f || r == '\uFEFF':
			return -1
		}
		return r
	}, strings.ToValidUTF8(line, "\uFFFD"))
	if runes := []rune(line); len(runes) > 160 {
		return string(runes[:160]) + "…"
	}
	return line
}

// nearest gives the candidate that a person who wrote name probably meant, or
// "" where none is near.
func nearest(name string, candidates []string) string {
	best, limit := "", max(1, utf8.RuneCountInString(name)/3)
	for _, candidate := range candidates {
		if d := distance(name, candidate); d <= limit && candidate != name {
			best, limit = candidate, d-1
		}
	}
	return best
}

// distance is the optimal string alignment distance: insertions, deletions,
// substitutions and swaps of neighbours that make one text of the other.
func distance(from, to string) int {
	a, b := []rune(from), []rune(to)
	if len(a) > 64 || len(b) > 64 {
		return max(len(a), len(b))
	}
	rows := make([][]int, len(a)+1)
	for i := range rows {
		rows[i] = make([]int, len(b)+1)
		rows[i][0] = i
	}
	for j := range rows[0] {
		rows[0][j] = j
	}
	for i := 1; i <= len(a); i++ {
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			rows[i][j] = min(rows[i-1][j]+1, rows[i][j-1]+1, rows[i-1][j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				rows[i][j] = min(rows[i][j], rows[i-2][j-2]+1)
			}
		}
	}
	return rows[len(a)][len(b)]
}
