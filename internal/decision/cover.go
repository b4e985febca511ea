package decision

import (
	"slices"

	"sentier/internal/policy"
)

// compileDevices finds the targets that cover each device: "Where: what covers a resource".
func (c *Compiled) compileDevices() {
	c.devices = make(map[policy.DeviceID]*device, c.policy.Table(policy.Devices).Len())
	groupsOf := c.groupsOfDevices()
	for d := range policy.Each[*policy.Device](c.policy) {
		compiled := &device{record: d, zone: c.zone(SiteZone(c.policy, d.Site)), lockout: period{}}
		if d.Lockout != nil {
			compiled.lockout = periodOf(d.Lockout.Span())
		}
		cover := func(k targetKey) {
			if t := c.targets[k]; t != 0 && !slices.Contains(compiled.targets, t) {
				compiled.targets = append(compiled.targets, t)
			}
		}
		cover(targetKey{})
		sites := c.siteChain(d.Site)
		for i, id := range sites {
			if i == 0 {
				cover(targetKey{typ: policy.Sites, id: string(id)})
			}
			cover(targetKey{typ: policy.Sites, id: string(id), below: true})
		}
		for _, g := range groupsOf(d, sites) {
			cover(targetKey{typ: policy.DeviceGroups, id: string(g.ID)})
			for _, id := range c.groupChain(g.ID) {
				cover(targetKey{typ: policy.DeviceGroups, id: string(id), below: true})
			}
		}
		cover(targetKey{typ: policy.Devices, id: string(d.ID)})
		for _, p := range d.Points {
			compiled.points = append(compiled.points, c.targets[targetKey{typ: policy.Devices, id: string(d.ID), point: p.ID}])
		}
		c.devices[d.ID] = compiled
	}
}

// groupsOfDevices gives the function that finds the device groups which list a device or match it; sites is
// the chain of the device's site.
func (c *Compiled) groupsOfDevices() func(d *policy.Device, sites []policy.SiteID) []*policy.DeviceGroup {
	listed := map[policy.DeviceID][]*policy.DeviceGroup{}
	var matching []*policy.DeviceGroup
	for g := range policy.Each[*policy.DeviceGroup](c.policy) {
		for _, d := range g.Devices {
			listed[d] = append(listed[d], g)
		}
		if g.Match != nil {
			matching = append(matching, g)
		}
	}
	return func(d *policy.Device, sites []policy.SiteID) []*policy.DeviceGroup {
		groups := slices.Clip(listed[d.ID])
		for _, g := range matching {
			if c.matches(g.Match, d, sites) {
				groups = append(groups, g)
			}
		}
		return groups
	}
}

// siteChain is a site and its ancestors, the site first.
func (c *Compiled) siteChain(id policy.SiteID) []policy.SiteID {
	var out []policy.SiteID
	for id != "" {
		out = append(out, id)
		s, _ := policy.Find[*policy.Site](c.policy, string(id))
		id = s.Parent
	}
	return out
}

// groupChain is a device group and its ancestors, the group first.
func (c *Compiled) groupChain(id policy.DeviceGroupID) []policy.DeviceGroupID {
	var out []policy.DeviceGroupID
	for id != "" {
		out = append(out, id)
		g, _ := policy.Find[*policy.DeviceGroup](c.policy, string(id))
		id = g.Parent
	}
	return out
}

// matches tells whether a match holds for a device; sites is the chain of the device's site.
func (c *Compiled) matches(m *policy.Match, d *policy.Device, sites []policy.SiteID) bool {
	if len(m.Kinds)+len(m.Tags)+len(m.Sites) == 0 {
		return false
	}
	if len(m.Kinds) > 0 && !slices.Contains(m.Kinds, d.Kind) {
		return false
	}
	for _, tag := range m.Tags {
		if !slices.Contains(d.Tags, tag) {
			return false
		}
	}
	return len(m.Sites) == 0 || slices.ContainsFunc(m.Sites, func(s policy.SiteID) bool { return slices.Contains(sites, s) })
}

// InGroup tells whether a device is in a device group, or in one below it: listed, or by a match.
func (c *Compiled) InGroup(d *policy.Device, id policy.DeviceGroupID) bool {
	sites := c.siteChain(d.Site)
	for g := range policy.Each[*policy.DeviceGroup](c.policy) {
		_, listed := slices.BinarySearch(g.Devices, d.ID)
		if (listed || g.Match != nil && c.matches(g.Match, d, sites)) && slices.Contains(c.groupChain(g.ID), id) {
			return true
		}
	}
	return false
}
