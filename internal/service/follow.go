package service

import (
	"context"
	"time"

	"sentier/internal/notifier"
	"sentier/internal/policy"
	"sentier/internal/store"
	"sentier/internal/wire"
)

// Follow calls send for every revision after a number, those that are past first, until ctx ends, the caller's credential does or
// send fails; and with nil when it has been quiet for a while.
func (s *Service) Follow(ctx context.Context, c Caller, after uint64, quiet time.Duration, send func(*wire.Event) error) error {
	for {
		next := s.revised.Wait()
		if !s.Still(c) {
			return ErrCredential
		}
		if err := s.Permit(s.State(), c, Follow, ""); err != nil {
			return err
		}
		for last := s.State().Revision.Number; after < last; {
			after++
			event, err := s.event(ctx, after)
			if err != nil {
				return err
			}
			if err := send(&event); err != nil {
				return err
			}
		}
		silent, open := notifier.Quietly(ctx, next, quiet)
		if !open {
			return nil
		}
		if silent {
			if err := send(nil); err != nil {
				return err
			}
		}
	}
}

// maxEventChanges is how many changes an event carries: whoever follows reads more than that from the policy itself.
const maxEventChanges = 1000

func (s *Service) event(ctx context.Context, number uint64) (wire.Event, error) {
	out := wire.Event{Revision: number, Changes: []policy.Change{}}
	list, err := s.borders.History.Revisions(ctx, store.Which{UpTo: number}, 1)
	if err != nil || len(list) == 0 {
		return out, err
	}
	out.At, out.By = list[0].At, list[0].By
	done, err := s.borders.History.Changes(ctx, number)
	if err != nil {
		return out, err
	}
	if changes := policy.Changes(done); len(changes) <= maxEventChanges {
		out.Changes = changes
	} else {
		out.More = len(changes)
	}
	return out, nil
}
