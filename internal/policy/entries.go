package policy

import "cmp"

// Entry is one entry of a record's long list: a [Member] of a user group or a [DeviceID] of a device group.
// Such lists have thousands of entries, of which a change touches few.
type Entry struct {
	Of    string // the id of the user or the device
	Value any
}

// Short is a record without its long list, and the record itself where it has none.
func Short(r Record) Record {
	switch r := r.(type) {
	case *UserGroup:
		short := *r
		short.Members = nil
		return &short
	case *DeviceGroup:
		short := *r
		short.Devices = nil
		return &short
	}
	return r
}

// LongList is the name of the long list of a type's records; empty where they have none.
func LongList(t Type) string {
	return map[Type]string{UserGroups: "members", DeviceGroups: "devices"}[t]
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
		func(m Member) { dropped = append(dropped, Entry{string(m.User), m}) },
		func(m Member) { added = append(added, Entry{string(m.User), m}) })
	devices := func(r Record) []DeviceID {
		if g, ok := r.(*DeviceGroup); ok {
			return g.Devices
		}
		return nil
	}
	Diff(devices(c.Before), devices(c.After), cmp.Compare[DeviceID],
		func(d DeviceID) { dropped = append(dropped, Entry{string(d), d}) },
		func(d DeviceID) { added = append(added, Entry{string(d), d}) })
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
