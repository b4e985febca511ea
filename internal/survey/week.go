package survey

import (
	"time"

	"sentier/internal/decision"
	"sentier/internal/policy"
)

// Stretch is a time, [From, Until), in which an answer stays the same.
type Stretch struct {
	From, Until time.Time
	decision.Outcome
}

// Stretches follows an answer from q.At to an instant: as it will run, with closures and changes of the clock. A new
// stretch begins where allowed changes; the reason is the one at its beginning.
func (c Survey) Stretches(q decision.Question, until time.Time) ([]Stretch, decision.Reason) {
	var a decision.ResolvedQuery
	if reason, known := c.Resolve(&q, &a); !known {
		return nil, reason
	}
	return c.stretches(a, until), decision.Granted
}

// StretchesOfGroup is [Survey.Stretches] for somebody who is in a user group and in no other.
func (c Survey) StretchesOfGroup(group policy.UserGroupID, q decision.Question, until time.Time) ([]Stretch, decision.Reason) {
	a := decision.ResolvedQuery{Who: c.MemberOf(group)}
	if a.Who == nil {
		return nil, decision.UnknownUser
	}
	if reason, known := c.ResolveResource(&q, &a); !known {
		return nil, reason
	}
	return c.stretches(a, until), decision.Granted
}

func (c Survey) stretches(a decision.ResolvedQuery, until time.Time) []Stretch {
	var out []Stretch
	for last := decision.MomentOf(until); a.Moment < last; {
		s := Stretch{From: a.Moment.Time(), Until: until, Outcome: c.DecideResolved(&a)}
		next, changes := c.UntilResolved(&a)
		if changes && next.Before(until) {
			s.Until = next
		}
		out = append(out, s)
		a.Moment = decision.MomentOf(s.Until)
	}
	return out
}
