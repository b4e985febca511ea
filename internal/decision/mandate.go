package decision

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"sentier/internal/policy"
)

// MaySignIn tells whether a user is active and valid at an instant; the reason says what is not.
func (c *Compiled) MaySignIn(id policy.UserID, at time.Time) (Reason, bool) {
	class := c.users.Find(id)
	if class == nil {
		return UnknownUser, false
	}
	reason, barred := class.barred(momentOf(at))
	return reason, !barred
}

// Groups lists the enabled groups that a user belongs to at an instant: "Who: the subject set".
func (c *Compiled) Groups(id policy.UserID, at time.Time) []policy.UserGroupID {
	class := c.users.Find(id)
	if class == nil {
		return nil
	}
	var out []policy.UserGroupID
	for _, m := range class.facts.direct {
		if m.period.holds(momentOf(at)) {
			out = append(out, c.passesTo(m.group)...)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// LastingOwners lists the users who may sign in at an instant and ever after, and whom a mandate of owner reaches for ever:
// "Who may administer". Whether they have a credential is not known here.
func (c *Compiled) LastingOwners(at time.Time) []policy.UserID {
	var out []policy.UserID
	lasts := func(s policy.Span) bool { return s.Holds(at) && s.Until.IsZero() }
	add := func(id policy.UserID) {
		if u, ok := policy.Find[*policy.User](c.policy, string(id)); ok && u.Status == policy.Active && lasts(u.Valid) {
			out = append(out, id)
		}
	}
	for m := range policy.Each[*policy.Mandate](c.policy) {
		if m.Role != policy.Owner || m.Enabled == policy.Off || !lasts(m.Valid) {
			continue
		}
		for _, id := range m.To.Users {
			add(id)
		}
		seen := map[policy.UserGroupID]bool{}
		for _, id := range m.To.Groups {
			c.membersOf(id, seen, func(member policy.Member) {
				if lasts(member.Span()) {
					add(member.User)
				}
			})
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// membersOf visits the memberships of a group and of the groups that it includes, as far as they are enabled.
func (c *Compiled) membersOf(id policy.UserGroupID, seen map[policy.UserGroupID]bool, visit func(policy.Member)) {
	g, ok := policy.Find[*policy.UserGroup](c.policy, string(id))
	if !ok || seen[id] || g.Enabled == policy.Off {
		return
	}
	seen[id] = true
	for _, member := range g.Members {
		visit(member)
	}
	for _, inner := range g.Includes {
		c.membersOf(inner, seen, visit)
	}
}

// mandates are the mandates by whom they name, so that those of one user are found without a look at all.
type mandates struct {
	users  map[policy.UserID][]*policy.Mandate
	groups map[policy.UserGroupID][]*policy.Mandate
}

func compileMandates(p *policy.Policy) *mandates {
	out := &mandates{map[policy.UserID][]*policy.Mandate{}, map[policy.UserGroupID][]*policy.Mandate{}}
	for m := range policy.Each[*policy.Mandate](p) {
		for _, id := range m.To.Users {
			out.users[id] = append(out.users[id], m)
		}
		for _, id := range m.To.Groups {
			out.groups[id] = append(out.groups[id], m)
		}
	}
	return out
}

// Mandates lists the mandates in force for a user: "Who may administer". None are for a user who
// may not sign in.
func (c *Compiled) Mandates(id policy.UserID, at time.Time) []*policy.Mandate {
	class := c.users.Find(id)
	if class == nil {
		return nil
	}
	now := momentOf(at)
	if _, barred := class.barred(now); barred {
		return nil
	}
	var out []*policy.Mandate
	add := func(list []*policy.Mandate) {
		for _, m := range list {
			if m.Enabled != policy.Off && m.Valid.Holds(at) && !slices.Contains(out, m) {
				out = append(out, m)
			}
		}
	}
	add(c.mandates.users[id])
	if len(c.mandates.groups) > 0 {
		for _, g := range c.Groups(id, at) {
			add(c.mandates.groups[g])
		}
	}
	return out
}

// MandateDifference is a mandate that somebody holds in only one of two policies, at some instant within 400 days.
type MandateDifference struct {
	User    policy.UserID
	Mandate *policy.Mandate // of the policy in which it is held
	Gained  bool            // held in the later policy alone; otherwise in the earlier
	Degree  Degree          // Now or Later
	First   time.Time       // the first instant at which it is so
}

// compareMandates finds who holds a role of a mandate in only one of two policies. Mandates of one role with one scope are alike.
func compareMandates(before, after *Compiled, done []policy.RecordChange, at moment) []MandateDifference {
	if done != nil && !slices.ContainsFunc(done, func(c policy.RecordChange) bool {
		t := c.Record().Type()
		return t == policy.Mandates || t == policy.UserGroups || t == policy.Users
	}) {
		return nil
	}
	had, has := before.holdings(), after.holdings()
	var out []MandateDifference
	differ := func(a, b map[holding]holds, gained bool) {
		for key, mine := range a {
			other := b[key]
			if first, ok := firstAlone(mine.periods, other.periods, at); ok {
				d := MandateDifference{User: key.user, Mandate: mine.mandate, Gained: gained, Degree: Later, First: first.time()}
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
	periods []period
}

// holdings lists who holds what, and when.
func (c *Compiled) holdings() map[holding]holds {
	out := map[holding]holds{}
	for m := range policy.Each[*policy.Mandate](c.policy) {
		if m.Enabled == policy.Off {
			continue
		}
		scope := fmt.Sprint(m.Sites, m.Groups, m.Rights)
		add := func(id policy.UserID, p period) {
			u, ok := policy.Find[*policy.User](c.policy, string(id))
			if !ok || u.Status != policy.Active {
				return
			}
			if p = p.and(periodOf(m.Valid)).and(periodOf(u.Valid)); p.from < p.until {
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
			add(id, always)
		}
		seen := map[policy.UserGroupID]bool{}
		for _, id := range m.To.Groups {
			c.membersOf(id, seen, func(member policy.Member) { add(member.User, periodOf(member.Span())) })
		}
	}
	return out
}

// firstAlone is the first instant, at most 400 days away, that lies in one of some periods and in none of others.
func firstAlone(mine, others []period, at moment) (moment, bool) {
	in := func(list []period, at moment) bool {
		return slices.ContainsFunc(list, func(p period) bool { return p.holds(at) })
	}
	for last := at + answerHorizon; at <= last; {
		if in(mine, at) && !in(others, at) {
			return at, true
		}
		next := end
		for _, p := range slices.Concat(mine, others) {
			next = min(next, p.next(at))
		}
		if next == end {
			break
		}
		at = next
	}
	return 0, false
}
