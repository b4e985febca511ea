package decision

import (
	"iter"
	"slices"
	"time"

	"sentier/internal/policy"
)

// places are the sites and the device groups, without their devices.
type places struct {
	parents    map[policy.DeviceGroupID]policy.DeviceGroupID
	chains     map[policy.SiteID][]policy.SiteID // each site and its ancestors, the site first
	zones      map[policy.SiteID]string
	matching   []*policy.DeviceGroup // those with a match
	matchSites bool                  // any of them looks at sites
}

func compilePlaces(p *policy.Policy) *places {
	out := &places{
		parents: map[policy.DeviceGroupID]policy.DeviceGroupID{},
		chains:  map[policy.SiteID][]policy.SiteID{}, zones: map[policy.SiteID]string{"": p.Settings().Zone},
	}
	for s := range policy.Each[*policy.Site](p) {
		for id := s.ID; id != ""; {
			out.chains[s.ID] = append(out.chains[s.ID], id)
			at, _ := policy.Find[*policy.Site](p, string(id))
			id = at.Parent
		}
		out.zones[s.ID] = SiteZone(p, s.ID)
	}
	for g := range policy.Each[*policy.DeviceGroup](p) {
		out.parents[g.ID] = g.Parent
		if g.Match != nil {
			out.matching = append(out.matching, g)
			out.matchSites = out.matchSites || len(g.Match.Sites) > 0
		}
	}
	return out
}

// groupChain is a device group and its ancestors, the group first.
func (p *places) groupChain(id policy.DeviceGroupID) []policy.DeviceGroupID {
	var out []policy.DeviceGroupID
	for ; id != ""; id = p.parents[id] {
		out = append(out, id)
	}
	return out
}

// matched lists the groups whose match holds for a device.
func (p *places) matched(d *policy.Device) []policy.DeviceGroupID {
	var out []policy.DeviceGroupID
	for _, g := range p.matching {
		if matches(g.Match, d, p.chains[d.Site]) {
			out = append(out, g.ID)
		}
	}
	return out
}

// matches tells whether a match holds for a device; sites is the chain of the device's site.
func matches(m *policy.Match, d *policy.Device, sites []policy.SiteID) bool {
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

// deviceClass is what decisions know of devices. It fills one line of the processor's cache, of which
// most decisions need no more.
type deviceClass struct {
	near    near // the marks of the targets; everywhere, where no line decides alone
	lockout period
	facts   *deviceFacts
	fold    fold   // of the marks of all targets
	clock   uint16 // the number of the zone of the site
	retired bool
}

// deviceFacts tell one class of devices from another.
type deviceFacts struct {
	state   policy.State
	kind    policy.KindID
	site    policy.SiteID
	lockout period // none, where it is empty
	listed  []policy.DeviceGroupID
	matched []policy.DeviceGroupID
	named   *policy.Device // nil: no grant names the device or a point of it

	// What the layers before make of the facts.
	targets []target
	points  []target // of each point of named; 0: no grant names it
	zone    *time.Location
}

// matches tells whether the device is in a group by its match alone.
func (f *deviceFacts) byMatch(id policy.DeviceGroupID) bool { return !slices.Contains(f.listed, id) }

// groups lists the groups that the device is in by itself, each once.
func (f *deviceFacts) groups() []policy.DeviceGroupID {
	out := slices.Clip(f.listed)
	for _, id := range f.matched {
		if f.byMatch(id) {
			out = append(out, id)
		}
	}
	return out
}

func (c *Compiled) deviceFacts(d *policy.Device, listed []policy.DeviceGroupID) deviceFacts {
	f := deviceFacts{state: d.State, kind: d.Kind, site: d.Site, listed: listed, matched: c.places.matched(d)}
	if d.Lockout != nil {
		f.lockout = periodOf(d.Lockout.Span())
	}
	slices.Sort(f.listed)
	named := c.targets[deviceTarget(d.ID, "")] != 0
	for _, p := range d.Points {
		named = named || c.targets[deviceTarget(d.ID, p.ID)] != 0
	}
	if named {
		f.named = d
	}
	return f
}

func (f *deviceFacts) key(k classKey) classKey {
	k.text(string(f.state))
	k.text(string(f.kind))
	k.text(string(f.site))
	k.period(f.lockout)
	if f.named != nil {
		k.text(string(f.named.ID))
		for _, p := range f.named.Points {
			k.text(string(p.ID))
		}
	}
	for _, list := range [][]policy.DeviceGroupID{f.listed, f.matched} {
		k.number(int64(len(list)))
		for _, id := range list {
			k.text(string(id))
		}
	}
	return k
}

// deviceClass finds the targets that cover a device: "Where: what covers a resource".
func (c *Compiled) deviceClass(f deviceFacts) deviceClass {
	f.targets, f.points = c.covered(&f), nil
	if f.named != nil {
		for _, p := range f.named.Points {
			f.points = append(f.points, c.targets[deviceTarget(f.named.ID, p.ID)])
		}
	}
	clock := c.zoneOf[c.places.zones[f.site]]
	f.zone = c.zones[clock]
	out := deviceClass{
		facts: &f, clock: uint16(clock), lockout: f.lockout, retired: f.state == policy.Retired,
	}
	var all marks
	for _, t := range f.targets {
		all.add(c.mark(t))
	}
	out.fold = all.fold()
	if out.retired || f.lockout != (period{}) {
		all = allMarks
	}
	out.near = all.near()
	return out
}

func (c *Compiled) covered(f *deviceFacts) []target {
	var out []target
	cover := func(k targetKey) {
		if t := c.targets[k]; t != 0 && !slices.Contains(out, t) {
			out = append(out, t)
		}
	}
	cover(targetKey{})
	for i, id := range c.places.chains[f.site] {
		if i == 0 {
			cover(targetKey{typ: policy.Sites, id: string(id)})
		}
		cover(targetKey{typ: policy.Sites, id: string(id), below: true})
	}
	for _, g := range f.groups() {
		cover(targetKey{typ: policy.DeviceGroups, id: string(g)})
		for id := g; id != ""; id = c.places.parents[id] {
			cover(targetKey{typ: policy.DeviceGroups, id: string(id), below: true})
		}
	}
	if f.named != nil {
		cover(deviceTarget(f.named.ID, ""))
	}
	slices.Sort(out) // as rules are
	return slices.Clip(out)
}

// gatherDevices compiles all devices.
func (c *Compiled) gatherDevices() {
	table := c.policy.Table(policy.Devices)
	into := gather(&c.devices, table.Len())
	listed := make(map[policy.DeviceID][]policy.DeviceGroupID, table.Len())
	for g := range policy.Each[*policy.DeviceGroup](c.policy) {
		for _, d := range g.Devices {
			listed[d] = append(listed[d], g.ID)
		}
	}
	var key classKey
	for d := range policy.Each[*policy.Device](c.policy) {
		facts := c.deviceFacts(d, listed[d.ID])
		key = facts.key(key[:0])
		into.add(d.ID, key, func() deviceClass { return c.deviceClass(facts) })
	}
	into.end()
}

// moveDevices compiles the devices that a change touches.
func (c *Compiled) moveDevices(changed map[policy.DeviceID]*listings) {
	if len(changed) == 0 {
		return
	}
	moving := move(&c.devices)
	for id, l := range changed {
		d, ok := policy.Find[*policy.Device](c.policy, string(id))
		if !ok {
			moving.remove(id)
			continue
		}
		var listed []policy.DeviceGroupID
		if class := c.devices.find(id); class != nil {
			listed = slices.DeleteFunc(slices.Clone(class.facts.listed), func(g policy.DeviceGroupID) bool { return slices.Contains(l.out, g) })
		}
		facts := c.deviceFacts(d, append(listed, l.in...))
		moving.put(id, facts.key(nil), func() deviceClass { return c.deviceClass(facts) })
	}
	moving.end()
}

// groupsOf lists the device groups that a device is in, and those above them, each once.
func (c *Compiled) groupsOf(f *deviceFacts) []policy.DeviceGroupID {
	var out []policy.DeviceGroupID
	for _, g := range f.groups() {
		for _, id := range c.places.groupChain(g) {
			if !slices.Contains(out, id) {
				out = append(out, id)
			}
		}
	}
	return out
}

// InGroup tells whether a device is in a device group, or in one below it: listed, or by a match.
func (c *Compiled) InGroup(d *policy.Device, id policy.DeviceGroupID) bool {
	class := c.devices.find(d.ID)
	return class != nil && slices.Contains(c.groupsOf(class.facts), id)
}

// Matching yields the devices that a match selects, in the order of their ids.
func (c *Compiled) Matching(m *policy.Match) iter.Seq[*policy.Device] {
	return func(yield func(*policy.Device) bool) {
		if m == nil {
			return
		}
		for d := range policy.Each[*policy.Device](c.policy) {
			if matches(m, d, c.places.chains[d.Site]) && !yield(d) {
				return
			}
		}
	}
}
