package service

import (
	"context"
	"fmt"

	"sentier/internal/policy"
	"sentier/internal/wire"
)

// LaterError is that what a revision did cannot be taken back, as a later one has changed the same thing.
type LaterError struct {
	Revision uint64      // the later one; 0: not known
	What     policy.Said // that was changed
}

func (e *LaterError) Error() string { return e.Unwrap().Error() }

// Unwrap is the sentence that it is told as.
func (e *LaterError) Unwrap() error {
	if e.Revision == 0 {
		return policy.Say("%s is not as this revision left it: change it by hand", e.What)
	}
	return policy.Say("revision %d has changed %s since: take that back first, or change it by hand", e.Revision, e.What)
}

// Undo takes back what a revision did, as a new revision: each field becomes what it was before, and of long lists each
// entry, so that what came since stays. It is refused with a [LaterError] where a later revision
// has changed the same: to take back half of it could give somebody more than either left them.
func (s *Service) Undo(ctx context.Context, c Caller, revision uint64, o EditOptions) (wire.Saved, error) {
	if revision < 2 || revision > s.State().Revision.Number {
		return wire.Saved{}, ErrNotFound // the first is the beginning
	}
	done, err := s.borders.History.Changes(ctx, revision)
	if err != nil {
		return wire.Saved{}, err
	}
	o.rows = len(done)
	why := fmt.Sprintf("undo of revision %d", revision)
	if o.Note != "" {
		why += ": " + o.Note
	}
	o.Note = why
	return answerOf(s.edit(ctx, c, &o, func(now *State) ([]policy.Change, error) {
		if err := o.expectPolicy(now); err != nil {
			return nil, err
		}
		for _, c := range done {
			t, id := c.Record().Type(), c.Record().Key()
			if current, _ := now.Policy.Get(t, id); !c.Stands(current) {
				later, err := s.borders.History.LaterChange(ctx, t.String(), id, revision)
				if err != nil {
					return nil, err
				}
				return nil, &LaterError{later, policy.Say("the %s %q", policy.Say(t.Noun()), now.Policy.Title(t, id))}
			}
		}
		return policy.Changes(policy.Reverse(done)), nil
	}))
}
