package store

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"runtime"

	"golang.org/x/sync/errgroup"
	"gorm.io/gorm"

	"sentier/internal/database"
	"sentier/internal/policy"
)

// reading is what was read of a database: the policy, the last revision, and the hash over the rows.
type reading struct {
	records []policy.Record
	policy  *policy.Policy // of a picture; nil: it is made of the records
	last    Revision
	sum     database.Sum
	of      uint64 // revision of the picture
}

// Load reads the policy as it is, and the last revision; its number is 0 where there is none yet.
func (s *Store) Load(ctx context.Context) (*policy.Policy, Revision, error) {
	r := s.loaded
	s.loaded = nil
	if r == nil {
		m, turn, _, err := database.ReadMark(filepath.Join(s.dir, HeadName)) // another process may have written meanwhile
		if err != nil {
			return nil, Revision{}, err
		}
		if s.head != nil {
			s.head.Again(m, turn)
		}
		if r, err = s.read(ctx); err != nil {
			return nil, Revision{}, fmt.Errorf("read the policy: %w", database.Damaged(err))
		}
		if r.last.State != nil && !bytes.Equal(r.sum.Bytes(), r.last.State) {
			return nil, r.last, fmt.Errorf("read the policy: %w (the records are not those that revision %d left)", ErrDamaged, r.last.Number)
		}
	}
	if r.policy != nil {
		return r.policy, r.last, nil
	}
	b := policy.NewBuilder(nil).Kept()
	for i, record := range r.records {
		b.Add(record)
		r.records[i] = nil // the policy keeps its own
	}
	p, err := b.Policy()
	if err != nil {
		return nil, r.last, fmt.Errorf("read the policy: %w (%w)", ErrDamaged, err)
	}
	return p, r.last, nil
}

// read reads the records and their long lists side by side: again, where somebody wrote between the beginnings of both.
func (s *Store) read(ctx context.Context) (*reading, error) {
	for {
		var records []policy.Record
		var entries *lists
		var first, second Revision
		var sums [2]database.Sum
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
			sums[0].Join(sums[1])
			return &reading{records: records, last: first, sum: sums[0]}, nil
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
func readRecords(tx *gorm.DB) ([]policy.Record, database.Sum, error) {
	rows, err := tx.Raw("SELECT type, id, body FROM records ORDER BY type, id").Rows()
	if err != nil {
		return nil, database.Sum{}, err
	}
	defer rows.Close()
	d := newDecoding()
	for rows.Next() {
		var r record
		if err := rows.Scan(&r.Type, &r.ID, &r.Body); err != nil {
			_, _, ended := d.end()
			return nil, database.Sum{}, errors.Join(err, ended)
		}
		d.add(r)
	}
	out, total, err := d.end()
	return out, total, errors.Join(rows.Err(), err)
}

// decoding reads the bodies of records, some thousand at a time and several at once.
type decoding struct {
	rows  []record
	parts []*part
	group errgroup.Group
}

type part struct {
	records []policy.Record
	sum     database.Sum
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
			p.sum.Add(rows[i].hash())
			r, err := rows[i].decode()
			if err != nil {
				return fmt.Errorf("%w (%w)", ErrDamaged, err)
			}
			p.records = append(p.records, r)
		}
		return nil
	})
}

// decode reads a record that was kept.
func (r *record) decode() (policy.Record, error) {
	t, ok := policy.TypeNamed(r.Type)
	if !ok {
		return nil, fmt.Errorf("%q is no type of record", r.Type)
	}
	out := policy.New(t)
	return out, json.Unmarshal([]byte(r.Body), out)
}

// end puts what was decoded together, in the order in which it came.
func (d *decoding) end() ([]policy.Record, database.Sum, error) {
	d.decode()
	var total database.Sum
	if err := d.group.Wait(); err != nil {
		return nil, total, err
	}
	var out []policy.Record
	for _, p := range d.parts {
		out = append(out, p.records...)
		total.Join(p.sum)
	}
	return out, total, nil
}

// lists are the long lists of records, by the ids of those.
type lists struct {
	members map[string][]policy.Member
	devices map[string][]policy.DeviceID
}

func newLists() *lists { return &lists{map[string][]policy.Member{}, map[string][]policy.DeviceID{}} }

// plainEntry is an entry that is an id and nothing else, as most are.
func plainEntry(of string) string { return `"` + of + `"` }

// add reads an entry; one that is an id and nothing else needs no decoding.
func (l *lists) add(e *entry) error {
	plain := e.Entry == plainEntry(e.Of)
	switch {
	case e.Type == policy.DeviceGroups.String() && plain:
		l.devices[e.ID] = append(l.devices[e.ID], policy.DeviceID(e.Of))
	case plain:
		l.members[e.ID] = append(l.members[e.ID], policy.Member{User: policy.UserID(e.Of)})
	case e.Type == policy.DeviceGroups.String():
		return appendJSON(l.devices, e.ID, e.Entry)
	default:
		return appendJSON(l.members, e.ID, e.Entry)
	}
	return nil
}

func (l *lists) into(records []policy.Record) {
	for _, r := range records {
		switch r := r.(type) {
		case *policy.UserGroup:
			r.Members = l.members[r.Key()]
		case *policy.DeviceGroup:
			r.Devices = l.devices[r.Key()]
		}
	}
}

// readEntries reads the long lists by the ids of their records. Most entries are an id and nothing else, which needs no decoding.
func readEntries(tx *gorm.DB) (*lists, database.Sum, error) {
	out := newLists()
	var total database.Sum
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
		whole := entry{typ, id, of, plainEntry(of)}
		if body != nil {
			whole.Entry = *body
		}
		total.Add(whole.hash())
		if err := out.add(&whole); err != nil {
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
