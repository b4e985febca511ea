package survey

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"sentier/internal/container"
	"sentier/internal/decision"
	"sentier/internal/policy"
)

// Circumstances are those in which a reach is asked for.
type Circumstances struct {
	At      time.Time
	Context decision.Context
	Degrees Degrees                  // the zero value: Now alone
	Right   policy.RightID           // only this right; empty: every right
	Sites   func(policy.SiteID) bool // only devices at these sites; nil: every device
}

// shows tells whether a class of devices is asked about.
func (in *Circumstances) shows(class *decision.DeviceClass) bool {
	return in.Sites == nil || class != nil && in.Sites(class.Facts.Site)
}

// Reach is all users, or all devices and points, on one side of what is possible.
type Reach[ID ~string] struct {
	Total  int          // how many there are with at least one right
	Totals [Now + 1]int // how many with at least one right of a degree
	c      Survey
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
func (c Survey) possibilities(list []Prospect) []Possibility {
	var out []Possibility
	for i, p := range list {
		if p.Degree != Impossible {
			out = append(out, Possibility{c.RightList[i].ID, p})
		}
	}
	return out
}

func (c Survey) rightIDs(set decision.RightSet) []policy.RightID {
	out := []policy.RightID{}
	for i := range c.RightList {
		if set.Has(i) {
			out = append(out, c.RightList[i].ID)
		}
	}
	return out
}

// UsersOf finds all users who have a right on a device or one of its points.
func (c Survey) UsersOf(device policy.DeviceID, point policy.PointID, in Circumstances) (*Reach[policy.UserID], decision.Reason) {
	out := &Reach[policy.UserID]{c: c}
	a := c.asking(in)
	if a.What = c.Devices.Find(device); a.What == nil {
		return out, decision.UnknownDevice
	}
	if point != "" {
		var ok bool
		if a.PointTarget, ok = c.PointOf(&decision.Question{Device: device, Point: point}, a.What); !ok {
			return out, decision.UnknownPoint
		}
	}
	wanted, ok := c.wanted(in.Right)
	if !ok {
		return out, decision.UnknownRight
	}
	c.holdersOf(a, c.survey(in, wanted), func(n int32, prospects []Prospect) {
		out.add(share[policy.UserID]{*c.Users.Members.At(n), "", prospects})
	})
	return out, decision.Granted
}

// holdersOf finds the classes of users for whom a wanted right is possible on the resource of a question.
func (c Survey) holdersOf(a *decision.ResolvedQuery, look *survey, found func(class int32, prospects []Prospect)) {
	classes := decision.NewClassSet(c.Users.Classes.Size)
	for _, s := range c.subjectsOn(a, look.wanted) {
		classes.Add(c.Holders(s))
	}
	for _, n := range classes.List {
		a.Who = c.Users.Classes.At(n)
		if prospects := look.prospects(a); prospects != nil {
			found(n, prospects)
		}
	}
}

// Holders counts those who have one right on one device.
type Holders struct {
	Right  policy.RightID
	Totals [Now + 1]int // by degree
}

// HoldersOf counts, for each of some devices, those who have each right on it; rights that nobody has are left out, and a device that is
// not there has none. Devices that no decision tells apart are looked at once.
func (c Survey) HoldersOf(devices []policy.DeviceID, in Circumstances) [][]Holders {
	out := make([][]Holders, len(devices))
	wanted, _ := c.wanted(in.Right)
	look := c.survey(in, wanted)
	known := map[*decision.DeviceClass][]Holders{}
	for i, id := range devices {
		a := c.asking(in)
		if a.What = c.Devices.Find(id); a.What == nil {
			continue
		}
		held, ok := known[a.What]
		if !ok {
			totals := make([][Now + 1]int, len(c.RightList))
			c.holdersOf(a, look, func(n int32, prospects []Prospect) {
				for right, p := range prospects {
					totals[right][p.Degree] += c.Users.Members.At(n).Size
				}
			})
			for right, t := range totals {
				if t[If]+t[Later]+t[Now] > 0 {
					t[Impossible] = 0
					held = append(held, Holders{c.RightList[right].ID, t})
				}
			}
			known[a.What] = held
		}
		out[i] = held
	}
	return out
}

// subjectsOn lists those to whom any line gives a wanted right on the resource, at some time.
func (c Survey) subjectsOn(a *decision.ResolvedQuery, wanted decision.RightSet) []decision.Subject {
	seen := map[*policy.Grant]bool{}
	var out []decision.Subject
	for _, t := range append(slices.Clip(a.What.Facts.Targets), a.PointTarget) {
		for _, o := range c.ByTarget[t] {
			l := &c.Lines[o.Line]
			if !seen[l.Grant] && l.Rights.Meets(wanted) {
				seen[l.Grant] = true
				out = append(out, l.To...)
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// DevicesOf finds all devices, and the points that are granted by themselves, on which a user has a right.
func (c Survey) DevicesOf(user policy.UserID, in Circumstances) (*Reach[policy.DeviceID], decision.Reason) {
	class := c.Users.Find(user)
	if class == nil {
		return &Reach[policy.DeviceID]{c: c}, decision.UnknownUser
	}
	return c.devicesOf(class, in)
}

// DevicesOfGroup finds what a user would reach who is in a user group and in no other: what the group amounts to.
func (c Survey) DevicesOfGroup(group policy.UserGroupID, in Circumstances) (*Reach[policy.DeviceID], decision.Reason) {
	class := c.MemberOf(group)
	if class == nil {
		return &Reach[policy.DeviceID]{c: c}, decision.UnknownUser
	}
	return c.devicesOf(class, in)
}

func (c Survey) devicesOf(who *decision.UserClass, in Circumstances) (*Reach[policy.DeviceID], decision.Reason) {
	out := &Reach[policy.DeviceID]{c: c}
	wanted, ok := c.wanted(in.Right)
	if !ok {
		return out, decision.UnknownRight
	}
	a := c.asking(in)
	a.Who = who
	classes := decision.NewClassSet(c.Devices.Classes.Size)
	for _, h := range a.Who.Held {
		last := decision.Target(-1)
		for _, r := range c.BySubject[h.Subject] {
			if l := &c.Lines[r.Line]; r.Target != last && !l.Deny && l.Rights.Meets(wanted) {
				last = r.Target
				classes.Add(c.Covered(r.Target))
			}
		}
	}
	look := c.survey(in, wanted)
	for _, n := range classes.List {
		if a.What, a.PointTarget = c.Devices.Classes.At(n), 0; !in.shows(a.What) {
			continue
		}
		whole := look.prospects(a)
		if whole != nil {
			out.add(share[policy.DeviceID]{*c.Devices.Members.At(n), "", whole})
		}
		for i, t := range a.What.Facts.Points {
			if a.PointTarget = t; t == 0 {
				continue
			}
			// A point is told by itself where anything about it differs from its device.
			if own := look.prospects(a); own != nil && (!slices.EqualFunc(own, whole, Prospect.equal) || in.Degrees != 0 && c.differs(a, own)) {
				out.add(share[policy.DeviceID]{*c.Devices.Members.At(n), a.What.Facts.Named.Points[i].ID, own})
			}
		}
	}
	return out, decision.Granted
}

// differs tells whether a point loses any right that it has now at another time than its device.
func (c Survey) differs(a *decision.ResolvedQuery, rights []Prospect) bool {
	device, point := *a, *a
	device.PointTarget = 0
	for i, p := range rights {
		if p.Degree != Now {
			continue
		}
		device.Right, point.Right = i, i
		until, _ := c.UntilResolved(&device)
		if own, _ := c.UntilResolved(&point); !own.Equal(until) {
			return true
		}
	}
	return false
}

func (c Survey) asking(in Circumstances) *decision.ResolvedQuery {
	return &decision.ResolvedQuery{Moment: decision.MomentOf(in.At), Context: in.Context}
}

// wanted is the set of the rights that are asked for.
func (c Survey) wanted(id policy.RightID) (decision.RightSet, bool) {
	out := make(decision.RightSet, c.Words)
	for i := range c.RightList {
		if id == "" || c.RightList[i].ID == id {
			out.Add(i)
		}
	}
	_, ok := c.Right(id)
	return out, id == "" || ok
}

// sets are room for the rights that lines give and take.
type sets struct{ given, taken, possible decision.RightSet }

func (c Survey) newSets() sets {
	return sets{make(decision.RightSet, c.Words), make(decision.RightSet, c.Words), make(decision.RightSet, c.Words)}
}

// allowed finds which of the wanted rights are allowed, all of them at once, and leaves them in set.given.
func (c Survey) allowed(a *decision.ResolvedQuery, wanted decision.RightSet, set *sets) bool {
	clear(set.given)
	clear(set.taken)
	if _, barred := a.Who.Barred(a.Moment); barred || a.What.Retired || !a.Prefilter() {
		return false
	}
	var room [64]int32
	for _, n := range c.Counting(a, room[:0]) {
		l := &c.Lines[n]
		if !l.Valid.Holds(a.Moment) || l.Ifs != nil && !c.ConditionsMet(l, a) || len(l.When) > 0 && !c.Open(l, a) {
			continue
		}
		if l.Deny {
			set.taken.AddAll(l.Rights)
		} else {
			set.given.AddAll(l.Rights)
		}
	}
	return c.settle(a, wanted, set)
}

// settle takes away what is denied, not wanted, or ruled out by the device.
func (c Survey) settle(a *decision.ResolvedQuery, wanted decision.RightSet, set *sets) bool {
	possible := set.possible
	c.exercisable(a.What, a.Moment, wanted, possible)
	left := uint64(0)
	for i := range set.given {
		set.given[i] &= possible[i] &^ set.taken[i]
		left |= set.given[i]
	}
	return left != 0
}

// exercisable finds which of the wanted rights a device can have exercised on it at all: steps 4 and 5.
func (c Survey) exercisable(what *decision.DeviceClass, at decision.Moment, wanted, into decision.RightSet) {
	copy(into, wanted)
	locked := what.Lockout.Holds(at)
	for i := range c.RightList {
		r := &c.RightList[i]
		if !r.For(what.Facts.Kind) || locked && r.Controls {
			into[i>>6] &^= 1 << (i & 63)
		}
	}
}
