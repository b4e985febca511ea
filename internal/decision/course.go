package decision

import (
	"encoding/binary"
	"slices"

	"sentier/internal/schedule"
)

// course is how the answer about one right runs, in circumstances that stay as they are.
type course struct {
	c     *Compiled
	who   *UserClass   // nil: not there, and nothing is ever allowed
	what  *deviceClass // nil: likewise
	right int
	parts []part
}

// part is a line that can take part in an answer at some instant, and when the user is its subject.
type part struct {
	line    *line
	number  int32 // of the line
	periods []period
	direct  bool
	idle    bool // it neither gives nor takes anything, and only counts, under direct-first, as one that names the user
}

// bears tells whether the part gives or takes a right.
func (p *part) bears(right int) bool { return !p.idle && p.line.rights.has(right) }

func (p *part) holds(at moment) bool {
	for _, held := range p.periods {
		if held.holds(at) {
			return true
		}
	}
	return false
}

// course is that of the answer to a question.
func (c *Compiled) course(a *resolvedQuery) course {
	return course{c, a.who, a.what, a.right, c.parts(a, func(l *line) bool {
		return l.rights.has(a.right) && (l.ifs == nil || c.conditionsMet(l, a))
	})}
}

// parts gathers the lines of a user on a resource, each once: those that bear on what is asked and, under direct-first, all that name the
// user.
func (c *Compiled) parts(a *resolvedQuery, bears func(*line) bool) []part {
	var out []part
	var room [64]int32
	for i := range a.who.held {
		held := &a.who.held[i]
		direct := held.subject == a.who.self
		for _, n := range c.covering(held.subject, a, room[:0]) {
			l := &c.lines[n]
			idle := !bears(l)
			if l.valid == (period{}) || idle && !(c.directFirst && direct) {
				continue
			}
			k := slices.IndexFunc(out, func(p part) bool { return p.line == l && p.direct == direct })
			if k < 0 {
				k = len(out)
				out = append(out, part{line: l, number: n, direct: direct, idle: idle})
			}
			if !slices.Contains(out[k].periods, held.period) {
				out[k].periods = append(out[k].periods, held.period)
			}
		}
	}
	return out
}

func (k *course) there() bool { return k.who != nil && k.what != nil }

// key tells courses of one pair apart.
func (k *course) key(out []byte) []byte {
	out = binary.AppendVarint(out, int64(len(k.parts)))
	for i := range k.parts {
		out = binary.AppendVarint(out, int64(k.parts[i].number)<<1|int64(bit(k.parts[i].idle)))
	}
	return out
}

func bit(b bool) int {
	if b {
		return 1
	}
	return 0
}

// never rules out, without looking at any schedule, that anything is ever allowed.
func (k *course) never() bool {
	if !k.there() || k.who.bar != 0 || k.what.retired {
		return true
	}
	r := &k.c.rightList[k.right]
	if len(r.kinds) > 0 && !slices.Contains(r.kinds, k.what.facts.kind) {
		return true
	}
	some := false
	for i := range k.parts {
		switch p := &k.parts[i]; {
		case p.idle:
		case !p.line.deny:
			some = true
		case len(p.line.when) == 0 && p.line.valid == always && slices.Contains(p.periods, always) && (!k.c.directFirst || p.direct):
			return true
		}
	}
	return !some
}

// next is the first instant after at at which anything that bears on the answer begins or ends.
func (k *course) next(at moment) moment {
	if !k.there() {
		return end
	}
	first := k.who.valid.next(at)
	if k.c.rightList[k.right].controls && k.what.lockout != (period{}) {
		first = min(first, k.what.lockout.next(at))
	}
	for i := range k.parts {
		p := &k.parts[i]
		first = min(first, p.line.valid.next(at))
		for _, held := range p.periods {
			first = min(first, held.next(at))
		}
		if p.idle {
			continue
		}
		for _, s := range p.line.when {
			if _, until := s.byZone[k.what.clock].At(at.seconds()); until != schedule.Never {
				first = min(first, ofSeconds(until))
			}
		}
	}
	return first
}

// allowed decides at an instant, by the parts alone.
func (k *course) allowed(at moment) bool {
	if !k.there() {
		return false
	}
	a := resolvedQuery{who: k.who, what: k.what, right: k.right, at: at}
	if _, ends := k.c.preconditions(&a); ends {
		return false
	}
	direct := k.c.directFirst && slices.ContainsFunc(k.parts, func(p part) bool { return p.direct && p.line.valid.holds(at) })
	allowed := false
	for i := range k.parts {
		switch p := &k.parts[i]; {
		case p.idle, direct && !p.direct, !p.line.valid.holds(at), !p.holds(at), len(p.line.when) > 0 && !k.c.open(p.line, &a):
		case p.line.deny:
			return false
		default:
			allowed = true
		}
	}
	return allowed
}
