package labfile

import (
	"cmp"
	"fmt"
	"regexp"
	"strings"
)

// caution says what works and will hurt.
func (r *reader) caution() {
	lab := r.lab
	for _, f := range lab.Forwards {
		if f.Node != "" && !f.Bind.IsLoopback() {
			who := "whoever reaches " + f.Bind.String()
			if f.Bind.IsUnspecified() {
				who = "every machine that reaches this workstation"
			}
			r.add(Finding{Severity: Caution, Pos: f.Pos, Width: f.width, Message: fmt.Sprintf("forward %q is open to %s", f.Name, who),
				Remedy: "without an address before the port only this workstation can use it"})
		}
	}
	for _, g := range lab.Groups {
		if g.Quorum && g.Count > 0 && g.Count%2 == 0 {
			pos := g.CountPos
			if pos == (Pos{}) {
				pos = g.Pos
			}
			r.add(Finding{Severity: Caution, Pos: pos, Message: fmt.Sprintf("%d voting members bear the loss of %d, as %d would", g.Count, (g.Count-1)/2, g.Count-1),
				Remedy: fmt.Sprintf("use %d, which costs less, or %d, which bears the loss of %d", g.Count-1, g.Count+1, g.Count/2)})
		}
	}
	for _, in := range lab.Inputs {
		if in.Kind == Textual && in.Default != "" && secretName.MatchString(in.Name) {
			r.clear(in.Pos, len(in.Name), fmt.Sprintf("the default of input %q looks like a secret that stands in the file in clear", in.Name))
		}
		if !in.used && !in.broken && !r.scriptsUse(in.Name) {
			r.add(Finding{Severity: Caution, Pos: in.Pos, Width: len(in.Name), Message: fmt.Sprintf("input %q is used nowhere", in.Name)})
		}
	}
	for _, s := range lab.Steps {
		for _, v := range s.Env {
			if v.Value != "" && secretName.MatchString(v.Name) {
				r.clear(v.Pos, len(v.Name), fmt.Sprintf("variable %s looks like a secret that stands in the file in clear", v.Name))
			}
		}
		where := ""
		if s.Source != "" {
			where = fmt.Sprintf(" of %q", s.Source)
		}
		r.cautionScript(s.ScriptPos, where, s.Script)
	}
	for _, g := range lab.Groups {
		for _, s := range g.Services {
			r.cautionScript(s.Pos, "", s.Run)
		}
	}
}

func (r *reader) clear(pos Pos, width int, message string) {
	r.add(Finding{Severity: Caution, Pos: pos, Width: width, Message: message, Remedy: "let a step make it and give it as a secret value"})
}

var (
	secretName  = regexp.MustCompile(`(?i)(^|_)(password|passwd|passphrase|secret|token|api_?key|private_?key|credentials?)($|_)`)
	secretWords = regexp.MustCompile(`(?i)^\s*(?:export\s+)?(\w*(?:password|passwd|passphrase|secret|token|api_?key))=(["']?[A-Za-z0-9+/][^\s$"']{3,})`)
	latest      = regexp.MustCompile(`https?://\S*\blatest\b\S*|[\w./-]+:latest\b`)
)

// cautionScript looks into a script for what will hurt later. Places are
// lines of the script, since it may stand in a file of its own.
func (r *reader) cautionScript(pos Pos, where, script string) {
	if script == "" {
		return
	}
	number := 0
	for line := range strings.SplitSeq(script, "\n") {
		number++
		if strings.HasPrefix(strings.TrimSpace(line), "#") {
			continue
		}
		at := "the script"
		if strings.Contains(strings.TrimSpace(script), "\n") || where != "" {
			at = fmt.Sprintf("line %d%s", number, cmp.Or(where, " of the script"))
		}
		if strings.Contains(line, "latest") {
			if found := latest.FindString(line); found != "" {
				r.add(Finding{Severity: Caution, Pos: pos, Message: fmt.Sprintf("%s takes %s, which is another thing tomorrow", at, found), Remedy: "name a version"})
			}
		}
		if strings.Contains(line, "=") {
			if m := secretWords.FindStringSubmatch(line); m != nil {
				r.clear(pos, 0, fmt.Sprintf("%s sets %s, which looks like a secret, in clear", at, m[1]))
			}
		}
	}
}

// scriptsUse tells whether a script, a service or a template names an input.
func (r *reader) scriptsUse(input string) bool {
	variable := "INPUT_" + VariableName(input)
	for _, s := range r.lab.Steps {
		if strings.Contains(s.Script, variable) || s.Wait != nil && strings.Contains(s.Wait.Text, variable) {
			return true
		}
		for _, f := range s.Put {
			if f.Template && strings.Contains(string(f.Content), input) {
				return true
			}
		}
	}
	for _, g := range r.lab.Groups {
		for _, s := range g.Services {
			if strings.Contains(s.Run, variable) {
				return true
			}
		}
	}
	for _, c := range r.lab.Checks {
		if strings.Contains(c.Run, variable) {
			return true
		}
	}
	return false
}

// unpinnedImage says what a reference without a version means tomorrow (OCI
// Distribution Specification 1.1, section "Pulling manifests").
func (r *reader) unpinnedImage(n node, reference string) {
	if reference == "" || strings.Contains(reference, "@") {
		return
	}
	last := reference[strings.LastIndex(reference, "/")+1:]
	_, tag, tagged := strings.Cut(last, ":")
	switch {
	case !tagged:
		r.add(Finding{Severity: Caution, Pos: n.pos, Width: n.width, Message: fmt.Sprintf("%s names no version, and means the latest", reference), Remedy: "add a tag, or better a digest"})
	case tag == "latest":
		r.add(Finding{Severity: Caution, Pos: n.pos, Width: n.width, Message: fmt.Sprintf("%s is another image tomorrow", reference), Remedy: "name a version, or better a digest"})
	}
}
