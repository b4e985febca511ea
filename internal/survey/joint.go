package survey

import (
	"fmt"
	"maps"
	"slices"

	"sentier/internal/container"
	"sentier/internal/decision"
	"sentier/internal/policy"
)

// joints parts users and devices by their classes before and after, and marks those whom the change can touch. Where it touches single users and devices
// alone, only those are there, and whoever and whatever they have to do with.
func (p *comparison) joints(done []policy.RecordChange) (users []userJoint, devices []deviceJoint) {
	before, after := p.before, p.after
	t := before.Touched(done)
	all := done == nil || t.EveryDevice || t.Wholesale(after.Policy())
	people, things := slices.AppendSeq([]policy.UserID{}, maps.Keys(t.Users)), slices.AppendSeq([]policy.DeviceID{}, maps.Keys(t.Devices))
	switch {
	case !all && t.Few():
		p.few, p.touched, p.things = true, people, things
		p.sameLines()
		users, devices = moved(&before.Users, &after.Users, people, false, nil), moved(&before.Devices, &after.Devices, things, false, p.pointsApart())
		met, meeting := p.around(users, devices)
		return append(users, stayed(&before.Users, &after.Users, people, meeting, nil)...), append(devices, stayed(&before.Devices, &after.Devices, things, met, p.pointsApart())...)
	case all:
		p.findLines()
		users, devices = moved(&before.Users, &after.Users, everybody(&before.Users, &after.Users), true, nil), moved(&before.Devices, &after.Devices, everybody(&before.Devices, &after.Devices), true, p.pointsApart())
	default:
		p.findLines()
		users = append(moved(&before.Users, &after.Users, people, false, nil), stayed(&before.Users, &after.Users, people, slices.Collect(after.Users.Inhabited), nil)...)
		devices = append(moved(&before.Devices, &after.Devices, things, false, p.pointsApart()), stayed(&before.Devices, &after.Devices, things, slices.Collect(after.Devices.Inhabited), p.pointsApart())...)
	}
	p.everything = before.DirectFirst != after.DirectFirst || !p.rights.alike
	p.look(users, devices)
	return users, devices
}

// around lists the classes of devices that lines of some users cover, and of users whom lines on some devices concern, where the lines are the same before
// and after.
func (p *comparison) around(users []userJoint, devices []deviceJoint) (covered, holders []int32) {
	what, who := decision.NewClassSet(p.after.Devices.Classes.Size), decision.NewClassSet(p.after.Users.Classes.Size)
	for i := range users {
		for _, class := range []*decision.UserClass{users[i].before, users[i].after} {
			if class == nil {
				continue
			}
			for _, h := range class.Held {
				for _, r := range p.after.BySubject[h.Subject] {
					what.Add(p.after.Covered(r.Target))
				}
			}
		}
	}
	on := map[decision.Target]bool{}
	for i := range devices {
		for _, class := range []*decision.DeviceClass{devices[i].before, devices[i].after} {
			if class == nil {
				continue
			}
			for _, list := range [][]decision.Target{class.Facts.Targets, class.Facts.Points} {
				for _, t := range list {
					on[t] = true
				}
			}
		}
	}
	if len(on) > 0 {
		for i := range p.after.Lines {
			if l := &p.after.Lines[i]; slices.ContainsFunc(l.On, func(t decision.Target) bool { return on[t] }) {
				for _, s := range l.To {
					who.Add(p.after.Holders(s))
				}
			}
		}
	}
	return what.List, who.List
}

// joint is those who share a class before and a class after; one is nil where they are not there.
type joint[ID ~string, C any] struct {
	before, after         *C
	from, to              int32 // the numbers of the classes
	ids                   container.Roll[ID]
	points                points // of devices: which ones only one of the policies has
	moved                 bool   // the class is another one, or the points are
	nearBefore, nearAfter bool   // a line of the one policy concerns them that is not in the other
	concerned             bool   // somebody gains or loses something on them
	spared                int    // for how many users they are in another part than their block, where that is concerned
}

type (
	userJoint   = joint[policy.UserID, decision.UserClass]
	deviceJoint = joint[policy.DeviceID, decision.DeviceClass]
)

// points are points that devices have in only one of two policies, which have the devices in both.
type points struct{ added, removed []policy.PointID }

func (p points) key() string {
	if len(p.added)+len(p.removed) == 0 {
		return ""
	}
	return fmt.Sprint(p.added, p.removed)
}

// pointOf is the joint as one of its points has it: not there in the policy that does not have the point. It tells whether there is such a one.
func pointOf(d *deviceJoint, id policy.PointID) (x deviceJoint, other bool) {
	x = *d
	switch {
	case slices.Contains(d.points.added, id):
		x.before = nil
	case slices.Contains(d.points.removed, id):
		x.after = nil
	default:
		return x, false
	}
	return x, true
}

// pointsApart finds which points a device has in only one of the policies; nil where no device does.
func (p *comparison) pointsApart() func(policy.DeviceID) points {
	if p.before.Policy().Table(policy.Devices).Same(p.after.Policy().Table(policy.Devices)) {
		return nil
	}
	return p.otherPoints
}

// otherPoints finds those of one device.
func (p *comparison) otherPoints(id policy.DeviceID) (out points) {
	x, before := policy.Find[*policy.Device](p.before.Policy(), string(id))
	y, after := policy.Find[*policy.Device](p.after.Policy(), string(id))
	if !before || !after || x == y {
		return out
	}
	lacks := func(list []policy.Point, among []policy.Point) (out []policy.PointID) {
		for _, point := range list {
			if !slices.ContainsFunc(among, func(o policy.Point) bool { return o.ID == point.ID }) {
				out = append(out, point.ID)
			}
		}
		return out
	}
	return points{lacks(y.Points, x.Points), lacks(x.Points, y.Points)}
}

// meet tells whether a line may concern both that is in one of the policies alone.
func meet(u *userJoint, d *deviceJoint) bool {
	return u.nearBefore && d.nearBefore || u.nearAfter && d.nearAfter
}

// moved finds those of some who share both classes, and the points that only one policy has, where the classes are others or there are such points; with same, all
// of them. pointsOf is nil for users.
func moved[ID ~string, C any](before, after *container.Crowd[ID, C], some []ID, same bool, pointsOf func(ID) points) []joint[ID, C] {
	type kind struct {
		from, to int32
		points   string
	}
	var out []joint[ID, C]
	lists := map[kind][]ID{}
	for _, id := range some {
		key := kind{from: -1, to: -1}
		if s := before.Where.Find(string(id)); s != nil {
			key.from = s.Class
		}
		if s := after.Where.Find(string(id)); s != nil {
			key.to = s.Class
		}
		if pointsOf != nil {
			key.points = pointsOf(id).key()
		}
		if key.from != key.to || same || key.points != "" {
			lists[key] = append(lists[key], id)
		}
	}
	for key, ids := range lists {
		slices.Sort(ids)
		j := joint[ID, C]{from: key.from, to: key.to, ids: container.RollOf(ids), moved: true}
		if key.from >= 0 {
			j.before = before.Classes.At(key.from)
		}
		if key.to >= 0 {
			j.after = after.Classes.At(key.to)
		}
		if key.points != "" {
			j.points = pointsOf(ids[0])
		}
		out = append(out, j)
	}
	return out
}

// stayed finds those who are in classes that were there before, but for some who may not have been in them, or have other points.
func stayed[ID ~string, C any](before, after *container.Crowd[ID, C], some []ID, classes []int32, pointsOf func(ID) points) []joint[ID, C] {
	joined := map[int32]bool{}
	for _, id := range some {
		if s := after.Where.Find(string(id)); s != nil {
			joined[s.Class] = true
		}
	}
	var out []joint[ID, C]
	for _, n := range classes {
		if n >= int32(before.Classes.Size) {
			continue
		}
		ids := *after.Members.At(n)
		if joined[n] {
			ids = ids.Except(some, func(id ID) bool {
				s := before.Where.Find(string(id))
				return s != nil && s.Class == n && (pointsOf == nil || pointsOf(id).key() == "")
			})
		}
		out = append(out, joint[ID, C]{before: before.Classes.At(n), after: after.Classes.At(n), from: n, to: n, ids: ids})
	}
	return out
}

// everybody lists all who are there before or after.
func everybody[ID ~string, C any](before, after *container.Crowd[ID, C]) (out []ID) {
	for n := range before.Inhabited {
		for id := range before.Members.At(n).All {
			out = append(out, id)
		}
	}
	for n := range after.Inhabited {
		for id := range after.Members.At(n).All {
			if before.Where.Find(string(id)) == nil {
				out = append(out, id)
			}
		}
	}
	return out
}

// look marks the classes that are others than before, and those whom a line concerns that is another.
func (p *comparison) look(users []userJoint, devices []deviceJoint) {
	old, new := p.before.namesOf(), p.after.namesOf()
	old.settled, new.settled = p.before.settled(p.before.changed), p.after.settled(p.after.changed)
	before, after := p.before.concern(p.before.changed), p.after.concern(p.after.changed)
	for i := range users {
		u := &users[i]
		u.nearBefore, u.nearAfter = u.before != nil && before.user(u.before), u.after != nil && after.user(u.after)
		u.moved = u.before == nil || u.after == nil || !old.sameUser(u.before, &new, u.after)
	}
	for i := range devices {
		d := &devices[i]
		d.nearBefore, d.nearAfter = d.before != nil && before.device(d.before), d.after != nil && after.device(d.after)
		d.moved = d.before == nil || d.after == nil || d.points.key() != "" || !old.sameDevice(d.before, &new, d.after)
	}
}

// names are the keys of subjects and targets by their numbers, by which two policies are compared.
type names struct {
	subjects []decision.SubjectKey
	targets  []decision.TargetKey
	settled  concern // what lines concern that are in both policies, or expectations
}

func (c Survey) namesOf() names {
	out := names{subjects: make([]decision.SubjectKey, len(c.BySubject)), targets: make([]decision.TargetKey, len(c.ByTarget))}
	for k, s := range c.Subjects {
		out.subjects[s] = k
	}
	for k, t := range c.Targets {
		out.targets[t] = k
	}
	return out
}

// sameUser tells whether two classes of users, one of each policy, are alike but for the lines of grants that are others.
func (n *names) sameUser(a *decision.UserClass, o *names, b *decision.UserClass) bool {
	if a.Bar != b.Bar || a.Valid != b.Valid {
		return false
	}
	left := 0
	for _, h := range b.Held {
		left += decision.Bit(o.settled.subjects[h.Subject])
	}
	for _, h := range a.Held {
		if !n.settled.subjects[h.Subject] {
			continue
		}
		if left--; !slices.ContainsFunc(b.Held, func(x decision.Held) bool {
			return o.subjects[x.Subject] == n.subjects[h.Subject] && x.Period == h.Period
		}) {
			return false
		}
	}
	return left == 0
}

// sameDevice tells whether two classes of devices, one of each policy, are alike but for the lines of grants that are others.
func (n *names) sameDevice(a *decision.DeviceClass, o *names, b *decision.DeviceClass) bool {
	x, y := a.Facts, b.Facts
	if x.State != y.State || x.Kind != y.Kind || a.Lockout != b.Lockout || x.Zone.String() != y.Zone.String() {
		return false
	}
	left := 0
	for _, t := range y.Targets {
		left += decision.Bit(o.settled.targets[t])
	}
	for _, t := range x.Targets {
		if !n.settled.targets[t] {
			continue
		}
		if left--; !slices.ContainsFunc(y.Targets, func(u decision.Target) bool { return o.targets[u] == n.targets[t] }) {
			return false
		}
	}
	if left != 0 {
		return false
	}
	points := func(of *names, f *decision.DeviceFacts) (out []decision.TargetKey) {
		for _, t := range f.Points {
			out = append(out, of.targets[t])
		}
		return out
	}
	return slices.Equal(points(n, x), points(o, y))
}

// concern is whom, and what, some lines concern.
type concern struct{ subjects, targets []bool }

func (c Survey) concern(lines []bool) concern {
	out := concern{make([]bool, len(c.BySubject)), make([]bool, len(c.ByTarget))}
	for i := range c.Lines {
		if lines[i] {
			for _, s := range c.Lines[i].To {
				out.subjects[s] = true
			}
			for _, t := range c.Lines[i].On {
				out.targets[t] = true
			}
		}
	}
	return out
}

// settled is what lines concern that are not among some, and what expectations are about.
func (c Survey) settled(but []bool) concern {
	others := make([]bool, len(but))
	for i := range but {
		others[i] = !but[i]
	}
	out := c.concern(others)
	for i := range c.Expectations {
		e := &c.Expectations[i]
		for _, s := range slices.Concat(e.Who, e.Except) {
			out.subjects[s] = true
		}
		for _, t := range e.On {
			out.targets[t] = true
		}
	}
	return out
}

func (x *concern) user(u *decision.UserClass) bool {
	return slices.ContainsFunc(u.Held, func(h decision.Held) bool { return x.subjects[h.Subject] })
}

func (x *concern) device(d *decision.DeviceClass) bool {
	is := func(t decision.Target) bool { return x.targets[t] }
	return slices.ContainsFunc(d.Facts.Targets, is) || slices.ContainsFunc(d.Facts.Points, is)
}
