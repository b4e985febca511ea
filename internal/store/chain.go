package store

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"hash"
	"time"

	"gorm.io/gorm"

	"sentier/internal/database"
)

// Forms of the chain. A revision says by which it was made, and is checked by that one for ever.
const (
	formJSON  = 1 // of databases from before form 2
	formBytes = 2
)

// link gives the hash that chains a revision to the one before, by the form that the revision says.
func link(before []byte, r *Revision, changes []Change) ([]byte, error) {
	if r.Form == formJSON {
		return linkJSON(before, r, changes)
	}
	l := newLinker(before, r, len(changes))
	for i := range changes {
		l.add(&changes[i])
	}
	return l.sum()
}

// Follows tells whether a revision is what its chain says: its own fields and its changes, after the revision whose chain is given.
func (r *Revision) Follows(before []byte, changes []Change) (bool, error) {
	chain, err := link(before, r, changes)
	return err == nil && bytes.Equal(chain, r.Chain), err
}

// linker makes the hash of a revision of form 2 from its changes, one after the other.
type linker struct {
	hash hash.Hash
	to   database.FieldWriter
}

func newLinker(before []byte, r *Revision, changes int) *linker {
	h := sha256.New()
	l := &linker{h, database.NewFieldWriter(h)}
	l.to.Text("sentier-chain/2")
	l.to.Bytes(before)
	l.to.Number(r.Number)
	l.to.Text(r.At.UTC().Truncate(time.Millisecond).Format("2006-01-02T15:04:05.000Z"))
	l.to.Text(r.By)
	l.to.Text(r.Via)
	l.to.Text(r.Note)
	l.to.Bytes(r.State)
	l.to.Number(uint64(changes))
	return l
}

func (l *linker) add(c *Change) {
	l.to.Text(c.Type)
	l.to.Text(c.ID)
	for _, part := range []*string{c.Before, c.After, c.Added, c.Dropped} {
		l.to.Maybe(part)
	}
}

func (l *linker) sum() ([]byte, error) {
	err := l.to.Flush()
	return l.hash.Sum(nil), err
}

// linkKept is [link] of a revision whose changes are read as they are kept: one of millions of records needs no room.
func linkKept(tx *gorm.DB, before []byte, r *Revision) ([]byte, error) {
	if r.Form == formJSON {
		changes, err := changesOf(tx, r.Number)
		if err != nil {
			return nil, database.Damaged(err)
		}
		return linkJSON(before, r, changes)
	}
	var count int
	if err := database.Row(tx.Raw("SELECT count(*) FROM changes WHERE revision = ?", r.Number), &count); err != nil {
		return nil, database.Damaged(err)
	}
	rows, err := tx.Raw("SELECT type, id, before, after, added, dropped FROM changes WHERE revision = ? ORDER BY seq", r.Number).Rows()
	if err != nil {
		return nil, database.Damaged(err)
	}
	defer rows.Close()
	l := newLinker(before, r, count)
	for rows.Next() {
		var c Change
		if err := rows.Scan(&c.Type, &c.ID, &c.Before, &c.After, &c.Added, &c.Dropped); err != nil {
			return nil, database.Damaged(err)
		}
		l.add(&c)
	}
	if err := rows.Err(); err != nil {
		return nil, database.Damaged(err)
	}
	return l.sum()
}

// linkJSON is the first form, with the fields that it had.
func linkJSON(before []byte, r *Revision, changes []Change) ([]byte, error) {
	type change struct {
		Type    string  `json:"type"`
		ID      string  `json:"id"`
		Before  *string `json:"before"`
		After   *string `json:"after"`
		Added   *string `json:"added,omitempty"`
		Dropped *string `json:"dropped,omitempty"`
	}
	list := make([]change, len(changes))
	for i, c := range changes {
		list[i] = change{c.Type, c.ID, c.Before, c.After, c.Added, c.Dropped}
	}
	body, err := json.Marshal(struct {
		Before  []byte    `json:"before"`
		Number  uint64    `json:"number"`
		At      time.Time `json:"at"`
		By      string    `json:"by"`
		Via     string    `json:"via"`
		Note    string    `json:"note"`
		Changes []change  `json:"changes"`
	}{before, r.Number, r.At.UTC().Truncate(time.Millisecond), r.By, r.Via, r.Note, list})
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256(body)
	return sum[:], nil
}

func (r *record) hash() [sha256.Size]byte { return database.RowHash("record", r.Type, r.ID, r.Body) }
func (e *entry) hash() [sha256.Size]byte {
	return database.RowHash("entry", e.Type, e.ID, e.Of, e.Entry)
}

// present computes the hash over all records and entries as they stand.
func present(tx *gorm.DB) (database.Sum, error) {
	var out database.Sum
	err := eachRow(tx, "SELECT type, id, body FROM records", func(row [4]string) { out.Add(database.RowHash("record", row[0], row[1], row[2])) }, 3)
	if err == nil {
		err = eachRow(tx, "SELECT type, id, of, entry FROM entries", func(row [4]string) { out.Add(database.RowHash("entry", row[0], row[1], row[2], row[3])) }, 4)
	}
	return out, err
}

func eachRow(tx *gorm.DB, query string, visit func([4]string), columns int) error {
	rows, err := tx.Raw(query).Rows()
	if err != nil {
		return err
	}
	defer rows.Close()
	var row [4]string
	into := []any{&row[0], &row[1], &row[2], &row[3]}[:columns]
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return err
		}
		visit(row)
	}
	return rows.Err()
}

// checkChain reads the chain of the revisions from one on, whose predecessor has a chain, and names the first that is not
// what was written.
func checkChain(tx *gorm.DB, from uint64, before []byte, visit func(*Revision)) error {
	const page = 500
	for {
		var list []Revision
		if err := tx.Omit("answer").Where("number >= ?", from).Order("number").Limit(page).Find(&list).Error; err != nil {
			return database.Damaged(err)
		}
		for i := range list {
			r := &list[i]
			if r.Number != from {
				return &WrongError{What: revisionName(from), Problem: "is missing"}
			}
			want, err := linkKept(tx, before, r)
			if err != nil {
				return err
			}
			if string(want) != string(r.Chain) {
				return &WrongError{What: revisionName(r.Number), Problem: "is not as it was written"}
			}
			before, from = r.Chain, from+1
			if visit != nil {
				visit(r)
			}
		}
		if len(list) < page {
			return nil
		}
	}
}
