package policy

import (
	"cmp"
	"encoding/json"
	"time"
)

// Entry is one entry of a list that is changed entry by entry: a member of a user group, a device of a device group, a tag or a point of
// a device. Long lists have thousands, of which a change touches few.
type Entry struct {
	Value       string    // the id of the user, the device or the point; the tag
	From, Until time.Time // of a membership
	Name        string    // of a point
}

// MarshalJSON writes a membership as [Member] does, which is the value alone where it has no ends.
func (e Entry) MarshalJSON() ([]byte, error) {
	return json.Marshal(Member{UserID(e.Value), e.From, e.Until})
}

// UnmarshalJSON reads what MarshalJSON writes.
func (e *Entry) UnmarshalJSON(b []byte) error {
	var m Member
	err := json.Unmarshal(b, &m)
	*e = Entry{Value: string(m.User), From: m.From, Until: m.Until}
	return err
}

// Member is the membership that the entry of a user group is.
func (e Entry) Member() Member { return Member{UserID(e.Value), e.From, e.Until} }

// EntryOf is the entry of a user group that a membership is.
func EntryOf(m Member) Entry { return Entry{Value: string(m.User), From: m.From, Until: m.Until} }

// Short is a record without its long list, and the record itself where it has none.
func Short(r Record) Record { return withLong(r, nil) }

// withLong is a record with the long list of another; nil: with none. Types without long lists stay as they are.
func withLong(r, list Record) Record {
	switch r := r.(type) {
	case *UserGroup:
		n := *r
		n.Members = nil
		if from, ok := list.(*UserGroup); ok {
			n.Members = from.Members
		}
		return &n
	case *DeviceGroup:
		n := *r
		n.Devices = nil
		if from, ok := list.(*DeviceGroup); ok {
			n.Devices = from.Devices
		}
		return &n
	}
	return r
}

// LongEntries is the long list of a record.
func LongEntries(r Record) []Entry {
	var out []Entry
	switch r := r.(type) {
	case *UserGroup:
		for _, m := range r.Members {
			out = append(out, EntryOf(m))
		}
	case *DeviceGroup:
		for _, d := range r.Devices {
			out = append(out, Entry{Value: string(d)})
		}
	}
	return out
}

// entryChanges is what a change did to the long list of a record.
type entryChanges struct{ added, dropped []Entry }

// Entries compares the long list of the record before and after the change.
func (c RecordChange) Entries() (added, dropped []Entry) {
	if c.entries != nil {
		return c.entries.added, c.entries.dropped
	}
	members := func(r Record) []Member {
		if g, ok := r.(*UserGroup); ok {
			return g.Members
		}
		return nil
	}
	Diff(members(c.Before), members(c.After), CompareMembers,
		func(m Member) { dropped = append(dropped, EntryOf(m)) },
		func(m Member) { added = append(added, EntryOf(m)) })
	devices := func(r Record) []DeviceID {
		if g, ok := r.(*DeviceGroup); ok {
			return g.Devices
		}
		return nil
	}
	Diff(devices(c.Before), devices(c.After), cmp.Compare[DeviceID],
		func(d DeviceID) { dropped = append(dropped, Entry{Value: string(d)}) },
		func(d DeviceID) { added = append(added, Entry{Value: string(d)}) })
	return added, dropped
}

// Diff walks two lists in the order of compare, and calls gone and come for what only one of them has.
func Diff[T comparable](before, after []T, compare func(a, b T) int, gone, come func(T)) {
	// Most lists of thousands differ in one place: what is the same at both ends is passed over quickly.
	for len(before) > 0 && len(after) > 0 && before[0] == after[0] {
		before, after = before[1:], after[1:]
	}
	for len(before) > 0 && len(after) > 0 && before[len(before)-1] == after[len(after)-1] {
		before, after = before[:len(before)-1], after[:len(after)-1]
	}
	for len(before) > 0 || len(after) > 0 {
		order := 0
		switch {
		case len(after) == 0:
			order = -1
		case len(before) == 0:
			order = 1
		default:
			order = compare(before[0], after[0])
		}
		if order < 0 {
			gone(before[0])
		}
		if order > 0 {
			come(after[0])
		}
		if order <= 0 {
			before = before[1:]
		}
		if order >= 0 {
			after = after[1:]
		}
	}
}
