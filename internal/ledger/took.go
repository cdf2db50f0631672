package ledger

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"slices"
	"time"
)

// Took is how long something took once.
type Took struct {
	Work time.Duration `json:"work"`
	Wait time.Duration `json:"wait,omitempty"` // from then on until its condition held
}

// Bounds on what is remembered of times.
const (
	keptTook = 5    // of one kind, the newest
	keptKeys = 5000 // kinds, those used last
)

// End is how a run ended.
type End struct {
	Outcome string
	Picture []byte            // JSON of how it went, for those who look at it later
	Took    map[string][]Took // what was seen to take how long, by the kind of thing
}

// EndRun records how a run ended, what it looked like, and how long things
// took. Times outlive the lab.
func (l *Ledger) EndRun(ctx context.Context, lab string, n int, end End) error {
	return l.write(ctx, "the end of a run", func(ctx context.Context, tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, `update runs set ended = ?, outcome = ? where lab = ? and n = ?`, l.now(), end.Outcome, lab, n); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `insert or replace into pictures (lab, n, content) values (?,?,?)`, lab, n, end.Picture); err != nil {
			return err
		}
		for key, took := range end.Took {
			if err := remember(ctx, tx, key, took, l.now()); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, `delete from times where key not in (select key from times order by used desc limit ?)`, keptKeys)
		return err
	})
}

func remember(ctx context.Context, tx *sql.Tx, key string, took []Took, now int64) error {
	var text []byte
	err := tx.QueryRowContext(ctx, `select took from times where key = ?`, key).Scan(&text)
	var before []Took
	if err == nil {
		err = json.Unmarshal(text, &before)
	}
	if err != nil && err != sql.ErrNoRows {
		return err
	}
	all := slices.Concat(before, took)
	if text, err = json.Marshal(all[max(0, len(all)-keptTook):]); err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `insert or replace into times (key, took, used) values (?,?,?)`, key, text, now)
	return err
}

// Times gives how long things took, by their kind, the newest last.
func (l *Ledger) Times(ctx context.Context) (map[string][]Took, error) {
	type row struct {
		key  string
		took []Took
	}
	rows, err := query(ctx, l, func(rows *sql.Rows) (row, error) {
		var one row
		var text []byte
		if err := rows.Scan(&one.key, &text); err != nil {
			return one, err
		}
		return one, json.Unmarshal(text, &one.took)
	}, `select key, took from times`)
	if err != nil {
		return nil, err
	}
	times := map[string][]Took{}
	for _, one := range rows {
		times[one.key] = one.took
	}
	return times, nil
}

// Picture gives what a run that has ended looked like, or an error that is
// [ErrNoRun].
func (l *Ledger) Picture(ctx context.Context, lab string, n int) ([]byte, error) {
	found, err := query(ctx, l, func(rows *sql.Rows) ([]byte, error) {
		var content []byte
		return content, rows.Scan(&content)
	}, `select content from pictures where lab = ? and n = ?`, lab, n)
	if err == nil && len(found) == 0 {
		err = fmt.Errorf("%w: run %d of lab %s", ErrNoRun, n, lab)
	}
	if err != nil {
		return nil, err
	}
	return found[0], nil
}
