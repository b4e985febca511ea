// Package authority judges what a caller may do with the service itself: "Who may administer" in the semantics. Whoever changes
// something is judged by what the change does to records, and whoever reads is given a view of what they may see; nothing else decides either.
package authority

import (
	"slices"
	"time"

	"sentier/internal/decision"
	"sentier/internal/policy"
)

// Action is what a caller wants to do.
type Action string

// The actions.
const (
	Ask     Action = "ask"     // for a decision about a user
	Read    Action = "read"    // what of the policy may be seen: [Rights.View] says what
	Whole   Action = "whole"   // what is only of the policy as a whole: its document, its record
	Write   Action = "write"   // records: what exactly is judged by [Rights.Change]
	Replace Action = "replace" // the policy as a whole
	Follow  Action = "follow"  // what changes
	Manage  Action = "manage"  // credentials of others
)

// rolePermissions says which roles of a mandate let their holders do what, besides the owner, who may do everything.
var rolePermissions = map[Action][]policy.MandateRole{
	Ask:    {policy.Auditor, policy.Enforcement, policy.Delegate},
	Follow: {policy.Auditor, policy.Enforcement},
	Read:   {policy.Auditor, policy.Delegate},
	Whole:  {policy.Auditor},
	Write:  {policy.Delegate},
}

// Rights are what a user may do with the service at an instant: the sum of the mandates in force for them. The zero value is nobody's.
type Rights struct {
	user     policy.UserID
	at       time.Time
	in       bool
	mandates []*policy.Mandate
}

// Of finds the rights of a user.
func Of(c *decision.Compiled, user policy.UserID, at time.Time) Rights {
	if _, ok := c.MaySignIn(user, at); !ok {
		return Rights{user: user}
	}
	return Rights{user, at, true, c.Mandates(user, at)}
}

// By are the rights that come from one of the mandates alone, by its id; from none where it is not in force for the user.
func (r Rights) By(mandate policy.MandateID) Rights {
	r.mandates = slices.DeleteFunc(slices.Clone(r.mandates), func(m *policy.Mandate) bool { return m.ID != mandate })
	return r
}

// SignedIn tells whether the user may sign in at all, without which nothing they hold counts.
func (r Rights) SignedIn() bool { return r.in }

// Roles lists the roles of the user's mandates, each once.
func (r Rights) Roles() []string {
	out := []string{}
	for _, m := range r.mandates {
		if !slices.Contains(out, string(m.Role)) {
			out = append(out, string(m.Role))
		}
	}
	return out
}

func (r Rights) has(roles ...policy.MandateRole) bool {
	return slices.ContainsFunc(r.mandates, func(m *policy.Mandate) bool { return slices.Contains(roles, m.Role) })
}

// May tells whether the user may do a thing; about is whom it is about, where it is about one. The error is a [*Forbidden].
func (r Rights) May(do Action, about policy.UserID) error {
	if do == Ask && about == r.user || r.has(policy.Owner) || r.has(rolePermissions[do]...) {
		return nil
	}
	roles := policy.Names{string(policy.Owner)}
	for _, role := range rolePermissions[do] {
		roles = append(roles, string(role))
	}
	return &Forbidden{policy.Say("a mandate of the role %s", roles)}
}

// Change tells whether the user may make a change that leads from one policy to another, by what it did to records: whatever way it came
// by. It is asked once the change was applied, and before it is saved. The error is a [*Forbidden].
func (r Rights) Change(before, after *policy.Policy, done []policy.RecordChange) error {
	if len(done) == 0 || r.has(policy.Owner) {
		return nil
	}
	if mandates := r.Delegations(); len(mandates) > 0 {
		return judgeAll(mandates, before, after, r.at, done)
	}
	return r.May(Write, "")
}

// Bounded tells whether what the user may ask about others is bounded by the sites of their mandates.
func (r Rights) Bounded() bool {
	return r.has(policy.Delegate) && !r.has(policy.Owner, policy.Auditor, policy.Enforcement)
}

// Delegations are the user's mandates of a delegate.
func (r Rights) Delegations() []*policy.Mandate {
	return slices.DeleteFunc(slices.Clone(r.mandates), func(m *policy.Mandate) bool { return m.Role != policy.Delegate })
}

// Forbidden is that a caller may not do a thing; Missing says what would let them.
type Forbidden struct{ Missing policy.Said }

func (e *Forbidden) Error() string { return e.Unwrap().Error() }

// Unwrap is the sentence that it is told as.
func (e *Forbidden) Unwrap() error { return policy.Say("you may not do this: it takes %s", e.Missing) }
