package decision

import (
	"math/bits"
	"net/netip"
	"slices"

	"sentier/internal/policy"
)

// ResolvedQuery is a question with everything in it found.
type ResolvedQuery struct {
	Who         *UserClass
	What        *DeviceClass
	PointTarget Target // 0: the device itself, or a point that no grant names
	Right       int
	Moment      Moment
	Context     Context
}

// Decide answers a question by the eight steps of "The decision".
func (c *Compiled) Decide(q *Question) Outcome {
	us, ds := c.Users.Where.Find(string(q.User)), c.Devices.Where.Find(string(q.Device))
	right, ok := c.Right(q.Right)
	if us == nil || ds == nil || !ok || q.Point != "" {
		return c.decideSlowly(q)
	}
	// Most pairs have nothing to do with each other: nothing ends their question before its lines, and no line concerns them.
	everyKind := len(c.RightList[right].Kinds) == 0
	apart, known := c.pairs.apart(us.Class, ds.Class)
	if apart && everyKind {
		return Outcome{Reason: NoGrant}
	}
	who, what := c.Users.Classes.At(us.Class), c.Devices.Classes.At(ds.Class)
	if !known && everyKind && !who.marks.meet(&what.around) {
		return Outcome{Reason: NoGrant}
	}
	a := ResolvedQuery{Who: who, What: what, Right: right, Moment: MomentOf(q.At), Context: q.Context}
	return c.DecideResolved(&a)
}

// decideSlowly decides about points, and about what is not there.
func (c *Compiled) decideSlowly(q *Question) Outcome {
	var a ResolvedQuery
	if reason, known := c.Resolve(q, &a); !known {
		return Outcome{Reason: reason}
	}
	return c.DecideResolved(&a)
}

// find is step 1.
func (c *Compiled) Resolve(q *Question, a *ResolvedQuery) (reason Reason, known bool) {
	if a.Who = c.Users.Find(q.User); a.Who == nil {
		return UnknownUser, false
	}
	return c.ResolveResource(q, a)
}

// ResolveResource is step 1 where a.Who was found before.
func (c *Compiled) ResolveResource(q *Question, a *ResolvedQuery) (reason Reason, known bool) {
	a.What = c.Devices.Find(q.Device)
	return c.findRest(q, a)
}

// findRest is step 1 where the classes of the user and the device were looked for.
func (c *Compiled) findRest(q *Question, a *ResolvedQuery) (reason Reason, known bool) {
	var ok bool
	switch {
	case a.Who == nil:
		return UnknownUser, false
	case a.What == nil:
		return UnknownDevice, false
	}
	if q.Point != "" {
		if a.PointTarget, ok = c.PointOf(q, a.What); !ok {
			return UnknownPoint, false
		}
	}
	if a.Right, ok = c.Right(q.Right); !ok {
		return UnknownRight, false
	}
	a.Moment, a.Context = MomentOf(q.At), q.Context
	return 0, true
}

// PointOf finds the target that a point is; 0 where no grant names it.
func (c *Compiled) PointOf(q *Question, what *DeviceClass) (Target, bool) {
	d := what.Facts.Named
	if d == nil {
		d, _ = policy.Find[*policy.Device](c.policy, string(q.Device))
	}
	i := slices.IndexFunc(d.Points, func(p policy.Point) bool { return p.ID == q.Point })
	if i < 0 {
		return 0, false
	}
	if what.Facts.Named == nil {
		return 0, true
	}
	return what.Facts.Points[i], true
}

// DecideResolved is steps 2 to 8 of "The decision".
func (c *Compiled) DecideResolved(a *ResolvedQuery) Outcome {
	if reason, ends := c.preconditions(a); ends {
		return Outcome{Reason: reason}
	}
	if !a.Prefilter() {
		return Outcome{Reason: NoGrant}
	}
	return c.byLines(a)
}

// Barred is step 2: what keeps a user from everything.
func (u *UserClass) Barred(at Moment) (Reason, bool) {
	switch {
	case u.Bar != 0:
		return u.Bar, true
	case at < u.Valid.From:
		return UserNotYetValid, true
	case at >= u.Valid.Until:
		return UserExpired, true
	}
	return 0, false
}

// preconditions is steps 2 to 5: what no grant can change.
func (c *Compiled) preconditions(a *ResolvedQuery) (Reason, bool) {
	if reason, barred := a.Who.Barred(a.Moment); barred {
		return reason, true
	}
	if a.What.Retired {
		return DeviceRetired, true
	}
	right := &c.RightList[a.Right]
	switch {
	case len(right.Kinds) > 0 && !slices.Contains(right.Kinds, a.What.Facts.Kind):
		return RightNotApplicable, true
	case right.Controls && a.What.Lockout.Holds(a.Moment):
		return DeviceLockedOut, true
	}
	return 0, false
}

// Prefilter rules out, at the cost of a few bits, that any line concerns the user and the resource.
func (a *ResolvedQuery) Prefilter() bool {
	return a.PointTarget != 0 || a.Who.marks.meet(&a.What.around)
}

// byLines is steps 6 to 8.
func (c *Compiled) byLines(a *ResolvedQuery) Outcome {
	var room [64]int32 // most questions concern fewer lines: no need to allocate
	nearest := NoGrant
	fewest := farthest + 1
	for _, n := range c.Counting(a, room[:0]) {
		l := &c.Lines[n]
		m := c.Unmet(l, a)
		if l.Deny {
			if m == 0 {
				return Outcome{Reason: Denied}
			}
			continue
		}
		count := m.distance()
		if count < fewest || count == fewest && m.code() < nearest {
			fewest, nearest = count, m.code()
		}
	}
	return Outcome{Allowed: nearest == Granted, Reason: nearest}
}

// Counting appends the lines whose grant reaches the user at a.at and that cover the resource: under
// direct-first only those of grants that name the user, where there is one that is in force.
// A line may be there more than once.
func (c *Compiled) Counting(a *ResolvedQuery, out []int32) []int32 {
	if direct := c.onlyDirect(a, out); len(direct) > 0 {
		return direct
	}
	for i := range a.Who.Held {
		if h := &a.Who.Held[i]; (h.fold&a.What.fold != 0 || a.PointTarget != 0) && h.Period.Holds(a.Moment) {
			out = c.covering(h.Subject, a, out)
		}
	}
	return out
}

// onlyDirect gives the lines of grants that name the user where, at a.at, only those count; none otherwise.
func (c *Compiled) onlyDirect(a *ResolvedQuery, out []int32) []int32 {
	if !c.DirectFirst || a.Who.Self == 0 {
		return nil
	}
	out = c.covering(a.Who.Self, a, out)
	for _, n := range out {
		if c.Lines[n].Valid.Holds(a.Moment) {
			return out
		}
	}
	return nil
}

// covering appends the lines that hang on a subject and any target of the resource.
func (c *Compiled) covering(s Subject, a *ResolvedQuery, out []int32) []int32 {
	list := c.BySubject[s]
	short := len(list) <= shortList // walking it costs less than the marks
	for _, t := range a.What.Facts.Targets {
		switch {
		case short:
			list, out = walk(list, t, out)
		case c.marks[s].has(c.mark(t)):
			list, out = take(list, t, out)
		}
	}
	if a.PointTarget != 0 {
		_, out = take(c.BySubject[s], a.PointTarget, out)
	}
	return out
}

// shortList is how long a list of rules is at most to be walked rather than halved.
const shortList = 16

// take is [walk] for a list of any length.
func take(list []rule, t Target, out []int32) ([]rule, []int32) {
	if len(list) > shortList {
		at, _ := slices.BinarySearchFunc(list, t, func(r rule, t Target) int { return int(r.Target) - int(t) })
		list = list[at:]
	}
	return walk(list, t, out)
}

// walk appends the lines of the rules for a target, and gives the rules for those after it.
func walk(list []rule, t Target, out []int32) ([]rule, []int32) {
	for len(list) > 0 && list[0].Target < t {
		list = list[1:]
	}
	for len(list) > 0 && list[0].Target == t {
		out = append(out, list[0].Line)
		list = list[1:]
	}
	return list, out
}

// UnmetConditions is the set of what keeps a line from being in force for a question.
type UnmetConditions uint8

const (
	missesSchedule UnmetConditions = 1 << iota
	missesCondition
	MissesForce
	MissesRight
)

// first is the reason code of the first miss in the order in which they win; Granted for none.
func (m UnmetConditions) first() Reason {
	if m == 0 {
		return Granted
	}
	return OutsideSchedule + Reason(bits.TrailingZeros8(uint8(m)))
}

// farthest is the distance of a line that does not give the right: whatever else it misses, one that gives it is nearer.
const farthest = 4

// distance is how many of the schedules, the conditions and the grant being in force a line misses.
func (m UnmetConditions) distance() int {
	if m&MissesRight != 0 {
		return farthest
	}
	return bits.OnesCount8(uint8(m))
}

// code is the reason of a line as the nearest miss: "The nearest miss" in the semantics.
func (m UnmetConditions) code() Reason {
	if m&MissesRight != 0 {
		return RightNotGranted
	}
	return m.first()
}

// Unmet is what keeps a line from being in force for a question.
func (c *Compiled) Unmet(l *Line, a *ResolvedQuery) UnmetConditions {
	m := c.hindered(l, a)
	if !l.Rights.Has(a.Right) {
		m |= MissesRight
	}
	return m
}

// hindered is what keeps a line from being in force, whichever right is asked for.
func (c *Compiled) hindered(l *Line, a *ResolvedQuery) UnmetConditions {
	var m UnmetConditions
	if !l.Valid.Holds(a.Moment) {
		m |= MissesForce
	}
	if l.Ifs != nil && !c.ConditionsMet(l, a) {
		m |= missesCondition
	}
	if len(l.When) > 0 && !c.Open(l, a) {
		m |= missesSchedule
	}
	return m
}

// Open tells whether any schedule of a line is open, by the clock of the device.
func (c *Compiled) Open(l *Line, a *ResolvedQuery) bool {
	for _, s := range l.When {
		if s.byZone[a.What.Clock].Open(a.Moment.seconds()) {
			return true
		}
	}
	return false
}

// ConditionsMet: what the context does not say is not met on an allow line and met on a deny line.
func (c *Compiled) ConditionsMet(l *Line, a *ResolvedQuery) bool {
	return networkMet(l, a) && c.placeMet(l, a) && StateMet(l, a) &&
		triMet(l.Ifs.StrongSignIn, a.Context.StrongSignIn, l.Deny) &&
		triMet(l.Ifs.Attended, a.Context.Attended, l.Deny)
}

func networkMet(l *Line, a *ResolvedQuery) bool {
	if len(l.Ifs.Networks) == 0 {
		return true
	}
	if !a.Context.IP.IsValid() {
		return l.Deny
	}
	ip := a.Context.IP.Unmap().WithZone("")
	return slices.ContainsFunc(l.Ifs.Networks, func(p netip.Prefix) bool { return p.Contains(ip) })
}

// placeMet looks from the place upwards. One that is no site of the policy is not known.
func (c *Compiled) placeMet(l *Line, a *ResolvedQuery) bool {
	if len(l.Ifs.Places) == 0 {
		return true
	}
	chain, known := c.Places.Chains[a.Context.Place]
	if !known {
		return l.Deny
	}
	return slices.ContainsFunc(chain, func(id string) bool { return slices.Contains(l.Ifs.Places, policy.SiteID(id)) })
}

// StateMet tells whether the device is in a state that the line asks for.
func StateMet(l *Line, a *ResolvedQuery) bool {
	return len(l.Ifs.States) == 0 || slices.Contains(l.Ifs.States, a.What.Facts.State)
}

func triMet(want *bool, have Tri, unknown bool) bool {
	switch {
	case want == nil:
		return true
	case have == NotKnown:
		return unknown
	}
	return *want == (have == True)
}
