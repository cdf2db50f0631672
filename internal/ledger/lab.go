package ledger

import (
	"context"
	"database/sql"
	"fmt"
	"time"
)

// LabState says what was last begun with a lab.
type LabState string

// The states of a lab in the ledger.
const (
	Living  LabState = "living"  // made, or being made
	Resting LabState = "resting" // stopped, or being stopped, which must be carried through
	Ending  LabState = "leaving" // a teardown has begun and must be carried through
)

// Lab is a lab that has something on this workstation.
type Lab struct {
	Name    string
	ID      string // the name made unique among several ledgers
	File    string // absolute path of the lab file
	Folder  string // where the lab's own files are
	State   LabState
	Plan    []byte // JSON of the plan by which it lives
	Source  []byte // the lab file's text
	Before  []byte // JSON of the audit's view of the workstation before the lab
	Created time.Time
}

// AddLab records a lab before anything of it is made.
func (l *Ledger) AddLab(ctx context.Context, lab Lab) error {
	return l.write(ctx, "lab "+lab.Name, func(ctx context.Context, tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, `insert into labs (name, id, file, folder, state, plan, source, before, created) values (?,?,?,?,?,?,?,?,?)`,
			lab.Name, lab.ID, lab.File, lab.Folder, Living, lab.Plan, lab.Source, lab.Before, l.now())
		return err
	})
}

// SetPlan records the plan by which a lab lives from now on.
func (l *Ledger) SetPlan(ctx context.Context, name string, plan, source []byte) error {
	return l.write(ctx, "plan of lab "+name, func(ctx context.Context, tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, `update labs set plan = ?, source = ? where name = ?`, plan, source, name)
		return err
	})
}

// SetState records what is begun with a lab.
func (l *Ledger) SetState(ctx context.Context, name string, state LabState) error {
	return l.write(ctx, "state of lab "+name, func(ctx context.Context, tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, `update labs set state = ? where name = ?`, state, name)
		return err
	})
}

// DropLab removes a lab and all that is recorded of it, once nothing of it is
// left.
func (l *Ledger) DropLab(ctx context.Context, name string) error {
	return l.write(ctx, "end of lab "+name, func(ctx context.Context, tx *sql.Tx) error {
		for _, table := range []string{"entries", "runs", "cells", "vals", "wishes", "pictures"} {
			if _, err := tx.ExecContext(ctx, `delete from `+table+` where lab = ?`, name); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, `delete from labs where name = ?`, name)
		return err
	})
}

const labColumns = `name, id, file, folder, state, plan, source, before, created`

func scanLab(rows *sql.Rows) (Lab, error) {
	var lab Lab
	var created int64
	err := rows.Scan(&lab.Name, &lab.ID, &lab.File, &lab.Folder, &lab.State, &lab.Plan, &lab.Source, &lab.Before, &created)
	lab.Created = at(created)
	return lab, err
}

// Labs lists the labs by name.
func (l *Ledger) Labs(ctx context.Context) ([]Lab, error) {
	return query(ctx, l, scanLab, `select `+labColumns+` from labs order by name`)
}

// Lab gives the lab of that name, or an error that is [ErrNoLab].
func (l *Ledger) Lab(ctx context.Context, name string) (Lab, error) {
	labs, err := query(ctx, l, scanLab, `select `+labColumns+` from labs where name = ?`, name)
	if err == nil && len(labs) == 0 {
		err = fmt.Errorf("%w: %s", ErrNoLab, name)
	}
	if err != nil {
		return Lab{}, err
	}
	return labs[0], nil
}
