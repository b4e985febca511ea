package replica

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"time"

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
	return r.Log.Append(ctx, func(published Published) error {
		how.Published = published
		return r.Kept.Append(ctx, revision, done, how)
	})
}

// Published has the log have a revision, and what was done beside it.
type Published = func(r *store.Revision, changes []store.Change, beside store.Done) (store.Position, error)

// Append adds a revision to the log, and then has the machine keep it, by the function given, which calls published at the last moment at which it can still
// be given up: there the log must have it.
func (l *Log) Append(ctx context.Context, keep func(published Published) error) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if err := l.open(); err != nil {
		return err
	}
	if _, ok := l.bus.(*Ring); ok {
		return l.keepFirst(ctx, keep)
	}
	has, before := false, l.at
	err := keep(func(r *store.Revision, changes []store.Change, beside store.Done) (store.Position, error) {
		if err := l.publishUpTo(ctx, r.Number-1); err != nil {
			return store.Position{}, err
		}
		kept := *r
		l.unsure.revision = &kept
		err := l.publishRevision(ctx, r, changes, beside)
		has = err == nil
		return l.position(), err
	})
	if err = l.kept(has, before, err); has && l.at.number >= l.taken.Load()+snapshotsAfter {
		l.wake()
	}
	return err
}

// open tells whether anything can be added. The caller holds l.mu.
func (l *Log) open() error {
	switch {
	case l.over.Load():
		return ErrMoved
	case l.doubt.Load():
		return ErrUnknown
	case l.until != nil && !time.Now().Before(l.until()):
		return ErrLease
	}
	return nil
}

// kept is what has become of an entry that the log has, where the machine was to keep the same. before is where the log went before it.
func (l *Log) kept(has bool, before end, err error) error {
	if !has || err == nil || errors.Is(err, store.ErrUnmarked) {
		return err
	}
	l.at = before // it could not be kept here
	l.doubt.Store(true)
	return fmt.Errorf("%w: %w", ErrUnknown, err)
}

// position is the end of the log, as a store notes it; nothing where the machines that may write do not know what is done beside the policy.
func (l *Log) position() store.Position {
	if l.box == nil {
		return store.Position{}
	}
	return store.Position{Seq: l.at.seq, Epoch: l.at.epoch}
}

// AppendBeside adds to the log what is done beside the policy, and then has the machine keep it; see [store.Store.Logged].
func (l *Log) AppendBeside(ctx context.Context, keep store.Keep) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if err := l.open(); err != nil {
		return err
	}
	has, before := false, l.at
	err := keep(func(done store.Done) (store.Position, error) {
		e := &Entry{Kind: Beside, Epoch: l.at.epoch, Number: l.at.number}
		err := l.seal(ctx, e, &beside{Rows: done.Rows}, done.Trail)
		if err == nil {
			err = l.publish(ctx, e)
		}
		has = err == nil
		return l.position(), err
	})
	return l.kept(has, before, err)
}

// keepFirst adds a revision to a ring, once the machine has kept it: nobody else can write, and what was kept counts.
func (l *Log) keepFirst(ctx context.Context, keep func(published Published) error) error {
	var made store.Revision
	var of []store.Change
	err := keep(func(r *store.Revision, changes []store.Change, _ store.Done) (store.Position, error) {
		made, of = *r, changes
		return store.Position{}, nil
	})
	if err != nil && !errors.Is(err, store.ErrUnmarked) || made.Number == 0 {
		return err
	}
	failed := errSkip // another process has made one in between, as it makes the first
	if made.Number == l.at.number+1 {
		failed = l.publishRevision(ctx, &made, of, store.Done{})
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
	if l.stood != nil { // it stands by before it writes again, and so finds out
		return false, ErrUnknown
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
		if err := l.local.Take(ctx, &r, e.Changes, nil); err != nil && !errors.Is(err, store.ErrUnmarked) {
			return false, err
		}
		took = true
	}
	l.at = e.end(l.at.place)
	return took, nil
}

// Retire lets nothing be added any more, once what is being added is there.
func (l *Log) Retire() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.over.Store(true)
}

// Lost tells whether this machine has to stand by before it can write again: it does not know any more where the log ends, or another writes.
func (l *Log) Lost() bool { return l.over.Load() || l.doubt.Load() }

// Problem says why nothing can be saved now; empty: it can.
func (l *Log) Problem() string {
	switch {
	case l.over.Load():
		return "another machine writes the log of revisions"
	case l.doubt.Load(), l.until != nil && !time.Now().Before(l.until()):
		return "the servers of the log of revisions do not answer"
	}
	return ""
}
