package store

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

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

// Which revisions are looked for: those that all of it holds for.
type Which struct {
	By           string    // user; empty: anybody
	Since, Until time.Time // half-open; zero: no bound
	Type, ID     string    // of a record that they changed; empty: any
	UpTo         uint64    // number of the last; 0: no bound
}

// Revisions lists the last of some revisions, newest first.
func (s *Store) Revisions(ctx context.Context, w Which, limit int) ([]Revision, error) {
	q := s.reader.WithContext(ctx).Order("number DESC").Limit(limit)
	if w.UpTo > 0 {
		q = q.Where("number <= ?", w.UpTo)
	}
	if w.By != "" {
		q = q.Where("by = ?", w.By)
	}
	if !w.Since.IsZero() {
		q = q.Where("at >= ?", w.Since.UTC())
	}
	if !w.Until.IsZero() {
		q = q.Where("at < ?", w.Until.UTC())
	}
	if w.Type != "" {
		q = q.Where("number IN (?)", s.reader.Model(&Change{}).Select("revision").Where("type = ? AND id = ?", w.Type, w.ID))
	}
	var out []Revision
	return out, q.Omit("answer").Find(&out).Error
}

// Changes reads back what a revision did to each record.
func (s *Store) Changes(ctx context.Context, revision uint64) ([]policy.RecordChange, error) {
	rows, err := changesOf(s.reader.WithContext(ctx), revision)
	if err != nil {
		return nil, err
	}
	out, err := ReadChanges(rows)
	if err != nil {
		err = fmt.Errorf("read revision %d: %w (%w)", revision, ErrDamaged, err)
	}
	return out, err
}

// Back reads what the revisions after one, up to another, did, newest first. Each is held against its chain, beginning with the one that is given: a row of
// history that was changed is [ErrDamaged], and answers nothing.
func (s *Store) Back(ctx context.Context, after uint64, from Revision) ([][]policy.RecordChange, error) {
	var list []Revision // newest first
	if err := s.reader.WithContext(ctx).Where("number >= ? AND number <= ?", after, from.Number).Order("number DESC").Omit("answer").Find(&list).Error; err != nil {
		return nil, err
	}
	rows, err := s.reader.WithContext(ctx).Model(&Change{}).Where("revision > ? AND revision <= ?", after, from.Number).Order("revision DESC, seq").Rows()
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out [][]policy.RecordChange
	did := map[uint64][]Change{}
	for rows.Next() {
		var c Change
		if err := s.reader.ScanRows(rows, &c); err != nil {
			return nil, err
		}
		done, err := c.read()
		if err != nil {
			return nil, fmt.Errorf("read revision %d: %w (%w)", c.Revision, ErrDamaged, err)
		}
		if len(did[c.Revision]) == 0 {
			out = append(out, nil)
		}
		did[c.Revision] = append(did[c.Revision], c)
		out[len(out)-1] = append(out[len(out)-1], done)
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	chain, number := from.Chain, from.Number
	for i := 0; number > after; i, number = i+1, number-1 {
		var before []byte
		if i+1 < len(list) {
			before = list[i+1].Chain
		}
		if i >= len(list) || list[i].Number != number || !bytes.Equal(list[i].Chain, chain) {
			return nil, fmt.Errorf("read revision %d: %w (it is not as it was written)", number, ErrDamaged)
		}
		if ok, err := list[i].Follows(before, did[number]); err != nil || !ok {
			return nil, errors.Join(err, fmt.Errorf("read revision %d: %w (it is not as it was written)", number, ErrDamaged))
		}
		chain = before
	}
	return out, nil
}

// RevisionAt is the last revision at an instant; its number is 0 where there was none yet.
func (s *Store) RevisionAt(ctx context.Context, at time.Time) (Revision, error) {
	var r Revision
	return r, s.reader.WithContext(ctx).Where("at <= ?", at.UTC()).Order("number DESC").Limit(1).Omit("answer").Find(&r).Error
}

// Touched is a record that a revision changed, and what it did to it.
type Touched struct {
	Type, ID    string
	Name        string // that it had then; empty: none
	Made, Ended bool   // it was added; it was removed
}

// Op is what the revision did to the record, in one word.
func (t *Touched) Op() string {
	switch {
	case t.Made:
		return "added"
	case t.Ended:
		return "removed"
	}
	return "changed"
}

// TouchedBy lists the first records that a revision changed, and tells how many there are, without reading what they were.
func (s *Store) TouchedBy(ctx context.Context, revision uint64, limit int) (first []Touched, all int, err error) {
	rows := s.reader.WithContext(ctx).Model(&Change{}).Where("revision = ?", revision)
	var count int64
	if err := rows.Count(&count).Error; err != nil {
		return nil, 0, err
	}
	err = rows.Select("type", "id", "coalesce(json_extract(coalesce(after, before), '$.name'), '') AS name", "before IS NULL AS made", "after IS NULL AS ended").Order("seq").Limit(limit).Find(&first).Error
	return first, int(count), err
}

// ReadChanges reads back what a revision did to each record, as it is written.
func ReadChanges(rows []Change) (_ []policy.RecordChange, err error) {
	out := make([]policy.RecordChange, len(rows))
	for i := range rows {
		if out[i], err = rows[i].read(); err != nil {
			return nil, fmt.Errorf("%s %s: %w", rows[i].Type, rows[i].ID, err)
		}
	}
	return out, nil
}

// read reads back what was done to a record.
func (c *Change) read() (policy.RecordChange, error) {
	before, err1 := readBody(c.Type, c.Before)
	after, err2 := readBody(c.Type, c.After)
	added, err3 := readEntryList(c.Added)
	dropped, err4 := readEntryList(c.Dropped)
	if err := errors.Join(err1, err2, err3, err4); err != nil || before == nil && after == nil {
		return policy.RecordChange{}, cmp.Or(err, errors.New("neither version of the record is there"))
	}
	return policy.Kept(before, after, added, dropped), nil
}

func readBody(typeName string, body *string) (policy.Record, error) {
	if body == nil {
		return nil, nil
	}
	r := record{Type: typeName, Body: *body}
	return r.decode()
}

func readEntryList(body *string) (out []policy.Entry, err error) {
	if body != nil {
		err = json.Unmarshal([]byte(*body), &out)
	}
	return out, err
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
