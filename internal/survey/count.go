package survey

import (
	"slices"

	"sentier/internal/policy"
)

// Count is how many devices a site or a device group has: by itself, and with all that lies below, each
// device once.
type Count struct {
	Own   int `json:"own"`
	All   int `json:"all"`
	Below int `json:"below,omitempty"` // how many sites or groups lie in it, by one step
}

// Counts are the counts of all sites and device groups.
type Counts struct {
	Sites        map[policy.SiteID]Count        `json:"sites"`
	DeviceGroups map[policy.DeviceGroupID]Count `json:"device_groups"`
	Unsorted     int                            `json:"unsorted"` // devices without a site
}

// Count counts the devices of every site and device group.
func (c Survey) Count() Counts {
	out := Counts{Sites: map[policy.SiteID]Count{}, DeviceGroups: map[policy.DeviceGroupID]Count{}}
	for n := range c.Devices.Inhabited {
		facts, size := c.Devices.Classes.At(n).Facts, c.Devices.Members.At(n).Size
		if facts.Site == "" {
			out.Unsorted += size
		}
		for i, id := range c.Places.Chains[facts.Site] {
			tally(out.Sites, policy.SiteID(id), size, i == 0)
		}
		own := facts.Groups()
		for _, id := range c.GroupsOf(facts) {
			tally(out.DeviceGroups, id, size, slices.Contains(own, id))
		}
	}
	for r := range c.Policy().Table(policy.Sites).All() {
		if parent := r.(*policy.Site).Parent; parent != "" {
			n := out.Sites[parent]
			n.Below++
			out.Sites[parent] = n
		}
	}
	for r := range c.Policy().Table(policy.DeviceGroups).All() {
		if parent := r.(*policy.DeviceGroup).Parent; parent != "" {
			n := out.DeviceGroups[parent]
			n.Below++
			out.DeviceGroups[parent] = n
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
