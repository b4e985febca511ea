package service

import (
	"context"
	"fmt"
	"time"

	"sentier/internal/decision"
	"sentier/internal/policy"
	"sentier/internal/store"
)

// Beginning is what the first revision is made of.
type Beginning struct {
	Owner    policy.UserID
	Name     string         // of the owner
	Password string         // of the owner
	Policy   *policy.Policy // nil: the empty one
}

// Begin makes the first revision in a store that has none, with an owner who can sign in.
func Begin(ctx context.Context, st *store.Store, b Beginning, at time.Time) error {
	last, err := st.LastRevision(ctx)
	if err != nil {
		return err
	}
	if last > 0 {
		return fmt.Errorf("%s holds a policy already, at revision %d: its owners give access to others", st.Path(), last)
	}
	p := b.Policy
	if p == nil {
		p = policy.Empty()
	}
	if p, err = withOwner(p, b, at); err != nil {
		return err
	}
	g := newGuard()
	hash, err := g.hash(b.Password)
	if err != nil {
		return err
	}
	if err := st.SetPassword(ctx, store.Password{UserID: string(b.Owner), Hash: hash, ChangedAt: at}); err != nil {
		return err
	}
	r := store.Revision{Number: 1, At: at.UTC().Truncate(time.Millisecond), By: string(b.Owner), Via: "terminal", Note: "the beginning"}
	return st.Save(ctx, &r, (&policy.Policy{}).Compare(p), store.Saving{})
}

// withOwner adds the owner, and a mandate, where the policy does not have them.
func withOwner(p *policy.Policy, b Beginning, at time.Time) (*policy.Policy, error) {
	var changes []policy.Change
	if _, ok := p.Get(policy.Users, string(b.Owner)); !ok {
		changes = append(changes, policy.Change{Op: policy.Put, Type: policy.Users, ID: string(b.Owner),
			Record: &policy.User{ID: b.Owner, Name: b.Name}})
	}
	isOwner := false
	for _, m := range decision.Compile(p).Mandates(b.Owner, at) {
		isOwner = isOwner || m.Role == policy.Owner
	}
	if !isOwner {
		id := policy.MandateID("owner-" + string(b.Owner))
		changes = append(changes, policy.Change{Op: policy.Put, Type: policy.Mandates, ID: string(id),
			Record: &policy.Mandate{ID: id, Name: "Owner", Role: policy.Owner, To: policy.Holders{Users: []policy.UserID{b.Owner}}}})
	}
	next, _, err := p.Apply(changes)
	if err != nil {
		return nil, err
	}
	if reason, ok := decision.Compile(next).MaySignIn(b.Owner, at); !ok {
		return nil, fmt.Errorf("%s cannot be the owner: %s", b.Owner, reason)
	}
	return next, nil
}
