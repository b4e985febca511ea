package decision

import "sentier/internal/policy"

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
	groupsOf := c.groupsOfDevices()
	for d := range policy.Each[*policy.Device](c.policy) {
		sites := c.siteChain(d.Site)
		if len(sites) == 0 {
			out.Unsorted++
		}
		for i, id := range sites {
			n := out.Sites[id]
			n.All++
			if i == 0 {
				n.Own++
			}
			out.Sites[id] = n
		}
		own, all := map[policy.DeviceGroupID]bool{}, map[policy.DeviceGroupID]bool{}
		for _, g := range groupsOf(d, sites) {
			own[g.ID] = true
			for _, up := range c.groupChain(g.ID) {
				all[up] = true
			}
		}
		for id := range all {
			n := out.DeviceGroups[id]
			n.All++
			if own[id] {
				n.Own++
			}
			out.DeviceGroups[id] = n
		}
	}
	return out
}
