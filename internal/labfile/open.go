package labfile

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"

	goccy "github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/parser"
	"go.yaml.in/yaml/v3"
)

// maxSource bounds what a person can have meant as a lab file.
const maxSource = 4 << 20

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
		pos, at := notUTF8(source)
		return fail(pos, fmt.Sprintf("the file is not UTF-8 text here: byte %d is 0x%02x", at, source[at]), "save the file as UTF-8")
	}
	source = bytes.ReplaceAll(bytes.TrimPrefix(source, []byte("\uFEFF")), []byte("\r\n"), []byte("\n"))
	if pos, deep := nested(source); deep {
		return fail(pos, "the file is nested deeper than any lab file", "")
	}
	decoder := yaml.NewDecoder(bytes.NewReader(source))
	var document, second yaml.Node
	err := decoder.Decode(&document)
	if err == nil {
		if err = decoder.Decode(&second); err == nil && len(second.Content) > 0 {
			return fail(Pos{second.Content[0].Line, second.Content[0].Column}, "a second document begins here", "a lab file is one YAML document; remove the --- line")
		}
	}
	if err != nil && !errors.Is(err, io.EOF) {
		t.add(explain(source, err))
		return node{}, false
	}
	if len(document.Content) == 0 || document.Content[0].Tag == nullTag {
		return fail(Pos{}, "the file is empty", "a lab file needs at least a name and a group: lab: try, groups: {node: {}}")
	}
	return t.node(document.Content[0]), true
}

// maxNested bounds open brackets on one line, for which the YAML packages take
// more than linear time.
const maxNested = 200

// nested finds the bracket that is one too many. Brackets in texts count too,
// which no lab file has as many of on one line.
func nested(source []byte) (Pos, bool) {
	open, line, column := 0, 1, 0
	for _, b := range string(source) {
		column++
		switch b {
		case '\n':
			line, column, open = line+1, 0, 0
		case '{', '[':
			open++
		case '}', ']':
			open = max(open-1, 0)
		}
		if open > maxNested {
			return Pos{line, column}, true
		}
	}
	return Pos{}, false
}

// notUTF8 finds the first byte that is no UTF-8, counted from 0.
func notUTF8(source []byte) (Pos, int) {
	pos, at := Pos{1, 1}, 0
	for at < len(source) {
		r, size := utf8.DecodeRune(source[at:])
		if r == utf8.RuneError && size == 1 {
			break
		}
		if pos.Column++; r == '\n' {
			pos = Pos{pos.Line + 1, 1}
		}
		at += size
	}
	return pos, at
}

// maxExplained bounds the text that the second parser is shown: its time grows
// with the square of a mapping's entries.
const maxExplained = 32 << 10

var (
	atLine     = regexp.MustCompile(`^yaml: (?:line ([0-9]+): )?`)
	lostAnchor = regexp.MustCompile(`unknown anchor '([^']*)' referenced`)
)

// explain turns a failure of the YAML package into a finding. The package that
// reads best says little about the place of a mistake; the other one says
// that well.
func explain(source []byte, err error) Finding {
	m := atLine.FindStringSubmatch(err.Error())
	f := Finding{Message: "this is not YAML: " + strings.TrimPrefix(err.Error(), m[0])}
	if line, err := strconv.Atoi(m[1]); err == nil {
		f.Pos = Pos{line, 1}
	}
	text := string(source)
	if lost := lostAnchor.FindStringSubmatch(err.Error()); lost != nil {
		f.Message, f.Meant = fmt.Sprintf("no anchor %q stands before this", lost[1]), nearest(lost[1], anchors(text))
		if before, _, found := strings.Cut(text, "*"+lost[1]); found {
			line := before[strings.LastIndexByte(before, '\n')+1:]
			f.Pos, f.Width = Pos{strings.Count(before, "\n") + 1, utf8.RuneCountInString(line) + 1}, utf8.RuneCountInString(lost[1])+1
		}
		return f
	}
	if len(source) <= maxExplained {
		if pos, message, ok := place(source); ok {
			f.Pos, f.Message = pos, "this is not YAML: "+strings.ReplaceAll(message, "\t", "tab")
		}
	}
	line := ""
	if lines := strings.Split(text, "\n"); f.Pos.Line >= 1 && f.Pos.Line <= len(lines) {
		line = lines[f.Pos.Line-1]
	}
	indent, _, _ := strings.Cut(line, strings.TrimLeft(line, " \t"))
	switch {
	case strings.Contains(indent, "\t"):
		f.Remedy = "YAML is indented with blanks, never with tabs"
	case strings.Contains(line, "{") && strings.Contains(line, "${"):
		f.Remedy = "inside braces and brackets, put an input in quotes: \"${name}\""
	case strings.Contains(f.Message, "mapping value is not allowed"):
		f.Remedy = "put a text that holds a colon and a blank in quotes"
	case strings.Contains(f.Message, "not allowed in this context"):
		f.Remedy = "is the line indented as the ones that it belongs to?"
	}
	return f
}

// place asks the second parser where a text is broken, and keeps its own
// failures on broken input inside.
func place(source []byte) (pos Pos, message string, ok bool) {
	defer func() {
		if recover() != nil {
			ok = false
		}
	}()
	_, err := parser.ParseBytes(source, 0, parser.AllowDuplicateMapKey())
	var broken goccy.Error
	if !errors.As(err, &broken) || broken.GetToken() == nil {
		return Pos{}, "", false
	}
	at := broken.GetToken().Position
	return Pos{at.Line, at.Column}, broken.GetMessage(), true
}
