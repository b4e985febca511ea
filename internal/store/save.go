package store

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"gorm.io/gorm"

	"sentier/internal/database"
	"sentier/internal/policy"
)

// Saving is what goes on beside the writing of a revision.
type Saving struct {
	Wrote func(n, of int) // is told how many of the rows are written; nil: nobody is
	// Removed and Suspended are users whose credentials, or whose sessions, end with the revision.
	Removed, Suspended []string
	Agree              func() error // is asked when all is written and before it counts: where it gives an error, nothing was written
	Staged             *Staged      // the rows, where they were laid ready; nil: they are written now
	Brought            *Brought     // by a source; nil: it is of none
	Given              []Given      // to whom it gives something, as far as that is counted
	// Published is called at the last moment at which the revision can still be given up, with its changes as they are kept and what was done beside it, and
	// gives the place of both in the log: where it gives an error, nothing was written. nil: nobody is told.
	Published func(r *Revision, changes []Change, beside Done) (Position, error)

	// Committed is called once the revision counts, while its mark is written, and is waited for. nil: nothing is done meanwhile.
	Committed func()

	taken  *writing // the rows as another machine has kept them; nil: they are made here
	beside *Taken   // what that machine has done with it; nil: that is not known
}

// Append writes a revision with all that it did, in one transaction. The revision's number must follow the
// last one's. Its chain is filled in.
func (s *Store) Append(ctx context.Context, r *Revision, done []policy.RecordChange, how Saving) error {
	if err := s.save(ctx, r, done, how); err != nil {
		return fmt.Errorf("save revision %d: %w", r.Number, err)
	}
	return nil
}

func (s *Store) save(ctx context.Context, r *Revision, done []policy.RecordChange, how Saving) error {
	s.saving.Lock()
	defer s.saving.Unlock()
	defer s.writes.Since(time.Now())
	if err := s.Replaced(); err != nil {
		return err
	}
	if err := s.catchUp(ctx); err != nil {
		return err
	}
	if s.last.Number+1 != r.Number {
		return fmt.Errorf("revision %d cannot follow %d", r.Number, s.last.Number)
	}
	w := how.Staged.rows()
	if how.taken != nil {
		w = how.taken
	}
	if w == nil {
		var err error
		if w, err = newWriting(done); err != nil {
			return err
		}
	}
	r.Form = formBytes
	now := s.sum
	// The number is the key: where another process has saved one meanwhile, this one is refused.
	err := s.writer.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		beside := s.log.Load() != nil || how.beside != nil || !how.Brought.Empty() || len(how.Removed)+len(how.Suspended)+len(how.Given) > 0
		if beside {
			if err := watch(tx); err != nil {
				return err
			}
		}
		if err := w.count(tx); err != nil {
			return err
		}
		now.Join(w.sum)
		r.State = now.Bytes()
		var err error
		if r.Chain, err = link(s.last.Chain, r, w.changes); err != nil {
			return err
		}
		if how.Staged != nil {
			err = w.move(tx, r)
		} else {
			err = w.write(tx, r, how.Wrote)
		}
		if err != nil {
			return err
		}
		if err := forget(tx, how.Removed, how.Suspended, r.At); err != nil {
			return err
		}
		if err := how.Brought.write(tx); err != nil {
			return err
		}
		if err := keepGiven(tx, how.Given); err != nil {
			return err
		}
		if how.Agree != nil {
			if err := how.Agree(); err != nil {
				return err
			}
		}
		if err := how.beside.write(tx); err != nil {
			return err
		}
		if beside {
			if err := account(tx); err != nil {
				return err
			}
		}
		if err := s.keepWitnessed(tx); err != nil {
			return err
		}
		return s.publish(tx, r, w.changes, &how)
	})
	s.last, s.loaded = nil, nil
	if err != nil {
		return database.Full(err)
	}
	if how.Committed != nil { // two waits for the disk take as long as one
		var meanwhile sync.WaitGroup
		meanwhile.Go(how.Committed)
		defer meanwhile.Wait()
	}
	saved := *r
	saved.Answer = nil
	s.last, s.sum = &saved, now
	s.dirty.Add(int64(1 + len(w.changes)))
	var count uint64
	if how.beside != nil {
		if count, err = smallCount(s.writer.WithContext(ctx)); err != nil {
			return fmt.Errorf("%w: %w", ErrUnmarked, err)
		}
	}
	err = s.head.Update(func(m *database.Mark) {
		m.Number, m.Small = r.Number, max(m.Small, count)
		copy(m.Chain[:], r.Chain)
	})
	if err != nil {
		return fmt.Errorf("%w: %w", ErrUnmarked, err)
	}
	return nil
}

// publish tells a log of a revision, and of what was done beside it.
func (s *Store) publish(tx *gorm.DB, r *Revision, changes []Change, how *Saving) (err error) {
	var beside Done
	switch {
	case s.log.Load() != nil:
		beside, err = done(tx)
	case how.beside == nil && (!how.Brought.Empty() || len(how.Removed)+len(how.Suspended)+len(how.Given) > 0):
		err = alone(tx)
	}
	if err != nil || how.Published == nil {
		return err
	}
	at, err := how.Published(r, changes, beside)
	if err != nil {
		return err
	}
	return setPosition(tx, at)
}

// ErrUnmarked is the error of a revision that was written, but whose mark was not.
var ErrUnmarked = errors.New("the revision is written, but its mark is not")

// catchUp finds the last revision and the hash over all rows, where they are not known.
func (s *Store) catchUp(ctx context.Context) error {
	if s.last != nil {
		return nil
	}
	var last Revision
	if err := s.writer.WithContext(ctx).Omit("answer").Order("number DESC").Limit(1).Find(&last).Error; err != nil {
		return err
	}
	now, err := present(s.writer.WithContext(ctx))
	if err == nil && last.State != nil && !bytes.Equal(now.Bytes(), last.State) {
		err = fmt.Errorf("%w (the records are not those that revision %d left)", ErrDamaged, last.Number)
	}
	s.last, s.sum = &last, now
	if err != nil {
		s.last = nil
	}
	return err
}

// writing gathers the rows of a revision.
type writing struct {
	changes        []Change // their revision is that which is saved
	records        []record
	gone           []record
	added, dropped []entry
	touched        []record // that were there before, whose bodies are counted out
	counted        bool
	sum            database.Sum // what the revision adds to the hash over all rows
}

func newWriting(done []policy.RecordChange) (*writing, error) {
	w := &writing{}
	for i, c := range done {
		if err := w.change(i, c); err != nil {
			return nil, err
		}
	}
	return w, nil
}

// count finds what the revision adds to the hash over all rows: what is taken away is read as it stands.
func (w *writing) count(tx *gorm.DB) error {
	if w.counted {
		return nil
	}
	for left := w.touched; len(left) > 0; {
		n := 1
		for n < len(left) && n < batches[0] && left[n].Type == left[0].Type {
			n++
		}
		if err := w.countOut(tx, left[:n]); err != nil {
			return err
		}
		left = left[n:]
	}
	for i := range w.records {
		w.sum.Add(w.records[i].hash())
	}
	for i := range w.dropped {
		w.sum.Take(w.dropped[i].hash())
	}
	for i := range w.added {
		w.sum.Add(w.added[i].hash())
	}
	w.counted = true
	return nil
}

// countOut takes records of one type, as they stand, out of the hash.
func (w *writing) countOut(tx *gorm.DB, list []record) error {
	missing := make(map[string]bool, len(list))
	for _, r := range list {
		missing[r.ID] = true
	}
	var found []record
	if err := tx.Raw("SELECT type, id, body FROM records WHERE type = ? AND id IN ?", list[0].Type, slices.Collect(maps.Keys(missing))).Scan(&found).Error; err != nil {
		return err
	}
	for i := range found {
		w.sum.Take(found[i].hash())
		delete(missing, found[i].ID)
	}
	for id := range missing {
		return fmt.Errorf("%w (%s/%s is not there)", errMissing, list[0].Type, id)
	}
	return nil
}

// errMissing is that a record is not there that a change was worked out on.
var errMissing = fmt.Errorf("%w: a record is missing", ErrDamaged)

func (w *writing) change(seq int, c policy.RecordChange) error {
	r := c.Record()
	before, after := c.Written()
	row := Change{Seq: seq, Type: r.Type().String(), ID: r.Key(), Before: textOf(before), After: textOf(after)}
	come, gone := c.Entries()
	added, err := entries(r, come)
	if err != nil {
		return err
	}
	dropped, err := entries(r, gone)
	if err != nil {
		return err
	}
	row.Added, row.Dropped = jsonList(added), jsonList(dropped)
	w.add(row, added, dropped)
	return nil
}

// add adds the rows of a change.
func (w *writing) add(row Change, added, dropped []entry) {
	w.changes = append(w.changes, row)
	w.added, w.dropped = append(w.added, added...), append(w.dropped, dropped...)
	if row.Before != nil && (row.After == nil || *row.Before != *row.After) {
		w.touched = append(w.touched, record{Type: row.Type, ID: row.ID})
	}
	switch {
	case row.After == nil:
		w.gone = append(w.gone, record{Type: row.Type, ID: row.ID})
	case row.Before == nil || *row.Before != *row.After:
		w.records = append(w.records, record{row.Type, row.ID, *row.After})
	}
}

func (w *writing) write(tx *gorm.DB, r *Revision, wrote func(n, of int)) error {
	batch := counting(1+len(w.changes)+len(w.records)+len(w.added), wrote)
	return inOrder(
		func() error { return insertRevision(tx, r, batch) },
		func() error {
			return insert(tx, "INSERT INTO changes (revision, seq, type, id, before, after, added, dropped) VALUES ", "", w.changes, batch, func(c *Change) []any {
				return []any{r.Number, c.Seq, c.Type, c.ID, c.Before, c.After, c.Added, c.Dropped}
			})
		},
		func() error {
			return insert(tx, "INSERT INTO records (type, id, body) VALUES ", " ON CONFLICT (type, id) DO UPDATE SET body = excluded.body", w.records, batch,
				func(r *record) []any { return []any{r.Type, r.ID, r.Body} })
		},
		func() error {
			for _, e := range w.dropped {
				if err := one(tx.Delete(&e), e.Type, e.ID, e.Of); err != nil {
					return err
				}
			}
			return nil
		},
		func() error {
			for _, g := range w.gone {
				if err := one(tx.Delete(&g), g.Type, g.ID); err != nil {
					return err
				}
			}
			return nil
		},
		func() error {
			return insert(tx, "INSERT INTO entries (type, id, of, entry) VALUES ", "", w.added, batch, func(e *entry) []any { return []any{e.Type, e.ID, e.Of, e.Entry} })
		},
	)
}

// counting tells how many of all rows are written, as they are; nobody where wrote is nil.
func counting(all int, wrote func(n, of int)) func(n int) {
	rows := 0
	return func(n int) {
		if rows += n; wrote != nil {
			wrote(rows, all)
		}
	}
}

func inOrder(steps ...func() error) error {
	for _, step := range steps {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}

func insertRevision(tx *gorm.DB, r *Revision, wrote func(n int)) error {
	return insert(tx, "INSERT INTO revisions (number, at, by, via, note, chain, form, state, request_key, request_hash, answer) VALUES ", "", []*Revision{r}, wrote, func(r **Revision) []any {
		v := *r
		return []any{v.Number, v.At, v.By, v.Via, v.Note, v.Chain, v.Form, v.State, v.RequestKey, v.RequestHash, v.Answer}
	})
}

// one is the error of a removal that did not remove one row.
func one(done *gorm.DB, names ...string) error {
	if done.Error == nil && done.RowsAffected != 1 {
		return fmt.Errorf("%w (%s is not there to be removed)", ErrDamaged, strings.Join(names, "/"))
	}
	return done.Error
}

// batches are how many rows go into one statement: few sizes, so that few statements are prepared.
var batches = []int{250, 25, 1}

// insert writes rows without the reflection that takes most of the time of a large import.
func insert[T any](tx *gorm.DB, head, tail string, rows []T, wrote func(n int), columns func(*T) []any) error {
	var values []any
	for _, size := range batches {
		for len(rows) >= size {
			values = values[:0]
			for i := range size {
				values = append(values, columns(&rows[i])...)
			}
			one := "(?" + strings.Repeat(",?", len(values)/size-1) + ")"
			if err := tx.Exec(head+one+strings.Repeat(","+one, size-1)+tail, values...).Error; err != nil {
				return err
			}
			rows = rows[size:]
			wrote(size)
		}
	}
	return nil
}

// textOf is a written record as a column holds it.
func textOf(body json.RawMessage) *string {
	if body == nil {
		return nil
	}
	text := string(body)
	return &text
}

func entries(r policy.Record, list []policy.Entry) ([]entry, error) {
	var out []entry
	for _, e := range list {
		body, err := json.Marshal(e)
		if err != nil {
			return nil, fmt.Errorf("write %s of %s %s: %w", e.Value, r.Type().Noun(), r.Key(), err)
		}
		out = append(out, entry{r.Type().String(), r.Key(), e.Value, string(body)})
	}
	return out, nil
}

func jsonList(entries []entry) *string {
	if len(entries) == 0 {
		return nil
	}
	var out bytes.Buffer
	for i, e := range entries {
		if i == 0 {
			out.WriteByte('[')
		} else {
			out.WriteByte(',')
		}
		out.WriteString(e.Entry)
	}
	out.WriteByte(']')
	text := out.String()
	return &text
}
