package decision

import (
	"slices"
	"time"

	"sentier/internal/policy"
)

// MaySignIn tells whether a user is active and valid at an instant; the reason says what is not.
func (c *Compiled) MaySignIn(id policy.UserID, at time.Time) (Reason, bool) {
	class := c.users.find(id)
	if class == nil {
		return UnknownUser, false
	}
	reason, barred := class.barred(momentOf(at))
	return reason, !barred
}

// Groups lists the enabled groups that a user belongs to at an instant: "Who: the subject set".
func (c *Compiled) Groups(id policy.UserID, at time.Time) []policy.UserGroupID {
	class := c.users.find(id)
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

// Mandates lists the mandates in force for a user: "Who may administer". None are for a user who
// may not sign in.
func (c *Compiled) Mandates(id policy.UserID, at time.Time) []*policy.Mandate {
	if _, ok := c.MaySignIn(id, at); !ok {
		return nil
	}
	groups := c.Groups(id, at)
	var out []*policy.Mandate
	for m := range policy.Each[*policy.Mandate](c.policy) {
		if m.Enabled == policy.Off || !m.Valid.Holds(at) {
			continue
		}
		inGroup := slices.ContainsFunc(m.To.Groups, func(g policy.UserGroupID) bool { return slices.Contains(groups, g) })
		if inGroup || slices.Contains(m.To.Users, id) {
			out = append(out, m)
		}
	}
	return out
}
