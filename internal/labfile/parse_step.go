package labfile

import (
	"fmt"
	"strconv"
	"strings"
	"text/template"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"

	"kettlehole/internal/labfile/shape"
)

func (r *reader) step(f field) {
	s := Step{Name: r.key(f, "a step's name"), Within: DefaultLimit, Pos: f.at.pos}
	owner := fmt.Sprintf("step %q", s.Name)
	at := map[string]node{}
	for _, e := range r.fields(f.value, owner) {
		at[e.key] = e.value
		switch e.key {
		case "on":
			s.On = r.selection(e.value, "on")
		case "after":
			s.After = r.texts(e.value, "after")
		case "takes":
			s.Takes = r.texts(e.value, "takes")
		case "start":
			s.Start = r.texts(e.value, "start")
		case "gives":
			s.Gives = r.gives(e.value)
		case "put":
			for _, one := range r.fields(e.value, "put") {
				s.Put = append(s.Put, r.put(one))
			}
		case "run":
			s.Script = r.command(e.value, "run")
			s.ScriptPos = e.value.pos
		case "script":
			if text, ok := r.text(e.value, "script"); ok {
				s.Source, s.ScriptPos = text, e.value.pos
				if content := r.file(e.value, "the script", text); content != nil {
					s.Script = string(content)
					r.scriptText(e.value, text, s.Script)
				}
			}
		case "env":
			for _, one := range r.fields(e.value, "env") {
				s.Env = append(s.Env, r.variable(one))
			}
		case "shared":
			s.Shared = r.boolean(e.value, "shared")
		case "at-once":
			s.AtOnce = value(r, e.value, "at-once", parseAtOnce)
		case "retry":
			s.Retry = r.retry(e)
		case "within":
			s.Within = value(r, e.value, "within", ParseDuration)
		case "wait":
			s.Wait = r.wait(e)
		default:
			unknown[shape.Step](&r.tree, e, owner)
		}
	}
	_, hasRun := at["run"]
	_, hasScript := at["script"]
	if hasRun && hasScript {
		r.wrong(f.at, "%s has both run and script; it takes one of them", owner)
	}
	if !hasRun && !hasScript {
		r.only(at, owner, "no script", "gives", "retry", "within", "env", "shared")
	}
	if _, said := at["on"]; !said {
		r.add(Finding{Pos: f.at.pos, Width: f.at.width, Message: owner + " does not say on which nodes", Remedy: "add a line such as on: all"})
	}
	if !hasRun && !hasScript && len(s.Start) == 0 && s.Wait == nil && len(s.Put) == 0 {
		r.add(Finding{Pos: f.at.pos, Width: f.at.width, Message: owner + " does nothing", Remedy: "give it run, script, put, start or wait"})
	}
	if s.Shared {
		r.only(at, owner, "shared, which depends on nothing of a node", "after", "takes", "gives", "start", "wait", "at-once")
	}
	r.lab.Steps = append(r.lab.Steps, s)
}

func parseAtOnce(text string) (int, error) {
	if text == "all" {
		return 0, nil
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 1 {
		return 0, fmt.Errorf("%q is not a whole number from 1, or all", text)
	}
	return n, nil
}

func (r *reader) retry(f field) *Retry {
	retry := &Retry{Pause: DefaultPause}
	said := false
	for _, e := range r.fields(f.value, "retry") {
		switch e.key {
		case "times":
			said = true
			retry.Times = value(r, e.value, "times", parseTimes)
		case "pause":
			retry.Pause = value(r, e.value, "pause", ParseDuration)
		default:
			said = true
			unknown[shape.Retry](&r.tree, e, "retry")
		}
	}
	if !said {
		r.wrong(f.at, "retry says how many times: {times: 3, pause: 2s}")
	}
	return retry
}

func parseTimes(text string) (int, error) {
	n, err := strconv.Atoi(text)
	if err != nil || n < 1 || n > 100 {
		return 0, fmt.Errorf("%q is not a whole number from 1 to 100", text)
	}
	return n, nil
}

func (r *reader) variable(f field) Var {
	v := Var{Name: f.key, Pos: f.at.pos}
	v.Value, _ = r.text(f.value, "a variable")
	if !variableName.MatchString(v.Name) {
		r.wrong(f.at, "a variable's name is made of letters, digits and underscores; %q is not", v.Name)
	} else if owned(v.Name) {
		r.wrong(f.at, "scripts see %s already, with the node's own facts", v.Name)
	}
	return v
}

// owned tells whether a variable is one that every script sees.
func owned(name string) bool {
	switch name {
	case "LAB", "NODE", "GROUP", "INDEX", "COUNT", "ADDRESS", "ADDRESS6", "GIVES":
		return true
	}
	for _, prefix := range []string{"ADDRESS_", "ADDRESS6_", "NODES_", "ADDRESSES_", "ADDRESSES6_", "RESERVE_", "INPUT_"} {
		if strings.HasPrefix(name, prefix) {
			return true
		}
	}
	return false
}

// largestPut bounds a file that a step puts.
const largestPut = 4 << 20

func (r *reader) put(f field) File {
	one := File{Source: f.key, Pos: f.at.pos, Template: strings.HasSuffix(f.key, ".tmpl")}
	one.Target = r.absolute(f.value, "the place of a file that is put")
	if strings.HasSuffix(one.Target, "/") {
		r.wrong(f.value, "the place of a file that is put is a file, and %q is a folder", one.Target)
	}
	one.Content = r.file(f.at, "a file to put", one.Source)
	if len(one.Content) > largestPut {
		r.wrong(f.at, "%q is larger than 4 MiB; put it into the folder of programs, or into an image", one.Source)
		one.Content = nil
	}
	if one.Template {
		if err := ParseTemplate(one.Source, one.Content); err != nil {
			r.wrong(f.at, "the template is not right: %v", err)
		}
	}
	return one
}

// ParseTemplate tells whether a text is a Go text/template.
func ParseTemplate(name string, content []byte) error {
	_, err := template.New(name).Parse(string(content))
	return err
}

// scriptText looks at the text of a script beside the lab file.
func (r *reader) scriptText(n node, file, text string) {
	caution := func(remedy, format string, args ...any) {
		r.add(Finding{Severity: Caution, Pos: n.pos, Width: n.width, Message: fmt.Sprintf(format, args...), Remedy: remedy})
	}
	first, _, _ := strings.Cut(text, "\n")
	switch {
	case strings.ContainsRune(text, 0):
		r.wrong(n, "%q is no text, and a script is", file)
	case !utf8.ValidString(text):
		caution("save it as UTF-8", "%q is not UTF-8 text", file)
	case strings.Contains(text, "\r\n"):
		caution("save it with Unix line ends", "the lines of %q end as on Windows, and a shell takes the extra character for a part of its words", file)
	case strings.HasPrefix(first, "#!") && strings.TrimSpace(first[2:]) == "":
		caution("write one such as #!/bin/sh, or none", "the first line of %q names no interpreter", file)
	case strings.HasPrefix(first, "#!") && !strings.HasPrefix(strings.TrimSpace(first[2:]), "/"):
		caution("write its whole path, such as #!/usr/bin/python3", "the first line of %q does not name its interpreter by a path", file)
	case strings.TrimSpace(text) == "":
		caution("", "%q is empty", file)
	}
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
	if n.is(yaml.ScalarNode) || n.is(yaml.SequenceNode) {
		for _, ref := range r.texts(n, "gives") {
			add(ref.Name, node{pos: ref.Pos, width: utf8.RuneCountInString(ref.Name)}, "text")
		}
		return values
	}
	for _, e := range r.fields(n, "gives") {
		kind, ok := r.scalar(e.value, "the kind of a value")
		if ok && kind != "secret" && kind != "text" {
			r.add(Finding{Pos: e.value.pos, Width: e.value.width, Message: fmt.Sprintf("a value is text or secret, not %q", kind), Meant: nearest(kind, []string{"text", "secret"})})
		}
		add(e.key, e.at, kind)
	}
	return values
}

func (r *reader) wait(f field) *Wait {
	w := &Wait{Within: DefaultWithin, Pos: f.value.pos}
	at, strange := map[string]node{}, false
	for _, e := range r.fields(f.value, "wait") {
		at[e.key] = e.value
		switch e.key {
		case "port":
			w.Port = value(r, e.value, "port", parsePort)
		case "file":
			w.Text = r.absolute(e.value, "a file to wait for")
		case "run":
			w.Text = r.command(e.value, "run")
		case "service":
			w.Text = r.said(e.value, "service")
		case "http":
			w.Text = r.address(e.value, "http")
		case "name":
			if w.Text, _ = r.scalar(e.value, "name"); !hostName.MatchString(w.Text) {
				r.wrong(e.value, "%q is no name of a host", w.Text)
			}
		case "within":
			w.Within = value(r, e.value, "within", ParseDuration)
		default:
			strange = true
			unknown[shape.Wait](&r.tree, e, "wait")
		}
	}
	w.Kind = WaitKind(r.oneOf(at, f, "wait", strange, "port", "file", "run", "service", "http", "name"))
	return w
}
