package replica

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"sentier/internal/store"
)

// Own is the store of a machine that stands by.
type Own interface {
	Revisions(ctx context.Context, w store.Which, limit int) ([]store.Revision, error)
	Position(ctx context.Context) (store.Position, []byte, error)
	Take(ctx context.Context, r *store.Revision, changes []store.Change, beside *store.Taken) error
	TakeBeside(ctx context.Context, t *store.Taken) error
	Verify(ctx context.Context) (store.Verified, error)
}

// Standby does to a store what the log says that the machine has done that writes, so that this one can go on where that one ends.
type Standby struct {
	StandbyOptions

	mu      sync.Mutex // held while an entry is taken
	at      Copy       // without a policy
	of      []byte     // its trail
	lost    string     // why it can follow no more; empty: it can
	problem atomic.Pointer[Problem]
	damage  atomic.Pointer[Problem] // that was found in the store; nil: none was
	looked  time.Time               // at all of the store
	seq     atomic.Uint64
	number  atomic.Uint64
}

// StandbyOptions say what is followed, and where it is kept.
type StandbyOptions struct {
	Feed Feed
	Keys Keys
	Box  *Box
	Own  Own
	Log  *slog.Logger
}

// OpenStandby reads how far a store is.
func OpenStandby(ctx context.Context, o StandbyOptions) (*Standby, error) {
	s := &Standby{StandbyOptions: o}
	return s, s.read(ctx)
}

// read finds out how far the store is: it has a part of what another has, or all.
func (s *Standby) read(ctx context.Context) error {
	at, of, err := s.Own.Position(ctx)
	if err != nil {
		return err
	}
	list, err := s.Own.Revisions(ctx, store.Which{}, 1)
	if err != nil {
		return err
	}
	s.at, s.of, s.lost = Copy{Seq: at.Seq, Epoch: at.Epoch}, of, ""
	if len(list) > 0 {
		s.at.Revision = list[0]
	}
	s.seq.Store(at.Seq)
	s.number.Store(s.at.Revision.Number)
	return nil
}

// LostError is that a store cannot go on from where it is.
type LostError struct{ Why string }

func (e *LostError) Error() string {
	return fmt.Sprintf("this folder cannot go on from what it has: %s. Set it aside, and begin with a backup of the machine that writes (“sentier backup” there, “sentier restore” here)", e.Why)
}

// CannotGoOn tells whether an error is one that does not pass by itself: somebody has to see to this machine.
func CannotGoOn(err error) bool { return errors.As(err, new(*LostError)) || errors.Is(err, ErrSealed) }

// lookEvery is how often all of the store is read back: the policy that the machine answers from comes from elsewhere, so that nothing else would tell.
const lookEvery = 24 * time.Hour

// look reads all of the store back now and then, until ctx ends.
func (s *Standby) look(ctx context.Context) {
	for ctx.Err() == nil {
		pause(ctx, time.Until(s.looked.Add(lookEvery)))
		if ctx.Err() != nil {
			return
		}
		_, err := s.Own.Verify(ctx)
		if ctx.Err() != nil {
			return
		}
		s.looked = time.Now()
		if err == nil {
			continue
		}
		lost := &LostError{err.Error()}
		s.damage.Store(&Problem{lost, time.Now()})
		s.Log.Error("this machine cannot take over", "problem", lost)
	}
}

// Run takes what comes until ctx ends.
func (s *Standby) Run(ctx context.Context) {
	var looking sync.WaitGroup
	defer looking.Wait()
	looking.Go(func() { s.look(ctx) })
	for ctx.Err() == nil {
		err := s.Feed.Follow(ctx, s.seq.Load(), func(text []byte) error {
			e, err := s.Keys.Entry(text)
			if err != nil {
				s.Refuse(err)
				return nil
			}
			return s.take(ctx, e)
		})
		if ctx.Err() != nil {
			return
		}
		if err != nil {
			if again := s.Again(ctx); again != nil { // what has failed may be there
				err = errors.Join(err, again)
			}
			s.Refuse(err)
		}
		pause(ctx, followAgain)
	}
}

// Refuse notes why this machine could not take over now.
func (s *Standby) Refuse(err error) {
	before := s.problem.Swap(&Problem{err, time.Now()})
	if before == nil || before.Err.Error() != err.Error() {
		s.Log.Error("this machine does not have all that it would need to take over", "problem", err)
	}
}

// Problem is why this machine could not take over now; nil: nothing.
func (s *Standby) Problem() *Problem {
	if d := s.damage.Load(); d != nil {
		return d
	}
	return s.problem.Load()
}

// Seq is the place in the log up to which the store is.
func (s *Standby) Seq() uint64 { return s.seq.Load() }

// Number is the revision up to which the store is.
func (s *Standby) Number() uint64 { return s.number.Load() }

// trail is what was done beside the policy, as far as it is here.
func (s *Standby) trail() []byte {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.of
}

// take does what an entry says. An entry that the store has is passed over; the error is a [*LostError] where it cannot be done any more.
func (s *Standby) take(ctx context.Context, e *Entry) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if e.Seq <= s.at.Seq {
		return nil
	}
	if e.Seq != s.at.Seq+1 || len(e.Trail) == 0 {
		return s.jump(e)
	}
	if _, err := s.at.follows(e); err != nil {
		return s.lose(err.Error())
	}
	if err := s.apply(ctx, e); err != nil {
		return err
	}
	s.goTo(e)
	return nil
}

// jump goes on at an entry that does not follow the last one, where it says that the machine that writes has just what is here.
func (s *Standby) jump(e *Entry) error {
	r := s.at.Revision
	if e.Number != r.Number || !bytes.Equal(e.Chain, r.Chain) || len(e.Trail) == 0 || !bytes.Equal(e.Trail, s.of) {
		why := fmt.Sprintf("the log is at place %d and revision %d, and what leads there from revision %d is not in it", e.Seq, e.Number, r.Number)
		if len(e.Trail) == 0 {
			why = "the machine that writes tells nobody what it does beside the policy: run it with --sealing-key"
		}
		s.lost = why // a later entry may say otherwise; until then it is told, and not logged each time
		s.problem.Store(&Problem{&LostError{why}, time.Now()})
		return nil
	}
	s.lost = ""
	s.goTo(e)
	return nil
}

func (s *Standby) lose(why string) error {
	s.lost = why
	return &LostError{why}
}

// goTo is where the store is after an entry.
func (s *Standby) goTo(e *Entry) {
	s.at.Seq, s.at.Epoch, s.of = e.Seq, e.Epoch, e.Trail
	if e.Kind == Epoch {
		s.at.Writer = e.Writer
	}
	s.seq.Store(e.Seq)
	s.number.Store(e.Number)
	s.problem.Store(nil)
}

// apply writes what an entry says.
func (s *Standby) apply(ctx context.Context, e *Entry) error {
	taken := &store.Taken{Done: store.Done{Trail: e.Trail}, Position: store.Position{Seq: e.Seq, Epoch: e.Epoch}}
	if e.Kind != Revision && e.Kind != Beside {
		if !bytes.Equal(e.Trail, s.of) {
			return s.lose(store.ErrTrail.Error())
		}
		return nil
	}
	if err := errors.Join(fetch(ctx, s.Feed.Get, e), fetchSealed(ctx, s.Feed.Get, e)); err != nil {
		return err
	}
	in, err := s.Box.open(e.Sealed)
	if err != nil {
		return fmt.Errorf("%s: %w", e.name(), err)
	}
	taken.Rows = in.Rows
	if e.Kind == Beside {
		return s.wrote(s.Own.TakeBeside(context.WithoutCancel(ctx), taken)) // to its end: or it may be there, and it is not known
	}
	r := e.Made()
	if ok, err := r.Follows(s.at.Revision.Chain, e.Changes); err != nil || !ok {
		return s.lose(fmt.Sprintf("%s is not what its chain says, after revision %d", e.name(), s.at.Revision.Number))
	}
	r.RequestKey, r.RequestHash, r.Answer = in.RequestKey, in.RequestHash, in.Answer
	if err := s.wrote(s.Own.Take(context.WithoutCancel(ctx), &r, e.Changes, taken)); err != nil {
		return err
	}
	r.Answer = nil
	s.at.Revision = r
	return nil
}

// wrote is the error of what was written.
func (s *Standby) wrote(err error) error {
	if errors.Is(err, store.ErrTrail) {
		return s.lose(store.ErrTrail.Error())
	}
	if errors.Is(err, store.ErrUnmarked) { // it is there
		s.Log.Warn("what has come is kept, and not marked beside the database", "error", err)
		return nil
	}
	return err
}

// reached makes sure that the store is where the log ends. A machine that has written the log alone until now tells others what it has from here on.
func (s *Standby) reached(ctx context.Context, at *end, wroteIt bool) (store.Revision, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	r := s.at.Revision
	if d := s.damage.Load(); d != nil {
		return r, d.Err
	}
	wroteAlone := wroteIt && len(at.trail) == 0 && at.number == r.Number && bytes.Equal(at.chain, r.Chain)
	if s.lost != "" && !wroteAlone {
		return r, &LostError{s.lost}
	}
	if s.lost == "" && s.at.Seq != at.seq {
		return r, &LostError{fmt.Sprintf("it is at place %d of the log, which goes to place %d", s.at.Seq, at.seq)}
	}
	at.trail = s.of
	return r, ctx.Err()
}

// Again has the machine stand by after it wrote: from what its store has by now.
func (s *Standby) Again(ctx context.Context) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.read(ctx)
}
