package service

import (
	"context"
	"fmt"

	"sentier/internal/document"
	"sentier/internal/policy"
	"sentier/internal/translate"
	"sentier/internal/wire"
)

// Dump writes the whole policy as a document.
func (s *Service) Dump(c Caller, syntax document.Syntax) ([]byte, error) {
	st := s.State()
	if err := s.may(st, c, Read, ""); err != nil {
		return nil, err
	}
	return document.WritePolicy(st.Policy, syntax)
}

// Load puts the policy of a document in the place of the current one. With dry it changes nothing and says what
// it would do, and with look who would gain and lose what. expect, where it is not 0, is the revision that the caller has seen: it is refused where another has
// come since. The error is of type [document.Faults] where the document is not sound.
func (s *Service) Load(ctx context.Context, c Caller, data []byte, dry, look bool, expect uint64) (wire.Saved, error) {
	do := Write
	if dry {
		do = Read
	}
	if err := s.may(s.State(), c, do, ""); err != nil {
		return wire.Saved{}, err
	}
	p, err := document.ReadPolicy(data)
	if err != nil {
		return wire.Saved{}, err
	}
	if dry {
		now := s.State()
		return s.wouldBe(now, p, now.Policy.Compare(p), look), nil
	}
	s.writing.Lock()
	defer s.writing.Unlock()
	now := s.State()
	if expect != 0 && expect != now.Revision.Number {
		return wire.Saved{}, &StaleError{Expected: expect, Now: now.Revision.Number}
	}
	next, done, err := s.apply(ctx, now, c, EditOptions{Note: "policy loaded"}, func(old *policy.Policy) (*policy.Policy, []policy.RecordChange, error) {
		return p, old.Compare(p), nil
	})
	if err != nil {
		return wire.Saved{}, err
	}
	return wire.Saved{Saved: true, Revision: next.Revision.Number, Changes: translate.Changes(done)}, nil
}

// StaleError is that the policy has changed since the caller looked at it.
type StaleError struct{ Expected, Now uint64 }

func (e *StaleError) Error() string {
	return fmt.Sprintf("the policy is at revision %d by now, and you saw %d: look at it again", e.Now, e.Expected)
}
