package ledger

import (
	"context"
	"database/sql"
	"time"
)

// Run is one provisioning of a lab.
type Run struct {
	N       int       `json:"n"` // from 1
	Started time.Time `json:"started"`
	Ended   time.Time `json:"ended,omitzero"`
	Outcome string    `json:"outcome,omitempty"` // "done", "failed", "cancelled"; empty while it goes on
	Wish    []byte    `json:"-"`                 // JSON of what was asked for
}

// StartRun records a new run with what was asked for, and gives its number.
func (l *Ledger) StartRun(ctx context.Context, lab string, wish []byte) (Run, error) {
	run := Run{Started: at(l.now()), Wish: wish}
	err := l.write(ctx, "a run", func(ctx context.Context, tx *sql.Tx) error {
		err := tx.QueryRowContext(ctx, `insert into runs (lab, n, started) select ?, coalesce(max(n), 0) + 1, ? from runs where lab = ? returning n`,
			lab, run.Started.UnixNano(), lab).Scan(&run.N)
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `insert or replace into wishes (lab, n, content) values (?,?,?)`, lab, run.N, wish)
		return err
	})
	return run, err
}

// Runs lists the runs of a lab, oldest first.
func (l *Ledger) Runs(ctx context.Context, lab string) ([]Run, error) {
	return query(ctx, l, func(rows *sql.Rows) (Run, error) {
		var run Run
		var started, ended int64
		err := rows.Scan(&run.N, &started, &ended, &run.Outcome, &run.Wish)
		run.Started, run.Ended = at(started), at(ended)
		return run, err
	}, `select n, started, ended, outcome, coalesce(content, '{}') from runs left join wishes using (lab, n) where lab = ? order by n`, lab)
}

// Cell is the newest result of a step on a node.
type Cell struct {
	Step     string
	Node     string
	Run      int    // the run in which it began
	Identity string // digest of everything that can change the result
	State    string // a step state of the vocabulary
	Started  time.Time
	Ended    time.Time
	Exit     int
	Reason   string
}

// SetCell records the state of a step on a node.
func (l *Ledger) SetCell(ctx context.Context, lab string, c Cell) error {
	return l.write(ctx, "step "+c.Step+" on "+c.Node, func(ctx context.Context, tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, `insert or replace into cells (lab, step, node, run, identity, state, started, ended, exit, reason) values (?,?,?,?,?,?,?,?,?,?)`,
			lab, c.Step, c.Node, c.Run, c.Identity, c.State, nano(c.Started), nano(c.Ended), c.Exit, c.Reason)
		return err
	})
}

func nano(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixNano()
}

// DropCells forgets what was done on a node that is gone.
func (l *Ledger) DropCells(ctx context.Context, lab, node string) error {
	return l.write(ctx, "results", func(ctx context.Context, tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, `delete from cells where lab = ? and node = ?`, lab, node)
		return err
	})
}

// Cells lists the newest results of all steps of a lab.
func (l *Ledger) Cells(ctx context.Context, lab string) ([]Cell, error) {
	return query(ctx, l, func(rows *sql.Rows) (Cell, error) {
		var c Cell
		var started, ended int64
		err := rows.Scan(&c.Step, &c.Node, &c.Run, &c.Identity, &c.State, &started, &ended, &c.Exit, &c.Reason)
		c.Started, c.Ended = at(started), at(ended)
		return c, err
	}, `select step, node, run, identity, state, started, ended, exit, reason from cells where lab = ? order by step, node`, lab)
}

// Value is a text that a step gave. The text of a secret is sealed by the one
// who records it; the ledger never sees it in clear.
type Value struct {
	Name   string
	Secret bool
	Text   []byte
}

// SetValue records a value.
func (l *Ledger) SetValue(ctx context.Context, lab string, v Value) error {
	return l.write(ctx, "value "+v.Name, func(ctx context.Context, tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, `insert or replace into vals (lab, name, secret, text) values (?,?,?,?)`, lab, v.Name, v.Secret, v.Text)
		return err
	})
}

// Values lists the values of a lab.
func (l *Ledger) Values(ctx context.Context, lab string) ([]Value, error) {
	return query(ctx, l, func(rows *sql.Rows) (Value, error) {
		var v Value
		err := rows.Scan(&v.Name, &v.Secret, &v.Text)
		return v, err
	}, `select name, secret, text from vals where lab = ? order by name`, lab)
}
