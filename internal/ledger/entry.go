package ledger

import (
	"context"
	"database/sql"
	"time"
)

// Kind says what sort of thing an [Entry] is about.
type Kind string

// The things that a lab makes on a workstation.
const (
	Folder  Kind = "folder"  // a folder on disk
	Layer   Kind = "layer"   // a layer of an image, shared among labs
	Anchor  Kind = "anchor"  // the process that holds the namespaces
	Bridge  Kind = "network" // a bridge inside the lab's namespaces
	Cgroup  Kind = "cgroup"  // control group directories
	NodeK   Kind = "node"    // a node: its disk, links and processes
	Forward Kind = "forward" // a listening port of the workstation
)

// EntryState says how far a thing has come.
type EntryState string

// The states of an entry, in the order in which it passes through them.
const (
	Intended EntryState = "intended"
	Made     EntryState = "made"
	Gone     EntryState = "gone"
)

// Entry is one thing that a lab made, or was about to make.
type Entry struct {
	Kind     Kind       `json:"kind"`
	Ref      string     `json:"ref"` // which one: a path, a name, an address
	Detail   string     `json:"detail,omitempty"`
	State    EntryState `json:"state"`
	Intended time.Time  `json:"intended"`
	Made     time.Time  `json:"made,omitzero"`
	Gone     time.Time  `json:"gone,omitzero"`
}

// NodesMade tells of which nodes entries say that they were made, and are not
// gone.
func NodesMade(entries []Entry) func(node string) bool {
	made := map[string]bool{}
	for _, e := range entries {
		made[e.Ref] = made[e.Ref] || e.Kind == NodeK && e.State == Made
	}
	return func(node string) bool { return made[node] }
}

// Intend records things that are about to be made. A thing that was gone is
// intended anew; one that is there stays as it is.
func (l *Ledger) Intend(ctx context.Context, lab string, entries ...Entry) error {
	return l.write(ctx, "intents", func(ctx context.Context, tx *sql.Tx) error {
		for _, e := range entries {
			_, err := tx.ExecContext(ctx, `insert into entries (lab, kind, ref, detail, state, intended) values (?,?,?,?,?,?)
				on conflict do update set detail = excluded.detail,
				intended = iif(state = ?, excluded.intended, intended), made = iif(state = ?, 0, made),
				state = iif(state = ?, excluded.state, state), gone = 0`,
				lab, e.Kind, e.Ref, e.Detail, Intended, l.now(), Gone, Gone, Gone)
			if err != nil {
				return err
			}
		}
		return nil
	})
}

// SetMade records that intended things are there now, with what is known of
// them only now.
func (l *Ledger) SetMade(ctx context.Context, lab string, entries ...Entry) error {
	return l.write(ctx, "what was made", func(ctx context.Context, tx *sql.Tx) error {
		for _, e := range entries {
			_, err := tx.ExecContext(ctx, `update entries set state = ?, made = ?, detail = iif(? = '', detail, ?) where lab = ? and kind = ? and ref = ?`,
				Made, l.now(), e.Detail, e.Detail, lab, e.Kind, e.Ref)
			if err != nil {
				return err
			}
		}
		return nil
	})
}

// SetGone records that things of one kind are no longer there.
func (l *Ledger) SetGone(ctx context.Context, lab string, kind Kind, refs ...string) error {
	return l.write(ctx, "what is gone", func(ctx context.Context, tx *sql.Tx) error {
		for _, ref := range refs {
			if _, err := tx.ExecContext(ctx, `update entries set state = ?, gone = ? where lab = ? and kind = ? and ref = ?`, Gone, l.now(), lab, kind, ref); err != nil {
				return err
			}
		}
		return nil
	})
}

// Entries lists what a lab made, in the order in which it was intended.
func (l *Ledger) Entries(ctx context.Context, lab string) ([]Entry, error) {
	return query(ctx, l, func(rows *sql.Rows) (Entry, error) {
		var e Entry
		var intended, made, gone int64
		err := rows.Scan(&e.Kind, &e.Ref, &e.Detail, &e.State, &intended, &made, &gone)
		e.Intended, e.Made, e.Gone = at(intended), at(made), at(gone)
		return e, err
	}, `select kind, ref, detail, state, intended, made, gone from entries where lab = ? order by intended, rowid`, lab)
}
