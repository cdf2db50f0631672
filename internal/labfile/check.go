package labfile

import (
	"fmt"
	"slices"
	"unicode/utf8"
)

// check looks at what refers to something else in the file.
func (r *reader) check() {
	lab := r.lab
	networks := names(lab.Networks, func(n Network) string { return n.Name })
	for i := range lab.Groups {
		r.checkTaps(&lab.Groups[i], networks)
	}
	for _, f := range lab.Forwards {
		if f.Node == "" {
			continue
		}
		var nodes []string
		for _, g := range lab.Groups {
			for n := range min(g.Count, 1000) {
				nodes = append(nodes, NodeName(g.Name, n+1))
			}
		}
		if !slices.Contains(nodes, f.Node) {
			r.missing(Ref{f.Node, f.NodePos}, "node", nodes)
		}
	}
	r.checkSteps()
}

func names[T any](things []T, name func(T) string) []string {
	all := make([]string, len(things))
	for i, thing := range things {
		all[i] = name(thing)
	}
	return all
}

// missing reports a name that refers to nothing.
func (r *reader) missing(ref Ref, kind string, known []string) {
	r.add(Finding{Pos: ref.Pos, Width: utf8.RuneCountInString(ref.Name), Message: fmt.Sprintf("%s %q is not declared", kind, ref.Name),
		Meant: nearest(ref.Name, known)})
}

func (r *reader) checkTaps(g *Group, networks []string) {
	if g.Networks == nil {
		if len(networks) == 1 {
			g.Networks = []Tap{{Network: networks[0], Pos: g.Pos}}
			return
		}
		r.add(Finding{Pos: g.Pos, Width: len(g.Name), Message: fmt.Sprintf("group %q does not say on which of the %d networks it is", g.Name, len(networks)),
			Remedy: fmt.Sprintf("add networks: [%s]", networks[0])})
	}
	for i, tap := range g.Networks {
		if !slices.Contains(networks, tap.Network) {
			r.missing(Ref{tap.Network, tap.Pos}, "network", networks)
		}
		if slices.ContainsFunc(g.Networks[:i], func(t Tap) bool { return t.Network == tap.Network }) {
			r.add(Finding{Pos: tap.Pos, Width: len(tap.Network), Message: fmt.Sprintf("group %q is on network %q already", g.Name, tap.Network)})
		}
	}
}

func (r *reader) checkSteps() {
	lab := r.lab
	steps := names(lab.Steps, func(s Step) string { return s.Name })
	givenBy := map[string]string{}
	taken := map[string]bool{}
	nodesOf := map[string][]string{}
	for _, s := range lab.Steps {
		nodes, err := s.On.Nodes(lab.Groups)
		if err != nil {
			r.selectionError(s.On.Pos, err)
		} else if len(nodes) == 0 && len(s.On.Include) > 0 {
			r.add(Finding{Severity: Caution, Pos: s.On.Pos, Width: len(s.On.Text), Message: fmt.Sprintf("step %q runs on no node", s.Name)})
		}
		nodesOf[s.Name] = nodes
		for _, v := range s.Gives {
			if first, twice := givenBy[v.Name]; twice {
				r.add(Finding{Pos: v.Pos, Width: len(v.Name), Message: fmt.Sprintf("value %q is given by step %q already", v.Name, first)})
			}
			givenBy[v.Name] = s.Name
			if len(nodes) > 1 {
				r.add(Finding{Pos: v.Pos, Width: len(v.Name), Message: fmt.Sprintf("step %q runs on %d nodes, and a value comes from one", s.Name, len(nodes)),
					Remedy: fmt.Sprintf("let a step on %s give it", nodes[0])})
			}
		}
	}
	var values []string
	for _, s := range lab.Steps {
		for _, v := range s.Gives {
			values = append(values, v.Name)
		}
	}
	for _, s := range lab.Steps {
		for _, ref := range s.After {
			if !slices.Contains(steps, ref.Name) {
				r.missing(ref, "step", steps)
			}
		}
		for _, ref := range s.Takes {
			taken[ref.Name] = true
			if _, ok := givenBy[ref.Name]; !ok {
				r.missing(ref, "value", values)
			}
		}
		r.checkStarts(s, nodesOf[s.Name])
	}
	for _, s := range lab.Steps {
		for _, v := range s.Gives {
			if !taken[v.Name] {
				r.add(Finding{Severity: Caution, Pos: v.Pos, Width: len(v.Name), Message: fmt.Sprintf("value %q is given and never taken", v.Name)})
			}
		}
	}
}

// checkStarts sees that every node a step runs on has the services it starts.
func (r *reader) checkStarts(s Step, nodes []string) {
	for _, g := range r.lab.Groups {
		if !slices.ContainsFunc(nodes, g.has) {
			continue
		}
		services := names(g.Services, func(s Service) string { return s.Name })
		for _, ref := range s.Start {
			if !slices.Contains(services, ref.Name) {
				r.add(Finding{Pos: ref.Pos, Width: len(ref.Name), Meant: nearest(ref.Name, services),
					Message: fmt.Sprintf("group %q, on which step %q runs, has no service %q", g.Name, s.Name, ref.Name)})
			}
		}
	}
}
