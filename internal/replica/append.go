package replica

import (
	"bytes"
	"context"
	"errors"
	"fmt"

	"sentier/internal/policy"
	"sentier/internal/store"
)

// Kept is where revisions are kept by the machine that writes. A [store.Store] is one.
type Kept interface {
	Load(ctx context.Context) (*policy.Policy, store.Revision, error)
	Append(ctx context.Context, r *store.Revision, done []policy.RecordChange, how store.Saving) error
}

// Revisions are revisions that go into a log, and are kept once it has them.
type Revisions struct {
	Kept
	Log *Log
}

// Append adds a revision to the log, and keeps it. The error is [ErrUnknown] where it is not known whether the log has it.
func (r Revisions) Append(ctx context.Context, revision *store.Revision, done []policy.RecordChange, how store.Saving) error {
	return r.Log.Append(ctx, func(published func(*store.Revision, []store.Change) error) error {
		how.Published = published
		return r.Kept.Append(ctx, revision, done, how)
	})
}

// Append adds a revision to the log, and then has the machine keep it, by the function given, which calls published at the last moment at which it can still
// be given up: there the log must have it.
func (l *Log) Append(ctx context.Context, keep func(published func(r *store.Revision, changes []store.Change) error) error) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.over.Load() {
		return ErrMoved
	}
	if l.doubt.Load() {
		return ErrUnknown
	}
	if _, ok := l.bus.(*Ring); ok {
		return l.keepFirst(ctx, keep)
	}
	has, before := false, l.at
	err := keep(func(r *store.Revision, changes []store.Change) error {
		if err := l.publishUpTo(ctx, r.Number-1); err != nil {
			return err
		}
		kept := *r
		l.unsure.revision = &kept
		err := l.publishRevision(ctx, r, changes)
		has = err == nil
		return err
	})
	if has && err != nil && !errors.Is(err, store.ErrUnmarked) { // it is in the log, and could not be kept here
		l.at = before
		l.doubt.Store(true)
		return fmt.Errorf("%w: %w", ErrUnknown, err)
	}
	if has && l.at.number >= l.taken.Load()+snapshotsAfter {
		l.wake()
	}
	return err
}

// keepFirst adds a revision to a ring, once the machine has kept it: nobody else can write, and what was kept counts.
func (l *Log) keepFirst(ctx context.Context, keep func(published func(r *store.Revision, changes []store.Change) error) error) error {
	var made store.Revision
	var of []store.Change
	err := keep(func(r *store.Revision, changes []store.Change) error {
		made, of = *r, changes
		return nil
	})
	if err != nil && !errors.Is(err, store.ErrUnmarked) || made.Number == 0 {
		return err
	}
	failed := errSkip // another process has made one in between, as it makes the first
	if made.Number == l.at.number+1 {
		failed = l.publishRevision(ctx, &made, of)
	}
	if failed != nil {
		if !errors.Is(failed, errSkip) {
			l.log.Warn("a revision is not told to those who follow over HTTP, who begin anew", "error", failed)
		}
		l.skip(&Entry{Number: made.Number, Chain: made.Chain})
	}
	return err
}

// ErrUnknown is that it is not known whether the log has a revision, or it has it and this machine has not. None follows until [Log.Settle] has found out.
var ErrUnknown = errors.New("it is not known whether the log of revisions has it")

// Settle finds out what has become of an entry, where that is not known: a revision that the log has is made here as well, and took says so. The error is
// [ErrUnknown] while the log cannot be asked, and [ErrMoved] where another machine writes.
func (l *Log) Settle(ctx context.Context) (took bool, err error) {
	if l.over.Load() {
		return false, ErrMoved
	}
	if !l.doubt.Load() {
		return false, nil
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	_, place, err := l.bus.Tail(ctx)
	if err == nil && place != l.at.place {
		err = l.bus.Each(ctx, l.at.seq, func(text []byte) error {
			made, err := l.settleEntry(ctx, text)
			took = took || made
			return err
		})
	}
	if errors.Is(err, ErrMoved) {
		return took, err
	}
	if err != nil {
		return took, fmt.Errorf("%w: %w", ErrUnknown, err)
	}
	l.at.place = place
	l.doubt.Store(false) // where it comes later still, it finds its place taken, or the next entry does
	return took, nil
}

// settleEntry makes what an entry has made that came after the last that is known here.
func (l *Log) settleEntry(ctx context.Context, text []byte) (took bool, err error) {
	e, err := l.keys.Entry(text)
	if err != nil || e.Seq != l.at.seq+1 {
		return false, nil // it is passed over, as everybody does
	}
	if e.Epoch > l.at.epoch {
		l.over.Store(true)
		return false, ErrMoved
	}
	if e.Kind == Revision {
		if err := fetch(ctx, l.bus.Get, e); err != nil {
			return false, err
		}
		r := e.Made()
		if bytes.Equal(text, l.unsure.text) && l.unsure.revision != nil {
			r.RequestKey, r.RequestHash, r.Answer = l.unsure.revision.RequestKey, l.unsure.revision.RequestHash, l.unsure.revision.Answer
		}
		if err := l.local.Take(ctx, &r, e.Changes); err != nil {
			return false, err
		}
		took = true
	}
	l.at = end{l.at.place, e.Seq, e.Epoch, e.Number, e.Chain}
	return took, nil
}

// Problem says why nothing can be saved now; empty: it can.
func (l *Log) Problem() string {
	switch {
	case l.over.Load():
		return "another machine writes the log of revisions"
	case l.doubt.Load():
		return "the servers of the log of revisions do not answer"
	}
	return ""
}
