package audit

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"encoding/json"
	"fmt"
	"path/filepath"

	"gorm.io/gorm"

	"sentier/internal/database"
)

// Verified is what was found whole.
type Verified struct {
	Entries     uint64 // that were read back
	First, Last Entry
	Checkpoints int
	Marked      bool // a mark of the last acknowledged entry stands beside the file, and agrees
}

// Against is what a record is held against beside itself.
type Against struct {
	Checkpoints []Checkpoint      // that were kept elsewhere
	Key         ed25519.PublicKey // that signed them all; nil: the keys that the record names
}

// Verify reads the whole record back and makes its chain anew. The error is a [*database.WrongError] that names the first entry that is not
// as it was written, or is [database.ErrDamaged].
func (r *Record) Verify(ctx context.Context, against Against) (Verified, error) {
	var out Verified
	m, _, marked, err := database.ReadMark(filepath.Join(r.Dir, HeadName))
	if err != nil {
		return out, err
	}
	out.Marked = marked
	err = r.reader.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		kept, err := checkpoints(tx)
		if err != nil {
			return err
		}
		v := verifying{Verified: &out, against: against, left: append(kept, against.Checkpoints...), mark: m}
		out.Checkpoints = len(v.left)
		sortCheckpoints(v.left)
		if err := v.run(tx); err != nil {
			return err
		}
		return unmarked(tx, marked)
	})
	return out, err
}

// verifying is a verification on its way.
type verifying struct {
	*Verified
	against Against
	left    []Checkpoint // that lie ahead, in order
	mark    database.Mark
	before  tail
	base    tail
	closed  bool // an entry says that those up to the base were let go
	key     ed25519.PublicKey
	room    []byte
	index   *indexing
}

func (v *verifying) run(tx *gorm.DB) error {
	var err error
	if v.base, err = baseOf(tx); err != nil {
		return err
	}
	if v.index, err = newIndexing(tx, v.base.seq); err != nil {
		return err
	}
	v.before = v.base
	v.closed = v.base.seq == 0
	for len(v.left) > 0 && v.left[0].Entry <= v.base.seq { // of entries that were let go
		if err := v.left[0].check(v.against.Key); err != nil {
			return err
		}
		v.left = v.left[1:]
	}
	err = blocks(tx, v.base.seq, 0, func(first uint64, body string) error {
		err := readBlock(first, body, func(e *Entry) error {
			if err := v.entry(e); err != nil {
				return err
			}
			v.index.entry(e, first)
			return nil
		})
		if isLine(err) {
			err = &database.WrongError{What: EntryName(v.before.seq + 1), Problem: "is not as it was written"}
		}
		return err
	})
	if err != nil {
		return err
	}
	if err := v.ends(tx); err != nil {
		return err
	}
	switch {
	case v.mark.Number > v.before.seq:
		return cutError(v.before.seq, v.mark.Number)
	case len(v.left) > 0:
		if err := v.left[0].check(v.against.Key); err != nil {
			return err
		}
		return &database.WrongError{What: EntryName(v.before.seq + 1), Problem: fmt.Sprintf("is missing: a checkpoint of %s tells of entry %d, and the record ends before it", v.left[0].At.Format(timeForm), v.left[0].Entry)}
	case !v.closed:
		return &database.WrongError{What: EntryName(v.base.seq), Problem: "is missing, and those before it: no entry says that they were let go"}
	}
	return v.index.end(tx)
}

// ends looks at the last numbers of blocks, by which entries are found.
func (v *verifying) ends(tx *gorm.DB) error {
	var wrong []uint64
	err := tx.Raw("SELECT first FROM (SELECT first, last, lead(first) OVER (ORDER BY first) AS next FROM audit_blocks) WHERE last <> coalesce(next - 1, ?)", int64(v.before.seq)).Scan(&wrong).Error
	if err != nil || len(wrong) == 0 {
		return database.Damaged(err)
	}
	return &database.WrongError{What: "the block from " + EntryName(wrong[0]), Problem: "does not end where it was written to"}
}

// unmarked is that no mark stands beside a record that has had one.
func unmarked(tx *gorm.DB, marked bool) error {
	kept, err := fact(tx, factBeside)
	if err != nil || marked || kept == "" {
		return err
	}
	return &database.WrongError{What: HeadName, Problem: "is missing beside the audit log, so that nobody can tell whether its last entry is the last"}
}

// entry takes the next entry.
func (v *verifying) entry(e *Entry) error {
	if e.Seq != v.before.seq+1 {
		return &database.WrongError{What: EntryName(v.before.seq + 1), Problem: "is missing"}
	}
	var chain [32]byte
	chain, v.room = e.link(v.before.chain, v.room)
	if !bytes.Equal(chain[:], e.Chain) {
		return &database.WrongError{What: EntryName(e.Seq), Problem: "is not as it was written"}
	}
	if v.Entries == 0 {
		v.First = *e
	}
	v.Entries, v.Last, v.before = v.Entries+1, *e, tail{e.Seq, e.Chain}
	switch e.Kind {
	case Key:
		var said struct{ Key []byte }
		if err := json.Unmarshal(e.More, &said); err != nil || len(said.Key) != ed25519.PublicKeySize {
			return &database.WrongError{What: EntryName(e.Seq), Problem: "names no key"}
		}
		v.key = said.Key
	case Closing:
		var said closed
		if err := json.Unmarshal(e.More, &said); err != nil {
			return &database.WrongError{What: EntryName(e.Seq), Problem: "does not say what was let go"}
		}
		v.closed = v.closed || said.Entry == v.base.seq && bytes.Equal(said.Chain, v.base.chain)
	}
	if v.mark.Number == e.Seq && !bytes.Equal(v.mark.Chain[:], e.Chain) {
		return &database.WrongError{What: EntryName(e.Seq), Problem: "is another than the one that was acknowledged here"}
	}
	for len(v.left) > 0 && v.left[0].Entry == e.Seq {
		if err := v.checkpoint(v.left[0], e); err != nil {
			return err
		}
		v.left = v.left[1:]
	}
	return nil
}

func (v *verifying) checkpoint(c Checkpoint, e *Entry) error {
	if err := c.check(v.against.Key); err != nil {
		return err
	}
	if v.key != nil && !bytes.Equal(c.Key, v.key) {
		return &database.WrongError{What: "the checkpoint at " + EntryName(e.Seq), Problem: "is signed by another key than the record names"}
	}
	if !bytes.Equal(c.Chain, e.Chain) {
		return &database.WrongError{What: EntryName(e.Seq), Problem: fmt.Sprintf("is another than the checkpoint of %s has signed: it, or one before it, was written anew", c.At.Format(timeForm))}
	}
	return nil
}
