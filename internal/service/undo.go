package service

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"sentier/internal/policy"
	"sentier/internal/store"
	"sentier/internal/translate"
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
	rows, err := s.store.Changes(ctx, revision)
	if err != nil {
		return wire.Saved{}, err
	}
	o.rows = len(rows)
	o.Note = fmt.Sprintf("undo of revision %d", revision)
	return answerOf(s.edit(ctx, c, &o, func(now *State) ([]policy.Change, error) {
		if err := o.expectPolicy(now); err != nil {
			return nil, err
		}
		var back []policy.Change
		for _, row := range rows {
			u, err := newUndoing(row)
			if err != nil {
				return nil, fmt.Errorf("read revision %d: %w", revision, err)
			}
			current, _ := now.Policy.Get(u.t, row.ID)
			if !u.stands(current) {
				later, err := s.store.LaterChange(ctx, row.Type, row.ID, revision)
				if err != nil {
					return nil, err
				}
				return nil, &LaterError{later, policy.Say("the %s %q", policy.Say(u.t.Noun()), now.Policy.Title(u.t, row.ID))}
			}
			back = append(back, u.changes()...)
		}
		return back, nil
	}))
}

// undoing is what a revision did to a record, read back.
type undoing struct {
	t              policy.Type
	id             string
	before, after  policy.Record   // without their long lists; nil: it was not there
	added, dropped []policy.Member // a device of a device group stands as a member without dates
}

func newUndoing(row store.Change) (*undoing, error) {
	t, ok := policy.TypeNamed(row.Type)
	if !ok {
		return nil, fmt.Errorf("%q is no type of record", row.Type)
	}
	u := &undoing{t: t, id: row.ID}
	for _, part := range []struct {
		text *string
		into *policy.Record
	}{{row.Before, &u.before}, {row.After, &u.after}} {
		if part.text == nil {
			continue
		}
		r := policy.New(t)
		if err := json.Unmarshal([]byte(*part.text), r); err != nil {
			return nil, err
		}
		*part.into = r
	}
	for _, part := range []struct {
		text *string
		into *[]policy.Member
	}{{row.Added, &u.added}, {row.Dropped, &u.dropped}} {
		if part.text == nil {
			continue
		}
		if err := json.Unmarshal([]byte(*part.text), part.into); err != nil {
			return nil, err
		}
	}
	return u, nil
}

// stands tells whether a record is still what the revision made of it, as far as the revision touched it.
func (u *undoing) stands(now policy.Record) bool {
	if now == nil || u.after == nil {
		return now == nil && u.after == nil
	}
	if u.before == nil && !same(policy.Short(now), u.after) {
		return false
	}
	have := translate.Fields(policy.Short(now))
	for name := range u.changedFields() {
		if string(have[name]) != string(translate.Fields(u.after)[name]) {
			return false
		}
	}
	list := membersOf(now)
	is := func(m policy.Member) bool {
		_, found := slices.BinarySearchFunc(list, m, policy.CompareMembers)
		return found
	}
	if u.before == nil { // it goes whole, and with it everything that is in its list
		return len(list) == len(u.added) && !slices.ContainsFunc(u.added, func(m policy.Member) bool { return !is(m) })
	}
	return !slices.ContainsFunc(u.added, func(m policy.Member) bool { return !is(m) }) && !slices.ContainsFunc(u.dropped, is)
}

// changedFields are the fields that the revision changed of a record that was there before and after, as they were before.
func (u *undoing) changedFields() map[string]json.RawMessage {
	out := map[string]json.RawMessage{}
	if u.before == nil || u.after == nil {
		return out
	}
	before, after := translate.Fields(u.before), translate.Fields(u.after)
	for _, fields := range []map[string]json.RawMessage{before, after} {
		for name := range fields {
			if string(before[name]) != string(after[name]) {
				out[name] = before[name]
			}
		}
	}
	return out
}

// back gives a record with the changed fields as they were, and all else as it is.
func (u *undoing) back(now policy.Record) (policy.Record, error) {
	fields := translate.Fields(policy.Short(now))
	for name, was := range u.changedFields() {
		if fields[name] = was; was == nil {
			delete(fields, name)
		}
	}
	body, err := json.Marshal(fields)
	if err != nil {
		return nil, err
	}
	out := policy.New(u.t)
	if err := json.Unmarshal(body, out); err != nil {
		return nil, err
	}
	return withLists(out, now), nil
}

// same compares two records, or none, by what they are written as.
func same(a, b policy.Record) bool {
	if a == nil || b == nil {
		return a == b
	}
	return Tag(a) == Tag(b)
}

// membersOf is the long list of a record as memberships.
func membersOf(r policy.Record) []policy.Member {
	switch r := r.(type) {
	case *policy.UserGroup:
		return r.Members
	case *policy.DeviceGroup:
		out := make([]policy.Member, len(r.Devices))
		for i, d := range r.Devices {
			out[i].User = policy.UserID(d)
		}
		return out
	}
	return nil
}

// changes are those that take it back.
func (u *undoing) changes() []policy.Change {
	if u.before == nil {
		return []policy.Change{{Op: policy.Remove, Type: u.t, ID: u.id}}
	}
	out := []policy.Change{{Op: policy.Patch, Type: u.t, ID: u.id, Edit: u.back}}
	if u.after == nil {
		out[0] = policy.Change{Op: policy.Put, Type: u.t, ID: u.id, Record: u.before}
	}
	step := func(op policy.Op, list []policy.Member) {
		for _, m := range list {
			// Each of a person's memberships by itself: those of other times stay.
			change := policy.Change{Op: op, Type: u.t, ID: u.id, List: "members", Member: m, Also: true}
			if u.t == policy.DeviceGroups {
				change.List, change.Value = "devices", string(m.User)
			}
			out = append(out, change)
		}
	}
	step(policy.Drop, u.added)
	step(policy.Add, u.dropped)
	return out
}

// withLists gives a record with the long list that another version of it has.
func withLists(r, lists policy.Record) policy.Record {
	switch l := lists.(type) {
	case *policy.UserGroup:
		n := *r.(*policy.UserGroup)
		n.Members = l.Members
		return &n
	case *policy.DeviceGroup:
		n := *r.(*policy.DeviceGroup)
		n.Devices = l.Devices
		return &n
	}
	return r
}
