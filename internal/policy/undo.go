package policy

import (
	"bytes"
	"slices"
)

// Kept is a change of a record as it was kept: both versions without their long list, nil where it was not there, and what came into
// that list and went out of it.
func Kept(before, after Record, added, dropped []Entry) RecordChange {
	switch {
	case before == nil:
		after = withEntries(after, added)
	case after == nil:
		before = withEntries(before, dropped)
	}
	return RecordChange{Before: before, After: after, entries: &entryChanges{added, dropped}}
}

// withEntries gives a record that has no long list one.
func withEntries(r Record, list []Entry) Record {
	switch r := r.(type) {
	case *UserGroup:
		n := *r
		for _, e := range list {
			n.Members = append(n.Members, e.Member())
		}
		return &n
	case *DeviceGroup:
		n := *r
		for _, e := range list {
			n.Devices = append(n.Devices, DeviceID(e.Value))
		}
		return &n
	}
	return r
}

// Reverse is the change that takes this one back.
func (c RecordChange) Reverse() RecordChange {
	out := RecordChange{Before: c.After, After: c.Before}
	if c.entries != nil {
		out.entries = &entryChanges{c.entries.dropped, c.entries.added}
	}
	return out
}

// Before is the policy of which the revisions have made p: what each did, newest first. The error is of type [Faults], where they are not those
// that led to p.
func (p *Policy) Before(newestFirst [][]RecordChange) (*Policy, error) {
	var changes []Change
	for _, done := range newestFirst {
		for i := len(done) - 1; i >= 0; i-- {
			changes = append(changes, done[i].Reverse().Changes()...)
		}
	}
	d := newDraft(p, changes)
	d.kept = true // it was a policy once, whatever is bounded more closely since
	for i := range changes {
		d.step(&changes[i])
	}
	if err := d.sound(); err != nil {
		return nil, err
	}
	was, _, err := d.finish()
	return was, err
}

// Stands tells whether a record, nil where it is not there, is still what the change made of it, as far as the change touched it.
func (c RecordChange) Stands(now Record) bool {
	if now == nil || c.After == nil {
		return now == nil && c.After == nil
	}
	list := LongEntries(now)
	if c.Before == nil { // it goes whole, and with it everything that is in its list
		return bytes.Equal(Write(now), Write(c.After)) && slices.EqualFunc(list, LongEntries(c.After), sameEntry)
	}
	before, after := c.Written()
	was, _ := members(before)
	is, _ := members(after)
	have, _ := members(Write(now))
	for name := range merge(was, is) {
		if !bytes.Equal(was[name], is[name]) && !bytes.Equal(have[name], is[name]) {
			return false
		}
	}
	in := func(e Entry) bool { return hasEntry(list, e) }
	added, dropped := c.Entries()
	return !slices.ContainsFunc(added, func(e Entry) bool { return !in(e) }) && !slices.ContainsFunc(dropped, in)
}

func sameEntry(a, b Entry) bool { return CompareMembers(a.Member(), b.Member()) == 0 }

func hasEntry(list []Entry, e Entry) bool {
	return slices.ContainsFunc(list, func(o Entry) bool { return sameEntry(e, o) })
}

func merge[K comparable, V any](a, b map[K]V) map[K]bool {
	out := make(map[K]bool, len(a)+len(b))
	for k := range a {
		out[k] = true
	}
	for k := range b {
		out[k] = true
	}
	return out
}
