package policy

import (
	"fmt"
	"maps"
	"slices"
	"strings"
)

// The faults that lie between records. Each check looks only at what the draft
// touches, since the base was sound: a change to one record of a million must
// not read the million.

// touched yields the records that the draft puts, in order.
func (d *draft) touched(types ...Type) []Record {
	var out []Record
	for _, t := range types {
		for _, id := range d.order[t] {
			if r := d.pending[t][id].record; r != nil {
				out = append(out, r)
			}
		}
	}
	return out
}

// checkReferences faults every mention, new in this draft, of something that is not there.
func (d *draft) checkReferences() {
	for _, r := range d.touched(Types()...) {
		if descriptors[r.Type()].LongList != "" && !d.removes && !d.whole(r.Type(), r.Key()) {
			continue // a list of thousands in which one entry is new
		}
		var old map[target]bool
		if before, ok := d.base.Get(r.Type(), r.Key()); ok {
			old = map[target]bool{}
			References(before, func(ref Reference) { old[ref.target()] = true })
		}
		References(r, func(ref Reference) {
			if old[ref.target()] && d.pending[ref.Type] == nil {
				return
			}
			if problem := d.missing(ref); problem.Form != "" {
				d.checker(r.Type(), r.Key()).fault(ref.Field(), "%s", problem)
			}
		})
	}
}

// checkEntries faults every added entry of something that is not there.
func (d *draft) checkEntries() {
	for _, e := range d.entries {
		if problem := d.missing(e.ref); problem.Form != "" && !d.removes && !d.whole(e.by.Type, e.by.ID) {
			d.checker(e.by.Type, e.by.ID).fault(e.ref.Field(), "%s", problem)
		}
	}
}

func (d *draft) missing(ref Reference) Said {
	to, ok := d.get(ref.Type, ref.ID)
	if !ok {
		return d.unknown(ref.Type, ref.ID)
	}
	device, isDevice := to.(*Device)
	if !isDevice || !ref.ToPoint {
		return Said{}
	}
	if ref.Point == "" {
		return Say("%q names no point: write device/point, or list it under devices", ref.ID)
	}
	names := make([]string, len(device.Points))
	for i, p := range device.Points {
		if p.ID == ref.Point {
			return Said{}
		}
		names[i] = string(p.ID)
	}
	if near := Nearest(string(ref.Point), names); near != "" {
		return Say("device %q has no point %q: did you mean %q?", ref.ID, ref.Point, near)
	}
	if len(names) == 0 {
		return Say("device %q has no points: grant the device", ref.ID)
	}
	return Say("device %q has no point %q: it has %s", ref.ID, ref.Point, strings.Join(names, ", "))
}

// checkRemovals faults every mention of what the draft takes away: records, and points of devices.
func (d *draft) checkRemovals() {
	gone := map[target]bool{}
	scan := map[Type]bool{}
	lose := func(from target, users []Type) {
		gone[from] = true
		for _, t := range users {
			scan[t] = true
		}
	}
	for t := Rights; t < typeCount; t++ {
		for id, p := range d.pending[t] {
			r := p.record
			before, ok := d.base.Get(t, id)
			switch {
			case !ok:
			case r == nil:
				lose(target{Type: t, ID: id}, referrers[t])
			case t == Devices:
				for _, p := range before.(*Device).Points {
					if !slices.ContainsFunc(r.(*Device).Points, func(q Point) bool { return q.ID == p.ID }) {
						lose(target{Devices, id, p.ID}, []Type{Grants, Expectations})
					}
				}
			}
		}
	}
	for t := Rights; t < typeCount; t++ {
		if !scan[t] {
			continue
		}
		for r := range d.base.tables[t].All() {
			if d.changed(t, r.Key()) {
				continue // checkReferences looks at it
			}
			References(r, func(ref Reference) {
				if gone[ref.target()] || gone[target{Type: ref.Type, ID: ref.ID}] {
					what := ref.ID
					if ref.Point != "" {
						what += "/" + string(ref.Point)
					}
					d.checker(t, r.Key()).fault(ref.Field(),
						"still mentions %s %q: take it out there first, or remove it along", Say(ref.Type.Noun()), what)
				}
			})
		}
	}
}

// checkCircles faults a site or device group that is its own ancestor, a user group that includes
// itself, and a right that implies itself, over any number of steps.
func (d *draft) checkCircles() {
	for _, t := range []Type{Rights, Sites, DeviceGroups, UserGroups} {
		done := map[string]bool{}
		for _, r := range d.touched(t) {
			if d.whole(t, r.Key()) { // an entry of a long list closes no circle
				d.walk(t, r.Key(), nil, done)
			}
		}
	}
}

func (d *draft) walk(t Type, id string, path []string, done map[string]bool) {
	if at := slices.Index(path, id); at >= 0 {
		// The fault stands where the draft put something: at the first of the circle.
		circle := append(slices.Clone(path[at:]), id)
		r, _ := d.get(t, id)
		References(r, func(ref Reference) {
			if ref.Type == t && ref.ID == circle[1] {
				d.checker(t, id).fault(ref.Field(), "closes a circle: %s", strings.Join(circle, " → "))
			}
		})
		return
	}
	r, ok := d.get(t, id)
	if !ok || done[id] {
		return
	}
	path = append(path, id)
	References(r, func(ref Reference) {
		if ref.Type == t {
			d.walk(t, ref.ID, path, done)
		}
	})
	done[id] = true
}

// nameScope is where a name must be the only one of its kind; empty where names may repeat.
func nameScope(r Record) string {
	switch r := r.(type) {
	case *Role, *DeviceGroup, *UserGroup, *Schedule, *Grant:
		return "the policy"
	case *Site:
		if r.Parent != "" {
			return "site " + string(r.Parent)
		}
		return "the sites at the top"
	}
	return ""
}

// nameKeys are the keys of which no two records of a type may share one: the name as people
// read it, as it looks, and the e-mail of a user.
func nameKeys(r Record) []string {
	if u, ok := r.(*User); ok {
		if u.Email == "" {
			return nil
		}
		return []string{"e-mail " + strings.ToLower(u.Email)}
	}
	scope := nameScope(r)
	return []string{scope + " " + FoldName(r.Title()), scope + " looks " + skeleton(r.Title())}
}

// checkNames faults a name that is taken where people choose by name, and an e-mail that is taken.
func (d *draft) checkNames() {
	for _, t := range []Type{Roles, Sites, DeviceGroups, Users, UserGroups, Schedules, Grants} {
		var fresh, kept []Record
		for _, r := range d.touched(t) {
			before, ok := d.base.Get(t, r.Key())
			if ok && slices.Equal(nameKeys(before), nameKeys(r)) {
				kept = append(kept, r)
			} else if len(nameKeys(r)) > 0 {
				fresh = append(fresh, r)
			}
		}
		if len(fresh) == 0 {
			continue
		}
		drafted := map[string]Record{}
		own := func(r Record) {
			for _, k := range nameKeys(r) {
				drafted[k] = r
			}
		}
		owner := func(key string) (Record, bool) {
			if r, ok := drafted[key]; ok {
				return r, true
			}
			id, _ := d.base.names[t].of(d.base.tables[t], key)
			if id == "" || d.changed(t, id) {
				return nil, false
			}
			return d.base.Get(t, id)
		}
		if _, sure := d.base.names[t].of(d.base.tables[t], ""); !sure {
			for r := range d.base.tables[t].All() {
				if !d.changed(t, r.Key()) {
					own(r)
				}
			}
		}
		for _, r := range kept {
			own(r)
		}
		d.byPlace(t, fresh)
		for _, r := range fresh {
			d.checkName(r, owner)
			own(r)
		}
	}
}

// byPlace sorts records as they came in their list.
func (d *draft) byPlace(t Type, list []Record) {
	type placed struct {
		place  int
		record Record
	}
	order := make([]placed, len(list))
	for i, r := range list {
		order[i] = placed{d.pending[t][r.Key()].place, r}
	}
	slices.SortStableFunc(order, func(a, b placed) int { return a.place - b.place })
	for i, o := range order {
		list[i] = o.record
	}
}

func (d *draft) checkName(r Record, owner func(key string) (Record, bool)) {
	for _, k := range nameKeys(r) {
		other, taken := owner(k)
		if !taken {
			continue
		}
		check := d.checker(r.Type(), r.Key())
		switch u, isUser := r.(*User); {
		case isUser:
			check.fault("email", "the e-mail %q is taken by %q: one person has one account", u.Email, other.Key())
		case FoldName(r.Title()) == FoldName(other.Title()):
			check.fault("name", "the name %q is taken in %s by %q: choose another", r.Title(), Say(nameScope(r)), other.Key())
		default:
			check.fault("name", "the name %q looks like %q, the name of %q: choose another", r.Title(), other.Title(), other.Key())
		}
		return
	}
}

// checkLimits faults a limit whose name stands for a number in one line and for texts in another.
func (d *draft) checkLimits() {
	touches := false
	for _, r := range d.touched(Grants) {
		for _, l := range r.(*Grant).Lines {
			touches = touches || len(l.Limits) > 0
		}
	}
	if !touches {
		return
	}
	type use struct {
		texts bool
		by    GrantID
	}
	first := map[string]use{}
	look := func(r Record, fault bool) {
		g := r.(*Grant)
		for i, l := range g.Lines {
			for _, name := range slices.Sorted(maps.Keys(l.Limits)) {
				texts := l.Limits[name].Texts != nil
				was, ok := first[name]
				if !ok {
					first[name] = use{texts, g.ID}
				} else if was.texts != texts && fault {
					kind := map[bool]Said{true: Say("a list of texts"), false: Say("a number")}
					d.checker(Grants, r.Key()).fault(fmt.Sprintf("lines[%d].limits.%s", i, name),
						"is %s here and %s in grant %q: one name has one type", kind[texts], kind[was.texts], was.by)
				}
			}
		}
	}
	for r := range d.base.tables[Grants].All() {
		if !d.changed(Grants, r.Key()) {
			look(r, false)
		}
	}
	for _, r := range d.touched(Grants) {
		look(r, true)
	}
}
