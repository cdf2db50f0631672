package plan

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"regexp"
	"slices"

	"kettlehole/internal/labfile"
)

// ofNode are the variables that are not the same on every node, or in every
// lab, and so cannot be what a shared step depends on.
var ofNode = regexp.MustCompile(`(?:\$\{?|["'])((?:LAB|NODE|GROUP|INDEX|COUNT|ADDRESS6?|GIVES|HOSTNAME|(?:ADDRESS6?|NODES|ADDRESSES6?)_[A-Z0-9_]+)\b)|(lab\.json)|\b(printenv)\b`)

// shared sees that steps that are done once for all nodes can be: they depend
// on nothing of a node, and come before what does.
func (m *maker) shared() {
	later := map[string]string{} // for a node, the step that is not shared and comes first
	for _, s := range m.lab.Steps {
		nodes, err := s.On.Nodes(m.lab.Groups)
		if err != nil {
			continue // said already
		}
		if !s.Shared {
			for _, n := range nodes {
				if later[n] == "" {
					later[n] = s.Name
				}
			}
			continue
		}
		refuse := func(remedy, format string, args ...any) {
			m.say(labfile.Error, s.Pos, len(s.Name), remedy, "step %q is shared, so that it is done once and kept for all nodes, but "+format, append([]any{s.Name}, args...)...)
		}
		const own = "leave shared out, so that each node runs it"
		for _, n := range nodes {
			if later[n] != "" {
				refuse("move it up, before the steps that are not shared", "step %q comes before it on %s: what is kept lies below all that a node does itself", later[n], n)
				break
			}
		}
		texts := []string{s.Script}
		for _, v := range s.Env {
			texts = append(texts, v.Value)
		}
		for _, f := range s.Put {
			if f.Template {
				refuse(own, "it puts the template %s, which is filled for each node", f.Source)
			}
			texts = append(texts, string(f.Content))
		}
		for _, text := range texts {
			if found := ofNode.FindStringSubmatch(text); found != nil {
				name := found[1] + found[2] + found[3]
				refuse(own+", or what it reads", "it reads %s, which is not the same on every node of every lab", name)
				break
			}
		}
	}
}

// SharedOf lists the shared steps of a node, in order.
func (p *Plan) SharedOf(node string) []Step {
	var all []Step
	for _, s := range p.Steps {
		if s.Shared && slices.Contains(s.Nodes, node) {
			all = append(all, s)
		}
	}
	return all
}

// SharedEnvironment is what the script of a shared step sees beside its own
// variables: what is the same on every node, sorted.
func (p *Plan) SharedEnvironment() []string {
	var env []string
	for _, in := range p.Inputs {
		env = append(env, "INPUT_"+labfile.VariableName(in.Name)+"="+in.Value)
	}
	for _, one := range p.Reserves {
		env = append(env, "RESERVE_"+labfile.VariableName(one.Name)+"="+one.String())
	}
	slices.Sort(env)
	return env
}

// SharedDigest is a digest of all that makes what a shared step leaves: the
// layers below it, its script, files and variables, and those inputs and
// reserves that it reads.
func (p *Plan) SharedDigest(below []string, s Step) string {
	texts := []string{s.Script}
	for _, f := range s.Put {
		texts = append(texts, string(f.Content))
	}
	text, err := json.Marshal([]any{"shared 1", below, s.Script, s.Put, s.Env, Named(p.SharedEnvironment(), texts)})
	if err != nil {
		panic(err) // plain data
	}
	return fmt.Sprintf("sha256:%x", sha256.Sum256(text))
}

// shares gives, for each shared step of a node, a digest of it and of those
// below, whatever image they lie on.
func (p *Plan) shares(node string) (names, digests []string) {
	for _, s := range p.SharedOf(node) {
		names, digests = append(names, s.Name), append(digests, p.SharedDigest(digests, s))
	}
	return names, digests
}
