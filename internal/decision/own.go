package decision

import "sentier/internal/policy"

// Concerns tells whether anything that a user is given has to do with a resource: whether an allow line covers it whose grant reaches
// the user at q.At or later. What does not is, to the user, the same as what is not there.
func (c *Compiled) Concerns(q Question) bool {
	var a resolvedQuery
	if _, known := c.find(&q, &a); !known {
		return false
	}
	for _, h := range a.who.held {
		if h.period.until <= a.at {
			continue
		}
		for _, n := range c.covering(h.subject, &a, nil) {
			if !c.lines[n].deny {
				return true
			}
		}
	}
	return false
}

// Own is an answer as whoever asks about themself without a mandate is given it: "Asking about oneself". It tells nothing of what is not
// their own.
func (c *Compiled) Own(q Question, full Answer) Answer {
	if !c.Concerns(q) {
		return Answer{At: full.At, Outcome: Outcome{Reason: NoGrant}}
	}
	if full.Reason == NoGrant {
		full.Missing = nil
	}
	if full.Lockout != nil {
		full.Lockout = &policy.Lockout{Reason: full.Lockout.Reason, From: full.Lockout.From, Until: full.Lockout.Until}
	}
	return full
}
