package decision

import (
	"slices"
	"time"

	"sentier/internal/policy"
)

// MaySignIn tells whether a user is active and valid at an instant; the reason says what is not.
func (c *Compiled) MaySignIn(id policy.UserID, at time.Time) (Reason, bool) {
	class := c.Users.Find(id)
	if class == nil {
		return UnknownUser, false
	}
	reason, barred := class.Barred(MomentOf(at))
	return reason, !barred
}

// Groups lists the enabled groups that a user belongs to at an instant: "Who: the subject set".
func (c *Compiled) Groups(id policy.UserID, at time.Time) []policy.UserGroupID {
	class := c.Users.Find(id)
	if class == nil {
		return nil
	}
	var out []policy.UserGroupID
	for _, m := range class.facts.direct {
		if m.period.Holds(MomentOf(at)) {
			out = append(out, c.PassesTo(m.group)...)
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
			MembersOf(c.policy, id, seen, func(member policy.Member) {
				if lasts(member.Span()) {
					add(member.User)
				}
			})
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// MembersOf visits the memberships of a group and of the groups that it includes, as far as they are enabled.
func MembersOf(p *policy.Policy, id policy.UserGroupID, seen map[policy.UserGroupID]bool, visit func(policy.Member)) {
	g, ok := policy.Find[*policy.UserGroup](p, string(id))
	if !ok || seen[id] || g.Enabled == policy.Off {
		return
	}
	seen[id] = true
	for _, member := range g.Members {
		visit(member)
	}
	for _, inner := range g.Includes {
		MembersOf(p, inner, seen, visit)
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
	class := c.Users.Find(id)
	if class == nil {
		return nil
	}
	now := MomentOf(at)
	if _, barred := class.Barred(now); barred {
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
