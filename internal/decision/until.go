package decision

import (
	"slices"
	"time"

	"sentier/internal/schedule"
)

// answerHorizon is how far ahead "until" looks; what is later is none.
const answerHorizon = moment(400 * 24 * 60 * 60 * microsPerSecond)

// Until is the first instant after q.At at which Allowed would change, the policy and the context
// staying as they are; ok is false where it does not within 400 days.
func (c *Compiled) Until(q Question) (until time.Time, ok bool) {
	var a asked
	if _, known := c.find(&q, &a); !known {
		return time.Time{}, false
	}
	return c.until(&a)
}

// part is a line that can take part in an answer at some instant, and when the user is its subject.
type part struct {
	line    *line
	periods []period
	direct  bool
}

func (c *Compiled) until(a *asked) (time.Time, bool) {
	if !a.may() {
		return time.Time{}, false // no line concerns it, at any time
	}
	at := *a
	allowed := c.decide(&at).Allowed
	parts := c.parts(a)
	if !c.canChange(a, parts, allowed) {
		return time.Time{}, false
	}
	for {
		at.at = c.next(&at, parts)
		if at.at == end || at.at > a.at+answerHorizon {
			return time.Time{}, false
		}
		if c.allowedBy(&at, parts) != allowed {
			return at.at.time(), true
		}
	}
}

// parts gathers the lines that bear on the question at any instant: those that give or take the
// right with their conditions met and, under direct-first, all that name the user.
func (c *Compiled) parts(a *asked) []part {
	var out []part
	index := map[partKey]int{}
	for _, h := range a.who.held {
		direct := h.subject == a.who.self
		for _, n := range c.covering(h.subject, a, nil) {
			l := &c.lines[n]
			bears := l.rights.has(a.right) && (l.ifs == nil || c.conditionsMet(l, a))
			if l.valid == (period{}) || !bears && !(c.directFirst && direct) {
				continue
			}
			key := partKey{l, direct}
			i, seen := index[key]
			if !seen {
				i = len(out)
				index[key] = i
				out = append(out, part{line: l, direct: direct})
			}
			if !slices.Contains(out[i].periods, h.period) {
				out[i].periods = append(out[i].periods, h.period)
			}
		}
	}
	return out
}

type partKey struct {
	line   *line
	direct bool
}

// canChange rules out, without looking at any schedule, the answers that stay as they are.
func (c *Compiled) canChange(a *asked, parts []part, allowed bool) bool {
	switch reason, ends := c.before(a); {
	case !ends, reason == UserNotYetValid, reason == DeviceLockedOut:
	default:
		return false
	}
	gives := false
	for _, p := range parts {
		bears := p.line.rights.has(a.right) && (p.line.ifs == nil || c.conditionsMet(p.line, a))
		gives = gives || bears && !p.line.deny
		fixed := len(p.line.when) == 0 && p.line.valid == always && slices.Contains(p.periods, always)
		if bears && fixed && p.line.deny && (!c.directFirst || p.direct) {
			return allowed
		}
	}
	return allowed || gives
}

// next is the first instant after a.at at which anything that bears on the answer begins or ends.
func (c *Compiled) next(a *asked, parts []part) moment {
	first := a.who.valid.next(a.at)
	if c.rightList[a.right].controls && a.what.lockout != (period{}) {
		first = min(first, a.what.lockout.next(a.at))
	}
	for _, p := range parts {
		first = min(first, p.line.valid.next(a.at))
		for _, held := range p.periods {
			first = min(first, held.next(a.at))
		}
		for _, s := range p.line.when {
			if _, until := s.byZone[a.what.clock].At(a.at.seconds()); until != schedule.Never {
				first = min(first, ofSeconds(until))
			}
		}
	}
	return first
}

// allowedBy decides from the gathered parts alone.
func (c *Compiled) allowedBy(a *asked, parts []part) bool {
	if _, ends := c.before(a); ends {
		return false
	}
	direct := c.directFirst && slices.ContainsFunc(parts, func(p part) bool { return p.direct && p.line.valid.holds(a.at) })
	allowed := false
	for _, p := range parts {
		if direct && !p.direct || !slices.ContainsFunc(p.periods, func(h period) bool { return h.holds(a.at) }) {
			continue
		}
		if c.misses(p.line, a) != 0 {
			continue
		}
		if p.line.deny {
			return false
		}
		allowed = true
	}
	return allowed
}
