package decision

import (
	"cmp"
	"sentier/internal/container"
	"slices"
	"strings"
	"time"

	"sentier/internal/policy"
)

// Circumstances are those in which a reach is asked for.
type Circumstances struct {
	At      time.Time
	Context Context
	Degrees Degrees        // the zero value: Now alone
	Right   policy.RightID // only this right; empty: every right
}

// Reach is all users, or all devices and points, on one side of what is possible.
type Reach[ID ~string] struct {
	Total  int          // how many there are with at least one right
	Totals [Now + 1]int // how many with at least one right of a degree
	c      *Compiled
	shares []share[ID]
}

// share is the members of one class, for whom the same is possible.
type share[ID ~string] struct {
	members   container.Roll[ID]
	point     policy.PointID // of the one device of the class; empty: the devices themselves
	prospects []Prospect     // by right
}

// Reached is one of a [Reach].
type Reached[ID ~string] struct {
	ID     ID
	Point  policy.PointID
	Rights []Possibility
}

// Possibility is a right that is possible.
type Possibility struct {
	Right policy.RightID
	Prospect
}

// Key orders what is reached: the id, or device/point.
func (r Reached[ID]) Key() string {
	if r.Point == "" {
		return string(r.ID)
	}
	return string(r.ID) + "/" + string(r.Point)
}

func (r *Reach[ID]) add(s share[ID]) {
	r.shares = append(r.shares, s)
	r.Total += s.members.Size
	var seen Degrees
	for _, p := range s.prospects {
		if p.Degree != Impossible && seen&(1<<p.Degree) == 0 {
			seen = seen.With(p.Degree)
			r.Totals[p.Degree] += s.members.Size
		}
	}
}

// IDs lists all that are reached, in no order.
func (r *Reach[ID]) IDs() []ID {
	out := make([]ID, 0, r.Total)
	for _, s := range r.shares {
		for _, part := range s.members.Parts {
			out = append(out, part...)
		}
	}
	return out
}

// Page lists up to limit of those whose key is after a key, in the order of their keys.
func (r *Reach[ID]) Page(after string, limit int) []Reached[ID] {
	id, point, _ := strings.Cut(after, "/")
	var out []Reached[ID]
	for _, s := range r.shares {
		rights := r.c.possibilities(s.prospects)
		for _, one := range s.members.From(ID(id), limit+1) {
			if string(one) > id || string(one) == id && string(s.point) > point {
				out = append(out, Reached[ID]{one, s.point, rights})
			}
		}
	}
	slices.SortFunc(out, func(a, b Reached[ID]) int { return cmp.Or(cmp.Compare(a.ID, b.ID), cmp.Compare(a.Point, b.Point)) })
	return out[:min(limit, len(out))]
}

// Devices is [Reach.Page] without points.
func (r *Reach[ID]) Devices(after string, limit int) []Reached[ID] {
	return r.whole().Page(after, limit)
}

// DeviceTotal counts what is reached without points.
func (r *Reach[ID]) DeviceTotal() int { return r.whole().Total }

func (r *Reach[ID]) whole() *Reach[ID] {
	out := &Reach[ID]{c: r.c}
	for _, s := range r.shares {
		if s.point == "" {
			out.add(s)
		}
	}
	return out
}

// possibilities names the rights that are possible.
func (c *Compiled) possibilities(list []Prospect) []Possibility {
	var out []Possibility
	for i, p := range list {
		if p.Degree != Impossible {
			out = append(out, Possibility{c.rightList[i].id, p})
		}
	}
	return out
}

func (c *Compiled) rightIDs(set rightSet) []policy.RightID {
	out := []policy.RightID{}
	for i := range c.rightList {
		if set.has(i) {
			out = append(out, c.rightList[i].id)
		}
	}
	return out
}

// UsersOf finds all users who have a right on a device or one of its points.
func (c *Compiled) UsersOf(device policy.DeviceID, point policy.PointID, in Circumstances) (*Reach[policy.UserID], Reason) {
	out := &Reach[policy.UserID]{c: c}
	a := c.asking(in)
	if a.what = c.devices.Find(device); a.what == nil {
		return out, UnknownDevice
	}
	if point != "" {
		var ok bool
		if a.point, ok = c.pointOf(&Question{Device: device, Point: point}, a.what); !ok {
			return out, UnknownPoint
		}
	}
	wanted, ok := c.wanted(in.Right)
	if !ok {
		return out, UnknownRight
	}
	classes := newClassSet(c.users.Classes.Size)
	for _, s := range c.subjectsOn(a, wanted) {
		classes.add(c.inverted().holders[s])
	}
	look := c.survey(in, wanted)
	for _, n := range classes.list {
		a.who = c.users.Classes.At(n)
		if prospects := look.prospects(a); prospects != nil {
			out.add(share[policy.UserID]{*c.users.Members.At(n), "", prospects})
		}
	}
	return out, Granted
}

// subjectsOn lists those to whom any line gives a wanted right on the resource, at some time.
func (c *Compiled) subjectsOn(a *resolvedQuery, wanted rightSet) []subject {
	seen := map[*policy.Grant]bool{}
	var out []subject
	for _, t := range append(slices.Clip(a.what.facts.targets), a.point) {
		for _, o := range c.byTarget[t] {
			l := &c.lines[o.line]
			if !seen[l.grant] && l.rights.meets(wanted) {
				seen[l.grant] = true
				out = append(out, l.to...)
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// DevicesOf finds all devices, and the points that are granted by themselves, on which a user has a right.
func (c *Compiled) DevicesOf(user policy.UserID, in Circumstances) (*Reach[policy.DeviceID], Reason) {
	class := c.users.Find(user)
	if class == nil {
		return &Reach[policy.DeviceID]{c: c}, UnknownUser
	}
	return c.devicesOf(class, in)
}

// DevicesOfGroup finds what a user would reach who is in a user group and in no other: what the group amounts to.
func (c *Compiled) DevicesOfGroup(group policy.UserGroupID, in Circumstances) (*Reach[policy.DeviceID], Reason) {
	class := c.memberOf(group)
	if class == nil {
		return &Reach[policy.DeviceID]{c: c}, UnknownUser
	}
	return c.devicesOf(class, in)
}

// memberOf is the class of somebody who is in a group and in no other; nil where there is no such group.
func (c *Compiled) memberOf(group policy.UserGroupID) *UserClass {
	if c.groups[group] == nil {
		return nil
	}
	class := c.userClass(userFacts{status: policy.Active, valid: always, direct: []membership{{group, always}}})
	return &class
}

func (c *Compiled) devicesOf(who *UserClass, in Circumstances) (*Reach[policy.DeviceID], Reason) {
	out := &Reach[policy.DeviceID]{c: c}
	wanted, ok := c.wanted(in.Right)
	if !ok {
		return out, UnknownRight
	}
	a := c.asking(in)
	a.who = who
	classes := newClassSet(c.devices.Classes.Size)
	for _, h := range a.who.held {
		last := target(-1)
		for _, r := range c.bySubject[h.subject] {
			if l := &c.lines[r.line]; r.target != last && !l.deny && l.rights.meets(wanted) {
				last = r.target
				classes.add(c.inverted().covered[r.target])
			}
		}
	}
	look := c.survey(in, wanted)
	for _, n := range classes.list {
		a.what, a.point = c.devices.Classes.At(n), 0
		whole := look.prospects(a)
		if whole != nil {
			out.add(share[policy.DeviceID]{*c.devices.Members.At(n), "", whole})
		}
		for i, t := range a.what.facts.points {
			if a.point = t; t == 0 {
				continue
			}
			// A point is told by itself where anything about it differs from its device.
			if own := look.prospects(a); own != nil && (!slices.EqualFunc(own, whole, Prospect.equal) || in.Degrees != 0 && c.differs(a, own)) {
				out.add(share[policy.DeviceID]{*c.devices.Members.At(n), a.what.facts.named.Points[i].ID, own})
			}
		}
	}
	return out, Granted
}

// differs tells whether a point loses any right that it has now at another time than its device.
func (c *Compiled) differs(a *resolvedQuery, rights []Prospect) bool {
	device, point := *a, *a
	device.point = 0
	for i, p := range rights {
		if p.Degree != Now {
			continue
		}
		device.right, point.right = i, i
		until, _ := c.until(&device)
		if own, _ := c.until(&point); !own.Equal(until) {
			return true
		}
	}
	return false
}

func (c *Compiled) asking(in Circumstances) *resolvedQuery {
	return &resolvedQuery{at: momentOf(in.At), context: in.Context}
}

// wanted is the set of the rights that are asked for.
func (c *Compiled) wanted(id policy.RightID) (rightSet, bool) {
	out := make(rightSet, c.words)
	for i := range c.rightList {
		if id == "" || c.rightList[i].id == id {
			out.add(i)
		}
	}
	_, ok := c.right(id)
	return out, id == "" || ok
}

func (b rightSet) meets(o rightSet) bool {
	for i := range b {
		if b[i]&o[i] != 0 {
			return true
		}
	}
	return false
}

// sets are room for the rights that lines give and take.
type sets struct{ given, taken, possible rightSet }

func (c *Compiled) newSets() sets {
	return sets{make(rightSet, c.words), make(rightSet, c.words), make(rightSet, c.words)}
}

// allowed finds which of the wanted rights are allowed, all of them at once, and leaves them in set.given.
func (c *Compiled) allowed(a *resolvedQuery, wanted rightSet, set *sets) bool {
	clear(set.given)
	clear(set.taken)
	if _, barred := a.who.barred(a.at); barred || a.what.retired || !a.prefilter() {
		return false
	}
	var room [64]int32
	for _, n := range c.counting(a, room[:0]) {
		l := &c.lines[n]
		if !l.valid.holds(a.at) || l.ifs != nil && !c.conditionsMet(l, a) || len(l.when) > 0 && !c.open(l, a) {
			continue
		}
		if l.deny {
			set.taken.addAll(l.rights)
		} else {
			set.given.addAll(l.rights)
		}
	}
	return c.settle(a, wanted, set)
}

// settle takes away what is denied, not wanted, or ruled out by the device.
func (c *Compiled) settle(a *resolvedQuery, wanted rightSet, set *sets) bool {
	possible := set.possible
	c.exercisable(a.what, a.at, wanted, possible)
	left := uint64(0)
	for i := range set.given {
		set.given[i] &= possible[i] &^ set.taken[i]
		left |= set.given[i]
	}
	return left != 0
}

// exercisable finds which of the wanted rights a device can have exercised on it at all: steps 4 and 5.
func (c *Compiled) exercisable(what *deviceClass, at moment, wanted, into rightSet) {
	copy(into, wanted)
	locked := what.lockout.holds(at)
	for i := range c.rightList {
		r := &c.rightList[i]
		if len(r.kinds) > 0 && !slices.Contains(r.kinds, what.facts.kind) || locked && r.controls {
			into[i>>6] &^= 1 << (i & 63)
		}
	}
}
