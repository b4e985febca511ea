package policy

import (
	"cmp"
	"reflect"
	"slices"
)

// Loosening is one way in which somebody could gain something by a removal.
type Loosening struct {
	Why      string // less: a deny would reach or cover less; direct, days, clock
	Grant    string // name of the grant that it is about; empty: none
	Schedule string // name of the schedule
}

// Loosened tells how the removal of a record together with its mentions could give somebody something: "Removing with its
// mentions" in the semantics. next is the policy without the record. It says too much rather than too little.
func (p *Policy) Loosened(next *Policy, t Type, id string) []Loosening {
	l := loosening{p: p, next: next, t: t, id: id}
	if t == Users || t == Devices {
		return nil // what is taken from them goes with them
	}
	l.grants(t == Rights || t == Kinds)
	switch t {
	case Sites:
		l.site()
	case Kinds:
		l.kind()
	case DeviceGroups:
		l.deviceGroup()
	case UserGroups:
		l.userGroup()
	case Rights:
		l.right()
	case Calendars:
		l.calendar()
	}
	slices.SortFunc(l.out, func(a, b Loosening) int {
		return cmp.Or(cmp.Compare(a.Why, b.Why), cmp.Compare(a.Grant, b.Grant), cmp.Compare(a.Schedule, b.Schedule))
	})
	return slices.Compact(l.out)
}

type loosening struct {
	p, next *Policy
	t       Type
	id      string
	out     []Loosening
}

func (l *loosening) less(g *Grant) {
	l.out = append(l.out, Loosening{Why: "less", Grant: g.Title()})
}

// denies calls visit for each line of a deny that is in use.
func (l *loosening) denies(visit func(g *Grant, line *Line)) {
	for g := range Each[*Grant](l.p) {
		if g.Effect == Deny {
			for i := range g.Lines {
				visit(g, &g.Lines[i])
			}
		}
	}
}

// grants compares each grant with what is left of it. Where only rights go, a deny of them takes no less of what is left, unless
// another right implies them, which is looked at by itself.
func (l *loosening) grants(onlyRights bool) {
	direct := l.p.Settings().Combine == DirectFirst
	for g := range Each[*Grant](l.p) {
		after, there := Find[*Grant](l.next, g.Key())
		if there && (after == g || reflect.DeepEqual(after, g)) {
			continue
		}
		switch {
		case g.Effect == Deny && !onlyRights:
			l.less(g)
		case direct && len(g.To.Users) > 0:
			l.out = append(l.out, Loosening{Why: "direct", Grant: g.Title()})
		}
	}
}

// upSites are a site and all above it.
func (l *loosening) upSites(id SiteID) []SiteID {
	var out []SiteID
	for id != "" {
		out = append(out, id)
		s, ok := Find[*Site](l.p, string(id))
		if !ok {
			break
		}
		id = s.Parent
	}
	return out
}

// below tells whether a device group is another or lies below it.
func (l *loosening) below(g *DeviceGroup, other DeviceGroupID) bool {
	for g != nil && g.ID != other {
		g, _ = Find[*DeviceGroup](l.p, string(g.Parent))
	}
	return g != nil
}

// shrinks notes the denies on groups that a rule fills, or on groups above those, where the rule would hold for less.
func (l *loosening) shrinks(rule func(m *Match) bool) {
	for group := range Each[*DeviceGroup](l.p) {
		if group.Match == nil || !rule(group.Match) {
			continue
		}
		l.denies(func(g *Grant, line *Line) {
			if slices.ContainsFunc(line.On.DeviceGroups, func(id DeviceGroupID) bool { return l.below(group, id) }) {
				l.less(g)
			}
		})
	}
}

func (l *loosening) site() {
	up := l.upSites(SiteID(l.id))
	own, clock := false, false
	for d := range Each[*Device](l.p) {
		own = own || string(d.Site) == l.id
		if d.Site != "" && slices.Contains(l.upSites(d.Site), SiteID(l.id)) {
			after, _ := Find[*Device](l.next, d.Key())
			clock = clock || zoneOf(l.p, d.Site) != zoneOf(l.next, after.Site)
		}
	}
	if clock {
		l.out = append(l.out, Loosening{Why: "clock"})
	}
	if !own {
		return
	}
	among := func(id SiteID) bool { return slices.Contains(up, id) }
	l.denies(func(g *Grant, line *Line) {
		if slices.ContainsFunc(line.On.Sites, among) {
			l.less(g)
		}
	})
	l.shrinks(func(m *Match) bool { return slices.ContainsFunc(m.Sites, among) })
}

func zoneOf(p *Policy, id SiteID) string {
	for id != "" {
		s, ok := Find[*Site](p, string(id))
		if !ok || s.Zone != "" {
			if ok {
				return s.Zone
			}
			break
		}
		id = s.Parent
	}
	return p.Settings().Zone
}

func (l *loosening) kind() {
	l.shrinks(func(m *Match) bool { return slices.Contains(m.Kinds, KindID(l.id)) })
	for r := range Each[*Right](l.p) {
		if _, there := Find[*Right](l.next, r.Key()); !there {
			l.rightGone(r)
		}
	}
}

// deviceGroup looks at the devices of the group itself, which would lie in none of those above it any more.
func (l *loosening) deviceGroup() {
	group, _ := Find[*DeviceGroup](l.p, l.id)
	l.denies(func(g *Grant, line *Line) {
		if slices.ContainsFunc(line.On.DeviceGroups, func(id DeviceGroupID) bool { return l.below(group, id) }) {
			l.less(g)
		}
	})
}

// userGroup looks at the members, who would be in none of the groups any more that include it.
func (l *loosening) userGroup() {
	in := map[UserGroupID]bool{UserGroupID(l.id): true}
	for grown := true; grown; {
		grown = false
		for g := range Each[*UserGroup](l.p) {
			if !in[g.ID] && slices.ContainsFunc(g.Includes, func(id UserGroupID) bool { return in[id] }) {
				in[g.ID], grown = true, true
			}
		}
	}
	l.denies(func(g *Grant, _ *Line) {
		if slices.ContainsFunc(g.To.Groups, func(id UserGroupID) bool { return in[id] }) {
			l.less(g)
		}
	})
}

func (l *loosening) right() {
	if r, ok := Find[*Right](l.p, l.id); ok {
		l.rightGone(r)
	}
}

// rightGone looks at the rights that imply one that would go: what takes it, or what it implies, takes them too.
func (l *loosening) rightGone(r *Right) {
	implied := l.closure(r.ID)
	implies := slices.ContainsFunc(slices.Collect(Each[*Right](l.p)), func(other *Right) bool {
		return other.ID != r.ID && slices.Contains(l.closure(other.ID), r.ID)
	})
	l.denies(func(g *Grant, line *Line) {
		rights := slices.Clone(line.Rights)
		for _, id := range line.Roles {
			role, _ := Find[*Role](l.p, string(id))
			rights = append(rights, role.Rights...)
		}
		if implies && slices.ContainsFunc(rights, func(id RightID) bool { return slices.Contains(implied, id) }) {
			l.less(g)
		}
	})
}

// closure is a right and all that it implies.
func (l *loosening) closure(id RightID) []RightID {
	out := []RightID{id}
	for i := 0; i < len(out); i++ {
		r, _ := Find[*Right](l.p, string(out[i]))
		for _, more := range r.Implies {
			if !slices.Contains(out, more) {
				out = append(out, more)
			}
		}
	}
	return out
}

// calendar looks at the schedules that follow it: without closures they are open on more days.
func (l *loosening) calendar() {
	for s := range Each[*Schedule](l.p) {
		after, _ := Find[*Schedule](l.next, s.Key())
		if reflect.DeepEqual(after, s) {
			continue
		}
		for g := range Each[*Grant](l.p) {
			if slices.ContainsFunc(g.Lines, func(line Line) bool { return slices.Contains(line.When, s.ID) }) {
				l.out = append(l.out, Loosening{"days", g.Title(), s.Title()})
			}
		}
	}
}
