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
	Degree  Degree          // Now, Later, or If: they have to come in first
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
	differ := func(a, b map[holding][]held, gained bool) {
		for key, mine := range a {
			others := b[key]
			if !mine[0].comesIn {
				others = slices.DeleteFunc(slices.Clone(others), func(h held) bool { return h.comesIn }) // who has not come in holds nothing yet
			}
			if first, by := firstAlone(mine, others, at); by != nil {
				d := MandateDifference{User: key.user, Mandate: by.mandate, Gained: gained, Degree: Later, First: first.Time()}
				switch {
				case by.comesIn:
					d.Degree = If
				case first == at:
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

// held is one mandate by which somebody holds it, and when.
type held struct {
	mandate *policy.Mandate
	decision.Period
	comesIn bool // they are invited, and have to come in first
}

// holdings lists who holds what, by which mandates, and when.
func (c Survey) holdings() map[holding][]held {
	out := map[holding][]held{}
	for m := range policy.Each[*policy.Mandate](c.Policy()) {
		if m.Enabled == policy.Off {
			continue
		}
		scope := fmt.Sprint(m.Sites, m.Groups, m.Rights)
		add := func(id policy.UserID, p decision.Period) {
			u, ok := policy.Find[*policy.User](c.Policy(), string(id))
			if !ok || u.Status == policy.Suspended {
				return
			}
			if p = p.And(decision.PeriodOf(m.Valid)).And(decision.PeriodOf(u.Valid)); p.From < p.Until {
				key := holding{id, m.Role, scope}
				out[key] = append(out[key], held{m, p, u.Status == policy.Invited})
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

// firstAlone is the first instant, at most 400 days away, at which one of some mandates is held and none of others, and which one that is; nil: there is none.
func firstAlone(mine, others []held, at decision.Moment) (decision.Moment, *held) {
	in := func(list []held, at decision.Moment) int {
		return slices.IndexFunc(list, func(h held) bool { return h.Holds(at) })
	}
	for last := at + decision.AnswerHorizon; at <= last; {
		if i := in(mine, at); i >= 0 && in(others, at) < 0 {
			return at, &mine[i]
		}
		next := decision.End
		for _, h := range slices.Concat(mine, others) {
			next = min(next, h.Next(at))
		}
		if next == decision.End {
			break
		}
		at = next
	}
	return 0, nil
}
