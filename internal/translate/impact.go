package translate

import (
	"sentier/internal/decision"
	"sentier/internal/policy"
	"sentier/internal/wire"
)

// Impact names who gains and loses what; p is a policy that knows them.
func Impact(p *policy.Policy, d decision.Differences) *wire.Impact {
	name := func(t policy.Type, id string) wire.Named {
		return wire.Named{ID: id, Name: p.Title(t, id)}
	}
	out := &wire.Impact{Gained: d.Gained, Lost: d.Lost, Users: d.Users, Devices: d.Devices, Items: []wire.Difference{}}
	for _, i := range d.Items {
		item := wire.Difference{User: name(policy.Users, string(i.User)), Device: name(policy.Devices, string(i.Device))}
		for _, r := range i.Gained {
			item.Gained = append(item.Gained, string(r))
		}
		for _, r := range i.Lost {
			item.Lost = append(item.Lost, string(r))
		}
		out.Items = append(out.Items, item)
	}
	return out
}
