package survey

import (
	"reflect"
	"slices"

	"sentier/internal/decision"
	"sentier/internal/policy"
)

// nothing tells, without a look at any instant, that after allows nothing that before does not: each line that gives the right is there before
// as well, or one that holds whenever it does, and so is after each that takes it. Where it cannot be told so, it is false.
func (s *search) nothing() bool {
	b, a := s.before, s.after
	switch {
	case b == nil || s.had < 0 || b.who == nil || b.what == nil || a.who == nil || a.what == nil:
		return false
	case b.c.DirectFirst || a.c.DirectFirst || b.scope != nil || a.scope != nil:
		return false
	case b.who.Bar != 0 || b.who.Valid != a.who.Valid || b.what.Lockout != a.what.Lockout || b.what.Retired:
		return false
	}
	if b.c != a.c && !sameClocks(b, a, s.had, s.right) {
		return false
	}
	for i := range a.parts {
		x := &a.parts[i]
		if !x.Line.Deny && x.Bears(s.right) && !covered(x, b.parts, func(y *decision.Part) bool { return !y.Line.Deny && y.Bears(s.had) }) {
			return false
		}
	}
	for i := range b.parts {
		y := &b.parts[i]
		if y.Line.Deny && y.Bears(s.had) && !covered(y, a.parts, func(x *decision.Part) bool { return x.Line.Deny && x.Bears(s.right) }) {
			return false
		}
	}
	return true
}

// sameClocks tells whether the clocks, the calendars and what a right is for are the same in two policies.
func sameClocks(b, a *hand, had, right int) bool {
	p, q := b.c.Policy(), a.c.Policy()
	x, y := &b.c.RightList[had], &a.c.RightList[right]
	return p.Settings() == q.Settings() && p.Table(policy.Calendars).Same(q.Table(policy.Calendars)) && p.Table(policy.Sites).Same(q.Table(policy.Sites)) &&
		b.what.Facts.Kind == a.what.Facts.Kind && b.what.Facts.Zone.String() == a.what.Facts.Zone.String() &&
		x.Controls == y.Controls && slices.Equal(x.Kinds, y.Kinds)
}

// covered tells whether some of a list of lines hold for a user, one or the other, whenever a line does, in the same circumstances.
func covered(x *decision.Part, list []decision.Part, counts func(*decision.Part) bool) bool {
	var left [8]*decision.Schedules // of those of the line, which no single one covers
	rest := append(left[:0], x.Line.When...)
	var open decision.Week // in which any of those holds that are the same every week, by one clock
	zone, weeks := "", 0
	for i := range list {
		y := &list[i]
		if !counts(y) || !dominates(y, x) {
			continue
		}
		if len(y.Line.When) == 0 {
			return true
		}
		if len(x.Line.When) == 0 {
			continue
		}
		for _, t := range y.Line.When {
			rest = slices.DeleteFunc(rest, func(s *decision.Schedules) bool { return s.Record == t.Record })
			if t.Week != nil && (weeks == 0 || t.Record.Zone == zone) {
				open.Add(t.Week)
				zone = t.Record.Zone
				weeks++
			}
		}
		if len(rest) == 0 {
			return true
		}
	}
	return weeks > 0 && !slices.ContainsFunc(rest, func(s *decision.Schedules) bool {
		return s.Week == nil || s.Record.Zone != zone || !s.Week.Within(&open)
	})
}

// dominates tells whether a line holds for a user whenever another does, in the same circumstances, but for their schedules.
func dominates(y, x *decision.Part) bool {
	a, b := y.Line, x.Line
	if !within(b.Valid, a.Valid) || a.Ifs != nil && a.Ifs != b.Ifs && (b.Ifs == nil || !reflect.DeepEqual(a.Ifs, b.Ifs)) {
		return false
	}
	return !slices.ContainsFunc(x.Periods, func(p decision.Period) bool {
		return !slices.ContainsFunc(y.Periods, func(q decision.Period) bool { return within(p, q) })
	})
}

// within tells whether a period lies in another.
func within(p, q decision.Period) bool { return p.And(q) == p }
