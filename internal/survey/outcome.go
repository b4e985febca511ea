package survey

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"sentier/internal/decision"
)

// outcome is what is gained and lost by a pair of classes.
type outcome struct{ gained, lost []Prospect } // by the union's numbers of rights

func (o *outcome) none() bool { return o == nil }

func (o *outcome) equal(x *outcome) bool {
	if o == nil || x == nil {
		return o == x
	}
	return slices.EqualFunc(o.gained, x.gained, Prospect.equal) && slices.EqualFunc(o.lost, x.lost, Prospect.equal)
}

// outcome compares the answers about a user and a resource before and after; nil where they are the same.
func (p *comparison) outcome(u *userJoint, d *deviceJoint, point [2]decision.Target) *outcome {
	var had, has hand
	old, new := decision.ResolvedQuery{Who: u.before, What: d.before, PointTarget: point[0]}, decision.ResolvedQuery{Who: u.after, What: d.after, PointTarget: point[1]}
	was, is := u.nearBefore && d.nearBefore, u.nearAfter && d.nearAfter
	way := byte('/')
	switch apart := p.everything || u.moved || d.moved; {
	case !apart && !was: // lines are added alone: both can be told of the later policy
		has = p.hand(p.after.Survey, &new)
		had = has.but(p.after.changed)
		way = '+'
	case !apart && !is:
		had = p.hand(p.before.Survey, &old)
		has = had.but(p.before.changed)
		way = '-'
	default:
		had, has = p.hand(p.before.Survey, &old), p.hand(p.after.Survey, &new)
	}
	if len(had.parts)+len(has.parts) == 0 {
		return nil
	}
	var out *outcome
	rights := p.differing(&had, &has, way)
	for n, id := range p.rights.ids {
		if !rights.Has(n) || p.in.Right != "" && p.in.Right != id {
			continue
		}
		was, is := slices.Index(p.rights.old, n), slices.Index(p.rights.new, n)
		one := p.about(&had, &has, was, is, way)
		if one.gained.Degree == Impossible && one.lost.Degree == Impossible {
			continue
		}
		if out == nil {
			out = &outcome{make([]Prospect, len(p.rights.ids)), make([]Prospect, len(p.rights.ids))}
		}
		out.gained[n], out.lost[n] = one.gained, one.lost
	}
	return out
}

// but is a hand without some lines.
func (h hand) but(lines []bool) hand {
	some := func(p decision.Part) bool { return lines[p.Number] }
	if slices.ContainsFunc(h.parts, some) {
		h.parts = slices.DeleteFunc(slices.Clone(h.parts), some)
	}
	return h
}

// differing are the rights of which the answers may be others, by the union's numbers: those that a line bears on that is not on both sides.
func (p *comparison) differing(had, has *hand, way byte) decision.RightSet {
	all := func() decision.RightSet {
		for n := range p.rights.ids {
			p.differs.Add(n)
		}
		return p.differs
	}
	clear(p.differs)
	if had.who == nil || has.who == nil || p.before.DirectFirst != p.after.DirectFirst || !p.rights.alike {
		return all()
	}
	a, b := had.what, has.what
	if had.who.Valid != has.who.Valid || a.Lockout != b.Lockout || a.Facts.Kind != b.Facts.Kind || a.Facts.Zone.String() != b.Facts.Zone.String() {
		return all()
	}
	lone := func(part *decision.Part, numbers []int) bool {
		if part.Direct && p.after.DirectFirst {
			return true // it may keep any other line from counting
		}
		for i, n := range numbers {
			if part.Line.Rights.Has(i) {
				p.differs.Add(n)
			}
		}
		return false
	}
	for i := range has.parts {
		if x := &has.parts[i]; !p.within(x, had, way, p.sameBefore) && lone(x, p.rights.new) {
			return all()
		}
	}
	for i := range had.parts {
		if x := &had.parts[i]; !p.within(x, has, way, p.sameAfter) && lone(x, p.rights.old) {
			return all()
		}
	}
	return p.differs
}

// within tells whether a part is in a hand of the other policy as well; same gives the number that its line has there.
func (p *comparison) within(x *decision.Part, other *hand, way byte, same []int32) bool {
	n := x.Number
	if way == '/' {
		n = same[n]
	}
	return n >= 0 && slices.ContainsFunc(other.parts, func(y decision.Part) bool {
		return y.Number == n && y.Direct == x.Direct && y.Idle == x.Idle && slices.Equal(y.Periods, x.Periods)
	})
}

// shift is what is gained and lost of one right.
type shift struct{ gained, lost Prospect }

// about finds what is gained and lost of one right, once for all pairs of which the same bears on it.
func (p *comparison) about(had, has *hand, was, is int, way byte) shift {
	key := decision.ClassKey(append(p.key[:0], way))
	key = p.bearing(had, was, way != '+', key)
	key = p.bearing(has, is, way == '-', key)
	p.key = key
	if out, ok := p.known[string(key)]; ok {
		return out
	}
	out := shift{p.search(had, has, was, is), p.search(has, had, is, was)}
	p.known[string(key)] = out
	return out
}

func (p *comparison) search(before, after *hand, had, right int) Prospect {
	if right < 0 || after.who == nil || after.what == nil {
		return Prospect{}
	}
	return (&search{before: before, after: after, had: had, right: right, at: p.at, context: p.in.Context}).prospect(p.in.Degrees)
}

func (p *comparison) hand(c Survey, a *decision.ResolvedQuery) hand {
	if a.Who == nil || a.What == nil || a.Who.Bar != 0 || a.What.Retired || !a.Prefilter() {
		return hand{c: c.Compiled}
	}
	return c.hand(a)
}

// bearing adds to a key all of a hand that bears on one right: lines that hold alike and are held alike count once, in no order.
func (p *comparison) bearing(h *hand, right int, before bool, k decision.ClassKey) decision.ClassKey {
	k.Number(int64(right))
	if right < 0 || h.who == nil || h.what == nil {
		return k
	}
	side := p.after
	if before {
		side = p.before
	}
	info := &h.c.RightList[right]
	k.Period(h.who.Valid)
	if info.Controls {
		k.Period(h.what.Lockout)
	}
	k.Number(int64(h.what.Clock)<<1 | int64(decision.Bit(len(info.Kinds) == 0 || slices.Contains(info.Kinds, h.what.Facts.Kind))))
	var room [32]bearer
	list := room[:0]
	for i := range h.parts {
		x := &h.parts[i]
		if bears := x.Bears(right); bears || h.c.DirectFirst && x.Direct {
			list = append(list, bearer{side.alike[x.Number]<<2 | int32(decision.Bit(x.Direct)<<1|decision.Bit(!bears)), x.Periods})
		}
	}
	slices.SortFunc(list, bearer.compare)
	for i, b := range list {
		if i > 0 && b.compare(list[i-1]) == 0 {
			continue
		}
		k.Number(int64(b.line))
		if len(b.periods) != 1 || b.periods[0] != decision.Always {
			k.Number(-int64(len(b.periods)))
			for _, held := range b.periods {
				k.Period(held)
			}
		}
	}
	k.Number(-1 << 40)
	return k
}

// bearer is a line that bears on a right, by what it is alike to.
type bearer struct {
	line    int32
	periods []decision.Period
}

func (b bearer) compare(o bearer) int {
	return cmp.Or(cmp.Compare(b.line, o.line), slices.CompareFunc(b.periods, o.periods, func(x, y decision.Period) int {
		return cmp.Or(cmp.Compare(x.From, y.From), cmp.Compare(x.Until, y.Until))
	}))
}

// alikeLines numbers the lines of a policy so that those that hold at the same instants, in the same circumstances, have one number, whatever their
// rights.
func alikeLines(lines []decision.Line) []int32 {
	out := make([]int32, len(lines))
	numbers := map[string]int32{}
	var key decision.ClassKey
	var schedules []string
	for i := range lines {
		l := &lines[i]
		key = key[:0]
		key.Number(int64(decision.Bit(l.Deny)))
		key.Period(l.Valid)
		schedules = schedules[:0]
		for _, s := range l.When {
			schedules = append(schedules, string(s.Record.ID))
		}
		slices.Sort(schedules)
		key.Text(strings.Join(schedules, " "))
		if l.Ifs != nil {
			key.Text(fmt.Sprint(l.Ifs.Networks, l.Ifs.Places, l.Ifs.States, decision.TriOf(l.Ifs.StrongSignIn), decision.TriOf(l.Ifs.Attended)))
		}
		n, ok := numbers[string(key)]
		if !ok {
			n = int32(len(numbers))
			numbers[string(key)] = n
		}
		out[i] = n
	}
	return out
}
