package service

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

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

// mostUndone is how many revisions are taken back at once.
const mostUndone = 1000

// Undo takes back what some revisions did, as one new revision: each field becomes what it was before them, and of long lists each
// entry, so that what came since stays. It is refused with a [LaterError] where a later revision, that is none of them,
// has changed the same: to take back half of it could give somebody more than either left them.
func (s *Service) Undo(ctx context.Context, c Caller, revisions []uint64, o EditOptions) (wire.Saved, error) {
	back := slices.Sorted(slices.Values(revisions))
	back = slices.Compact(back)
	slices.Reverse(back) // the newest first
	switch {
	case len(back) == 0:
		return wire.Saved{}, Wrong("revisions", "is missing")
	case len(back) > mostUndone:
		return wire.Saved{}, Wrong("revisions", "has %d: keep it to %d", len(back), mostUndone)
	case back[len(back)-1] == 1:
		return wire.Saved{}, Wrong("revisions", "revision 1 is the beginning: it cannot be taken back")
	case back[len(back)-1] == 0 || back[0] > s.State().Revision.Number:
		return wire.Saved{}, ErrNotFound
	}
	if o.way == "" {
		o.way = WayUndo
	}
	var did [][]policy.RecordChange
	var why []string
	for _, revision := range back {
		done, err := s.borders.History.Changes(ctx, revision)
		if err != nil {
			return wire.Saved{}, err
		}
		if err := s.mayUndo(ctx, revision, &o); err != nil {
			return wire.Saved{}, err
		}
		did, o.rows = append(did, done), o.rows+len(done)
		why = append(why, strconv.FormatUint(revision, 10))
	}
	if o.title == "" {
		o.title = undoNote(why)
	}
	return answerOf(s.edit(ctx, c, &o, func(now *State) ([]policy.Change, error) {
		if err := o.expectPolicy(now); err != nil {
			return nil, err
		}
		p := now.Policy
		for i, done := range did {
			if err := s.stands(ctx, p, back[i], back, done); err != nil {
				return nil, err
			}
			changes := policy.Changes(policy.Reverse(done))
			if len(did) == 1 {
				return changes, nil
			}
			var err error
			if p, _, err = p.Apply(changes); err != nil {
				return nil, err
			}
		}
		return policy.Changes(now.Policy.Compare(p)), nil
	}))
}

// stands tells whether all that a revision did is still so, or else which later one, of those that are not taken back with it, has changed what.
func (s *Service) stands(ctx context.Context, p *policy.Policy, revision uint64, back []uint64, done []policy.RecordChange) error {
	for _, c := range done {
		t, id := c.Record().Type(), c.Record().Key()
		if current, _ := p.Get(t, id); c.Stands(current) {
			continue
		}
		later, err := s.inTheWay(ctx, c, revision, back)
		if err != nil {
			return err
		}
		return &LaterError{later, policy.Say("the %s %q", policy.Say(t.Noun()), p.Title(t, id))}
	}
	return nil
}

// mostLooked is how many later changes of a record are looked at for the one that stands in the way.
const mostLooked = 200

// inTheWay finds the first later revision, of those that are not taken back with it, after which what a revision did to a record is so no more; 0 where there
// is none.
func (s *Service) inTheWay(ctx context.Context, c policy.RecordChange, revision uint64, back []uint64) (uint64, error) {
	t, id := c.Record().Type(), c.Record().Key()
	first := uint64(0)
	for later, looked := revision, 0; looked < mostLooked; {
		var err error
		if later, err = s.borders.History.LaterChange(ctx, t.String(), id, later); err != nil || later == 0 {
			return first, err
		}
		if slices.Contains(back, later) {
			continue
		}
		if first == 0 {
			first = later
		}
		done, err := s.borders.History.Changes(ctx, later)
		if err != nil {
			return 0, err
		}
		for _, x := range done {
			if x.Record().Type() == t && x.Record().Key() == id && !c.Stands(x.After) {
				return later, nil
			}
		}
		looked++
	}
	return first, nil
}

// undoNote says which revisions are taken back, newest first.
func undoNote(revisions []string) string {
	out := "undo of revision " + revisions[0]
	if n := len(revisions); n > 1 {
		slices.Reverse(revisions)
		out = "undo of revisions " + strings.Join(revisions[:n-1], ", ") + " and " + revisions[n-1]
		if n > 10 {
			out = fmt.Sprintf("undo of %d revisions, from %s to %s", n, revisions[0], revisions[n-1])
		}
	}
	return out
}
