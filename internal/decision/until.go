package decision

import "time"

// AnswerHorizon is how far ahead "until" looks; what is later is none.
const AnswerHorizon = Moment(400 * 24 * 60 * 60 * microsPerSecond)

// Until is the first instant after q.At at which Allowed would change, the policy and the context
// staying as they are; ok is false where it does not within 400 days.
func (c *Compiled) Until(q Question) (until time.Time, ok bool) {
	var a ResolvedQuery
	if _, known := c.Resolve(&q, &a); !known {
		return time.Time{}, false
	}
	return c.UntilResolved(&a)
}

// UntilResolved is [Compiled.Until] of a question that was resolved.
func (c *Compiled) UntilResolved(a *ResolvedQuery) (time.Time, bool) {
	return c.untilDecided(a, c.DecideResolved(a).Allowed)
}

// untilDecided is [Compiled.UntilResolved] where the answer is known.
func (c *Compiled) untilDecided(a *ResolvedQuery, allowed bool) (time.Time, bool) {
	if !a.Prefilter() {
		return time.Time{}, false // no line concerns it, at any time
	}
	k := c.course(a)
	if !allowed && k.Never() {
		return time.Time{}, false
	}
	for at := a.Moment; ; {
		at = k.Next(at)
		if at == End || at > a.Moment+AnswerHorizon {
			return time.Time{}, false
		}
		if k.Allowed(at) != allowed {
			return at.Time(), true
		}
	}
}
