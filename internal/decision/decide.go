package decision

import (
	"math/bits"
	"net/netip"
	"slices"

	"sentier/internal/policy"
)

// asked is a question with everything in it found.
type asked struct {
	user    *user
	device  *device
	point   target // 0: the device itself, or a point that no grant names
	right   int
	at      moment
	context Context
}

// Decide answers a question by the eight steps of "The decision".
func (c *Compiled) Decide(q Question) Outcome {
	a, reason, known := c.find(q)
	if !known {
		return Outcome{Reason: reason}
	}
	return c.decide(&a)
}

// find is step 1.
func (c *Compiled) find(q Question) (a asked, reason Reason, known bool) {
	var ok bool
	if a.user, ok = c.users[q.User]; !ok {
		return a, UnknownUser, false
	}
	if a.device, ok = c.devices[q.Device]; !ok {
		return a, UnknownDevice, false
	}
	if q.Point != "" {
		i := slices.IndexFunc(a.device.record.Points, func(p policy.Point) bool { return p.ID == q.Point })
		if i < 0 {
			return a, UnknownPoint, false
		}
		a.point = a.device.points[i]
	}
	if a.right, ok = c.rights[q.Right]; !ok {
		return a, UnknownRight, false
	}
	a.at, a.context = momentOf(q.At), q.Context
	return a, 0, true
}

func (c *Compiled) decide(a *asked) Outcome {
	if reason, ends := c.before(a); ends {
		return Outcome{Reason: reason}
	}
	return c.byLines(a)
}

// barred is step 2: what keeps a user from everything.
func (u *user) barred(at moment) (Reason, bool) {
	switch {
	case u.record.Status == policy.Suspended:
		return UserSuspended, true
	case u.record.Status == policy.Invited:
		return UserInvited, true
	case at < u.valid.from:
		return UserNotYetValid, true
	case at >= u.valid.until:
		return UserExpired, true
	}
	return 0, false
}

// before is steps 2 to 5: what no grant can change.
func (c *Compiled) before(a *asked) (Reason, bool) {
	if reason, barred := a.user.barred(a.at); barred {
		return reason, true
	}
	if a.device.record.State == policy.Retired {
		return DeviceRetired, true
	}
	right := &c.rightList[a.right]
	switch {
	case len(right.kinds) > 0 && !slices.Contains(right.kinds, a.device.record.Kind):
		return RightNotApplicable, true
	case right.controls && a.device.lockout.holds(a.at):
		return DeviceLockedOut, true
	}
	return 0, false
}

// byLines is steps 6 to 8.
func (c *Compiled) byLines(a *asked) Outcome {
	nearest := NoGrant
	fewest := 5
	for _, n := range c.counting(a) {
		l := &c.lines[n]
		m := c.misses(l, a)
		if l.deny {
			if m == 0 {
				return Outcome{Reason: Denied}
			}
			continue
		}
		count := bits.OnesCount8(uint8(m))
		if count < fewest || count == fewest && m.first() < nearest {
			fewest, nearest = count, m.first()
		}
	}
	return Outcome{Allowed: nearest == Granted, Reason: nearest}
}

// counting yields the lines whose grant reaches the user at a.at and that cover the resource: under
// direct-first only those of grants that name the user, where there is one that is in force.
// A line may be yielded more than once.
func (c *Compiled) counting(a *asked) func(yield func(int, int32) bool) {
	return func(yield func(int, int32) bool) {
		direct := c.onlyDirect(a)
		for i, h := range a.user.held {
			if direct && h.subject != a.user.self || !h.period.holds(a.at) {
				continue
			}
			for n := range c.on(h.subject, a) {
				if !yield(i, n) {
					return
				}
			}
		}
	}
}

// on yields the lines that hang on a subject and any target of the resource.
func (c *Compiled) on(s subject, a *asked) func(yield func(int32) bool) {
	return func(yield func(int32) bool) {
		for _, t := range a.device.targets {
			for _, n := range c.rules[pair{s, t}] {
				if !yield(n) {
					return
				}
			}
		}
		if a.point != 0 {
			for _, n := range c.rules[pair{s, a.point}] {
				if !yield(n) {
					return
				}
			}
		}
	}
}

// onlyDirect tells whether, at a.at, only grants that name the user count.
func (c *Compiled) onlyDirect(a *asked) bool {
	if !c.directFirst || a.user.self == 0 {
		return false
	}
	for n := range c.on(a.user.self, a) {
		if c.lines[n].valid.holds(a.at) {
			return true
		}
	}
	return false
}

// misses is the set of what keeps a line from being in force for a question.
type misses uint8

const (
	missesSchedule misses = 1 << iota
	missesCondition
	missesForce
	missesRight
)

// first is the reason code of the first miss in the order in which they win; Granted for none.
func (m misses) first() Reason {
	if m == 0 {
		return Granted
	}
	return OutsideSchedule + Reason(bits.TrailingZeros8(uint8(m)))
}

func (c *Compiled) misses(l *line, a *asked) misses {
	var m misses
	if !l.rights.has(a.right) {
		m |= missesRight
	}
	if !l.valid.holds(a.at) {
		m |= missesForce
	}
	if l.ifs != nil && !conditionsMet(l, a) {
		m |= missesCondition
	}
	if len(l.when) > 0 && !c.open(l, a) {
		m |= missesSchedule
	}
	return m
}

func (c *Compiled) open(l *line, a *asked) bool {
	for _, s := range l.when {
		if s.in(a.device.zone).Open(a.at.seconds()) {
			return true
		}
	}
	return false
}

// conditionsMet: what the context does not say is not met on an allow line and met on a deny line.
func conditionsMet(l *line, a *asked) bool {
	return networkMet(l, a) && stateMet(l, a) &&
		triMet(l.ifs.StrongSignIn, a.context.StrongSignIn, l.deny) &&
		triMet(l.ifs.Attended, a.context.Attended, l.deny)
}

func networkMet(l *line, a *asked) bool {
	if len(l.ifs.Networks) == 0 {
		return true
	}
	if !a.context.IP.IsValid() {
		return l.deny
	}
	ip := a.context.IP.Unmap().WithZone("")
	return slices.ContainsFunc(l.ifs.Networks, func(p netip.Prefix) bool { return p.Contains(ip) })
}

func stateMet(l *line, a *asked) bool {
	return len(l.ifs.States) == 0 || slices.Contains(l.ifs.States, a.device.record.State)
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
