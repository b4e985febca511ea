package audit

import (
	"context"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"

	"sentier/internal/database"
)

// Facts of the record.
const (
	factBase  = "base" // the last entry that was let go, and its chain
	factChain = "base chain"
	factSent  = "sent to " // a place: the last entry that it has
)

func fact(tx *gorm.DB, name string) (string, error) {
	var list []string
	err := tx.Raw("SELECT value FROM audit_facts WHERE name = ?", name).Scan(&list).Error
	return append(list, "")[0], database.Damaged(err)
}

func setFact(tx *sql.Tx, name, value string) error {
	_, err := tx.Exec("INSERT INTO audit_facts (name, value) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET value = excluded.value", name, value)
	return err
}

// baseOf is the last entry that was let go.
func baseOf(tx *gorm.DB) (tail, error) {
	seq, err1 := fact(tx, factBase)
	chain, err2 := fact(tx, factChain)
	if err := errors.Join(err1, err2); err != nil || seq == "" {
		return tail{}, err
	}
	var t tail
	_, err := fmt.Sscan(seq, &t.seq)
	if err == nil {
		t.chain, err = hex.DecodeString(chain)
	}
	if err != nil {
		return t, &database.WrongError{What: "the beginning of the record", Problem: "cannot be read"}
	}
	return t, nil
}

// closed is what an entry of the kind Closing says: up to which entry those before were let go, and by which chain the rest goes on.
type closed struct {
	Entry uint64    `json:"entry"`
	Chain []byte    `json:"chain"`
	Older time.Time `json:"older_than"`
}

// goneOnce is how many rows one transaction takes away, so that no answer waits long.
const goneOnce = 500

// LetGo lets entries go that are older than an instant: whole days of them, from the first on. An entry is written before that says so, by
// which the chain can still be verified from there on.
func (r *Record) LetGo(ctx context.Context, older time.Time) error {
	tx := r.reader.WithContext(ctx)
	days, err := r.spans(tx)
	if err != nil {
		return err
	}
	var last uint64       // of the days that go
	stays := r.Last() + 1 // the first of those that stay, which may lie before it where a clock was put back
	for day, of := range days {
		if day < dayOf(older) {
			last = max(last, of.last)
		} else {
			stays = min(stays, of.first)
		}
	}
	if last = min(last, stays-1); last == 0 || last >= r.Last() {
		return nil
	}
	// Whole blocks go: the last that ends there or before.
	var end sql.NullInt64
	if err := database.Row(tx.Raw("SELECT max(last) FROM audit_blocks WHERE first <= ?1 AND last <= ?1", int64(last)), &end); err != nil {
		return database.Damaged(err)
	}
	if !end.Valid {
		return nil
	}
	e, err := entryAt(tx, uint64(end.Int64))
	if err != nil {
		return err
	}
	more, err := json.Marshal(closed{e.Seq, e.Chain, older.UTC()})
	if err != nil {
		return err
	}
	first := []Entry{{At: r.Clock(), Kind: Closing, Outcome: Done, Via: "service", More: more}}
	err = r.with(first, func(tx *sql.Tx) error {
		return errors.Join(setFact(tx, factBase, fmt.Sprint(e.Seq)), setFact(tx, factChain, hex.EncodeToString(e.Chain)))
	})
	if err != nil {
		return err
	}
	return r.clear(ctx, e.Seq)
}

// clear takes the rows up to an entry away.
func (r *Record) clear(ctx context.Context, upTo uint64) error {
	for more := true; more && ctx.Err() == nil; {
		err := r.with(nil, func(tx *sql.Tx) error {
			done, err := tx.Exec("DELETE FROM audit_blocks WHERE first IN (SELECT first FROM audit_blocks WHERE last <= ?1 AND first <= ?1 ORDER BY first LIMIT ?2)", int64(upTo), goneOnce)
			if err != nil {
				return err
			}
			n, err := done.RowsAffected()
			if more = n == goneOnce; more || err != nil {
				return err
			}
			for _, q := range []string{"DELETE FROM audit_days WHERE last <= ?", "DELETE FROM audit_postings WHERE up_to <= ?", "DELETE FROM audit_checkpoints WHERE seq <= ?"} {
				if _, err := tx.Exec(q, int64(upTo)); err != nil {
					return err
				}
			}
			_, err = tx.Exec("UPDATE audit_days SET first = ?1 + 1 WHERE first <= ?1", int64(upTo))
			return err
		})
		if err != nil {
			return err
		}
	}
	return ctx.Err()
}

// with writes entries, and does something in the same transaction.
func (r *Record) with(entries []Entry, more func(*sql.Tx) error) error {
	q := &request{entries: entries, more: more, done: make(chan error, 1)}
	r.queue <- q
	return <-q.done
}

// Times of the keeper.
const (
	signEvery  = time.Hour
	closeEvery = time.Hour
	keepEvery  = time.Minute
)

// Keep looks after the record until ctx ends: every hour it signs a checkpoint, where anything was written since, and lets entries go that are
// older than keep says; 0 keeps all.
func (r *Record) Keep(ctx context.Context, keep func() time.Duration) {
	if base, err := baseOf(r.reader.WithContext(ctx)); err != nil {
		if ctx.Err() == nil {
			r.Log.Error("the beginning of the record cannot be read", "error", err)
		}
	} else if err := r.clear(ctx, base.seq); err != nil && ctx.Err() == nil { // that a stop has left
		r.Log.Warn("old entries could not be taken away", "error", err)
	}
	var signed, closedAt time.Time
	var of uint64
	for {
		now := r.Clock()
		if last := r.Last(); last > 0 && last != of && now.Sub(signed).Abs() >= signEvery {
			if c, err := r.Sign(); err != nil {
				r.Log.Error("a checkpoint of the record could not be kept", "error", err)
			} else {
				of, signed = c.Entry, now
			}
		}
		if lasts := keep(); lasts > 0 && now.Sub(closedAt).Abs() >= closeEvery {
			if err := r.LetGo(ctx, now.Add(-lasts)); err != nil && ctx.Err() == nil {
				r.Log.Error("old entries could not be let go", "error", err)
			}
			closedAt = now
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(keepEvery):
		}
	}
}
