// Package ledger is the durable record of everything that labs made on this
// workstation: what was to be made, written before it is made; what was made
// and is gone; runs and the results of their steps. It is one SQLite database
// that several processes may have open at once.
//
// A record is safe against the death of any process at any moment. Against a
// loss of power the newest records may be missing, which is no harm: all that
// they tell of in the kernel is lost with them.
package ledger

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"sync"
	"time"

	_ "modernc.org/sqlite" // the database driver
)

// ErrNoLab says that the ledger has no living lab of that name.
var ErrNoLab = errors.New("no such lab")

// ErrNoRun says that the ledger has no picture of such a run.
var ErrNoRun = errors.New("no such run that has ended")

// Hook is called around each write, n counting from 1 in this process, first
// with committed false and then, once the write is durable, with true. Tests
// use it to end the process there.
type Hook func(n int, committed bool)

// Options are what a ledger needs from outside.
type Options struct {
	Now  func() time.Time // required
	Hook Hook             // may be nil
}

// Ledger is an open database. All methods are safe for concurrent use.
type Ledger struct {
	db      *sql.DB
	options Options
	mu      sync.Mutex // one writer, so that the hook counts in order
	writes  int
}

const schema = `
create table if not exists labs (
  name text primary key, id text not null, file text not null, folder text not null,
  state text not null, plan blob, source blob, before blob, created integer not null
) strict;
create table if not exists entries (
  lab text not null, kind text not null, ref text not null, detail text not null default '',
  state text not null, intended integer not null, made integer not null default 0, gone integer not null default 0,
  primary key (lab, kind, ref)
) strict;
create table if not exists runs (
  lab text not null, n integer not null, started integer not null, ended integer not null default 0,
  outcome text not null default '', primary key (lab, n)
) strict;
create table if not exists cells (
  lab text not null, step text not null, node text not null, run integer not null, identity text not null,
  state text not null, started integer not null default 0, ended integer not null default 0,
  exit integer not null default 0, reason text not null default '', primary key (lab, step, node)
) strict;
create table if not exists vals (
  lab text not null, name text not null, secret integer not null, text blob not null, primary key (lab, name)
) strict;
create table if not exists wishes (
  lab text not null, n integer not null, content blob not null, primary key (lab, n)
) strict;
create table if not exists pictures (
  lab text not null, n integer not null, content blob not null, primary key (lab, n)
) strict;
create table if not exists times (
  key text primary key, took blob not null, used integer not null
) strict;
`

// Open opens the database at path and makes it where there is none. Its
// folder must exist.
func Open(path string, options Options) (*Ledger, error) {
	query := url.Values{"_pragma": {"busy_timeout(15000)", "journal_mode(wal)", "synchronous(normal)", "cache_size(-512)"}, "_txlock": {"immediate"}}
	db, err := sql.Open("sqlite", "file:"+(&url.URL{Path: path}).EscapedPath()+"?"+query.Encode())
	if err != nil {
		return nil, fmt.Errorf("opening ledger %q: %w", path, err)
	}
	db.SetMaxOpenConns(1)
	if _, err := db.Exec(schema); err != nil {
		return nil, errors.Join(fmt.Errorf("opening ledger %q: %w", path, err), db.Close())
	}
	return &Ledger{db: db, options: options}, nil
}

// Close ends the use of the database.
func (l *Ledger) Close() error { return l.db.Close() }

// write runs do in one transaction.
func (l *Ledger) write(ctx context.Context, what string, do func(ctx context.Context, tx *sql.Tx) error) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.writes++
	if l.options.Hook != nil {
		l.options.Hook(l.writes, false)
	}
	// A record of what has just happened must not be lost because the one who
	// wanted it has gone away.
	ctx = context.WithoutCancel(ctx)
	tx, err := l.db.BeginTx(ctx, nil)
	if err != nil {
		return fmt.Errorf("recording %s: %w", what, err)
	}
	if err := do(ctx, tx); err != nil {
		return errors.Join(fmt.Errorf("recording %s: %w", what, err), tx.Rollback())
	}
	if err := tx.Commit(); err != nil {
		return fmt.Errorf("recording %s: %w", what, err)
	}
	if l.options.Hook != nil {
		l.options.Hook(l.writes, true)
	}
	return nil
}

func (l *Ledger) now() int64 { return l.options.Now().UnixNano() }

func at(nanoseconds int64) time.Time {
	if nanoseconds == 0 {
		return time.Time{}
	}
	return time.Unix(0, nanoseconds)
}

// query collects the rows that scan reads.
func query[T any](ctx context.Context, l *Ledger, scan func(rows *sql.Rows) (T, error), text string, args ...any) (all []T, err error) {
	rows, err := l.db.QueryContext(ctx, text, args...)
	if err != nil {
		return nil, fmt.Errorf("reading ledger: %w", err)
	}
	defer func() { err = errors.Join(err, rows.Close()) }()
	for rows.Next() {
		one, err := scan(rows)
		if err != nil {
			return nil, fmt.Errorf("reading ledger: %w", err)
		}
		all = append(all, one)
	}
	return all, rows.Err()
}
