// Package mapping goes from a lab file on disk to a plan on this workstation:
// it reads what the pure packages need and puts them one after the other.
package mapping

import (
	"fmt"
	"os"
	"path/filepath"

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
	Facts    workstation.Facts
	Findings labfile.Findings
}

// Good tells whether the lab can be provisioned.
func (r Result) Good() bool { return r.Findings.Count(labfile.Error) == 0 }

// Text prints the findings with their lines.
func (r Result) Text() string { return r.Findings.Text(filepath.Base(r.File), r.Source) }

// Map reads a lab file and lays it on this workstation. state is the folder
// where labs live; living gives the plan by which the lab of that name lives,
// nil where it does not. Mistakes in the file are findings; an error is one of
// reading.
func Map(file, state string, living func(lab string) *plan.Plan) (Result, error) {
	var r Result
	var err error
	if r.File, err = filepath.Abs(file); err != nil {
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
	r.Lab, r.Findings = labfile.Parse(r.Source, folder.ReadFile)
	if r.Lab == nil {
		return r, nil
	}
	where := plan.Where{File: r.File}
	if r.Lab.Programs != "" {
		where.Programs = filepath.Join(filepath.Dir(r.File), r.Lab.Programs)
		if info, err := folder.Stat(r.Lab.Programs); err != nil || !info.IsDir() {
			r.Findings = append(r.Findings, labfile.Finding{Message: fmt.Sprintf("programs: there is no folder %q beside the lab file", r.Lab.Programs)})
		}
	}
	if r.Facts, err = survey.Read(state); err != nil {
		return r, err
	}
	made, findings := plan.Make(r.Lab, where, r.Facts, living(r.Lab.Name))
	r.Findings = append(r.Findings, findings...)
	if made != nil {
		graph, findings := schedule.New(made)
		r.Plan, r.Graph = made, graph
		r.Findings = append(r.Findings, findings...)
	}
	r.Findings.Sort()
	return r, nil
}
