package service

import (
	"context"
	"slices"
	"sync"
	"time"

	"sentier/internal/decision"
	"sentier/internal/store"
)

// pastKept is how many states of before are remembered: somebody who looks at one asks more than one question of it.
const pastKept = 4

// pasts are the states of before that were asked for last, the latest first.
type pasts struct {
	mu     sync.Mutex
	states []*State
}

// take gives the state of a revision, where it is remembered, and otherwise the earliest that is remembered of those after it.
func (p *pasts) take(number uint64, now *State) (at *State, is bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	at = now
	for i, st := range p.states {
		if st.Revision.Number == number {
			p.states = slices.Insert(slices.Delete(p.states, i, i+1), 0, st)
			return st, true
		}
		if st.Revision.Number > number && st.Revision.Number < at.Revision.Number {
			at = st
		}
	}
	return at, now.Revision.Number == number
}

func (p *pasts) keep(st *State) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.states = slices.Insert(p.states, 0, st); len(p.states) > pastKept {
		p.states = slices.Delete(p.states, pastKept, len(p.states))
	}
}

// RevisionAt is the number of the last revision at an instant. The error is [ErrNotFound] where there was none yet.
func (s *Service) RevisionAt(ctx context.Context, at time.Time) (uint64, error) {
	r, err := s.borders.History.RevisionAt(ctx, at)
	if err == nil && r.Number == 0 {
		err = ErrNotFound
	}
	return r.Number, err
}

// Past is the policy as a revision left it, ready to be asked: the present one, with what came since taken back. The error is [ErrNotFound] where
// there is no such revision.
func (s *Service) Past(ctx context.Context, number uint64) (*State, error) {
	now := s.State()
	if number == 0 || number > now.Revision.Number {
		return nil, ErrNotFound
	}
	from, is := s.pasts.take(number, now)
	if is {
		return from, nil
	}
	since, err := s.borders.History.Back(ctx, number, from.Revision)
	if err != nil {
		return nil, err
	}
	of, err := s.borders.History.Revisions(ctx, store.Which{UpTo: number}, 1)
	if err != nil {
		return nil, err
	}
	if len(of) == 0 || of[0].Number != number {
		return nil, ErrNotFound
	}
	was, err := from.Policy.Before(since)
	if err != nil {
		return nil, err
	}
	st := &State{Policy: was, Compiled: decision.Compile(was), Revision: of[0]}
	s.pasts.keep(st)
	return st, nil
}

// LookBack lets the caller read a state of before, as a whole: by what they may do now, not by what they could have done then.
func (s *Service) LookBack(c *Caller, st *State) error {
	if err := s.May(c, Whole); err != nil {
		return err
	}
	c.found = &found{st, c.found.rights, c.found.rights.View(st.Compiled)}
	return nil
}
