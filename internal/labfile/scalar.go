package labfile

import (
	"fmt"
	"regexp"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"
)

// literal gives a scalar as it was written, without quotes.
func (t *tree) literal(n node, owner string) (string, bool) {
	if n.is(yaml.ScalarNode) {
		return n.value.Value, true
	}
	t.wrong(n, "%s is one value, not %s", owner, n.what())
	return "", false
}

// isOctal tells whether a text is digits that begin with a needless 0.
func isOctal(text string) bool {
	digits := strings.TrimLeft(text, "+-")
	return len(digits) > 1 && digits[0] == '0' && strings.Trim(digits, "0123456789") == ""
}

// scalar gives a value with a grammar of its own, such as a size: its inputs
// put in, without quotes.
func (t *tree) scalar(n node, owner string) (string, bool) {
	text, ok := t.literal(n, owner)
	if !ok {
		return "", false
	}
	if n.plain() && isOctal(text) {
		t.add(Finding{Pos: n.pos, Width: n.width, Meant: strings.TrimLeft(text, "0+-"),
			Message: fmt.Sprintf("%s: some readers of YAML take %s for an octal number", owner, text)})
		return "", false
	}
	return t.substitute(n, text)
}

// text gives prose, a name or another value that is kept as it stands: its
// inputs put in, without quotes. What other readers of YAML would change
// without quotes is a caution.
func (t *tree) text(n node, owner string) (string, bool) {
	text, ok := t.literal(n, owner)
	if !ok {
		return "", false
	}
	if n.plain() {
		t.quoteIt(n, text)
	}
	return t.substitute(n, text)
}

var zeroEnds = regexp.MustCompile(`^[0-9]*\.[0-9]*0$`)

// quoteIt says what a plain text is to other readers of YAML (YAML 1.1,
// sections on int, float and bool, and YAML 1.2.2, section 10.2).
func (t *tree) quoteIt(n node, text string) {
	taken := ""
	switch word := strings.ToLower(text); {
	case isOctal(text):
		taken = "an octal number"
	case zeroEnds.MatchString(text):
		taken = "the number " + strings.TrimSuffix(strings.TrimRight(text, "0"), ".")
	case n.tagged(boolTag) && word == "false", word == "no", word == "off", word == "n":
		taken = "false"
	case n.tagged(boolTag), word == "yes", word == "on", word == "y":
		taken = "true"
	}
	if taken != "" {
		t.add(Finding{Severity: Caution, Pos: n.pos, Width: n.width, Remedy: fmt.Sprintf("write \"%s\" with quotes", text),
			Message: fmt.Sprintf("without quotes, some readers of YAML take %s for %s", text, taken)})
	}
}

// boolean reads true or false.
func (t *tree) boolean(n node, owner string) bool {
	text, ok := t.scalar(n, owner)
	if !ok {
		return false
	}
	switch text {
	case "true", "false":
		return text == "true"
	}
	f := Finding{Pos: n.pos, Width: n.width, Message: fmt.Sprintf("%s is true or false, not %q", owner, text)}
	switch strings.ToLower(text) {
	case "yes", "on", "y":
		f.Meant = "true"
	case "no", "off", "n":
		f.Meant = "false"
	default:
		f.Meant = nearest(strings.ToLower(text), []string{"true", "false"})
	}
	t.add(f)
	return false
}

// texts gives a list of names; a single one is a list of one.
func (t *tree) texts(n node, owner string) []Ref {
	if !n.is(yaml.SequenceNode) {
		if text, ok := t.scalar(n, owner); ok {
			return []Ref{{text, n.pos}}
		}
		return nil
	}
	refs := []Ref{}
	for _, value := range n.value.Content {
		one := t.node(value)
		if text, ok := t.scalar(one, owner); ok {
			refs = append(refs, Ref{text, one.pos})
		}
	}
	return refs
}

// plain tells whether a scalar stands without quotes.
func (n node) plain() bool {
	return n.is(yaml.ScalarNode) && n.value.Style&^yaml.TaggedStyle == 0
}

// span is the place of a scalar. first is where its text begins, behind the
// quote; the zero Pos where line breaks, escapes or inputs make that uncertain.
type span struct {
	pos, first Pos
	width      int
}

func (n node) span() span {
	s := span{pos: n.pos, width: n.width}
	if !n.is(yaml.ScalarNode) || strings.ContainsAny(n.value.Value, "\n\"\\'") || strings.Contains(n.value.Value, "${") {
		return s
	}
	switch {
	case n.plain():
		s.first = n.pos
	case n.value.Style&(yaml.SingleQuotedStyle|yaml.DoubleQuotedStyle) != 0:
		s.first = Pos{n.pos.Line, n.pos.Column + 1}
	}
	return s
}

// inside gives the place of a part of the text: column counts its characters
// from 1.
func (s span) inside(column, width int) (Pos, int) {
	if s.first == (Pos{}) {
		return s.pos, s.width
	}
	return Pos{s.first.Line, s.first.Column + column - 1}, width
}

// reference is an input in a text; a doubled dollar sign stands for itself.
var reference = regexp.MustCompile(`\$?\$\{[^}]*\}?`)

// substitute puts the values of inputs in the place of ${name}.
func (t *tree) substitute(n node, text string) (string, bool) {
	if !strings.Contains(text, "${") || t.inputs == nil {
		return text, true
	}
	good := true
	bad := func(found, message string, meant string) {
		good = false
		pos, width := n.pos, n.width
		if before, _, ok := strings.Cut(text, found); ok && !strings.ContainsAny(text, "\n\"\\'") && n.width > 1 {
			pos.Column += utf8.RuneCountInString(before)
			width = utf8.RuneCountInString(found)
			if !n.plain() {
				pos.Column++
			}
		}
		t.add(Finding{Pos: pos, Width: width, Message: message, Meant: meant})
	}
	text = reference.ReplaceAllStringFunc(text, func(found string) string {
		if strings.HasPrefix(found, "$$") {
			return found[1:]
		}
		name, closed := strings.CutSuffix(found[2:], "}")
		if !closed {
			bad(found, fmt.Sprintf("%s has no closing brace", found), "")
			return ""
		}
		input := t.inputs[name]
		if input == nil {
			var known []string
			for other := range t.inputs {
				known = append(known, other)
			}
			bad(found, fmt.Sprintf("input %q is not declared", name), nearest(name, known))
			return ""
		}
		input.used = true
		good = good && !input.broken
		return input.Value
	})
	return text, good
}
