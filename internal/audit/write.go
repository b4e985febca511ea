package audit

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"sync"
	"time"

	"sentier/internal/database"
)

// Bounds of the writer.
const (
	mostQueued  = 1024        // requests that wait
	mostAtOnce  = 4096        // entries that are written in one transaction, where that many wait
	mostBacklog = 10_000      // entries that are held for a disk that has no room
	againAfter  = time.Second // they are tried
)

// request is entries that are written together, and whoever waits for them.
type request struct {
	entries []Entry
	first   uint64 // entry that the first of them became
	done    chan error
	more    func(tx *sql.Tx) error // is done in the same transaction, after the entries; nil: nothing
	after   func(tail) []Entry     // gives the entries, once the end of the chain is known; nil: they are given
}

var requests = sync.Pool{New: func() any { return &request{done: make(chan error, 1)} }}

// Add writes entries, and returns once they cannot be lost any more: whoever was answered is in the record. The error is
// [database.ErrFull] where the disk has no room; nothing was written then.
func (r *Record) Add(entries ...Entry) error {
	q := requests.Get().(*request)
	q.entries, q.more, q.after = entries, nil, nil
	r.queue <- q
	err := <-q.done
	q.entries = nil
	requests.Put(q)
	return err
}

// Note writes an entry of what was done already, and cannot be taken back: where the disk has no room it is held until there is some, and
// told in the log.
func (r *Record) Note(e Entry) {
	if err := r.Add(e); err != nil {
		r.hold(e, err)
	}
}

// write is the one goroutine that writes. What waits is written together.
func (r *Record) write() {
	defer close(r.written)
	again := time.NewTicker(againAfter)
	defer again.Stop()
	var batch []*request
	for {
		batch = batch[:0]
		select {
		case q, ok := <-r.queue:
			if !ok {
				r.writeHeld()
				return
			}
			batch = append(batch, q)
		case <-again.C:
			r.writeHeld()
			continue
		}
		n := len(batch[0].entries)
	more:
		for n < mostAtOnce {
			select {
			case q, ok := <-r.queue:
				if !ok {
					break more
				}
				batch = append(batch, q)
				n += len(q.entries)
			default:
				break more
			}
		}
		r.writeHeld()
		err := r.writeBatch(batch)
		for _, q := range batch {
			q.done <- err
		}
	}
}

// writeBatch writes requests in one transaction, with the room of the reserve where there is no other.
func (r *Record) writeBatch(batch []*request) error {
	next, err := r.try(batch)
	if errors.Is(err, database.ErrFull) && r.Room != nil && r.Room() == nil {
		next, err = r.try(batch)
	}
	if err != nil {
		return err
	}
	r.tail = next
	err = r.head.Update(func(m *database.Mark) {
		m.Number = next.seq
		copy(m.Chain[:], next.chain)
	})
	r.last.Store(next.seq)
	r.told.Notify()
	return err
}

func (r *Record) try(batch []*request) (tail, error) {
	next := r.tail
	pool, err := r.writer.DB()
	if err != nil {
		return next, err
	}
	tx, err := pool.BeginTx(context.Background(), nil)
	if err != nil {
		return next, database.Full(err)
	}
	if next, err = r.writeAll(tx, batch, next); err == nil {
		err = tx.Commit()
	} else {
		err = errors.Join(err, tx.Rollback())
	}
	return next, database.Full(err)
}

// writeAll writes the entries of requests, each linked to the one before.
func (r *Record) writeAll(tx *sql.Tx, batch []*request, next tail) (tail, error) {
	w := inserting{tx: tx, one: tx.Stmt(r.one), many: tx.Stmt(r.many), days: map[int64][2]uint64{}}
	var room []byte
	for _, q := range batch {
		if q.after != nil {
			q.entries = q.after(next)
		}
		for i := range q.entries {
			e := &q.entries[i]
			next.seq++
			e.Seq, e.At = next.seq, e.At.UTC().Truncate(time.Microsecond)
			var chain [32]byte
			chain, room = e.link(next.chain, room)
			e.Chain = slices.Clone(chain[:])
			next.chain = e.Chain
			if err := w.add(e); err != nil {
				return next, err
			}
		}
		if q.more != nil {
			if err := errors.Join(w.flush(), q.more(tx)); err != nil {
				return next, err
			}
		}
	}
	return next, errors.Join(w.flush(), w.markDays())
}

// inserting writes rows, many at a time.
type inserting struct {
	tx        *sql.Tx
	one, many *sql.Stmt
	values    []any
	days      map[int64][2]uint64
}

const (
	columns  = 16
	rowsOnce = 50
)

// prepare prepares the statements that write rows.
func (r *Record) prepare() error {
	pool, err := r.writer.DB()
	if err != nil {
		return err
	}
	if r.one, err = pool.Prepare(insertRows(1)); err != nil {
		return err
	}
	r.many, err = pool.Prepare(insertRows(rowsOnce))
	return err
}

func insertRows(n int) string {
	one := "(?" + strings.Repeat(",?", columns-1) + ")"
	return "INSERT INTO audit_entries (seq, at, day, kind, outcome, by, via, token, came_from, user, right, device, point, revision, more, chain) VALUES " +
		one + strings.Repeat(","+one, n-1)
}

func (w *inserting) add(e *Entry) error {
	day := dayOf(e.At)
	span, ok := w.days[day]
	if !ok {
		span[0] = e.Seq
	}
	span[1] = e.Seq
	w.days[day] = span
	w.values = append(w.values, int64(e.Seq), e.At.UnixMicro(), day, string(e.Kind), e.Outcome, e.By, e.Via, e.Token, e.From, e.User, e.Right, e.Device, e.Point, int64(e.Revision), string(e.More), e.Chain)
	if len(w.values) < columns*rowsOnce {
		return nil
	}
	_, err := w.many.Exec(w.values...)
	w.values = w.values[:0]
	return err
}

func (w *inserting) flush() error {
	for left := w.values; len(left) > 0; left = left[columns:] {
		if _, err := w.one.Exec(left[:columns]...); err != nil {
			return err
		}
	}
	w.values = w.values[:0]
	return nil
}

func (w *inserting) markDays() error {
	for day, span := range w.days {
		if _, err := w.tx.Exec("INSERT INTO audit_days (day, first, last) VALUES (?, ?, ?) ON CONFLICT (day) DO UPDATE SET last = excluded.last", day, int64(span[0]), int64(span[1])); err != nil {
			return err
		}
	}
	return nil
}

// backlog are entries of what was done that the disk had no room for.
type backlog struct {
	mu      sync.Mutex
	entries []Entry
}

func (r *Record) hold(e Entry, why error) {
	r.backlog.mu.Lock()
	defer r.backlog.mu.Unlock()
	text, err := json.Marshal(e)
	if err != nil {
		text = []byte(err.Error())
	}
	if len(r.backlog.entries) >= mostBacklog {
		r.Log.Error("an entry of the record could not be kept, and stands here alone", "entry", string(text), "error", why)
		return
	}
	r.Log.Error("an entry of the record waits for room on the disk", "entry", string(text), "error", why)
	r.backlog.entries = append(r.backlog.entries, e)
}

// writeHeld tries the entries that are held. The writer calls it.
func (r *Record) writeHeld() {
	r.backlog.mu.Lock()
	held := slices.Clone(r.backlog.entries)
	r.backlog.mu.Unlock()
	if len(held) == 0 {
		return
	}
	if err := r.writeBatch([]*request{{entries: held}}); err != nil {
		return // they are tried again, and were told when they came
	}
	r.backlog.mu.Lock()
	r.backlog.entries = slices.Delete(r.backlog.entries, 0, len(held))
	r.backlog.mu.Unlock()
}
