package survey

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"sentier/internal/decision"
	"sentier/internal/policy"
)

// MandateDifference is a mandate that somebody holds in only one of two policies, at some instant within 400 days.
type MandateDifference struct {
	User    policy.UserID
	Mandate *policy.Mandate // of the policy in which it is held
	Gained  bool            // held in the later policy alone; otherwise in the earlier
	Degree  Degree          // Now or Later
	First   time.Time       // the first instant at which it is so
}

// compareMandates finds who holds a role of a mandate in only one of two policies. Mandates of one role with one scope are alike.
func compareMandates(before, after *decision.Compiled, done []policy.RecordChange, at decision.Moment) []MandateDifference {
	if done != nil && !slices.ContainsFunc(done, func(c policy.RecordChange) bool {
		t := c.Record().Type()
		return t == policy.Mandates || t == policy.UserGroups || t == policy.Users
	}) {
		return nil
	}
	had, has := Of(before).holdings(), Of(after).holdings()
	var out []MandateDifference
	differ := func(a, b map[holding]holds, gained bool) {
		for key, mine := range a {
			other := b[key]
			if first, ok := firstAlone(mine.periods, other.periods, at); ok {
				d := MandateDifference{User: key.user, Mandate: mine.mandate, Gained: gained, Degree: Later, First: first.Time()}
				if first == at {
					d.Degree = Now
				}
				out = append(out, d)
			}
		}
	}
	differ(has, had, true)
	differ(had, has, false)
	slices.SortFunc(out, func(a, b MandateDifference) int {
		return cmp.Or(cmp.Compare(a.User, b.User), cmp.Compare(a.Mandate.ID, b.Mandate.ID))
	})
	return out
}

// holding is what somebody holds by mandates.
type holding struct {
	user  policy.UserID
	role  policy.MandateRole
	scope string
}

type holds struct {
	mandate *policy.Mandate // one by which they hold it
	periods []decision.Period
}

// holdings lists who holds what, and when.
func (c Survey) holdings() map[holding]holds {
	out := map[holding]holds{}
	for m := range policy.Each[*policy.Mandate](c.Policy()) {
		if m.Enabled == policy.Off {
			continue
		}
		scope := fmt.Sprint(m.Sites, m.Groups, m.Rights)
		add := func(id policy.UserID, p decision.Period) {
			u, ok := policy.Find[*policy.User](c.Policy(), string(id))
			if !ok || u.Status != policy.Active {
				return
			}
			if p = p.And(decision.PeriodOf(m.Valid)).And(decision.PeriodOf(u.Valid)); p.From < p.Until {
				key := holding{id, m.Role, scope}
				h := out[key]
				if h.mandate == nil {
					h.mandate = m
				}
				h.periods = append(h.periods, p)
				out[key] = h
			}
		}
		for _, id := range m.To.Users {
			add(id, decision.Always)
		}
		seen := map[policy.UserGroupID]bool{}
		for _, id := range m.To.Groups {
			decision.MembersOf(c.Policy(), id, seen, func(member policy.Member) { add(member.User, decision.PeriodOf(member.Span())) })
		}
	}
	return out
}

// firstAlone is the first instant, at most 400 days away, that lies in one of some periods and in none of others.
func firstAlone(mine, others []decision.Period, at decision.Moment) (decision.Moment, bool) {
	in := func(list []decision.Period, at decision.Moment) bool {
		return slices.ContainsFunc(list, func(p decision.Period) bool { return p.Holds(at) })
	}
	for last := at + decision.AnswerHorizon; at <= last; {
		if in(mine, at) && !in(others, at) {
			return at, true
		}
		next := decision.End
		for _, p := range slices.Concat(mine, others) {
			next = min(next, p.Next(at))
		}
		if next == decision.End {
			break
		}
		at = next
	}
	return 0, false
}
