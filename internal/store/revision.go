package store

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"runtime"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"
	"gorm.io/gorm"

	"sentier/internal/policy"
)

// Revision is a numbered state of the policy: who made it of the one before, when and how.
type Revision struct {
	Number uint64    `gorm:"primaryKey" json:"revision"`
	At     time.Time `json:"at"`
	By     string    `json:"by"`
	Via    string    `json:"via"`
	Note   string    `json:"note,omitempty"`
	Chain  []byte    `json:"-"`

	Form  int    `json:"-"` // by which Chain was made
	State []byte `json:"-"` // hash over all records and entries after it

	RequestKey  *string `json:"-"` // the Idempotency-Key of the request that made it
	RequestHash []byte  `json:"-"` // of what that request asked for
	Answer      []byte  `json:"-"` // that it was given
}

// Change is what a revision did to one record. Before and After hold the record without its long
// list, whose entries come and go in Added and Dropped.
type Change struct {
	Revision uint64  `gorm:"primaryKey" json:"-"`
	Seq      int     `gorm:"primaryKey" json:"-"`
	Type     string  `json:"type"`
	ID       string  `json:"id"`
	Before   *string `json:"before"`
	After    *string `json:"after"`
	Added    *string `json:"added,omitempty"`
	Dropped  *string `json:"dropped,omitempty"`
}

type record struct {
	Type string `gorm:"primaryKey"`
	ID   string `gorm:"primaryKey"`
	Body string
}

type entry struct {
	Type  string `gorm:"primaryKey"`
	ID    string `gorm:"primaryKey"`
	Of    string `gorm:"primaryKey"`
	Entry string `gorm:"primaryKey"`
}

// TableName is GORM's name for the table.
func (entry) TableName() string { return "entries" }

// Saving is what goes on beside the writing of a revision.
type Saving struct {
	Wrote func(n, of int) // is told how many of the rows are written; nil: nobody is
	// Removed and Suspended are users whose credentials, or whose sessions, end with the revision.
	Removed, Suspended []string
	Agree              func() error // is asked when all is written and before it counts: where it gives an error, nothing was written
}

// Save writes a revision with all that it did, in one transaction. The revision's number must follow the
// last one's. Its chain is filled in.
func (s *Store) Save(ctx context.Context, r *Revision, done []policy.RecordChange, how Saving) error {
	if err := s.save(ctx, r, done, how); err != nil {
		return fmt.Errorf("save revision %d: %w", r.Number, err)
	}
	return nil
}

func (s *Store) save(ctx context.Context, r *Revision, done []policy.RecordChange, how Saving) error {
	s.saving.Lock()
	defer s.saving.Unlock()
	if err := s.Replaced(); err != nil {
		return err
	}
	if err := s.catchUp(ctx); err != nil {
		return err
	}
	if s.last.Number+1 != r.Number {
		return fmt.Errorf("revision %d cannot follow %d", r.Number, s.last.Number)
	}
	w := &writing{revision: r.Number, sum: s.sum}
	for i, c := range done {
		if err := w.change(i, c); err != nil {
			return err
		}
	}
	r.Form = formBytes
	// The number is the key: where another process has saved one meanwhile, this one is refused.
	err := s.writer.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := w.count(tx); err != nil {
			return err
		}
		r.State = w.sum.bytes()
		var err error
		if r.Chain, err = link(s.last.Chain, r, w.changes); err != nil {
			return err
		}
		if err := w.write(tx, r, how.Wrote); err != nil {
			return err
		}
		if err := forget(tx, how.Removed, how.Suspended, r.At); err != nil {
			return err
		}
		if how.Agree != nil {
			return how.Agree()
		}
		return nil
	})
	if s.last = nil; err != nil {
		return full(err)
	}
	saved := *r
	saved.Answer = nil
	s.last, s.sum = &saved, w.sum
	s.dirty.Add(int64(1 + len(w.changes)))
	err = s.head.update(func(m *mark) {
		m.number = r.Number
		copy(m.chain[:], r.Chain)
	})
	if err != nil {
		return fmt.Errorf("%w: %w", ErrUnmarked, err)
	}
	return nil
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
	if err == nil && last.State != nil && !bytes.Equal(now.bytes(), last.State) {
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
	revision       uint64
	changes        []Change
	records        []record
	gone           []record
	added, dropped []entry
	touched        []record // that were there before, whose bodies are counted out
	sum            sum
}

// count keeps the hash over all rows up to date: what is taken away is read as it stands.
func (w *writing) count(tx *gorm.DB) error {
	for i := range w.touched {
		old := &w.touched[i]
		if err := tx.Raw("SELECT body FROM records WHERE type = ? AND id = ?", old.Type, old.ID).Row().Scan(&old.Body); err != nil {
			return fmt.Errorf("read %s/%s: %w", old.Type, old.ID, err)
		}
		w.sum.take(old.hash())
	}
	for i := range w.records {
		w.sum.add(w.records[i].hash())
	}
	for i := range w.dropped {
		w.sum.take(w.dropped[i].hash())
	}
	for i := range w.added {
		w.sum.add(w.added[i].hash())
	}
	return nil
}

func (w *writing) change(seq int, c policy.RecordChange) error {
	r := c.Record()
	row := Change{Revision: w.revision, Seq: seq, Type: r.Type().String(), ID: r.Key()}
	var err error
	if row.Before, err = short(c.Before); err != nil {
		return err
	}
	if row.After, err = short(c.After); err != nil {
		return err
	}
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
	return nil
}

func (w *writing) write(tx *gorm.DB, r *Revision, wrote func(n, of int)) error {
	rows, all := 0, 1+len(w.changes)+len(w.records)+len(w.added)
	batch := func(n int) {
		if rows += n; wrote != nil {
			wrote(rows, all)
		}
	}
	steps := []func() error{
		func() error {
			return insert(tx, "INSERT INTO revisions (number, at, by, via, note, chain, form, state, request_key, request_hash, answer) VALUES ", "", []*Revision{r}, batch, func(r **Revision) []any {
				v := *r
				return []any{v.Number, v.At, v.By, v.Via, v.Note, v.Chain, v.Form, v.State, v.RequestKey, v.RequestHash, v.Answer}
			})
		},
		func() error {
			return insert(tx, "INSERT INTO changes (revision, seq, type, id, before, after, added, dropped) VALUES ", "", w.changes, batch, func(c *Change) []any {
				return []any{c.Revision, c.Seq, c.Type, c.ID, c.Before, c.After, c.Added, c.Dropped}
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
	}
	for _, step := range steps {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
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

// short writes a record as JSON without its long list.
func short(r policy.Record) (*string, error) {
	if r == nil {
		return nil, nil
	}
	body, err := json.Marshal(policy.Short(r))
	if err != nil {
		return nil, fmt.Errorf("write %s %s: %w", r.Type().Noun(), r.Key(), err)
	}
	text := string(body)
	return &text, nil
}

func entries(r policy.Record, list []policy.Entry) ([]entry, error) {
	var out []entry
	for _, e := range list {
		body, err := json.Marshal(e.Value)
		if err != nil {
			return nil, fmt.Errorf("write %s of %s %s: %w", e.Of, r.Type().Noun(), r.Key(), err)
		}
		out = append(out, entry{r.Type().String(), r.Key(), e.Of, string(body)})
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

// reading is what was read of a database: all records, the last revision, and the hash over the rows.
type reading struct {
	records *policy.Records
	last    Revision
	sum     sum
}

// Load reads the policy as it is, and the last revision; its number is 0 where there is none yet.
func (s *Store) Load(ctx context.Context) (*policy.Policy, Revision, error) {
	r := s.loaded
	s.loaded = nil
	if r == nil {
		m, turn, _, err := readMark(s.dir) // another process may have written meanwhile
		if err != nil {
			return nil, Revision{}, err
		}
		if s.head != nil {
			s.head.again(m, turn)
		}
		if r, err = s.read(ctx); err != nil {
			return nil, Revision{}, fmt.Errorf("read the policy: %w", damaged(err))
		}
		if r.last.State != nil && !bytes.Equal(r.sum.bytes(), r.last.State) {
			return nil, r.last, fmt.Errorf("read the policy: %w (the records are not those that revision %d left)", ErrDamaged, r.last.Number)
		}
	}
	p, err := policy.FromRecords(r.records)
	if err != nil {
		return nil, r.last, fmt.Errorf("read the policy: %w (%w)", ErrDamaged, err)
	}
	return p, r.last, nil
}

// read reads the records and their long lists side by side: again, where somebody wrote between the beginnings of both.
func (s *Store) read(ctx context.Context) (*reading, error) {
	for {
		var records *policy.Records
		var entries *lists
		var first, second Revision
		var sums [2]sum
		var both errgroup.Group
		both.Go(func() error {
			return s.atRevision(ctx, &first, func(tx *gorm.DB) (err error) {
				entries, sums[0], err = readEntries(tx)
				return err
			})
		})
		both.Go(func() error {
			return s.atRevision(ctx, &second, func(tx *gorm.DB) (err error) {
				records, sums[1], err = readRecords(tx)
				return err
			})
		})
		if err := both.Wait(); err != nil {
			return nil, err
		}
		if first.Number == second.Number {
			entries.into(records)
			sums[0].join(sums[1])
			return &reading{records, first, sums[0]}, nil
		}
	}
}

// atRevision reads in one transaction, and tells at which revision.
func (s *Store) atRevision(ctx context.Context, last *Revision, read func(tx *gorm.DB) error) error {
	return s.reader.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Omit("answer").Order("number DESC").Limit(1).Find(last).Error; err != nil {
			return err
		}
		return read(tx)
	})
}

// chunk is how many rows are decoded at a time, beside the reading of those after them.
const chunk = 2000

// readRecords reads all records, without their long lists.
func readRecords(tx *gorm.DB) (*policy.Records, sum, error) {
	rows, err := tx.Raw("SELECT type, id, body FROM records ORDER BY type, id").Rows()
	if err != nil {
		return nil, sum{}, err
	}
	defer rows.Close()
	d, into := newDecoding(), &policy.Records{}
	for rows.Next() {
		var r record
		if err := rows.Scan(&r.Type, &r.ID, &r.Body); err != nil {
			_, ended := d.end(into)
			return nil, sum{}, errors.Join(err, ended)
		}
		d.add(r)
	}
	total, err := d.end(into)
	return into, total, errors.Join(rows.Err(), err)
}

// decoding reads the bodies of records, some thousand at a time and several at once.
type decoding struct {
	rows  []record
	parts []*part
	group errgroup.Group
}

type part struct {
	records policy.Records
	sum     sum
}

func newDecoding() *decoding {
	d := &decoding{}
	d.group.SetLimit(runtime.GOMAXPROCS(0))
	return d
}

func (d *decoding) add(r record) {
	if d.rows = append(d.rows, r); len(d.rows) == chunk {
		d.decode()
	}
}

func (d *decoding) decode() {
	rows, p := d.rows, &part{}
	d.rows = nil
	d.parts = append(d.parts, p)
	d.group.Go(func() error {
		for i := range rows {
			p.sum.add(rows[i].hash())
			if err := p.records.AddJSON(rows[i].Type, []byte(rows[i].Body)); err != nil {
				return fmt.Errorf("%w (%w)", ErrDamaged, err)
			}
		}
		return nil
	})
}

// end puts what was decoded together, in the order in which it came.
func (d *decoding) end(into *policy.Records) (sum, error) {
	d.decode()
	var total sum
	if err := d.group.Wait(); err != nil {
		return total, err
	}
	all := make([]*policy.Records, len(d.parts))
	for i, p := range d.parts {
		all[i] = &p.records
		total.join(p.sum)
	}
	into.Append(all...)
	return total, nil
}

// lists are the long lists of records, by the ids of those.
type lists struct {
	members map[string][]policy.Member
	devices map[string][]policy.DeviceID
}

func (l *lists) into(records *policy.Records) {
	for i := range records.UserGroups {
		g := &records.UserGroups[i]
		g.Members = l.members[g.Key()]
	}
	for i := range records.DeviceGroups {
		g := &records.DeviceGroups[i]
		g.Devices = l.devices[g.Key()]
	}
}

// readEntries reads the long lists by the ids of their records. Most entries are an id and nothing else, which needs no decoding.
func readEntries(tx *gorm.DB) (*lists, sum, error) {
	out := &lists{map[string][]policy.Member{}, map[string][]policy.DeviceID{}}
	var total sum
	rows, err := tx.Raw(`SELECT type, id, of, CASE WHEN entry = '"' || of || '"' THEN NULL ELSE entry END FROM entries ORDER BY type, id, of, entry`).Rows()
	if err != nil {
		return nil, total, err
	}
	defer rows.Close()
	for rows.Next() {
		var typ, id, of string
		var body *string
		if err := rows.Scan(&typ, &id, &of, &body); err != nil {
			return nil, total, err
		}
		whole := entry{typ, id, of, `"` + of + `"`}
		if body != nil {
			whole.Entry = *body
		}
		total.add(whole.hash())
		switch {
		case typ == policy.DeviceGroups.String() && body == nil:
			out.devices[id] = append(out.devices[id], policy.DeviceID(of))
		case body == nil:
			out.members[id] = append(out.members[id], policy.Member{User: policy.UserID(of)})
		case typ == policy.DeviceGroups.String():
			err = appendJSON(out.devices, id, *body)
		default:
			err = appendJSON(out.members, id, *body)
		}
		if err != nil {
			return nil, total, err
		}
	}
	return out, total, rows.Err()
}

func appendJSON[T any](lists map[string][]T, id, body string) error {
	var v T
	if err := json.Unmarshal([]byte(body), &v); err != nil {
		return fmt.Errorf("%w (%w)", ErrDamaged, err)
	}
	lists[id] = append(lists[id], v)
	return nil
}

// LastRevision is the number of the last revision, 0 where there is none.
func (s *Store) LastRevision(ctx context.Context) (uint64, error) {
	var last Revision
	err := s.reader.WithContext(ctx).Order("number DESC").Limit(1).Find(&last).Error
	return last.Number, err
}

// RevisionOf finds the revision that a user's request with an Idempotency-Key made, or [ErrNotFound].
func (s *Store) RevisionOf(ctx context.Context, user, key string) (Revision, error) {
	var r Revision
	return r, found(s.reader.WithContext(ctx).Take(&r, "by = ? AND request_key = ?", user, key).Error)
}

// Revisions lists revisions with numbers below before (0: from the last), newest first.
func (s *Store) Revisions(ctx context.Context, before uint64, limit int) ([]Revision, error) {
	q := s.reader.WithContext(ctx).Order("number DESC").Limit(limit)
	if before > 0 {
		q = q.Where("number < ?", before)
	}
	var out []Revision
	return out, q.Omit("answer").Find(&out).Error
}

// Changes lists what a revision did.
func (s *Store) Changes(ctx context.Context, revision uint64) ([]Change, error) {
	return changesOf(s.reader.WithContext(ctx), revision)
}

func changesOf(tx *gorm.DB, revision uint64) ([]Change, error) {
	var out []Change
	return out, tx.Where("revision = ?", revision).Order("seq").Find(&out).Error
}

// LaterChange is the first revision after one that changed a record, 0 where none did.
func (s *Store) LaterChange(ctx context.Context, typeName, id string, after uint64) (uint64, error) {
	var out []uint64
	err := s.reader.WithContext(ctx).Model(&Change{}).Where("type = ? AND id = ? AND revision > ?", typeName, id, after).Order("revision").Limit(1).Pluck("revision", &out).Error
	return append(out, 0)[0], err
}
