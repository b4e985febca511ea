package audit

import (
	"strconv"

	"gorm.io/gorm"

	"sentier/internal/database"
)

// indexing makes the index anew from the entries, segment by segment, to hold it against what is there. A segment whose first entries were let go
// is not held against anything: they are needed to make it.
type indexing struct {
	segments []uint64 // the last entry of each that lies ahead
	from     uint64   // the first entry of the first of them
	upTo     uint64   // the last entry that is in the index
	now      recent
	made     database.Sum
	days     map[int64]span // of the entries in the index
}

var errIndex = &database.WrongError{What: "the index of the record", Problem: "is not what its entries make it: by it some are not found, or others are"}

func newIndexing(tx *gorm.DB, base uint64) (*indexing, error) {
	upTo, err := indexedUpTo(tx)
	if err != nil {
		return nil, err
	}
	var ends []uint64
	if err := tx.Raw("SELECT DISTINCT up_to FROM audit_postings WHERE up_to <= ? ORDER BY up_to", int64(upTo)).Scan(&ends).Error; err != nil {
		return nil, database.Damaged(err)
	}
	for len(ends) > 0 && ends[0] <= base { // on their way out
		ends = ends[1:]
	}
	if upTo > base && (len(ends) == 0 || ends[len(ends)-1] != upTo) {
		return nil, errIndex
	}
	out := &indexing{segments: ends, from: base + 1, upTo: upTo, days: map[int64]span{}}
	if base > 0 && len(ends) > 0 {
		out.from, out.segments = ends[0]+1, ends[1:]
	}
	return out, nil
}

// entry takes the next entry, which lies in a block.
func (x *indexing) entry(e *Entry, block uint64) {
	if e.Seq <= x.upTo {
		day := dayOf(e.At)
		of, ok := x.days[day]
		if !ok {
			of.first = e.Seq
		}
		of.last = e.Seq
		x.days[day] = of
	}
	if e.Seq < x.from || len(x.segments) == 0 {
		return
	}
	x.now.add(e, block)
	if e.Seq < x.segments[0] {
		return
	}
	for p, blocks := range x.now.blocks {
		x.made.Add(postingHash(p.day, p.key, int64(x.segments[0]), packed(blocks)))
	}
	x.now, x.segments = recent{}, x.segments[1:]
}

// end holds what was made against what is there.
func (x *indexing) end(tx *gorm.DB) error {
	var there database.Sum
	rows, err := tx.Raw("SELECT day, key, up_to, blocks FROM audit_postings WHERE up_to >= ? AND up_to <= ?", int64(x.from), int64(x.upTo)).Rows()
	if err != nil {
		return database.Damaged(err)
	}
	defer rows.Close()
	for rows.Next() {
		var day, end int64
		var key string
		var blocks []byte
		if err := rows.Scan(&day, &key, &end, &blocks); err != nil {
			return database.Damaged(err)
		}
		there.Add(postingHash(day, key, end, blocks))
	}
	if err := rows.Err(); err != nil {
		return database.Damaged(err)
	}
	if len(x.segments) > 0 || there != x.made {
		return errIndex
	}
	var days []struct {
		Day         int64
		First, Last uint64
	}
	if err := tx.Raw("SELECT day, first, last FROM audit_days").Scan(&days).Error; err != nil {
		return database.Damaged(err)
	}
	for _, d := range days { // one that says more than there is costs time, and hides nothing
		if of, ok := x.days[d.Day]; ok && d.First <= of.first && d.Last >= of.last {
			delete(x.days, d.Day)
		}
	}
	if len(x.days) > 0 {
		return errIndex
	}
	return nil
}

func postingHash(day int64, key string, end int64, blocks []byte) [32]byte {
	return database.RowHash(strconv.FormatInt(day, 10), key, strconv.FormatInt(end, 10), string(blocks))
}
