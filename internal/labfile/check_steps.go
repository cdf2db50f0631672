package labfile

import (
	"fmt"
	"slices"
)

func (r *reader) checkSteps() {
	lab := r.lab
	steps := map[string]int{}
	for i, s := range lab.Steps {
		steps[s.Name] = i
	}
	givenBy := map[string]string{}
	var values []string
	membersOf := make([][][]bool, len(lab.Steps))
	for i, s := range lab.Steps {
		members, err := s.On.members(lab.Groups)
		first, count := "", 0
		for at, chosen := range members {
			for n, is := range chosen {
				if !is {
					continue
				}
				if count++; count == 1 {
					first = NodeName(lab.Groups[at].Name, n+1)
				}
			}
		}
		if err != nil {
			r.selectionError(s.On, err)
		} else if count == 0 && len(s.On.Include) > 0 {
			r.empty(s)
		}
		membersOf[i] = members
		for _, v := range s.Gives {
			if first, twice := givenBy[v.Name]; twice {
				r.add(Finding{Pos: v.Pos, Width: len(v.Name), Message: fmt.Sprintf("value %q is given by step %q already", v.Name, first)})
			}
			givenBy[v.Name] = s.Name
			values = append(values, v.Name)
			if count > 1 {
				r.add(Finding{Pos: v.Pos, Width: len(v.Name), Message: fmt.Sprintf("step %q runs on %d nodes, and a value comes from one", s.Name, count),
					Remedy: fmt.Sprintf("let a step on %s give it", first)})
			}
		}
	}
	taken := map[string]bool{}
	for i, s := range lab.Steps {
		for _, ref := range s.After {
			if _, known := steps[ref.Name]; !known {
				r.missing(ref, "step", names(lab.Steps, func(s Step) string { return s.Name }))
			} else if ref.Name == s.Name {
				r.add(Finding{Pos: ref.Pos, Width: len(ref.Name), Message: fmt.Sprintf("step %q cannot come after itself", s.Name)})
			}
		}
		for _, ref := range s.Takes {
			taken[ref.Name] = true
			if giver, known := givenBy[ref.Name]; !known {
				r.missing(ref, "value", values)
			} else if giver == s.Name {
				r.add(Finding{Pos: ref.Pos, Width: len(ref.Name), Message: fmt.Sprintf("step %q cannot take what it gives itself", s.Name)})
			}
		}
		r.checkServices(s, membersOf[i])
	}
	for _, s := range lab.Steps {
		for _, v := range s.Gives {
			if !taken[v.Name] {
				r.add(Finding{Severity: Caution, Pos: v.Pos, Width: len(v.Name), Message: fmt.Sprintf("value %q is given and never taken", v.Name)})
			}
		}
	}
}

// empty reports a step that no node runs: a mistake, unless a count of 0 made
// it so.
func (r *reader) empty(s Step) {
	severity := Error
	for _, term := range s.On.Include {
		for _, g := range r.lab.Groups {
			if g.Count == 0 && (term.Group == "" || term.Group == g.Name) {
				severity = Caution
			}
		}
	}
	pos, width := s.On.at.inside(1, len(s.On.Text))
	r.add(Finding{Severity: severity, Pos: pos, Width: width, Message: fmt.Sprintf("step %q runs on no node", s.Name)})
}

// checkServices sees that every node a step runs on has the services that it
// starts or waits for.
func (r *reader) checkServices(s Step, members [][]bool) {
	wanted := slices.Clone(s.Start)
	if s.Wait != nil && s.Wait.Kind == WaitService && s.Wait.Text != "" {
		wanted = append(wanted, Ref{s.Wait.Text, s.Wait.Pos})
	}
	if len(wanted) == 0 {
		return
	}
	for i, g := range r.lab.Groups {
		if members == nil || !slices.Contains(members[i], true) {
			continue
		}
		services := names(g.Services, func(s Service) string { return s.Name })
		for _, ref := range wanted {
			if !slices.Contains(services, ref.Name) {
				r.add(Finding{Pos: ref.Pos, Width: len(ref.Name), Meant: nearest(ref.Name, services),
					Message: fmt.Sprintf("group %q, on which step %q runs, has no service %q", g.Name, s.Name, ref.Name)})
			}
		}
	}
}
