package service

import (
	"slices"

	"sentier/internal/authority"
	"sentier/internal/policy"
	"sentier/internal/wire"
)

// copyRecord makes a record like another. With "members" a group keeps its members; with "groups" a user comes
// into the groups of the one copied, for as long; with "grants" whoever is made is named where the one copied is.
func copyRecord(p *policy.Policy, t policy.Type, e wire.Edit) ([]policy.Change, error) {
	r, ok := p.Get(t, e.ID)
	if !ok {
		return nil, ErrNotFound
	}
	id := e.To
	if id == "" {
		if e.Name == "" {
			return nil, Wrong("name", "is missing: name the copy")
		}
		id = policy.MakeID(e.Name, func(id string) bool { _, taken := p.Get(t, id); return taken })
	} else if _, taken := p.Get(t, id); taken {
		return nil, Wrong("to", "%q is taken: choose another id", id)
	}
	name := e.Name
	if name == "" {
		name = id
	}
	copied := policy.Like(r, id, name)
	if t == policy.UserGroups && !slices.Contains(e.With, "members") {
		copied = policy.Short(copied)
	}
	out := []policy.Change{{Op: policy.Put, Type: t, ID: id, Record: copied}}
	if t == policy.Users && slices.Contains(e.With, "groups") {
		for g := range policy.Each[*policy.UserGroup](p) {
			for _, m := range g.Members {
				if string(m.User) == e.ID {
					m.User = policy.UserID(id)
					out = append(out, policy.Change{Op: policy.Add, Type: policy.UserGroups, ID: g.Key(), List: "members", Entry: policy.EntryOf(m), Beside: true})
				}
			}
		}
	}
	if slices.Contains(e.With, "grants") {
		out = append(out, sameGrants(p, t, e.ID, id)...)
	}
	if slices.Contains(e.With, "own_grants") {
		out = append(out, ownGrants(p, t, e.ID, id, name)...)
	}
	return out, nil
}

// access gives the changes by which an access is given, or taken back. Whoever gives adds to grants that they may change, and takes back as it was given.
func access(p *policy.Policy, rights authority.Rights, op policy.Op, a policy.Access) (out []policy.Change, err error) {
	if op == takeOp {
		out, err = p.TakeBack(a)
	} else {
		out, err = p.Give(a, func(g *policy.Grant) bool { return rights.Acts(p, g).Edit })
	}
	if err != nil {
		return nil, Wrong("access", "%v", err)
	}
	return out, nil
}

// ownGrants makes, for a new user or group, a grant like each that names another: changing the one leaves the other as it is.
func ownGrants(p *policy.Policy, t policy.Type, old, id, name string) []policy.Change {
	var out []policy.Change
	taken := map[string]bool{}
	for g := range policy.Each[*policy.Grant](p) {
		n := *g
		switch {
		case t == policy.Users && slices.Contains(g.To.Users, policy.UserID(old)):
			n.To = policy.To{Users: []policy.UserID{policy.UserID(id)}}
		case t == policy.UserGroups && slices.Contains(g.To.Groups, policy.UserGroupID(old)):
			n.To = policy.To{Groups: []policy.UserGroupID{policy.UserGroupID(id)}}
		default:
			continue
		}
		n.Name = p.FreeName(policy.Grants, g.Title()+", "+name)
		n.ID = policy.GrantID(policy.MakeID(n.Name, func(id string) bool {
			_, there := p.Get(policy.Grants, id)
			return there || taken[id]
		}))
		taken[n.Key()] = true
		out = append(out, policy.Change{Op: policy.Put, Type: policy.Grants, ID: n.Key(), Record: &n})
	}
	return out
}

// sameGrants names a new user or group in every grant that names another.
func sameGrants(p *policy.Policy, t policy.Type, old, id string) []policy.Change {
	var out []policy.Change
	for g := range policy.Each[*policy.Grant](p) {
		n := *g
		switch {
		case t == policy.Users && slices.Contains(g.To.Users, policy.UserID(old)):
			n.To.Users = append(slices.Clone(g.To.Users), policy.UserID(id))
		case t == policy.UserGroups && slices.Contains(g.To.Groups, policy.UserGroupID(old)):
			n.To.Groups = append(slices.Clone(g.To.Groups), policy.UserGroupID(id))
		default:
			continue
		}
		out = append(out, policy.Change{Op: policy.Put, Type: policy.Grants, ID: g.Key(), Record: &n})
	}
	return out
}
