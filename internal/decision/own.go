package decision

import "sentier/internal/policy"

// Concerns tells whether anything that a user is given has to do with a resource: whether an allow line covers it whose grant reaches
// the user at q.At or later. What does not is, to the user, the same as what is not there.
func (c *Compiled) Concerns(q Question) bool {
	var a ResolvedQuery
	if _, known := c.Resolve(&q, &a); !known {
		return false
	}
	for _, h := range a.Who.Held {
		if h.Period.Until <= a.Moment {
			continue
		}
		for _, n := range c.covering(h.Subject, &a, nil) {
			if !c.Lines[n].Deny {
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
