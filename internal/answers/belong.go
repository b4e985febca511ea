package answers

import (
	"slices"

	"sentier/internal/authority"
	"sentier/internal/policy"
	"sentier/internal/service"
	"sentier/internal/wire"
)

// Groups lists the groups that a user or a device is in, and why: those that list it with their ends, those that a rule puts it into, and
// those around or including these.
func (s Service) Groups(c service.Caller, typeName, id string) ([]wire.Belongs, error) {
	r, err := s.Get(c, typeName, id)
	if err != nil {
		return nil, err
	}
	st := s.State()
	if err := s.Permit(st, c, service.Read, ""); err != nil {
		return nil, err
	}
	switch r := r.(type) {
	case *policy.User:
		return userGroups(st.Policy, r), nil
	case *policy.Device:
		return deviceGroups(st, s.View(st, c), r), nil
	}
	return nil, service.ErrNotFound
}

func belongs(r policy.Record, why string) wire.Belongs {
	return wire.Belongs{Group: wire.Named{ID: r.Key(), Name: r.Title()}, Why: why}
}

func userGroups(p *policy.Policy, u *policy.User) []wire.Belongs {
	out := []wire.Belongs{}
	seen := map[policy.UserGroupID]bool{}
	var todo []*policy.UserGroup
	for _, m := range p.Mentions(policy.Users, u.Key()) {
		g, ok := m.By.(*policy.UserGroup)
		if !ok || seen[g.ID] {
			continue
		}
		seen[g.ID] = true
		todo = append(todo, g)
		for _, m := range g.Members {
			if m.User == u.ID {
				b := belongs(g, "listed")
				b.From, b.Until, b.Enabled = end(m.From), end(m.Until), g.Enabled != policy.Off
				out = append(out, b)
			}
		}
	}
	for len(todo) > 0 {
		inner := todo[0]
		todo = todo[1:]
		for _, m := range p.Mentions(policy.UserGroups, inner.Key()) {
			g, ok := m.By.(*policy.UserGroup)
			if !ok || seen[g.ID] || !slices.Contains(g.Includes, inner.ID) {
				continue
			}
			seen[g.ID] = true
			todo = append(todo, g)
			b := belongs(g, "includes")
			b.Through, b.Enabled = &wire.Named{ID: inner.Key(), Name: inner.Title()}, g.Enabled != policy.Off
			out = append(out, b)
		}
	}
	return out
}

func deviceGroups(st *service.State, v authority.View, d *policy.Device) []wire.Belongs {
	out := []wire.Belongs{}
	in := map[policy.DeviceGroupID]*policy.DeviceGroup{}
	for g := range policy.Each[*policy.DeviceGroup](st.Policy) {
		if !st.Compiled.InGroup(d, g.ID) || !v.Sees(g) {
			continue
		}
		in[g.ID] = g
		b := belongs(g, "within")
		switch {
		case slices.Contains(g.Devices, d.ID):
			b.Why = "listed"
		case g.Match != nil && st.Compiled.Selects(g.Match, d):
			b.Why = "rule"
		}
		b.Enabled = true
		out = append(out, b)
	}
	for i, b := range out { // through the group below that it is in
		if b.Why != "within" {
			continue
		}
		for _, g := range in {
			if string(g.Parent) == b.Group.ID && (out[i].Through == nil || g.Key() < out[i].Through.ID) {
				out[i].Through = &wire.Named{ID: g.Key(), Name: g.Title()}
			}
		}
	}
	return out
}
