package decision

import (
	"math/bits"
	"net/netip"
	"slices"

	"sentier/internal/policy"
)

// resolvedQuery is a question with everything in it found.
type resolvedQuery struct {
	who     *UserClass
	what    *deviceClass
	point   target // 0: the device itself, or a point that no grant names
	right   int
	at      moment
	context Context
}

// Decide answers a question by the eight steps of "The decision".
func (c *Compiled) Decide(q *Question) Outcome {
	us, ds := c.users.Where.Find(string(q.User)), c.devices.Where.Find(string(q.Device))
	right, ok := c.right(q.Right)
	if us == nil || ds == nil || !ok || q.Point != "" {
		return c.decideSlowly(q)
	}
	who, what := c.users.Classes.At(us.Class), c.devices.Classes.At(ds.Class)
	if !who.marks.meet(&what.around) && len(c.rightList[right].kinds) == 0 {
		// Nothing ends it before its lines, and no line concerns it: most pairs have nothing to do with each other.
		return Outcome{Reason: NoGrant}
	}
	a := resolvedQuery{who: who, what: what, right: right, at: momentOf(q.At), context: q.Context}
	return c.decide(&a)
}

// decideSlowly decides about points, and about what is not there.
func (c *Compiled) decideSlowly(q *Question) Outcome {
	var a resolvedQuery
	if reason, known := c.find(q, &a); !known {
		return Outcome{Reason: reason}
	}
	return c.decide(&a)
}

// find is step 1.
func (c *Compiled) find(q *Question, a *resolvedQuery) (reason Reason, known bool) {
	if a.who = c.users.Find(q.User); a.who == nil {
		return UnknownUser, false
	}
	return c.findResource(q, a)
}

func (c *Compiled) findResource(q *Question, a *resolvedQuery) (reason Reason, known bool) {
	a.what = c.devices.Find(q.Device)
	return c.findRest(q, a)
}

// findRest is step 1 where the classes of the user and the device were looked for.
func (c *Compiled) findRest(q *Question, a *resolvedQuery) (reason Reason, known bool) {
	var ok bool
	switch {
	case a.who == nil:
		return UnknownUser, false
	case a.what == nil:
		return UnknownDevice, false
	}
	if q.Point != "" {
		if a.point, ok = c.pointOf(q, a.what); !ok {
			return UnknownPoint, false
		}
	}
	if a.right, ok = c.right(q.Right); !ok {
		return UnknownRight, false
	}
	a.at, a.context = momentOf(q.At), q.Context
	return 0, true
}

// pointOf finds the target that a point is; 0 where no grant names it.
func (c *Compiled) pointOf(q *Question, what *deviceClass) (target, bool) {
	d := what.facts.named
	if d == nil {
		d, _ = policy.Find[*policy.Device](c.policy, string(q.Device))
	}
	i := slices.IndexFunc(d.Points, func(p policy.Point) bool { return p.ID == q.Point })
	if i < 0 {
		return 0, false
	}
	if what.facts.named == nil {
		return 0, true
	}
	return what.facts.points[i], true
}

func (c *Compiled) decide(a *resolvedQuery) Outcome {
	if reason, ends := c.preconditions(a); ends {
		return Outcome{Reason: reason}
	}
	if !a.prefilter() {
		return Outcome{Reason: NoGrant}
	}
	return c.byLines(a)
}

// barred is step 2: what keeps a user from everything.
func (u *UserClass) barred(at moment) (Reason, bool) {
	switch {
	case u.bar != 0:
		return u.bar, true
	case at < u.valid.from:
		return UserNotYetValid, true
	case at >= u.valid.until:
		return UserExpired, true
	}
	return 0, false
}

// preconditions is steps 2 to 5: what no grant can change.
func (c *Compiled) preconditions(a *resolvedQuery) (Reason, bool) {
	if reason, barred := a.who.barred(a.at); barred {
		return reason, true
	}
	if a.what.retired {
		return DeviceRetired, true
	}
	right := &c.rightList[a.right]
	switch {
	case len(right.kinds) > 0 && !slices.Contains(right.kinds, a.what.facts.kind):
		return RightNotApplicable, true
	case right.controls && a.what.lockout.holds(a.at):
		return DeviceLockedOut, true
	}
	return 0, false
}

// prefilter rules out, at the cost of a few bits, that any line concerns the user and the resource.
func (a *resolvedQuery) prefilter() bool {
	return a.point != 0 || a.who.marks.meet(&a.what.around)
}

// byLines is steps 6 to 8.
func (c *Compiled) byLines(a *resolvedQuery) Outcome {
	var room [64]int32 // most questions concern fewer lines: no need to allocate
	nearest := NoGrant
	fewest := farthest + 1
	for _, n := range c.counting(a, room[:0]) {
		l := &c.lines[n]
		m := c.unmet(l, a)
		if l.deny {
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

// counting appends the lines whose grant reaches the user at a.at and that cover the resource: under
// direct-first only those of grants that name the user, where there is one that is in force.
// A line may be there more than once.
func (c *Compiled) counting(a *resolvedQuery, out []int32) []int32 {
	if direct := c.onlyDirect(a, out); len(direct) > 0 {
		return direct
	}
	for i := range a.who.held {
		if h := &a.who.held[i]; (h.fold&a.what.fold != 0 || a.point != 0) && h.period.holds(a.at) {
			out = c.covering(h.subject, a, out)
		}
	}
	return out
}

// onlyDirect gives the lines of grants that name the user where, at a.at, only those count; none otherwise.
func (c *Compiled) onlyDirect(a *resolvedQuery, out []int32) []int32 {
	if !c.directFirst || a.who.self == 0 {
		return nil
	}
	out = c.covering(a.who.self, a, out)
	for _, n := range out {
		if c.lines[n].valid.holds(a.at) {
			return out
		}
	}
	return nil
}

// covering appends the lines that hang on a subject and any target of the resource.
func (c *Compiled) covering(s subject, a *resolvedQuery, out []int32) []int32 {
	list := c.bySubject[s]
	short := len(list) <= shortList // walking it costs less than the marks
	for _, t := range a.what.facts.targets {
		switch {
		case short:
			list, out = walk(list, t, out)
		case c.marks[s].has(c.mark(t)):
			list, out = take(list, t, out)
		}
	}
	if a.point != 0 {
		_, out = take(c.bySubject[s], a.point, out)
	}
	return out
}

// shortList is how long a list of rules is at most to be walked rather than halved.
const shortList = 16

// take is [walk] for a list of any length.
func take(list []rule, t target, out []int32) ([]rule, []int32) {
	if len(list) > shortList {
		at, _ := slices.BinarySearchFunc(list, t, func(r rule, t target) int { return int(r.target) - int(t) })
		list = list[at:]
	}
	return walk(list, t, out)
}

// walk appends the lines of the rules for a target, and gives the rules for those after it.
func walk(list []rule, t target, out []int32) ([]rule, []int32) {
	for len(list) > 0 && list[0].target < t {
		list = list[1:]
	}
	for len(list) > 0 && list[0].target == t {
		out = append(out, list[0].line)
		list = list[1:]
	}
	return list, out
}

// unmetConditions is the set of what keeps a line from being in force for a question.
type unmetConditions uint8

const (
	missesSchedule unmetConditions = 1 << iota
	missesCondition
	missesForce
	missesRight
)

// first is the reason code of the first miss in the order in which they win; Granted for none.
func (m unmetConditions) first() Reason {
	if m == 0 {
		return Granted
	}
	return OutsideSchedule + Reason(bits.TrailingZeros8(uint8(m)))
}

// farthest is the distance of a line that does not give the right: whatever else it misses, one that gives it is nearer.
const farthest = 4

// distance is how many of the schedules, the conditions and the grant being in force a line misses.
func (m unmetConditions) distance() int {
	if m&missesRight != 0 {
		return farthest
	}
	return bits.OnesCount8(uint8(m))
}

// code is the reason of a line as the nearest miss: "The nearest miss" in the semantics.
func (m unmetConditions) code() Reason {
	if m&missesRight != 0 {
		return RightNotGranted
	}
	return m.first()
}

func (c *Compiled) unmet(l *line, a *resolvedQuery) unmetConditions {
	m := c.hindered(l, a)
	if !l.rights.has(a.right) {
		m |= missesRight
	}
	return m
}

// hindered is what keeps a line from being in force, whichever right is asked for.
func (c *Compiled) hindered(l *line, a *resolvedQuery) unmetConditions {
	var m unmetConditions
	if !l.valid.holds(a.at) {
		m |= missesForce
	}
	if l.ifs != nil && !c.conditionsMet(l, a) {
		m |= missesCondition
	}
	if len(l.when) > 0 && !c.open(l, a) {
		m |= missesSchedule
	}
	return m
}

func (c *Compiled) open(l *line, a *resolvedQuery) bool {
	for _, s := range l.when {
		if s.byZone[a.what.clock].Open(a.at.seconds()) {
			return true
		}
	}
	return false
}

// conditionsMet: what the context does not say is not met on an allow line and met on a deny line.
func (c *Compiled) conditionsMet(l *line, a *resolvedQuery) bool {
	return networkMet(l, a) && c.placeMet(l, a) && stateMet(l, a) &&
		triMet(l.ifs.StrongSignIn, a.context.StrongSignIn, l.deny) &&
		triMet(l.ifs.Attended, a.context.Attended, l.deny)
}

func networkMet(l *line, a *resolvedQuery) bool {
	if len(l.ifs.Networks) == 0 {
		return true
	}
	if !a.context.IP.IsValid() {
		return l.deny
	}
	ip := a.context.IP.Unmap().WithZone("")
	return slices.ContainsFunc(l.ifs.Networks, func(p netip.Prefix) bool { return p.Contains(ip) })
}

// placeMet looks from the place upwards. One that is no site of the policy is not known.
func (c *Compiled) placeMet(l *line, a *resolvedQuery) bool {
	if len(l.ifs.Places) == 0 {
		return true
	}
	chain, known := c.places.chains[a.context.Place]
	if !known {
		return l.deny
	}
	return slices.ContainsFunc(chain, func(id string) bool { return slices.Contains(l.ifs.Places, policy.SiteID(id)) })
}

func stateMet(l *line, a *resolvedQuery) bool {
	return len(l.ifs.States) == 0 || slices.Contains(l.ifs.States, a.what.facts.state)
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
