package service

import (
	"context"
	"encoding/json"
	"fmt"

	"sentier/internal/policy"
	"sentier/internal/store"
	"sentier/internal/wire"
)

// Undo takes back what a revision did, as a new revision: each record becomes what it was before, entry by
// entry where it has a long list, so that what came since stays. It is refused where that is not possible any more.
func (s *Service) Undo(ctx context.Context, c Caller, revision uint64, o EditOptions) (wire.Saved, error) {
	if revision < 2 || revision > s.State().Revision.Number {
		return wire.Saved{}, ErrNotFound // the first is the beginning
	}
	rows, err := s.store.Changes(ctx, revision)
	if err != nil {
		return wire.Saved{}, err
	}
	var back []policy.Change
	for _, row := range rows {
		changes, err := undone(row)
		if err != nil {
			return wire.Saved{}, fmt.Errorf("read revision %d: %w", revision, err)
		}
		back = append(back, changes...)
	}
	o.Note = fmt.Sprintf("undo of revision %d", revision)
	return s.edit(ctx, c, o, func(*policy.Policy) ([]policy.Change, error) { return back, nil })
}

func undone(row store.Change) ([]policy.Change, error) {
	t, ok := policy.TypeNamed(row.Type)
	if !ok {
		return nil, fmt.Errorf("%q is no type of record", row.Type)
	}
	if row.Before == nil {
		return []policy.Change{{Op: policy.Remove, Type: t, ID: row.ID}}, nil
	}
	before := policy.New(t)
	if err := json.Unmarshal([]byte(*row.Before), before); err != nil {
		return nil, err
	}
	out := []policy.Change{{Op: policy.Patch, Type: t, ID: row.ID, Edit: func(now policy.Record) (policy.Record, error) {
		return withLists(before, now), nil
	}}}
	if row.After == nil {
		out[0] = policy.Change{Op: policy.Put, Type: t, ID: row.ID, Record: before}
	}
	for _, step := range []struct {
		op   policy.Op
		list *string
	}{{policy.Drop, row.Added}, {policy.Add, row.Dropped}} {
		if step.list == nil {
			continue
		}
		var members []policy.Member
		if err := json.Unmarshal([]byte(*step.list), &members); err != nil { // a device is written like a member without dates
			return nil, err
		}
		for _, m := range members {
			change := policy.Change{Op: step.op, Type: t, ID: row.ID, List: "members", Member: m}
			if t == policy.DeviceGroups {
				change.List, change.Value = "devices", string(m.User)
			}
			out = append(out, change)
		}
	}
	return out, nil
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
