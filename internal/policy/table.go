package policy

import (
	"cmp"
	"iter"
	"slices"
	"sort"
)

// chunkSize bounds the records that are copied when one of them changes.
const chunkSize = 256

// Table is an immutable set of records ordered by id. A changed table shares
// all chunks but the changed ones with the table it came from, so that a change
// to one record of a million costs microseconds.
type Table struct {
	chunks [][]Record // none empty
	size   int
}

// Len counts the records.
func (t Table) Len() int { return t.size }

// chunkOf finds the only chunk that can hold key.
func (t Table) chunkOf(key string) int {
	i := sort.Search(len(t.chunks), func(i int) bool { return t.chunks[i][0].Key() > key })
	return max(i-1, 0)
}

// Get finds a record by its id.
func (t Table) Get(key string) (Record, bool) {
	if t.size == 0 {
		return nil, false
	}
	chunk := t.chunks[t.chunkOf(key)]
	i, ok := slices.BinarySearchFunc(chunk, key, func(r Record, k string) int { return cmp.Compare(r.Key(), k) })
	if !ok {
		return nil, false
	}
	return chunk[i], true
}

// After yields the records whose id is greater than key, in order.
func (t Table) After(key string) iter.Seq[Record] {
	return func(yield func(Record) bool) {
		if t.size == 0 {
			return
		}
		for c := t.chunkOf(key); c < len(t.chunks); c++ {
			for _, r := range t.chunks[c] {
				if r.Key() > key && !yield(r) {
					return
				}
			}
		}
	}
}

// All yields the records in order.
func (t Table) All() iter.Seq[Record] { return t.After("") }

// cursor is a place in a table.
type cursor struct {
	chunks [][]Record // from the one on in which it stands
	index  int        // in the first of them
}

// record is the record at the place, nil at the end.
func (c *cursor) record() Record {
	if len(c.chunks) == 0 {
		return nil
	}
	return c.chunks[0][c.index]
}

func (c *cursor) next() {
	if c.index++; c.index == len(c.chunks[0]) {
		c.chunks, c.index = c.chunks[1:], 0
	}
}

// skipShared moves two cursors over the chunks that both stand before.
func skipShared(a, b *cursor) {
	for a.index == 0 && b.index == 0 && len(a.chunks) > 0 && len(b.chunks) > 0 && &a.chunks[0][0] == &b.chunks[0][0] {
		a.chunks, b.chunks = a.chunks[1:], b.chunks[1:]
	}
}

// edit is one put (record) or removal (nil record) of a merge.
type edit struct {
	key    string
	record Record
}

// merge applies edits, sorted by key with no key twice.
func (t Table) merge(edits []edit) Table {
	if len(edits) == 0 {
		return t
	}
	out := make([][]Record, 0, len(t.chunks)+1+len(edits)/chunkSize)
	size := t.size
	next := 0 // chunks before next are in out
	for len(edits) > 0 {
		var old []Record
		n := len(edits)
		if len(t.chunks) > 0 {
			c := t.chunkOf(edits[0].key)
			out = append(out, t.chunks[next:c]...)
			old, next = t.chunks[c], c+1
			if next < len(t.chunks) {
				limit := t.chunks[next][0].Key()
				n = sort.Search(len(edits), func(i int) bool { return edits[i].key >= limit })
			}
		}
		merged := mergeChunk(old, edits[:n])
		size += len(merged) - len(old)
		edits = edits[n:]
		for len(merged) > 0 {
			k := len(merged)
			if k > chunkSize {
				k = min(chunkSize, (k+1)/2)
			}
			out = append(out, merged[:k:k])
			merged = merged[k:]
		}
	}
	if next < len(t.chunks) {
		out = append(out, t.chunks[next:]...)
	}
	return Table{out, size}
}

func mergeChunk(old []Record, edits []edit) []Record {
	merged := make([]Record, 0, len(old)+len(edits))
	for _, e := range edits {
		i := sort.Search(len(old), func(i int) bool { return old[i].Key() >= e.key })
		merged = append(merged, old[:i]...)
		old = old[i:]
		if len(old) > 0 && old[0].Key() == e.key {
			old = old[1:]
		}
		if e.record != nil {
			merged = append(merged, e.record)
		}
	}
	return append(merged, old...)
}

// Same tells whether two tables hold the same records, which neither has changed: quickly, as what both share is not looked at.
func (t Table) Same(o Table) bool {
	a, b := cursor{chunks: t.chunks}, cursor{chunks: o.chunks}
	for {
		skipShared(&a, &b)
		x, y := a.record(), b.record()
		if x == nil || y == nil || x != y {
			return x == y
		}
		a.next()
		b.next()
	}
}
