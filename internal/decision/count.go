package decision

import (
	"slices"

	"sentier/internal/policy"
)

// Count is how many devices a site or a device group has: by itself, and with all that lies below, each
// device once.
type Count struct {
	Own int `json:"own"`
	All int `json:"all"`
}

// Counts are the counts of all sites and device groups.
type Counts struct {
	Sites        map[policy.SiteID]Count        `json:"sites"`
	DeviceGroups map[policy.DeviceGroupID]Count `json:"device_groups"`
	Unsorted     int                            `json:"unsorted"` // devices without a site
}

// Count counts the devices of every site and device group.
func (c *Compiled) Count() Counts {
	out := Counts{Sites: map[policy.SiteID]Count{}, DeviceGroups: map[policy.DeviceGroupID]Count{}}
	for n := range c.devices.Inhabited {
		facts, size := c.devices.Classes.At(n).facts, c.devices.Members.At(n).Size
		if facts.site == "" {
			out.Unsorted += size
		}
		for i, id := range c.places.chains[facts.site] {
			tally(out.Sites, policy.SiteID(id), size, i == 0)
		}
		own := facts.groups()
		for _, id := range c.groupsOf(facts) {
			tally(out.DeviceGroups, id, size, slices.Contains(own, id))
		}
	}
	return out
}

func tally[ID comparable](counts map[ID]Count, id ID, size int, own bool) {
	n := counts[id]
	n.All += size
	if own {
		n.Own += size
	}
	counts[id] = n
}
