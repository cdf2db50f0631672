package labfile

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"
)

// NewForward reads a forward that a person asks for outside of any file. It is
// called after its node and port where name is "".
func NewForward(name, text string) (Forward, error) {
	f, _, err := ParseForward(text)
	var wrong *ForwardError
	if errors.As(err, &wrong) && wrong.Remedy != "" {
		return f, fmt.Errorf("%w; %s", err, wrong.Remedy)
	} else if err != nil {
		return f, err
	}
	if f.Name = name; name == "" {
		f.Name = fmt.Sprintf("%s-%d", f.Node, f.NodePort)
	}
	if !isLabel(f.Name) {
		return f, fmt.Errorf("a forward's name is made of small letters, digits and dashes, begins with a letter and has at most 63 characters; %q does not", f.Name)
	}
	return f, nil
}

// ErrNoPlace says that a text cannot be changed without changing more than is
// wanted.
var ErrNoPlace = errors.New("there is no place for it that is sure to be right")

// WithForward gives the text of a lab file with one forward more. All else of
// the text stays as it is, comments and blanks too.
func WithForward(source []byte, f Forward) ([]byte, error) {
	before, err := fileForwards(source)
	if err != nil {
		return nil, err
	}
	if slices.ContainsFunc(before, func(have string) bool { name, _, _ := strings.Cut(have, ":"); return name == f.Name }) {
		return nil, fmt.Errorf("the lab file has a forward %q already", f.Name)
	}
	changed, err := insertForward(source, f)
	if err != nil {
		return nil, err
	}
	after, err := fileForwards(changed)
	if err != nil || !slices.Equal(append(before, f.Name+": "+f.String()), after) {
		return nil, ErrNoPlace
	}
	return changed, nil
}

// forwardsNode finds the section of forwards in a file, nil where it has none.
func forwardsNode(source []byte) (*yaml.Node, error) {
	var document yaml.Node
	if err := yaml.Unmarshal(source, &document); err != nil {
		return nil, fmt.Errorf("reading the lab file: %w", err)
	}
	if len(document.Content) == 0 || document.Content[0].Kind != yaml.MappingNode {
		return nil, ErrNoPlace
	}
	fields := document.Content[0].Content
	for i := 0; i+1 < len(fields); i += 2 {
		if fields[i].Value == "forwards" {
			if fields[i+1].Kind == yaml.ScalarNode {
				return fields[i], nil // the key alone
			}
			return fields[i+1], nil
		}
	}
	return nil, nil
}

// fileForwards lists the forwards of a file, each as "name: text".
func fileForwards(source []byte) ([]string, error) {
	section, err := forwardsNode(source)
	if err != nil || section == nil || section.Kind != yaml.MappingNode {
		return nil, err
	}
	var all []string
	for i := 0; i+1 < len(section.Content); i += 2 {
		all = append(all, section.Content[i].Value+": "+section.Content[i+1].Value)
	}
	return all, nil
}

func insertForward(source []byte, f Forward) ([]byte, error) {
	section, err := forwardsNode(source)
	if err != nil {
		return nil, err
	}
	lines := bytes.SplitAfter(source, []byte("\n"))
	if last := len(lines) - 1; last > 0 && len(lines[last]) == 0 {
		lines = lines[:last]
	}
	entry := f.Name + ": " + f.String()
	if strings.HasPrefix(f.String(), "[") {
		entry = f.Name + ": \"" + f.String() + "\"" // a bracket begins a list
	}
	ending := "\n"
	if bytes.HasSuffix(lines[0], []byte("\r\n")) {
		ending = "\r\n"
	}
	insert := func(after int, text string) ([]byte, error) {
		last := lines[after-1]
		if !bytes.HasSuffix(last, []byte("\n")) {
			text = ending + text
		}
		return slices.Concat(bytes.Join(lines[:after], nil), []byte(text+ending), bytes.Join(lines[after:], nil)), nil
	}
	switch {
	case section == nil:
		return insert(len(lines), ending+"forwards:"+ending+"  "+entry)
	case section.Kind == yaml.ScalarNode:
		return insert(section.Line, "  "+entry)
	case len(section.Content) == 0:
		return nil, ErrNoPlace
	}
	key, value := section.Content[len(section.Content)-2], section.Content[len(section.Content)-1]
	if section.Style&yaml.FlowStyle == 0 {
		return insert(value.Line, strings.Repeat(" ", key.Column-1)+entry)
	}
	line := lines[value.Line-1]
	end := bytes.IndexByte(line[min(value.Column-1, len(line)):], '}')
	if end < 0 {
		return nil, ErrNoPlace
	}
	end += value.Column - 1
	head := bytes.TrimRight(line[:end], " ,")
	lines[value.Line-1] = slices.Concat(head, []byte(", "+entry), line[end:])
	return bytes.Join(lines, nil), nil
}
