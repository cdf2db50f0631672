// Package audit compares the workstation before a lab was made with the
// workstation after it was taken down.
//
// What nobody else changes every minute (links, routes, firewall rules,
// mounts, sysctls, control groups of ours) must be exactly as before: any
// difference counts as left behind. Of what does change by itself (processes,
// listening ports, files) a difference counts where it bears a sign of the
// lab; the others are listed apart.
package audit

import (
	"fmt"
	"slices"
	"strings"
)

// Kind is a sort of thing that is compared.
type Kind string

// The kinds, in the order in which a report lists them.
const (
	Links     Kind = "links"
	Routes    Kind = "routes"
	Rules     Kind = "firewall rules"
	Mounts    Kind = "mounts"
	Sysctls   Kind = "sysctls"
	Processes Kind = "processes"
	Cgroups   Kind = "control groups"
	Ports     Kind = "listening ports"
	Files     Kind = "files"
)

// Kinds lists all kinds.
var Kinds = []Kind{Links, Routes, Rules, Mounts, Sysctls, Processes, Cgroups, Ports, Files}

// Snapshot is what the workstation holds: for each kind, names of things and
// the state that is compared.
type Snapshot map[Kind]map[string]string

// Lab is what is known of the lab, to tell its traces from others'.
type Lab struct {
	Name   string   `json:"name"`
	ID     string   `json:"id"`
	Home   string   `json:"home"`   // the state folder, which is not compared
	Folder string   `json:"folder"` // the lab's own, which must be gone
	Ports  []string `json:"ports"`  // addresses with ports that it forwarded
}

// Report is the outcome of a comparison.
type Report struct {
	Lines []Line `json:"lines"`
}

// Line is the outcome for one kind.
type Line struct {
	Kind   Kind     `json:"kind"`
	Before int      `json:"before"` // how many there were
	After  int      `json:"after"`  // how many there are
	Left   []string `json:"left,omitempty"`
	Others []string `json:"others,omitempty"` // differences without a sign of the lab
}

// Clean tells whether nothing was left behind.
func (r Report) Clean() bool {
	return !slices.ContainsFunc(r.Lines, func(l Line) bool { return len(l.Left) > 0 })
}

// Left lists all that was left behind.
func (r Report) Left() []string {
	var all []string
	for _, l := range r.Lines {
		all = append(all, l.Left...)
	}
	return all
}

// Text prints the report, one line for each kind.
func (r Report) Text() string {
	var b strings.Builder
	for _, l := range r.Lines {
		verdict := "as before"
		if len(l.Left) > 0 {
			verdict = fmt.Sprintf("%d left behind", len(l.Left))
		}
		fmt.Fprintf(&b, "  %-16s %5d  %s", l.Kind, l.After, verdict)
		if len(l.Others) > 0 {
			fmt.Fprintf(&b, "; %d changed by others meanwhile", len(l.Others))
		}
		b.WriteByte('\n')
		for _, left := range l.Left {
			fmt.Fprintf(&b, "      left: %s\n", left)
		}
	}
	return b.String()
}

// Compare tells what differs. Marked says whether a thing that is new or
// changed bears a sign of the lab; it is asked only for processes, ports and
// files.
func Compare(before, after Snapshot, marked func(kind Kind, name, state string) bool) Report {
	var report Report
	for _, kind := range Kinds {
		line := Line{Kind: kind, Before: len(before[kind]), After: len(after[kind])}
		for _, difference := range differences(kind, before[kind], after[kind]) {
			if strict(kind) || marked(kind, difference.name, difference.state) {
				line.Left = append(line.Left, difference.words)
			} else {
				line.Others = append(line.Others, difference.words)
			}
		}
		report.Lines = append(report.Lines, line)
	}
	return report
}

// strict tells whether any difference of the kind counts.
func strict(kind Kind) bool { return kind != Processes && kind != Ports && kind != Files }

type difference struct{ name, state, words string }

func differences(kind Kind, before, after map[string]string) []difference {
	var all []difference
	for name, state := range after {
		was, known := before[name]
		switch {
		case !known:
			all = append(all, difference{name, state, strings.TrimSpace(name + " " + show(kind, state))})
		case was != state && kind == Sysctls:
			all = append(all, difference{name, state, fmt.Sprintf("%s is %s and was %s", name, state, was)})
		case was != state:
			all = append(all, difference{name, state, name + " was changed"})
		}
	}
	for name, state := range before {
		// A process or a port that has ended leaves nothing behind.
		if _, still := after[name]; !still && kind != Processes && kind != Ports && kind != Cgroups {
			all = append(all, difference{name, state, name + " is gone"})
		}
	}
	slices.SortFunc(all, func(a, b difference) int { return strings.Compare(a.words, b.words) })
	return all
}

// show is the state where it says something to a person.
func show(kind Kind, state string) string {
	if kind == Files {
		return ""
	}
	return state
}
