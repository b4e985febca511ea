package store

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"gorm.io/gorm"

	"sentier/internal/database"
	"sentier/internal/policy"
)

// Staged are the rows of a large change, laid ready in tables of the writer's own: saving it only moves them, so that others
// who write wait for that alone. A process that dies leaves nothing of them.
type Staged struct{ writing *writing }

func (s *Staged) rows() *writing {
	if s == nil {
		return nil
	}
	return s.writing
}

// ErrMoved is that a record that a change was worked out on is there no more.
var ErrMoved = errors.New("others have changed the same records")

const stagedTables = `
CREATE TEMP TABLE IF NOT EXISTS staged_changes (seq INTEGER PRIMARY KEY, type TEXT, id TEXT, before TEXT, after TEXT, added TEXT, dropped TEXT);
CREATE TEMP TABLE IF NOT EXISTS staged_entries (type TEXT, id TEXT, of TEXT, entry TEXT, gone INTEGER);
DELETE FROM staged_changes;
DELETE FROM staged_entries;`

// Stage lays the rows of a change ready, some hundred at a time between what others write. Only one change can be staged: before is
// what was staged earlier for the same request (nil: nothing), whose rows are kept where they are those of this one. Whoever saves it
// makes sure that the records it changes are still those that it was worked out on; the error is [ErrMoved] where one is gone already.
// wrote is told how many rows are laid ready; nil: nobody is.
func (s *Store) Stage(ctx context.Context, done []policy.RecordChange, before *Staged, wrote func(n, of int)) (*Staged, error) {
	w, err := newWriting(done)
	if err != nil {
		return nil, err
	}
	err = s.reader.WithContext(ctx).Transaction(w.count)
	if errors.Is(err, errMissing) {
		return before, ErrMoved
	}
	if err != nil || before != nil && before.writing.same(w) {
		return &Staged{w}, err
	}
	if err := database.Full(w.stage(s.writer.WithContext(ctx), wrote)); err != nil {
		return nil, fmt.Errorf("lay a change ready: %w", err)
	}
	return &Staged{w}, nil
}

// Unstage lets what is staged go.
func (s *Store) Unstage(ctx context.Context) error {
	return s.writer.WithContext(ctx).Exec(stagedTables).Error
}

// same tells whether two changes write the same rows.
func (w *writing) same(o *writing) bool {
	equal := func(a, b *string) bool { return a == b || a != nil && b != nil && *a == *b }
	return slices.EqualFunc(w.changes, o.changes, func(a, b Change) bool {
		return a.Type == b.Type && a.ID == b.ID && equal(a.Before, b.Before) && equal(a.After, b.After) && equal(a.Added, b.Added) && equal(a.Dropped, b.Dropped)
	})
}

// stage writes the rows into tables of the connection's own, each statement by itself.
func (w *writing) stage(db *gorm.DB, wrote func(n, of int)) error {
	if err := db.Exec(stagedTables).Error; err != nil {
		return err
	}
	batch := counting(len(w.changes)+len(w.added)+len(w.dropped), wrote)
	const intoEntries = "INSERT INTO staged_entries (type, id, of, entry, gone) VALUES "
	return inOrder(
		func() error {
			return insert(db, "INSERT INTO staged_changes (seq, type, id, before, after, added, dropped) VALUES ", "", w.changes, batch, func(c *Change) []any {
				return []any{c.Seq, c.Type, c.ID, c.Before, c.After, c.Added, c.Dropped}
			})
		},
		func() error {
			return insert(db, intoEntries, "", w.added, batch, func(e *entry) []any { return []any{e.Type, e.ID, e.Of, e.Entry, 0} })
		},
		func() error {
			return insert(db, intoEntries, "", w.dropped, batch, func(e *entry) []any { return []any{e.Type, e.ID, e.Of, e.Entry, 1} })
		},
	)
}

// move writes a revision of the rows that are staged.
func (w *writing) move(tx *gorm.DB, r *Revision) error {
	moved := func(want int, what, query string, values ...any) func() error {
		return func() error {
			done := tx.Exec(query, values...)
			if done.Error == nil && done.RowsAffected != int64(want) {
				return fmt.Errorf("%w (%d %s are not there to be moved)", ErrDamaged, want-int(done.RowsAffected), what)
			}
			return done.Error
		}
	}
	return inOrder(
		func() error { return insertRevision(tx, r, func(int) {}) },
		moved(len(w.changes), "changes", "INSERT INTO changes (revision, seq, type, id, before, after, added, dropped) "+
			"SELECT ?, seq, type, id, before, after, added, dropped FROM staged_changes ORDER BY seq", r.Number),
		moved(len(w.records), "records", "INSERT INTO records (type, id, body) SELECT type, id, after FROM staged_changes "+
			"WHERE after IS NOT NULL AND before IS NOT after ORDER BY seq ON CONFLICT (type, id) DO UPDATE SET body = excluded.body"),
		moved(len(w.dropped), "entries", "DELETE FROM entries WHERE (type, id, of, entry) IN (SELECT type, id, of, entry FROM staged_entries WHERE gone = 1)"),
		moved(len(w.gone), "records", "DELETE FROM records WHERE (type, id) IN (SELECT type, id FROM staged_changes WHERE after IS NULL)"),
		moved(len(w.added), "entries", "INSERT INTO entries (type, id, of, entry) SELECT type, id, of, entry FROM staged_entries WHERE gone = 0 ORDER BY rowid"),
	)
}
