package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"sentier/internal/decision"
	"sentier/internal/identity"
	"sentier/internal/policy"
	"sentier/internal/store"
)

// Beginning is what the first revision is made of.
type Beginning struct {
	Owner    policy.UserID
	Name     string         // of the owner
	Password string         // of the owner
	Policy   *policy.Policy // nil: the empty one
	Demo     bool           // the folder is the demonstration's own
}

// What is known of how a folder began.
const (
	factBegun   = "begun"
	begunByDemo = "demo"
)

// IsDemo tells whether a folder was begun by the demonstration, and so is nobody's.
func (s *Service) IsDemo(ctx context.Context) (bool, error) {
	by, err := s.borders.Files.FactOf(ctx, factBegun)
	return by == begunByDemo, err
}

// Recover makes a user the lasting owner, with a new password and without the second factors that they may have lost, for whoever holds the
// files and runs no service on them. It is a revision like any other.
func Recover(ctx context.Context, st *store.Store, b Beginning, at time.Time) (uint64, error) {
	p, last, err := st.Load(ctx)
	if err != nil {
		return 0, err
	}
	if last.Number == 0 {
		return 0, fmt.Errorf("%s holds no policy yet: make the first owner with “sentier init”", st.Path())
	}
	hash, err := identity.HashPassword(ctx, string(b.Owner), b.Password)
	if err != nil {
		return 0, err
	}
	user, known := policy.Find[*policy.User](p, string(b.Owner))
	active := policy.User{ID: b.Owner, Name: b.Name}
	if known {
		active = *user
		active.Status, active.Valid = policy.Active, policy.Span{}
	}
	next, _, err := p.Apply([]policy.Change{{Op: policy.Put, Type: policy.Users, ID: string(b.Owner), Record: &active}})
	if err != nil {
		return 0, err
	}
	if next, err = withOwner(next, b, at); err != nil {
		return 0, err
	}
	number := last.Number
	if done := p.Compare(next); len(done) > 0 {
		number++
		r := store.Revision{Number: number, At: at.UTC().Truncate(time.Millisecond), By: string(b.Owner), Via: "recovery", Note: "owner recovered by whoever holds the files"}
		if err := st.Append(ctx, &r, done, store.Saving{}); err != nil {
			return 0, err
		}
	}
	if err := st.DropSecondFactor(ctx, string(b.Owner), "", at); err != nil && !errors.Is(err, store.ErrNotFound) {
		return 0, err
	}
	return number, st.SetPassword(ctx, store.Password{UserID: string(b.Owner), Hash: hash, ChangedAt: at})
}

// Begin makes the first revision in a store that has none, with an owner who can sign in.
func Begin(ctx context.Context, st Blank, b Beginning, at time.Time) error {
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
	hash, err := identity.HashPassword(ctx, string(b.Owner), b.Password)
	if err != nil {
		return err
	}
	if err := st.SetPassword(ctx, store.Password{UserID: string(b.Owner), Hash: hash, ChangedAt: at}); err != nil {
		return err
	}
	if b.Demo {
		if err := st.SetFact(ctx, factBegun, begunByDemo); err != nil {
			return err
		}
	}
	r := store.Revision{Number: 1, At: at.UTC().Truncate(time.Millisecond), By: string(b.Owner), Via: "terminal", Note: "the beginning"}
	return st.Append(ctx, &r, (&policy.Policy{}).Compare(p), store.Saving{})
}

// withOwner adds the owner, and a mandate, where the policy does not have them.
func withOwner(p *policy.Policy, b Beginning, at time.Time) (*policy.Policy, error) {
	var changes []policy.Change
	if _, ok := p.Get(policy.Users, string(b.Owner)); !ok {
		changes = append(changes, policy.Change{Op: policy.Put, Type: policy.Users, ID: string(b.Owner),
			Record: &policy.User{ID: b.Owner, Name: b.Name}})
	}
	if !slices.Contains(decision.Compile(p).LastingOwners(at), b.Owner) {
		id := policy.MandateID("owner-" + string(b.Owner))
		changes = append(changes, policy.Change{Op: policy.Put, Type: policy.Mandates, ID: string(id),
			Record: &policy.Mandate{ID: id, Name: "Owner", Role: policy.Owner, To: policy.Holders{Users: []policy.UserID{b.Owner}}}})
	}
	next, _, err := p.Apply(changes)
	if err != nil {
		return nil, err
	}
	compiled := decision.Compile(next)
	if reason, ok := compiled.MaySignIn(b.Owner, at); !ok {
		return nil, fmt.Errorf("%s cannot be the owner: %s", b.Owner, reason)
	}
	if !slices.Contains(compiled.LastingOwners(at), b.Owner) {
		return nil, fmt.Errorf("%s cannot be the owner for good: the account has an end", b.Owner)
	}
	return next, nil
}
