package store

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"

	"sentier/internal/policy"
)

// RawChanges reads what a revision did to each record, as it is kept.
func (s *Store) RawChanges(ctx context.Context, revision uint64) ([]Change, error) {
	return changesOf(s.reader.WithContext(ctx), revision)
}

// Take writes the next revision as another machine has kept it, byte for byte. It is refused where its chain is not what it says, or it would leave other
// records here than there. beside is what was done with it, in its place; nil: that is not known.
func (s *Store) Take(ctx context.Context, r *Revision, changes []Change, beside *Taken) error {
	chain, state, form := r.Chain, r.State, r.Form
	w, err := takenRows(changes)
	if err != nil {
		return fmt.Errorf("take over revision %d: %w", r.Number, err)
	}
	kept := *r
	how := Saving{taken: w, beside: beside, Agree: func() error {
		if kept.Form != form || !bytes.Equal(kept.Chain, chain) || !bytes.Equal(kept.State, state) {
			return fmt.Errorf("%w (it would leave other records here than where it was made)", ErrDamaged)
		}
		return nil
	}}
	if how.Removed, how.Suspended, err = w.ended(); err != nil {
		return fmt.Errorf("take over revision %d: %w", r.Number, err)
	}
	return s.Append(ctx, &kept, nil, how)
}

// ended lists the users that the changes remove, and those whom they keep from signing in.
func (w *writing) ended() (removed, suspended []string, err error) {
	done, err := ReadChanges(w.changes)
	if err != nil {
		return nil, nil, err
	}
	removed, suspended = EndedAccounts(done)
	return removed, suspended, nil
}

// EndedAccounts lists the users that changes remove, and those whom they keep from signing in.
func EndedAccounts(done []policy.RecordChange) (removed, suspended []string) {
	for _, c := range done {
		before, ok := c.Before.(*policy.User)
		if !ok {
			continue
		}
		after, ok := c.After.(*policy.User)
		switch {
		case !ok:
			removed = append(removed, before.Key())
		case before.Status == policy.Active && after.Status != policy.Active:
			suspended = append(suspended, before.Key())
		}
	}
	return removed, suspended
}

// takenRows are the rows of changes as they are kept elsewhere.
func takenRows(changes []Change) (*writing, error) {
	w := &writing{}
	for i := range changes {
		c := changes[i]
		c.Seq = i
		added, err := keptEntries(&c, c.Added)
		if err != nil {
			return nil, err
		}
		dropped, err := keptEntries(&c, c.Dropped)
		if err != nil {
			return nil, err
		}
		w.add(c, added, dropped)
	}
	return w, nil
}

// keptEntries reads a list of entries, each as it is written.
func keptEntries(c *Change, list *string) ([]entry, error) {
	if list == nil {
		return nil, nil
	}
	var texts []json.RawMessage
	if err := json.Unmarshal([]byte(*list), &texts); err != nil {
		return nil, err
	}
	out := make([]entry, len(texts))
	for i, text := range texts {
		var e policy.Entry
		if err := json.Unmarshal(text, &e); err != nil {
			return nil, err
		}
		out[i] = entry{c.Type, c.ID, e.Value, string(text)}
	}
	return out, nil
}
