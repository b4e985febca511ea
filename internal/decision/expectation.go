package decision

import (
	"slices"

	"sentier/internal/policy"
	"sentier/internal/schedule"
)

// Expectation is an expectation, compiled: those whom it is about are subjects like those of grants, and what it is about are targets.
type Expectation struct {
	Record *policy.Expectation
	Who    []Subject
	Except []Subject // those of Who whom it is not about
	On     []Target
	Rights []int
	When   []*Schedules
}

func (c *Compiled) compileExpectation(r *rules, e *policy.Expectation) Expectation {
	out := Expectation{Record: e, Who: r.subjects(&e.Who), Except: r.subjects(&policy.To{Groups: e.Except.Groups, Users: e.Except.Users}), On: r.targets(&e.On, e.Depth), When: c.schedulesOf(e.When)}
	for _, id := range e.Rights {
		n, _ := c.Right(id)
		out.Rights = append(out.Rights, n)
	}
	return out
}

// Covers tells whether an expectation is about the devices of a class by themselves, and about which points of theirs. It is about none
// that are retired.
func (e *Expectation) Covers(d *DeviceClass) (device bool, points []policy.Point) {
	if d == nil || d.Retired {
		return false, nil
	}
	named := func(t Target) bool { return t != 0 && slices.Contains(e.On, t) }
	for i, t := range d.Facts.Points {
		if named(t) {
			points = append(points, d.Facts.Named.Points[i])
		}
	}
	return slices.ContainsFunc(d.Facts.Targets, named), points
}

// Scope is when an expectation looks at users and resources of a class each.
type Scope struct {
	periods []Period // in which the users are among those whom it is about
	when    []*Schedules
	clock   uint16
}

// Scope is when the expectation looks at users of a class, by the clock of resources of a class. It is empty where it never does.
func (e *Expectation) Scope(u *UserClass, d *DeviceClass) Scope {
	out := Scope{periods: e.Includes(u)}
	if d != nil {
		out.when, out.clock = e.When, d.Clock
	}
	return out
}

// Includes is when users of a class are among those whom the expectation is about, and not among those whom it excepts.
func (e *Expectation) Includes(u *UserClass) []Period {
	var out []Period
	if u == nil {
		return nil
	}
	for _, h := range u.Held {
		if slices.Contains(e.Who, h.Subject) {
			out = append(out, h.Period)
		}
	}
	for _, h := range u.Held {
		if slices.Contains(e.Except, h.Subject) {
			out = without(out, h.Period)
		}
	}
	return out
}

// without is what is left of some periods outside another.
func without(list []Period, gone Period) (out []Period) {
	for _, p := range list {
		for _, left := range []Period{{p.From, min(p.Until, gone.From)}, {max(p.From, gone.Until), p.Until}} {
			if left.From < left.Until {
				out = append(out, left)
			}
		}
	}
	return out
}

// At is when the expectation looks at resources of a class, whoever it is about.
func (e *Expectation) At(d *DeviceClass) Scope {
	return Scope{periods: []Period{Always}, when: e.When, clock: d.Clock}
}

// Empty tells whether the scope holds at no instant, whatever the schedules.
func (s *Scope) Empty() bool { return len(s.periods) == 0 }

// Contains tells whether the scope holds for users whenever another of the same expectation does.
func (s *Scope) Contains(o *Scope) bool {
	return !slices.ContainsFunc(o.periods, func(p Period) bool {
		return !slices.ContainsFunc(s.periods, func(q Period) bool { return p.And(q) == p })
	})
}

// Holds tells whether the expectation looks at the pair at an instant.
func (s *Scope) Holds(at Moment) bool {
	return slices.ContainsFunc(s.periods, func(p Period) bool { return p.Holds(at) }) &&
		(len(s.when) == 0 || slices.ContainsFunc(s.when, func(x *Schedules) bool { return x.byZone[s.clock].Open(at.seconds()) }))
}

// Next is the first instant after at at which the scope may begin or end.
func (s *Scope) Next(at Moment) Moment {
	first := End
	for _, p := range s.periods {
		first = min(first, p.Next(at))
	}
	for _, x := range s.when {
		if _, until := x.byZone[s.clock].At(at.seconds()); until != schedule.Never {
			first = min(first, ofSeconds(until))
		}
	}
	return first
}

// Key tells scopes apart.
func (s *Scope) Key(k ClassKey) ClassKey {
	k.Number(int64(s.clock))
	for _, p := range s.periods {
		k.Period(p)
	}
	return k
}

// OpensWithin tells whether a schedule of a line is open at any time of the 400 days after an instant, by the clock of devices of a class.
func (c *Compiled) OpensWithin(l *Line, d *DeviceClass, from Moment) bool {
	s := Scope{periods: []Period{Always}, when: l.When, clock: d.Clock}
	for at := from; at <= from+AnswerHorizon; at = s.Next(at) {
		if s.Holds(at) {
			return true
		}
	}
	return false
}

// LinesOf lists the numbers of the lines that are given to a subject, each once.
func (c *Compiled) LinesOf(s Subject) []int32 {
	var out []int32
	for _, r := range c.BySubject[s] {
		if !slices.Contains(out, r.Line) {
			out = append(out, r.Line)
		}
	}
	return out
}
