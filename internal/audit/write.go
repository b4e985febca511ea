package audit

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"slices"
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
	markEvery   = 200 * time.Millisecond
	postEvery   = 8 // batches, while more come
	idleTime    = 5 * time.Millisecond
	busyBatch   = 4                      // requests that were written together, from which on others are waited for
	gatherTime  = 125 * time.Microsecond // for each of them, up to
	mostGather  = 2 * time.Millisecond
)

// request is entries that are written together, and whoever waits for them.
type request struct {
	entries []Entry
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
	batches, together := 0, 0
	for {
		batch = batch[:0]
		var idle <-chan time.Time
		if r.recent.due() {
			idle = time.After(idleTime)
		}
		select {
		case <-idle:
			r.postSome()
			continue
		case q, ok := <-r.queue:
			if !ok {
				r.writeHeld()
				if err := r.mark(); err != nil {
					r.Log.Error("how far the record goes could not be marked", "error", err)
				}
				return
			}
			batch = append(batch, q)
		case <-again.C:
			r.writeHeld()
			if r.head.Read().Number != r.tail.seq {
				if err := r.mark(); err != nil {
					r.Log.Warn("how far the record goes could not be marked", "error", err)
				}
			}
			continue
		}
		n := len(batch[0].entries)
		if together >= busyBatch { // more come in a moment: together they take less
			time.Sleep(min(time.Duration(together)*gatherTime, mostGather))
		}
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
		together = len(batch)
		r.writeHeld()
		err := r.writeBatch(batch)
		for _, q := range batch {
			q.done <- err
		}
		if batches++; batches%postEvery == 0 && r.recent.due() {
			r.postSome()
		}
	}
}

// postSome puts a part of what is not in the index into it, when there is enough: while nobody waits, or now and then.
func (r *Record) postSome() {
	rows, all := r.recent.next()
	if err := r.inTransaction(func(tx *sql.Tx) error { return r.post(tx, rows, all) }); err != nil {
		r.Log.Warn("the index of the record could not be written, and is tried again", "error", err)
		return
	}
	r.recent.wrote(len(rows), all)
}

// inTransaction does something in a transaction of the writer's.
func (r *Record) inTransaction(do func(tx *sql.Tx) error) error {
	pool, err := r.writer.DB()
	if err != nil {
		return err
	}
	tx, err := pool.BeginTx(context.Background(), nil)
	if err != nil {
		return database.Full(err)
	}
	if err = do(tx); err == nil {
		err = tx.Commit()
	} else {
		err = errors.Join(err, tx.Rollback())
	}
	return database.Full(err)
}

// writeBatch writes requests in one transaction, with the room of the reserve where there is no other.
func (r *Record) writeBatch(batch []*request) error {
	defer r.writes.Since(time.Now())
	next, err := r.try(batch)
	if errors.Is(err, database.ErrFull) && r.Room != nil && r.Room() == nil {
		next, err = r.try(batch)
	}
	if err != nil {
		return err
	}
	r.tail = next
	if now := time.Now(); now.Sub(r.marked) >= markEvery {
		err = r.mark()
		r.marked = now
	}
	r.last.Store(next.seq)
	r.kept.Store(&tail{next.seq, next.chain})
	r.told.Notify()
	return err
}

// mark notes beside the file how far it goes. The mark may lag a little: it tells of an end that was cut off, while the entries themselves are
// on the disk with each answer.
func (r *Record) mark() error {
	return r.head.Update(func(m *database.Mark) {
		m.Number = r.tail.seq
		copy(m.Chain[:], r.tail.chain)
	})
}

func (r *Record) try(batch []*request) (next tail, err error) {
	err = r.inTransaction(func(tx *sql.Tx) error {
		if next, err = r.writeAll(tx, batch, r.tail); err == nil {
			err = r.keepBeside(tx, false)
		}
		return err
	})
	if err != nil {
		return next, err
	}
	for _, a := range r.added {
		r.recent.add(a.entry, a.block)
	}
	return next, nil
}

// writeAll writes the entries of requests, each linked to the one before, in blocks.
func (r *Record) writeAll(tx *sql.Tx, batch []*request, next tail) (tail, error) {
	w := inserting{tx: tx, insert: tx.Stmt(r.insert)}
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
	err := w.flush()
	r.added = w.added
	return next, err
}

// inserting writes blocks.
type inserting struct {
	tx     *sql.Tx
	insert *sql.Stmt
	body   []byte
	in     int    // entries in it
	first  uint64 // of them
	last   *Entry
	added  []inBlock
}

// inBlock is an entry, and the block that it is in.
type inBlock struct {
	entry *Entry
	block uint64
}

func (w *inserting) add(e *Entry) error {
	if w.in > 0 && dayOf(w.last.At) != dayOf(e.At) { // so that whole days can be let go
		if err := w.flush(); err != nil {
			return err
		}
	}
	if w.in == 0 {
		w.first, w.last = e.Seq, nil
	}
	w.body = appendLine(w.body, w.last, e)
	w.last, w.in = e, w.in+1
	w.added = append(w.added, inBlock{e, w.first})
	if w.in < mostInBlock {
		return nil
	}
	return w.flush()
}

func (w *inserting) flush() error {
	if w.in == 0 {
		return nil
	}
	_, err := w.insert.Exec(int64(w.first), int64(w.last.Seq), string(w.body))
	w.body, w.in = w.body[:0], 0
	return err
}

// prepare prepares the statements that write rows.
func (r *Record) prepare() error {
	pool, err := r.writer.DB()
	if err != nil {
		return err
	}
	if r.insert, err = pool.Prepare("INSERT INTO audit_blocks (first, last, body) VALUES (?, ?, ?)"); err != nil {
		return err
	}
	r.posting, err = pool.Prepare("INSERT INTO audit_postings (day, key, up_to, blocks) VALUES (?, ?, ?, ?)")
	return err
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
