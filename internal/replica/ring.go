package replica

import (
	"context"
	"errors"
	"io"
	"slices"
	"sync"

	"sentier/internal/notifier"
)

// Bounds of a ring.
const (
	mostRing  = 1000     // entries
	ringBytes = 64 << 20 // of them
)

// Ring carries the log of a machine that is alone to whoever follows it over HTTP: the last entries of it, in memory. Whoever has missed more begins with a
// snapshot.
type Ring struct {
	mu      sync.Mutex
	entries []ringEntry
	bytes   int
	place   uint64
	floor   uint64 // place in the log of the first entry that there can be
	came    notifier.Notifier
	beat    []byte
	beats   notifier.Notifier
}

type ringEntry struct {
	seq  uint64
	text []byte
}

// NewRing is a ring with nothing in it.
func NewRing() *Ring { return &Ring{} }

// ErrGone is that the log does not go back so far.
var ErrGone = errors.New("the log does not go back so far")

// Tail is the last entry; see [Bus].
func (r *Ring) Tail(context.Context) ([]byte, uint64, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.entries) == 0 {
		return nil, 0, nil
	}
	return r.entries[len(r.entries)-1].text, r.place, nil
}

// Publish adds an entry; see [Bus].
func (r *Ring) Publish(_ context.Context, after uint64, _ string, seq uint64, text []byte) (uint64, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if after != r.place {
		return 0, ErrMoved
	}
	r.place++
	r.entries = append(r.entries, ringEntry{seq, text})
	r.bytes += len(text)
	for len(r.entries) > 1 && (len(r.entries) > mostRing || r.bytes > ringBytes) {
		r.bytes -= len(r.entries[0].text)
		r.entries = r.entries[1:]
	}
	r.came.Notify()
	return r.place, nil
}

// Skip lets all go, as something is too large for it: the log goes on at a place, and everybody begins there with a snapshot.
func (r *Ring) Skip(next uint64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.entries, r.bytes, r.floor = nil, 0, next
	r.came.Notify()
}

// after gives the entries after a place in the log. The error is [ErrGone] where not all of them are there.
func (r *Ring) after(seq uint64) ([]ringEntry, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if seq+1 < r.floor || len(r.entries) > 0 && r.entries[0].seq > seq+1 {
		return nil, ErrGone
	}
	n, _ := slices.BinarySearchFunc(r.entries, seq+1, func(e ringEntry, seq uint64) int { return int(int64(e.seq - seq)) })
	return slices.Clone(r.entries[n:]), nil
}

// Each gives the entries that are there; see [Bus].
func (r *Ring) Each(_ context.Context, after uint64, visit func(text []byte) error) error {
	list, err := r.after(after)
	for _, e := range list {
		if err == nil {
			err = visit(e.text)
		}
	}
	return err
}

// Follow gives the entries that are there, and those that come; see [Bus]. The error is [ErrGone] where some are missing.
func (r *Ring) Follow(ctx context.Context, after uint64, visit func(text []byte) error) error {
	for {
		came := r.came.Wait()
		list, err := r.after(after)
		for _, e := range list {
			if err == nil {
				err = visit(e.text)
			}
			after = e.seq
		}
		if err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-came:
		}
	}
}

// Put is refused: what is too large is skipped; see [Bus].
func (r *Ring) Put(context.Context, string, io.Reader) error { return errRing }

// Get gives nothing; see [Bus].
func (r *Ring) Get(context.Context, string) (io.ReadCloser, error) { return nil, ErrNone }

// Objects lists nothing; see [Bus].
func (r *Ring) Objects(context.Context, string) ([]string, error) { return nil, nil }

// Drop does nothing; see [Bus].
func (r *Ring) Drop(context.Context, ...string) error { return nil }

var errRing = errors.New("a machine alone keeps nothing apart for others")

// Forget does nothing: what is old goes by itself; see [Bus].
func (r *Ring) Forget(context.Context, uint64) error { return nil }

// Beat tells everybody who listens; see [Bus].
func (r *Ring) Beat(text []byte) error {
	r.mu.Lock()
	r.beat = text
	r.mu.Unlock()
	r.beats.Notify()
	return nil
}

// Beats gives the beats that come; see [Bus].
func (r *Ring) Beats(ctx context.Context, heard func(text []byte)) error {
	for {
		next := r.beats.Wait()
		select {
		case <-ctx.Done():
			return nil
		case <-next:
		}
		r.mu.Lock()
		text := r.beat
		r.mu.Unlock()
		heard(text)
	}
}
