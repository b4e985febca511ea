package decision

import (
	"time"

	"sentier/internal/policy"
)

// Stretch is a time, [From, Until), in which an answer stays the same.
type Stretch struct {
	From, Until time.Time
	Outcome
}

// Stretches follows an answer from q.At to an instant: as it will run, with closures and changes of the clock. A new
// stretch begins where allowed changes; the reason is the one at its beginning.
func (c *Compiled) Stretches(q Question, until time.Time) ([]Stretch, Reason) {
	var a resolvedQuery
	if reason, known := c.find(&q, &a); !known {
		return nil, reason
	}
	return c.stretches(a, until), Granted
}

// StretchesOfGroup is [Compiled.Stretches] for somebody who is in a user group and in no other.
func (c *Compiled) StretchesOfGroup(group policy.UserGroupID, q Question, until time.Time) ([]Stretch, Reason) {
	a := resolvedQuery{who: c.memberOf(group)}
	if a.who == nil {
		return nil, UnknownUser
	}
	if reason, known := c.findResource(&q, &a); !known {
		return nil, reason
	}
	return c.stretches(a, until), Granted
}

func (c *Compiled) stretches(a resolvedQuery, until time.Time) []Stretch {
	var out []Stretch
	for last := momentOf(until); a.at < last; {
		s := Stretch{From: a.at.time(), Until: until, Outcome: c.decide(&a)}
		next, changes := c.until(&a)
		if changes && next.Before(until) {
			s.Until = next
		}
		out = append(out, s)
		a.at = momentOf(s.Until)
	}
	return out
}
