package survey

import (
	"cmp"
	"maps"
	"reflect"
	"slices"
	"sync"
	"time"

	"sentier/internal/container"
	"sentier/internal/decision"
	"sentier/internal/policy"
)

// Break is that an expectation does not hold: "Expectations" in the semantics. Of all the users and resources for which it does not, it
// tells the one for which it is so first.
type Break struct {
	Expectation *policy.Expectation
	At          time.Time     // the first instant
	User        policy.UserID // empty where it is that too few are allowed
	Device      policy.DeviceID
	Point       policy.PointID // empty: the device itself
	Right       policy.RightID
	Given       *Given // the circumstances that it takes; nil: none
	Have        int    // how many are allowed, where it is that too few are
	Cases       int    // users, rights and resources for which it does not hold; rights and resources, where too few are allowed
}

// Question is about the first user and resource for which the expectation does not hold, at that instant, and in those circumstances.
func (b *Break) Question() decision.Question {
	return decision.Question{User: b.User, Device: b.Device, Point: b.Point, Right: b.Right, At: b.At, Context: b.Given.In(decision.Context{})}
}

// Unmet tells which expectations of the policy do not hold over the 400 days from an instant, in the order of their ids.
func (c Survey) Unmet(at time.Time) []Break {
	if len(c.Expectations) == 0 {
		return nil
	}
	return newProver(nil, c.Compiled, nil, at).prove()
}

// Broken tells which expectations a change breaks: those that do not hold of after at some instant, for some user and resource, where they
// held of before. One that is new, or says something else than before, is held against the whole policy. done is as for [Compare].
func Broken(before, after *decision.Compiled, done []policy.RecordChange, at time.Time) []Break {
	if len(after.Expectations) == 0 {
		return nil
	}
	return newProver(before, after, done, at).prove()
}

// prover holds expectations against a policy, or against what a change makes of one.
type prover struct {
	*comparison // of what a change touches
	changes     bool
	users       []userJoint
	devices     []deviceJoint

	everyone []userJoint // see [prover.everyUser]

	known map[string]breach // of one expectation, by what bears on a pair
}

// breach is when an expectation does not hold of a pair, and in which circumstances.
type breach struct {
	first decision.Moment
	given *Given
	have  int
	ok    bool
}

func newProver(before, after *decision.Compiled, done []policy.RecordChange, at time.Time) *prover {
	p := &prover{comparison: newComparison(before, after, Circumstances{At: at})}
	if before == nil {
		p.users, p.devices = all(&after.Users), all(&after.Devices)
		return p
	}
	p.changes = true
	p.users, p.devices = p.joints(done)
	return p
}

// all is everybody, who were not there before.
func all[ID ~string, C any](c *container.Crowd[ID, C]) (out []joint[ID, C]) {
	for n := range c.Inhabited {
		out = append(out, joint[ID, C]{after: c.Classes.At(n), ids: *c.Members.At(n)})
	}
	return out
}

func (p *prover) prove() (out []Break) {
	was := map[policy.ExpectationID]*decision.Expectation{}
	if p.changes {
		for i := range p.before.Expectations {
			was[p.before.Expectations[i].Record.ID] = &p.before.Expectations[i]
		}
	}
	for i := range p.after.Expectations {
		e := &p.after.Expectations[i]
		had := was[e.Record.ID]
		if had != nil && !SameStatement(had.Record, e.Record) {
			had = nil
		}
		if b, broken := p.hold(had, e); broken {
			out = append(out, b)
		}
	}
	return out
}

// SameStatement tells whether two expectations say the same, whatever they are called.
func SameStatement(a, b *policy.Expectation) bool {
	x, y := *a, *b
	x.Name, x.Common, y.Name, y.Common = "", policy.Common{}, "", policy.Common{}
	return reflect.DeepEqual(&x, &y)
}

// proof is of one expectation.
type proof struct {
	*prover
	had, is *decision.Expectation // had is nil where it is new: then it is held against all
	out     Break
	first   decision.Moment
	anew    bool // the resource, or what is said, is another than before
}

// hold holds one expectation against whom and what it is about, as far as a change touches them.
func (p *prover) hold(had, is *decision.Expectation) (Break, bool) {
	p.known = map[string]breach{}
	h := &proof{prover: p, had: had, is: is, out: Break{Expectation: is.Record}}
	whole := had == nil || p.everything || !p.sameTimes(had, is)
	users := included(had, is, p.users)
	all := func() []*userJoint { return users }
	if p.few {
		all = sync.OnceValue(func() []*userJoint { return included(had, is, p.everyUser()) })
	}
	for _, d := range p.devicesOf(is, users) {
		device, points := is.Covers(d.after)
		if d.ids.Size == 0 || !device && len(points) == 0 {
			continue
		}
		var touched []*userJoint
		if whole || d.moved {
			touched = all()
		} else {
			touched = slices.DeleteFunc(slices.Clone(users), func(u *userJoint) bool { return !u.moved && !meet(u, d) })
		}
		if len(touched) == 0 && (is.Record.Expect != policy.Someone || !whole && !d.moved) {
			continue
		}
		h.anew = whole || d.moved
		if device {
			h.resource(all, touched, d, "")
		}
		for _, point := range points {
			h.resource(all, touched, d, point.ID)
		}
	}
	return h.out, h.out.Cases > 0
}

// included are those of some users whom an expectation is about, or was.
func included(had, is *decision.Expectation, users []userJoint) (out []*userJoint) {
	for i := range users {
		u := &users[i]
		if u.ids.Size > 0 && (u.after != nil && len(is.Includes(u.after)) > 0 || had != nil && len(had.Includes(u.before)) > 0) {
			out = append(out, u)
		}
	}
	return out
}

// everyUser is all users, where a change touches few.
func (p *prover) everyUser() []userJoint {
	if p.everyone == nil {
		p.everyone = stayed(&p.before.Users, &p.after.Users, p.touched, slices.Collect(p.after.Users.Inhabited), nil)
		for _, u := range p.users {
			if u.moved {
				p.everyone = append(p.everyone, u)
			}
		}
	}
	return p.everyone
}

// devicesOf lists the devices for which an expectation may hold no more, where a change touches users whom it is about.
func (p *prover) devicesOf(is *decision.Expectation, users []*userJoint) (out []*deviceJoint) {
	others := slices.ContainsFunc(users, func(u *userJoint) bool { return u.moved })
	aside := p.few && others && is.Record.Expect == policy.Always // what they have no line on, they may lack; what they have none on, nobody has by them
	for i := range p.devices {
		if d := &p.devices[i]; !p.few || d.moved || others && !aside {
			out = append(out, d)
		}
	}
	if aside {
		classes := decision.NewClassSet(p.after.Devices.Classes.Size)
		for _, t := range is.On {
			classes.Add(p.after.Covered(t))
		}
		rest := stayed(&p.before.Devices, &p.after.Devices, p.things, classes.List, p.pointsApart())
		for i := range rest {
			out = append(out, &rest[i])
		}
	}
	return out
}

// sameTimes tells whether an expectation looks at the same times as before.
func (p *prover) sameTimes(had, is *decision.Expectation) bool {
	return slices.EqualFunc(had.When, is.When, p.sameSchedule)
}

// resource looks at the devices of a class, or at one point, for those whom a change touches; of someone, whoever else may make up for it.
func (h *proof) resource(all func() []*userJoint, users []*userJoint, d *deviceJoint, point policy.PointID) {
	for _, right := range h.is.Rights {
		if h.is.Record.Expect == policy.Someone {
			if !h.anew && !slices.ContainsFunc(users, func(u *userJoint) bool { return h.loses(u, d, point, right) }) {
				continue
			}
			if b := h.tooFew(all(), d, point, right); b.ok {
				h.found(b, "", 1, d, point, right)
			}
			continue
		}
		for _, u := range users {
			if u.after == nil {
				continue
			}
			if b := h.pair(u, d, point, right); b.ok {
				h.found(b, u.ids.From("", 1)[0], u.ids.Size, d, point, right)
			}
		}
	}
}

// found keeps a breach where it is the first so far.
func (h *proof) found(b breach, user policy.UserID, users int, d *deviceJoint, point policy.PointID, right int) {
	device := d.ids.From("", 1)[0]
	better := h.out.Cases == 0 || cmp.Or(cmp.Compare(b.first, h.first), cmp.Compare(user, h.out.User), cmp.Compare(device, h.out.Device), cmp.Compare(point, h.out.Point)) < 0
	h.out.Cases += users * d.ids.Size
	if better {
		h.first, h.out.At = b.first, b.first.Time()
		h.out.User, h.out.Device, h.out.Point, h.out.Right = user, device, point, h.after.RightList[right].ID
		h.out.Given, h.out.Have = b.given, b.have
	}
}

// covered tells whether the expectation was about a resource before the change as well.
func (h *proof) covered(d *deviceJoint, point policy.PointID) bool {
	if h.had == nil {
		return false
	}
	device, points := h.had.Covers(d.before)
	return point == "" && device || point != "" && slices.ContainsFunc(points, func(p policy.Point) bool { return p.ID == point })
}

// sides gives what bears on a user and a resource before and after, each in the scope of the expectation. Before is nil where there is
// nothing to hold it against.
func (h *proof) sides(u *userJoint, d *deviceJoint, point policy.PointID) (was, is *hand) {
	side := func(c Survey, e *decision.Expectation, who *decision.UserClass, what *decision.DeviceClass) *hand {
		out := hand{c: c.Compiled}
		if who == nil || who.Bar == 0 { // who is invited is judged as a decision would
			out = h.hand(c, &decision.ResolvedQuery{Who: who, What: what, PointTarget: pointTarget(what, point)})
		}
		scope := e.Scope(who, what)
		out.scope = &scope
		return &out
	}
	if u.before != nil && h.covered(d, point) {
		was = side(h.before.Survey, h.had, u.before, d.before)
	}
	return was, side(h.after.Survey, h.is, u.after, d.after)
}

// pair looks at users and resources of a class each, for what holds of every pair.
func (h *proof) pair(u *userJoint, d *deviceJoint, point policy.PointID, right int) breach {
	was, is := h.sides(u, d, point)
	never := h.is.Record.Expect == policy.Never
	if never && !slices.ContainsFunc(is.parts, func(p decision.Part) bool { return !p.Line.Deny && p.Bears(right) }) {
		return breach{}
	}
	k := h.keyOf(is, u.after, d.after, right)
	if was != nil {
		k = h.keyOf(was, u.before, d.before, h.rightBefore(right)).with(k)
	}
	if b, ok := h.known[string(k)]; ok {
		return b
	}
	var b breach
	if never {
		s := &search{before: was, after: is, right: right, had: h.rightBefore(right), at: h.at}
		b.given, b.first, b.ok = s.earliest()
	} else {
		b.first, b.ok = h.missing(was, is, u, right)
	}
	h.known[string(k)] = b
	return b
}

type proofKey []byte

func (k proofKey) with(o proofKey) proofKey { return append(append(k, '/'), o...) }

// keyOf tells apart what bears on pairs. The hand of whoever may do nothing has nothing in it: why, tells them apart.
func (h *proof) keyOf(x *hand, u *decision.UserClass, d *decision.DeviceClass, right int) proofKey {
	var k decision.ClassKey
	if x.who != nil {
		k = x.key(k)
	} else {
		k.Number(int64(u.Bar))
		k.Period(u.Valid)
	}
	k.Number(int64(right))
	return proofKey(x.scope.Key(k))
}

// rightBefore is the number that a right had; -1: there was none.
func (h *proof) rightBefore(right int) int {
	if !h.changes {
		return -1
	}
	if n, ok := h.before.Right(h.after.RightList[right].ID); ok {
		return n
	}
	return -1
}

// missing finds the first instant at which somebody who could sign in is not allowed what they always should be.
func (h *proof) missing(was, is *hand, u *userJoint, right int) (decision.Moment, bool) {
	var none decision.Context
	lacks := func(x *hand, who *decision.UserClass, right int) (lacking func(decision.Moment) bool, next func(decision.Moment) decision.Moment) {
		if x == nil || who == nil || who.Bar != 0 {
			return func(decision.Moment) bool { return false }, func(decision.Moment) decision.Moment { return decision.End }
		}
		k := decision.Course{}
		if right >= 0 {
			bounded := x.in(right, none)
			k = bounded.Course
		}
		return func(at decision.Moment) bool { return who.Valid.Holds(at) && x.scope.Holds(at) && !k.Allowed(at) },
			func(at decision.Moment) decision.Moment {
				return min(who.Valid.Next(at), x.scope.Next(at), k.Next(at))
			}
	}
	lacking, next := lacks(is, u.after, right)
	lacked, before := lacks(was, u.before, h.rightBefore(right))
	for at := h.at; at <= h.at+decision.AnswerHorizon; at = min(next(at), before(at)) {
		if lacking(at) && !lacked(at) {
			return at, true
		}
	}
	return 0, false
}

// loses tells whether users of a class may have lost a right, or be among those whom it is about no more.
func (h *proof) loses(u *userJoint, d *deviceJoint, point policy.PointID, right int) bool {
	was, is := h.sides(u, d, point)
	if was == nil || was.who == nil || was.scope.Empty() {
		return false // they had nothing to lose
	}
	if !is.scope.Contains(was.scope) {
		return true
	}
	was.scope, is.scope = nil, nil // which is no more than it was
	return !(&search{before: is, after: was, had: right, right: h.rightBefore(right)}).nothing()
}

// crowd is all who may be allowed something on a resource, by what they are allowed it in.
type crowd struct {
	scope   decision.Scope // when the expectation looks at the resource
	members []alternatives
	most    int // of them that are counted
}

// alternatives are the courses in all circumstances of some users.
type alternatives struct {
	size    int
	courses []course
}

// steady tells whether they are allowed it in some circumstances now, and nothing changes that within the 400 days.
func (a *alternatives) steady(at decision.Moment) bool {
	return slices.ContainsFunc(a.courses, func(k course) bool { return k.Allowed(at) && k.Next(at) > at+decision.AnswerHorizon })
}

func (a *alternatives) allowed(at decision.Moment) bool {
	return slices.ContainsFunc(a.courses, func(k course) bool { return k.Allowed(at) })
}

func (a *alternatives) next(at decision.Moment) decision.Moment {
	first := decision.End
	for i := range a.courses {
		first = min(first, a.courses[i].Next(at))
	}
	return first
}

// count tells how many are allowed it at an instant, as far as the most that are asked for, and until when that stands at least.
func (c *crowd) count(at decision.Moment) (n int, until decision.Moment) {
	until = decision.End
	for i := range c.members {
		until = min(until, c.members[i].next(at))
		if c.members[i].allowed(at) {
			if n += c.members[i].size; n >= c.most {
				return c.most, until
			}
		}
	}
	return n, until
}

// tooFew finds the first instant at which fewer are allowed something on a resource, in any circumstances, than should be.
func (h *proof) tooFew(users []*userJoint, d *deviceJoint, point policy.PointID, right int) breach {
	now := crowd{scope: h.is.At(d.after), most: h.is.Record.AtLeast}
	var before *crowd
	if h.covered(d, point) {
		before = &crowd{scope: h.had.At(d.before), most: h.had.Record.AtLeast}
	}
	steady := 0 // who are allowed it at every instant
	for _, u := range users {
		was, is := h.sides(u, d, point)
		if u.after != nil {
			if added := now.add(is, right, u.ids.Size); added != nil && added.steady(h.at) {
				if steady += u.ids.Size; steady >= now.most {
					return breach{}
				}
			}
		}
		if before != nil && was != nil {
			before.add(was, h.rightBefore(right), u.ids.Size)
		}
	}
	for at := h.at; at <= h.at+decision.AnswerHorizon; {
		next := now.scope.Next(at)
		if before != nil {
			next = min(next, before.scope.Next(at))
		}
		if now.scope.Holds(at) {
			have, until := now.count(at)
			next = min(next, until)
			if have < now.most {
				if before == nil || !before.scope.Holds(at) {
					return breach{first: at, have: have, ok: true}
				}
				had, until := before.count(at)
				next = min(next, until)
				if had >= before.most {
					return breach{first: at, have: have, ok: true}
				}
			}
		}
		at = next
	}
	return breach{}
}

// add adds users by all that makes a difference to what they are allowed; nil where that is nothing, ever.
func (c *crowd) add(x *hand, right, size int) *alternatives {
	if right < 0 || !slices.ContainsFunc(x.parts, func(p decision.Part) bool { return !p.Line.Deny && p.Bears(right) }) {
		return nil
	}
	s := &search{after: x, right: right, had: -1}
	values := s.values()
	seen := map[string]course{}
	s.each(usable(&values), &values, choice{}, 0, func(at decision.Context) {
		k := x.in(right, at)
		if !k.Never() {
			seen[string(k.Key(nil))] = k
		}
	})
	if len(seen) == 0 {
		return nil
	}
	c.members = append(c.members, alternatives{size, slices.Collect(maps.Values(seen))})
	return &c.members[len(c.members)-1]
}

// each calls visit for all values of a set of aspects.
func (s *search) each(set uint, values *[aspects][]value, now choice, from aspect, visit func(decision.Context)) {
	for from < aspects && set&(1<<from) == 0 {
		from++
	}
	if from == aspects {
		visit(s.chosen(&now))
		return
	}
	for i := range values[from] {
		now.values[from] = &values[from][i]
		s.each(set, values, now, from+1, visit)
	}
}
