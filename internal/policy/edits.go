package policy

import (
	"cmp"
	"maps"
	"slices"
)

// edits are what is added to and dropped from the long list of a record. They are gathered, and made at once: one by one each would copy a list of
// thousands.
type edits struct {
	members map[UserID][]Member // what a user has in the list from then on
	devices map[DeviceID][]DeviceID
}

// entry adds an entry to, or drops it from, the long list of a record.
func (d *draft) entry(c *Change, check *checker) {
	p, ok := d.pending[c.Type][c.ID]
	if !ok {
		if r, there := d.base.Get(c.Type, c.ID); there {
			d.set(c, r)
			p, ok = d.pending[c.Type][c.ID]
		}
	}
	if !ok || p.record == nil {
		check.fault("", "%s", d.unknown(c.Type, c.ID))
		return
	}
	if p.edits == nil {
		p.edits = &edits{map[UserID][]Member{}, map[DeviceID][]DeviceID{}}
	}
	switch r := p.record.(type) {
	case *UserGroup:
		s := c.Entry.Member().Span().utc()
		if c.Op == Add {
			check.span("members", s)
		}
		p.edits.member(r.Members, c, Member{UserID(c.Entry.Value), s.From, s.Until})
	case *DeviceGroup:
		id := DeviceID(c.Entry.Value)
		p.edits.devices[id] = nil
		if c.Op == Add {
			p.edits.devices[id] = []DeviceID{id}
		}
	}
	d.mention(*c)
}

// member adds or drops a membership: in the place of all that the user has, or with Beside among them, that very one.
func (e *edits) member(list []Member, c *Change, m Member) {
	if !c.Beside {
		e.members[m.User] = nil
		if c.Op == Add {
			e.members[m.User] = []Member{m}
		}
		return
	}
	have, known := e.members[m.User]
	if !known {
		have = slices.Clone(membershipsOf(list, m.User))
	}
	at, there := slices.BinarySearchFunc(have, m, CompareMembers)
	switch {
	case c.Op == Add && !there:
		have = slices.Insert(have, at, m)
	case c.Op == Drop && there:
		have = slices.Delete(have, at, at+1)
	}
	e.members[m.User] = have
}

func userOf(m Member) UserID { return m.User }

// membershipsOf is the part of a group's list that is a user's.
func membershipsOf(list []Member, id UserID) []Member {
	from, _ := slices.BinarySearchFunc(list, id, func(m Member, id UserID) int { return cmp.Compare(m.User, id) })
	to := from
	for to < len(list) && list[to].User == id {
		to++
	}
	return list[from:to]
}

// IsMember tells whether a user has a membership in a group, at whatever time.
func (g *UserGroup) IsMember(id UserID) bool { return len(g.Memberships(id)) > 0 }

// Memberships lists those of a user in the group, whenever they are; it is part of the group's list, and not to be changed.
func (g *UserGroup) Memberships(id UserID) []Member { return membershipsOf(g.Members, id) }

// settle makes the edits that were gathered, on a copy of the record.
func (p *pending) settle() {
	if p.edits == nil {
		return
	}
	switch r := p.record.(type) {
	case *UserGroup:
		n := *r
		n.Members = edited(r.Members, userOf, p.edits.members)
		p.record = &n
	case *DeviceGroup:
		n := *r
		n.Devices = edited(r.Devices, func(id DeviceID) DeviceID { return id }, p.edits.devices)
		p.record = &n
	}
	p.edits = nil
}

// edited is a list in order of its keys with other entries for some of them: one copy of it. An empty one is nil.
func edited[T any, K cmp.Ordered](list []T, key func(T) K, edits map[K][]T) []T {
	out := make([]T, 0, len(list)+len(edits))
	for _, k := range slices.Sorted(maps.Keys(edits)) {
		at, _ := slices.BinarySearchFunc(list, k, func(e T, k K) int { return cmp.Compare(key(e), k) })
		out = append(out, list[:at]...)
		for list = list[at:]; len(list) > 0 && key(list[0]) == k; list = list[1:] {
		}
		out = append(out, edits[k]...)
	}
	if out = append(out, list...); len(out) == 0 {
		return nil
	}
	return out
}
