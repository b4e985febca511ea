package audit

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/binary"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"sync"

	"gorm.io/gorm"

	"sentier/internal/database"
)

// posting is by what entries are found: a day, and what they have on it.
type posting struct {
	day int64
	key string
}

// Keys of postings begin with what they are of.
const (
	ofUser   = "u "
	ofDevice = "d "
	ofBy     = "b " // of entries that are no decisions
	ofKind   = "k " // likewise
)

// postings are those of an entry.
func (e *Entry) postings(visit func(posting)) {
	day := dayOf(e.At)
	if e.User != "" {
		visit(posting{day, ofUser + e.User})
	}
	if e.Device != "" {
		visit(posting{day, ofDevice + e.Device})
	}
	if e.Kind != Decision {
		visit(posting{day, ofKind + string(e.Kind)})
		if e.By != "" {
			visit(posting{day, ofBy + e.By})
		}
	}
}

// Bounds of the index.
const (
	segmentEntries = 100_000 // entries that are put into the index at once: sorted, so that few of its pages are touched
	postedOnce     = 128     // rows of it that one transaction writes, so that no answer waits long
)

// recent are entries that are not in the index yet: blocks by posting, in memory.
type recent struct {
	mu      sync.RWMutex
	blocks  map[posting][]uint64
	entries int
	upTo    uint64 // the last of them
	most    int    // entries, before they are put into the index; 0: segmentEntries

	// What is being put into the index: it is found here until all of it is there.
	leaving map[posting][]uint64
	days    map[int64]span // with what is leaving, and what comes after it
	rows    []posting      // of it, in order, that are not written yet
	until   uint64
}

// add adds an entry of a block.
func (r *recent) add(e *Entry, block uint64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.blocks == nil {
		r.blocks = map[posting][]uint64{}
	}
	e.postings(func(p posting) {
		list := r.blocks[p]
		if len(list) == 0 || list[len(list)-1] != block {
			r.blocks[p] = append(list, block)
		}
	})
	r.entries++
	r.upTo = e.Seq
	if r.days == nil {
		r.days = map[int64]span{}
	}
	day := dayOf(e.At)
	of, ok := r.days[day]
	if !ok {
		of.first = e.Seq
	}
	of.last = e.Seq
	r.days[day] = of
}

// span is where the entries of a day lie, as far as they are not in the index.
type span struct{ first, last uint64 }

// spans are those of all days that have entries which are not in the index, or are on their way there.
func (r *recent) spans() map[int64]span {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return maps.Clone(r.days)
}

// of lists the blocks of a posting that are not in the index.
func (r *recent) of(p posting) []uint64 {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return slices.Concat(r.leaving[p], r.blocks[p])
}

// due tells whether there is something to be put into the index.
func (r *recent) due() bool {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return r.leaving != nil || r.entries >= cmp.Or(r.most, segmentEntries)
}

// next gives the next rows to be put into the index; done, where they are the last.
func (r *recent) next() (rows []posting, done bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.leaving == nil {
		r.leaving, r.until = r.blocks, r.upTo
		r.blocks, r.entries = nil, 0
		r.rows = make([]posting, 0, len(r.leaving))
		for p := range r.leaving {
			r.rows = append(r.rows, p)
		}
		slices.SortFunc(r.rows, func(a, b posting) int { return cmp.Or(cmp.Compare(a.day, b.day), cmp.Compare(a.key, b.key)) })
	}
	rows = r.rows[:min(len(r.rows), postedOnce)]
	return rows, len(r.rows) == len(rows)
}

// wrote says that rows are in the index; all, that everything is that was leaving.
func (r *recent) wrote(rows int, all bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.rows = r.rows[rows:]; all {
		r.leaving, r.rows = nil, nil
	}
}

const factIndexed = "indexed" // the last entry that is in the index

// post writes rows of the index; all, where they are the last of those that were due.
func (r *Record) post(tx *sql.Tx, rows []posting, all bool) error {
	for _, p := range rows {
		if _, err := tx.Stmt(r.posting).Exec(p.day, p.key, int64(r.recent.until), packed(r.recent.leaving[p])); err != nil {
			return err
		}
	}
	if !all {
		return nil
	}
	for day, of := range r.recent.spans() {
		_, err := tx.Exec("INSERT INTO audit_days (day, first, last) VALUES (?, ?, ?) ON CONFLICT (day) DO UPDATE SET first = min(first, excluded.first), last = max(last, excluded.last)", day, int64(of.first), int64(of.last))
		if err != nil {
			return err
		}
	}
	return setFact(tx, factIndexed, strconv.FormatUint(r.recent.until, 10))
}

// packed writes ascending numbers as their differences.
func packed(list []uint64) []byte {
	out := make([]byte, 0, 2*len(list)+8)
	last := uint64(0)
	for _, n := range list {
		out = binary.AppendUvarint(out, n-last)
		last = n
	}
	return out
}

func unpacked(data []byte) ([]uint64, error) {
	var out []uint64
	last := uint64(0)
	for len(data) > 0 {
		n, size := binary.Uvarint(data)
		if size <= 0 {
			return nil, &database.WrongError{What: "the index of the record", Problem: "cannot be read"}
		}
		last += n
		out, data = append(out, last), data[size:]
	}
	return out, nil
}

// indexedUpTo is the last entry that is in the index.
func indexedUpTo(tx *gorm.DB) (uint64, error) {
	text, err := fact(tx, factIndexed)
	if err != nil || text == "" {
		return 0, err
	}
	n, err := strconv.ParseUint(text, 10, 64)
	if err != nil {
		return 0, fmt.Errorf("read how far the index of the record goes: %w", err)
	}
	return n, nil
}

// loadRecent reads the entries that are not in the index, and takes away what of it was not finished.
func (r *Record) loadRecent(ctx context.Context) error {
	tx := r.writer.WithContext(ctx)
	indexed, err := indexedUpTo(tx)
	if err != nil {
		return err
	}
	if err := tx.Exec("DELETE FROM audit_postings WHERE up_to > ?", int64(indexed)).Error; err != nil {
		return database.Full(err)
	}
	return blocks(tx, indexed, 0, func(first uint64, body string) error {
		return ignoreLine(readBlock(first, body, func(e *Entry) error {
			if e.Seq > indexed {
				r.recent.add(e, first)
			}
			return nil
		}))
	})
}

// ignoreLine lets a line that cannot be read be: a verification names it.
func ignoreLine(err error) error {
	if err != nil && !isLine(err) {
		return err
	}
	return nil
}

// blocks calls visit with the blocks that have entries after one and before another, which is 0 for no bound, oldest first.
func blocks(tx *gorm.DB, after, before uint64, visit func(first uint64, body string) error) error {
	q, values := "SELECT first, body FROM audit_blocks WHERE last > ? ORDER BY first", []any{int64(after)}
	if after > 0 { // last follows first, so that the key leads there
		q, values = "SELECT first, body FROM audit_blocks WHERE first > ? AND last > ? ORDER BY first", []any{int64(after) - mostInBlock, int64(after)}
	}
	if before > 0 {
		q = q[:len(q)-len(" ORDER BY first")] + " AND first < ? ORDER BY first"
		values = append(values, int64(before))
	}
	rows, err := tx.Raw(q, values...).Rows()
	if err != nil {
		return database.Damaged(err)
	}
	defer rows.Close()
	for rows.Next() {
		var first int64
		var body string
		if err := rows.Scan(&first, &body); err != nil {
			return database.Damaged(err)
		}
		if err := visit(uint64(first), body); err != nil {
			return err
		}
	}
	return database.Damaged(rows.Err())
}

// postedIn lists the blocks of postings of one day, newest first, each once.
func (r *Record) postedIn(tx *gorm.DB, day int64, keys []string) ([]uint64, error) {
	var out []uint64
	for _, key := range keys {
		out = append(out, r.recent.of(posting{day, key})...)
		rows, err := tx.Raw("SELECT blocks FROM audit_postings WHERE day = ? AND key = ?", day, key).Rows()
		if err != nil {
			return nil, database.Damaged(err)
		}
		for rows.Next() {
			var data []byte
			if err := rows.Scan(&data); err != nil {
				rows.Close()
				return nil, database.Damaged(err)
			}
			list, err := unpacked(data)
			if err != nil {
				rows.Close()
				return nil, err
			}
			out = append(out, list...)
		}
		if err := rows.Close(); err != nil {
			return nil, err
		}
	}
	slices.SortFunc(out, func(a, b uint64) int { return cmp.Compare(b, a) })
	return slices.Compact(out), nil
}
