package store

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"sentier/internal/database"
)

// Every row beside the policy is accounted for: a hash over all rows of each table is kept, which each change updates by what it did. A row that was put in,
// changed or taken out by anything else than this program is found by it. The head of the whole, with the last revision, is also kept by the audit log, as
// the head of the audit log is kept here: an older copy of one of the two files does not fit the other.

// accountedVersion is the version of the schema from which on rows beside the policy are accounted for.
const accountedVersion = 16

// Facts that are kept of the files, and are no rows for others.
const (
	factSums    = "sums"           // JSON: by table, the hash over its rows in hexadecimal
	factRecord  = "audit log head" // JSON of a [RecordHead]
	factSeen    = "seen"           // the greatest instant that was seen, RFC 3339
	factPicture = "picture"        // the revision of the picture and the hash over its file
)

// ownFacts are not accounted for: each tells of all the others, or is held against the other file.
var ownFacts = []string{factPosition, factTrail, factSmall, factSums, factRecord, factSeen}

// Large are tables that can have as many rows as the policy: they are looked at once the service answers, and not before.
var large = []string{"origins", "origin_members", "source_runs", "source_contents", "preferences", "places"}

// unaccounted are columns that decide nothing, and change with each use.
var unaccounted = map[string][]string{"tokens": {"used_at"}}

// rowText is the expression by which a row is written for its hash.
func rowText(table, of string, columns []column, key bool) string {
	var parts []string
	for _, c := range columns {
		if !key || c.PK > 0 {
			at := of + quoted(c.Name)
			parts = append(parts, fmt.Sprintf("'%s', json_array(typeof(%s), CASE typeof(%s) WHEN 'blob' THEN hex(%s) ELSE coalesce(CAST(%s AS TEXT), '') END)", c.Name, at, at, at, at))
		}
	}
	return "json_object(" + strings.Join(parts, ", ") + ")"
}

// accounted are the columns of a table that are accounted for.
func accounted(table string, columns []column) []column {
	return slices.DeleteFunc(slices.Clone(columns), func(c column) bool { return slices.Contains(unaccounted[table], c.Name) })
}

type sums map[string]database.Sum

func readSums(tx *gorm.DB) (sums, error) {
	var list []string
	if err := tx.Raw("SELECT value FROM facts WHERE name = ?", factSums).Scan(&list).Error; err != nil || len(list) == 0 {
		return nil, err
	}
	var texts map[string]string
	if err := json.Unmarshal([]byte(list[0]), &texts); err != nil {
		return nil, fmt.Errorf("%w (the hashes over the rows beside the policy cannot be read)", ErrDamaged)
	}
	out := sums{}
	for table, text := range texts {
		b, err := hex.DecodeString(text)
		if err != nil || len(b) != sha256.Size {
			return nil, fmt.Errorf("%w (the hash over the rows of %s cannot be read)", ErrDamaged, table)
		}
		out[table] = database.SumOf(b)
	}
	return out, nil
}

func (s sums) write(tx *gorm.DB) error {
	texts := map[string]string{}
	for table, sum := range s {
		texts[table] = hex.EncodeToString(sum.Bytes())
	}
	text, err := json.Marshal(texts)
	if err != nil {
		return err
	}
	return setOwnFact(tx, factSums, string(text))
}

// account updates the hashes by what a transaction that was watched has done.
func account(tx *gorm.DB) error {
	var list []struct {
		Tab string
		Is  *string
		Was *string
	}
	if err := tx.Raw("SELECT tab, isrow AS \"is\", was FROM moved ORDER BY seq").Scan(&list).Error; err != nil || len(list) == 0 {
		return err
	}
	now, err := readSums(tx)
	if err != nil {
		return err
	}
	if now == nil {
		now = sums{}
	}
	for _, m := range list {
		sum := now[m.Tab]
		if m.Was != nil {
			sum.Take(database.RowHash("beside", m.Tab, *m.Was))
		}
		if m.Is != nil {
			sum.Add(database.RowHash("beside", m.Tab, *m.Is))
		}
		now[m.Tab] = sum
	}
	return now.write(tx)
}

// tableSum is the hash over the rows of a table as they stand.
func tableSum(tx *gorm.DB, table string) (out database.Sum, err error) {
	columns, err := columnsOf(tx, table)
	if err != nil {
		return out, err
	}
	query := "SELECT " + rowText(table, "", accounted(table, columns), false) + " FROM " + table
	if table == "facts" {
		query += " WHERE name NOT IN ('" + strings.Join(ownFacts, "', '") + "')"
	}
	err = eachRow(tx, query, func(row [4]string) { out.Add(database.RowHash("beside", table, row[0])) }, 1)
	return out, err
}

// accountAnew accounts for all rows as they stand: for a folder of an earlier version, and where whoever holds the files has said that they count.
func accountAnew(tx *gorm.DB) error {
	out := sums{}
	for _, table := range Beside {
		sum, err := tableSum(tx, table)
		if err != nil {
			return err
		}
		out[table] = sum
	}
	return out.write(tx)
}

// UnaccountedError is that rows of a table are not those that were written.
type UnaccountedError struct{ Table string }

func (e *UnaccountedError) Error() string {
	return fmt.Sprintf("the rows of the table %s are not those that were written: something else than this program has put one in, changed one or taken one out. Put a good copy in its place; to go on with what is there, run “sentier recover”", e.Table)
}

// Is makes it an [ErrDamaged].
func (e *UnaccountedError) Is(target error) bool { return target == ErrDamaged }

// checkAccounted holds the rows of some tables against their hashes.
func checkAccounted(tx *gorm.DB, which func(table string) bool) error {
	kept, err := readSums(tx)
	if err != nil {
		return err
	}
	for _, table := range Beside {
		if !which(table) {
			continue
		}
		now, err := tableSum(tx, table)
		if err != nil {
			return database.Damaged(err)
		}
		if sum := kept[table]; kept == nil || !bytes.Equal(sum.Bytes(), now.Bytes()) {
			return &UnaccountedError{table}
		}
	}
	return nil
}

func isSmall(table string) bool { return !slices.Contains(large, table) }

// CheckAccounted looks at the large tables, which opening has left out.
func (s *Store) CheckAccounted(ctx context.Context) error {
	return s.reader.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		return checkAccounted(tx, func(table string) bool { return !isSmall(table) })
	})
}

// keepOwn makes a change of what this machine alone keeps, accounted for, and told to nobody.
func (s *Store) keepOwn(ctx context.Context, change func(tx *gorm.DB) error) error {
	return database.Full(s.writer.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := watch(tx); err != nil {
			return err
		}
		return errors.Join(change(tx), account(tx))
	}))
}

// Head is how far the database goes, as the audit log keeps it.
type Head struct {
	Number uint64 `json:"number"` // of the last revision
	Chain  []byte `json:"chain"`
	Small  uint64 `json:"small"` // changes beside the policy
	Sums   []byte `json:"sums"`  // hash over the hashes of all tables
}

// RecordHead is how far the audit log goes, as the database keeps it.
type RecordHead struct {
	Seq   uint64 `json:"seq"`
	Chain []byte `json:"chain"`
}

// HeadNow reads how far the database goes, as it is on the disk.
func (s *Store) HeadNow(ctx context.Context) (out Head, err error) {
	err = s.reader.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		out, err = headOf(tx)
		return err
	})
	return out, err
}

func headOf(tx *gorm.DB) (out Head, err error) {
	var last Revision
	if err := tx.Select("number", "chain").Order("number DESC").Limit(1).Find(&last).Error; err != nil {
		return out, err
	}
	out.Number, out.Chain = last.Number, last.Chain
	if out.Small, err = smallCount(tx); err != nil {
		return out, err
	}
	var text []string
	if err := tx.Raw("SELECT value FROM facts WHERE name = ?", factSums).Scan(&text).Error; err != nil {
		return out, err
	}
	if len(text) > 0 {
		sum := sha256.Sum256([]byte(text[0]))
		out.Sums = sum[:]
	}
	return out, nil
}

// Fits tells whether the database is the one that an audit log has kept the head of, or a later one of it; nil: it has kept none.
func (s *Store) Fits(ctx context.Context, kept *Head) error {
	if kept == nil {
		return nil
	}
	now, err := s.HeadNow(ctx)
	if err != nil {
		return err
	}
	older := func(what string) error {
		return fmt.Errorf("%w (%s: an older copy of %s lies here. Put the newer one back, with %s-wal and %s; to go on with this one, run “sentier recover”)", ErrDamaged, what, FileName, FileName, HeadName)
	}
	switch {
	case now.Number < kept.Number:
		return older(fmt.Sprintf("it ends at revision %d, and the audit log knows revision %d", now.Number, kept.Number))
	case now.Small < kept.Small:
		return older(fmt.Sprintf("it lacks %d changes of credentials, drafts or settings that the audit log knows of", kept.Small-now.Small))
	}
	if kept.Number > 0 {
		var of []Revision
		if err := s.reader.WithContext(ctx).Select("number", "chain").Where("number = ?", kept.Number).Find(&of).Error; err != nil {
			return err
		}
		if len(of) != 1 || !bytes.Equal(of[0].Chain, kept.Chain) {
			return fmt.Errorf("%w (revision %d is another than the one that the audit log knows: the two files are of different folders. Put back those that belong together; to go on with these, run “sentier recover”)", ErrDamaged, kept.Number)
		}
	}
	if now.Number == kept.Number && now.Small == kept.Small && len(kept.Sums) > 0 && !bytes.Equal(now.Sums, kept.Sums) {
		return fmt.Errorf("%w (the rows beside the policy are others than those that the audit log knows: put a good copy in its place; to go on with this one, run “sentier recover”)", ErrDamaged)
	}
	return nil
}

// Witness has the head of the audit log kept with every change: known gives what of it is on the disk.
func (s *Store) Witness(known func() RecordHead) { s.witness.Store(&known) }

// keepWitnessed keeps the head of the audit log with a change.
func (s *Store) keepWitnessed(tx *gorm.DB) error {
	known := s.witness.Load()
	if known == nil {
		return nil
	}
	head := (*known)()
	if head.Seq == 0 {
		return nil
	}
	text, err := json.Marshal(head)
	if err != nil {
		return err
	}
	return setOwnFact(tx, factRecord, string(text))
}

// RecordKept is the head of the audit log as the database keeps it; nil: it keeps none.
func (s *Store) RecordKept(ctx context.Context) (*RecordHead, error) {
	text, err := s.FactOf(ctx, factRecord)
	if err != nil || text == "" {
		return nil, err
	}
	var out RecordHead
	if err := json.Unmarshal([]byte(text), &out); err != nil {
		return nil, fmt.Errorf("%w (the head of the audit log cannot be read)", ErrDamaged)
	}
	return &out, nil
}

// Seen is the greatest instant that was seen here, and since when that counts.
type Seen struct {
	At       time.Time `json:"at"`
	Revision uint64    `json:"revision,omitempty"` // revisions up to this one say nothing of it: whoever holds the files said so
	Entry    uint64    `json:"entry,omitempty"`    // likewise, of the audit log
}

// Seen is the greatest instant that was seen here: that of the last revision, or one that was noted since.
func (s *Store) Seen(ctx context.Context) (out Seen, err error) {
	text, err := s.FactOf(ctx, factSeen)
	if err == nil && text != "" {
		if err = json.Unmarshal([]byte(text), &out); err != nil {
			err = fmt.Errorf("%w (the greatest instant that was seen cannot be read)", ErrDamaged)
		}
	}
	if err != nil {
		return out, err
	}
	var last Revision
	if err := s.reader.WithContext(ctx).Select("number", "at").Order("number DESC").Limit(1).Find(&last).Error; err != nil {
		return out, err
	}
	if last.Number > out.Revision && last.At.After(out.At) {
		out.At = last.At
	}
	return out, nil
}

// NoteSeen notes an instant that was seen.
func (s *Store) NoteSeen(ctx context.Context, seen Seen) error {
	text, err := json.Marshal(seen)
	if err != nil {
		return err
	}
	return database.Full(s.writer.WithContext(ctx).Transaction(func(tx *gorm.DB) error { return setOwnFact(tx, factSeen, string(text)) }))
}

// Accept makes what lies in a folder the truth, for whoever holds the files and has said so: its rows are accounted for as they are, its mark and what it
// keeps of the audit log are made anew.
func (s *Store) Accept(ctx context.Context, record RecordHead, at time.Time) error {
	s.saving.Lock()
	defer s.saving.Unlock()
	now, err := s.HeadNow(ctx)
	if err != nil {
		return err
	}
	known, err := json.Marshal(record)
	if err != nil {
		return err
	}
	seen, err := json.Marshal(Seen{at.UTC(), now.Number, record.Seq})
	if err != nil {
		return err
	}
	err = s.writer.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		return errors.Join(accountAnew(tx), setOwnFact(tx, factRecord, string(known)), setOwnFact(tx, factSeen, string(seen)))
	})
	if err != nil {
		return database.Full(err)
	}
	return s.head.Update(func(m *database.Mark) {
		m.Number, m.Small = now.Number, now.Small
		copy(m.Chain[:], now.Chain)
	})
}
