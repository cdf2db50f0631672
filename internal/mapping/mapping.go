// Package mapping goes from a lab file on disk to a plan on this workstation:
// it reads what the pure packages need and puts them one after the other.
package mapping

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"kettlehole/internal/labfile"
	"kettlehole/internal/plan"
	"kettlehole/internal/schedule"
	"kettlehole/internal/workstation"
	"kettlehole/internal/workstation/survey"
)

// Result is what a lab file means here.
type Result struct {
	File     string // absolute path
	Source   []byte
	Lab      *labfile.Lab
	Plan     *plan.Plan
	Graph    *schedule.Graph
	Living   *plan.Plan // by which the lab lives, nil where it does not
	Facts    workstation.Facts
	Findings labfile.Findings
}

// Good tells whether the lab can be provisioned.
func (r Result) Good() bool { return r.Findings.Count(labfile.Error) == 0 }

// Text prints the findings with their lines.
func (r Result) Text() string { return r.Findings.Text(filepath.Base(r.File), r.Source) }

// PoolVariable names the environment variable with the pool of automatic
// subnets.
const PoolVariable = "KETTLEHOLE_POOL"

// Request says what to map.
type Request struct {
	File string // the lab file
	Home string // the folder where labs live
	// Living gives the plan by which the lab of that name lives, nil where it
	// does not.
	Living func(lab string) *plan.Plan
	// Given are values for inputs, the strongest first.
	Given []labfile.Given
	// Labs tells what the labs that live hold of the workstation; may be nil.
	Labs func() []workstation.Hold
	// Facts are those of the workstation where they are known; nil to read them.
	Facts *workstation.Facts
	// Tight allows to promise memory that is not there.
	Tight bool
}

// Map reads a lab file and lays it on this workstation. Inputs that nobody
// gives keep the values by which the lab lives. Mistakes in the file are
// findings; an error is one of reading.
func Map(want Request) (Result, error) {
	var r Result
	var err error
	if r.File, err = filepath.Abs(want.File); err != nil {
		return r, fmt.Errorf("finding the lab file: %w", err)
	}
	if r.Source, err = os.ReadFile(r.File); err != nil {
		return r, fmt.Errorf("reading the lab file: %w", err)
	}
	folder, err := os.OpenRoot(filepath.Dir(r.File))
	if err != nil {
		return r, fmt.Errorf("reading the lab file's folder: %w", err)
	}
	defer folder.Close()
	r.Lab, r.Findings = labfile.Parse(r.Source, folder.ReadFile, want.Given...)
	if r.Lab == nil {
		return r, nil
	}
	living := want.Living(r.Lab.Name)
	r.Living = living
	if kept := keptInputs(living, r.File); len(kept) > 0 {
		r.Lab, r.Findings = labfile.Parse(r.Source, folder.ReadFile, slices.Concat(want.Given, kept)...)
		if r.Lab == nil {
			return r, nil
		}
	}
	where := plan.Where{File: r.File, Tight: want.Tight}
	if text := os.Getenv(PoolVariable); text != "" {
		if where.Pool, err = plan.ParsePool(text); err != nil {
			return r, fmt.Errorf("reading %s: %w", PoolVariable, err)
		}
	}
	if r.Lab.Programs != "" {
		where.Programs = filepath.Join(filepath.Dir(r.File), r.Lab.Programs)
		if info, err := folder.Stat(r.Lab.Programs); err != nil || !info.IsDir() {
			r.Findings = append(r.Findings, labfile.Finding{Message: fmt.Sprintf("programs: there is no folder %q beside the lab file", r.Lab.Programs)})
		}
	}
	if want.Facts != nil {
		r.Facts = *want.Facts
	} else {
		if r.Facts, err = survey.Read(want.Home); err != nil {
			return r, err
		}
		if want.Labs != nil {
			r.Facts.Labs = want.Labs()
		}
	}
	made, findings := plan.Make(r.Lab, where, r.Facts, living)
	r.Findings = append(r.Findings, findings...)
	if made != nil {
		graph, findings := schedule.New(made)
		r.Plan, r.Graph = made, graph
		r.Findings = append(r.Findings, findings...)
	}
	r.Findings.Sort()
	return r, nil
}

// keptInputs are the values that were given to the lab that lives from the
// same file.
func keptInputs(living *plan.Plan, file string) []labfile.Given {
	if living == nil || living.File != file {
		return nil
	}
	var kept []labfile.Given
	for _, in := range living.Inputs {
		if in.Given {
			kept = append(kept, labfile.Given{Name: in.Name, Text: in.Value, From: "the living lab", Ambient: true})
		}
	}
	return kept
}
