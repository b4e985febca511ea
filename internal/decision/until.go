package decision

import "time"

// answerHorizon is how far ahead "until" looks; what is later is none.
const answerHorizon = moment(400 * 24 * 60 * 60 * microsPerSecond)

// Until is the first instant after q.At at which Allowed would change, the policy and the context
// staying as they are; ok is false where it does not within 400 days.
func (c *Compiled) Until(q Question) (until time.Time, ok bool) {
	var a resolvedQuery
	if _, known := c.find(&q, &a); !known {
		return time.Time{}, false
	}
	return c.until(&a)
}

func (c *Compiled) until(a *resolvedQuery) (time.Time, bool) {
	if !a.prefilter() {
		return time.Time{}, false // no line concerns it, at any time
	}
	k := c.course(a)
	allowed := k.allowed(a.at)
	if !allowed && k.never() {
		return time.Time{}, false
	}
	for at := a.at; ; {
		at = k.next(at)
		if at == end || at > a.at+answerHorizon {
			return time.Time{}, false
		}
		if k.allowed(at) != allowed {
			return at.time(), true
		}
	}
}
