package decision

import (
	"encoding/binary"
	"slices"

	"sentier/internal/policy"
	"sentier/internal/schedule"
)

// Course is how the answer about one right runs, in circumstances that stay as they are.
type Course struct {
	Compiled *Compiled
	Who      *UserClass   // nil: not there, and nothing is ever allowed
	What     *DeviceClass // nil: likewise
	Right    int
	Parts    []Part
}

// Part is a line that can take part in an answer at some instant, and when the user is its subject.
type Part struct {
	Line    *Line
	Number  int32 // of the line
	Periods []Period
	Direct  bool
	Idle    bool // it neither gives nor takes anything, and only counts, under direct-first, as one that names the user
}

// Bears tells whether the part gives or takes a right.
func (p *Part) Bears(right int) bool { return !p.Idle && p.Line.Rights.Has(right) }

func (p *Part) holds(at Moment) bool {
	for _, held := range p.Periods {
		if held.Holds(at) {
			return true
		}
	}
	return false
}

// course is that of the answer to a question.
func (c *Compiled) course(a *ResolvedQuery) Course {
	return Course{c, a.Who, a.What, a.Right, c.Parts(a, nil, func(l *Line) bool {
		return l.Rights.Has(a.Right) && (l.Ifs == nil || c.ConditionsMet(l, a))
	})}
}

// partsAim is room for most hands.
const partsAim = 16

// Parts adds to an empty list the lines of a user on a resource, each once: those that bear on what is asked and, under direct-first, all that name the
// user.
func (c *Compiled) Parts(a *ResolvedQuery, out []Part, bears func(*Line) bool) []Part {
	var room [64]int32
	for i := range a.Who.Held {
		held := &a.Who.Held[i]
		direct, again := held.Subject == a.Who.Self, heldBefore(a.Who.Held[:i], held.Subject)
		for _, n := range c.covering(held.Subject, a, room[:0]) {
			l := &c.Lines[n]
			idle := !bears(l)
			if l.Valid == (Period{}) || idle && !(c.DirectFirst && direct) {
				continue
			}
			k := -1
			if again || len(l.To) > 1 || len(l.On) > 1 { // else it comes but once
				k = slices.IndexFunc(out, func(p Part) bool { return p.Line == l && p.Direct == direct })
			}
			if k < 0 {
				if k = len(out); out == nil {
					out = make([]Part, 0, partsAim)
				}
				out = append(out, Part{Line: l, Number: n, Direct: direct, Idle: idle})
			}
			switch {
			case len(out[k].Periods) == 0 && held.Period == Always:
				out[k].Periods = always
			case !slices.Contains(out[k].Periods, held.Period):
				out[k].Periods = append(out[k].Periods, held.Period)
			}
		}
	}
	return out
}

// always are the periods of nearly every part: shared, and without room for another.
var always = []Period{Always}

// There tells whether both the user and the device are there.
func (k *Course) There() bool { return k.Who != nil && k.What != nil }

// Key tells courses of one pair apart.
func (k *Course) Key(out []byte) []byte {
	out = binary.AppendVarint(out, int64(len(k.Parts)))
	for i := range k.Parts {
		out = binary.AppendVarint(out, int64(k.Parts[i].Number)<<1|int64(Bit(k.Parts[i].Idle)))
	}
	return out
}

// Bit is 1 for true.
func Bit(b bool) int {
	if b {
		return 1
	}
	return 0
}

// Never rules out, without looking at any schedule, that anything is ever allowed.
func (k *Course) Never() bool {
	if !k.There() || k.Who.Bar != 0 || k.What.Retired {
		return true
	}
	r := &k.Compiled.RightList[k.Right]
	if !r.For(k.What.Facts.Kind) {
		return true
	}
	some := false
	for i := range k.Parts {
		switch p := &k.Parts[i]; {
		case p.Idle:
		case !p.Line.Deny:
			some = true
		case len(p.Line.When) == 0 && p.Line.Valid == Always && slices.Contains(p.Periods, Always) && (!k.Compiled.DirectFirst || p.Direct):
			return true
		}
	}
	return !some
}

// Next is the first instant after at at which anything that bears on the answer begins or ends.
func (k *Course) Next(at Moment) Moment {
	if !k.There() {
		return End
	}
	first := k.Steady(at)
	for i := range k.Parts {
		p := &k.Parts[i]
		if p.Idle {
			continue
		}
		for _, s := range p.Line.When {
			if _, until := s.byZone[k.What.Clock].At(at.seconds()); until != schedule.Never {
				first = min(first, ofSeconds(until))
			}
		}
	}
	return first
}

// Allowed decides at an instant, by the parts alone.
func (k *Course) Allowed(at Moment) bool {
	if !k.There() {
		return false
	}
	a := ResolvedQuery{Who: k.Who, What: k.What, Right: k.Right, Moment: at}
	if _, ends := k.Compiled.preconditions(&a); ends {
		return false
	}
	direct, allowed := k.direct(at), false
	for i := range k.Parts {
		switch p := &k.Parts[i]; {
		case !k.counts(p, direct, &a):
		case p.Line.Deny:
			return false
		default:
			allowed = true
		}
	}
	return allowed
}

// Limits are those of an answer that is allowed at an instant; nil for none.
func (k *Course) Limits(at Moment) map[string]policy.Limit {
	a := ResolvedQuery{Who: k.Who, What: k.What, Right: k.Right, Moment: at}
	direct := k.direct(at)
	var allowing []map[string]policy.Limit
	for i := range k.Parts {
		if p := &k.Parts[i]; k.counts(p, direct, &a) {
			allowing = append(allowing, p.Line.Limits())
		}
	}
	return limits(allowing)
}

// direct tells whether only parts that name the user count at an instant, under direct-first.
func (k *Course) direct(at Moment) bool {
	return k.Compiled.DirectFirst && slices.ContainsFunc(k.Parts, func(p Part) bool { return p.Direct && p.Line.Valid.Holds(at) })
}

// counts tells whether a part is in force at the instant of a question.
func (k *Course) counts(p *Part, direct bool, a *ResolvedQuery) bool {
	return !p.Idle && (p.Direct || !direct) && p.Line.Valid.Holds(a.Moment) && p.holds(a.Moment) && (len(p.Line.When) == 0 || k.Compiled.Open(p.Line, a))
}
