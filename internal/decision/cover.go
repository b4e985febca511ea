package decision

import (
	"cmp"
	"iter"
	"slices"
	"time"

	"sentier/internal/container"
	"sentier/internal/policy"
)

// places are the sites and the device groups, without their devices.
type places struct {
	Chains      map[policy.SiteID][]string        // each site and its ancestors, the site first
	groupChains map[policy.DeviceGroupID][]string // each device group likewise
	zones       map[policy.SiteID]string
	matching    []*policy.DeviceGroup // those with a match
	matchSites  bool                  // any of them looks at sites
}

func compilePlaces(p *policy.Policy) *places {
	out := &places{
		Chains: map[policy.SiteID][]string{}, groupChains: map[policy.DeviceGroupID][]string{}, zones: map[policy.SiteID]string{"": p.Settings().Zone},
	}
	for s := range policy.Each[*policy.Site](p) {
		for id := s.ID; id != ""; {
			out.Chains[s.ID] = append(out.Chains[s.ID], string(id))
			at, _ := policy.Find[*policy.Site](p, string(id))
			id = at.Parent
		}
		out.zones[s.ID] = SiteZone(p, s.ID)
	}
	parents := map[policy.DeviceGroupID]policy.DeviceGroupID{}
	for g := range policy.Each[*policy.DeviceGroup](p) {
		parents[g.ID] = g.Parent
		if g.Match != nil {
			out.matching = append(out.matching, g)
			out.matchSites = out.matchSites || len(g.Match.Sites) > 0
		}
	}
	for g := range parents {
		for id := g; id != ""; id = parents[id] {
			out.groupChains[g] = append(out.groupChains[g], string(id))
		}
	}
	return out
}

// matched lists the groups whose match holds for a device.
func (p *places) matched(d *policy.Device) []policy.DeviceGroupID {
	var out []policy.DeviceGroupID
	for _, g := range p.matching {
		if matches(g.Match, d, p.Chains[d.Site]) {
			out = append(out, g.ID)
		}
	}
	return out
}

// matches tells whether a match holds for a device; sites is the chain of the device's site.
func matches(m *policy.Match, d *policy.Device, sites []string) bool {
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
	return len(m.Sites) == 0 || slices.ContainsFunc(m.Sites, func(s policy.SiteID) bool { return slices.Contains(sites, string(s)) })
}

// DeviceClass is what decisions know of devices. It fills one line of the processor's cache, of which
// most decisions need no more.
type DeviceClass struct {
	around  vicinity // the marks of the targets; everywhere, where no line decides alone
	Lockout Period
	Facts   *DeviceFacts
	fold    fold   // of the marks of all targets
	Clock   uint16 // the number of the zone of the site
	Retired bool
}

// DeviceFacts tell one class of devices from another.
type DeviceFacts struct {
	State   policy.State
	Kind    policy.KindID
	Site    policy.SiteID
	lockout Period // none, where it is empty
	listed  []policy.DeviceGroupID
	matched []policy.DeviceGroupID
	Named   *policy.Device // nil: no grant names the device or a point of it

	// What the layers before make of the facts.
	Targets []Target
	covered []covering // by targets, the nearest first
	Points  []Target   // of each point of named; 0: no grant names it
	chains  [][]string // of the site, then of each of groups
	Zone    *time.Location
}

// Groups lists the groups that the device is in by itself, each once: those that list it, then those that match it.
func (f *DeviceFacts) Groups() []policy.DeviceGroupID {
	out := slices.Clip(f.listed)
	for _, id := range f.matched {
		if !slices.Contains(f.listed, id) {
			out = append(out, id)
		}
	}
	return out
}

func (c *Compiled) deviceFacts(d *policy.Device, listed []policy.DeviceGroupID) DeviceFacts {
	f := DeviceFacts{State: d.State, Kind: d.Kind, Site: d.Site, listed: listed, matched: c.Places.matched(d)}
	if d.Lockout != nil {
		f.lockout = PeriodOf(d.Lockout.Span())
	}
	slices.Sort(f.listed)
	named := c.Targets[deviceTarget(d.ID, "")] != 0
	for _, p := range d.Points {
		named = named || c.Targets[deviceTarget(d.ID, p.ID)] != 0
	}
	if named {
		f.Named = d
	}
	return f
}

func (f *DeviceFacts) key(k ClassKey) ClassKey {
	k.Text(string(f.State))
	k.Text(string(f.Kind))
	k.Text(string(f.Site))
	k.Period(f.lockout)
	if f.Named != nil {
		k.Text(string(f.Named.ID))
		for _, p := range f.Named.Points {
			k.Text(string(p.ID))
		}
	}
	for _, list := range [][]policy.DeviceGroupID{f.listed, f.matched} {
		k.Number(int64(len(list)))
		for _, id := range list {
			k.Text(string(id))
		}
	}
	return k
}

// deviceClass finds the targets that cover a device: "Where: what covers a resource".
func (c *Compiled) deviceClass(f DeviceFacts) DeviceClass {
	f.covered = c.covered(&f)
	f.Targets = make([]Target, len(f.covered))
	for i, x := range f.covered {
		f.Targets[i] = x.target
	}
	slices.Sort(f.Targets) // as rules are
	f.Points = nil
	f.chains = [][]string{c.Places.Chains[f.Site]}
	for _, g := range f.Groups() {
		f.chains = append(f.chains, c.Places.groupChains[g])
	}
	f.chains = slices.Clip(f.chains)
	if f.Named != nil {
		for _, p := range f.Named.Points {
			f.Points = append(f.Points, c.Targets[deviceTarget(f.Named.ID, p.ID)])
		}
	}
	clock := c.zoneOf[c.Places.zones[f.Site]]
	f.Zone = c.zones[clock]
	out := DeviceClass{
		Facts: &f, Clock: uint16(clock), Lockout: f.lockout, Retired: f.State == policy.Retired,
	}
	var all marks
	for _, t := range f.Targets {
		all.add(c.mark(t))
	}
	out.fold = all.fold()
	if out.Retired || f.lockout != (Period{}) || len(f.Targets) == 0 { // in nothing's vicinity not even what bars a user would be seen
		all = allMarks
	}
	out.around = all.vicinity()
	return out
}

// nearness is how a target covers a resource: what is nearer is less. It holds which kind of cover it is, then how many
// ids the chain has from what the device is in to what the target is, then in which of its groups the device is.
type nearness uint32

const (
	byPoint nearness = iota << 24
	byItself
	byGroup
	bySite
	byEverything
)

func nearnessOf(kind nearness, length, group int) nearness {
	return kind | nearness(min(length, 0xff))<<16 | nearness(min(group, 0xffff))
}

func (n nearness) kind() nearness { return n &^ 0xffffff }
func (n nearness) length() int    { return int(n >> 16 & 0xff) }
func (n nearness) group() int     { return int(n & 0xffff) }

// covering is a target that covers a device.
type covering struct {
	target Target
	near   nearness
}

// covered lists what covers a device, each target once, the nearest first.
func (c *Compiled) covered(f *DeviceFacts) []covering {
	var all []covering
	cover := func(k TargetKey, near nearness) {
		if t := c.Targets[k]; t != 0 {
			all = append(all, covering{t, near})
		}
	}
	if f.Named != nil {
		cover(deviceTarget(f.Named.ID, ""), nearnessOf(byItself, 1, 0))
	}
	for n, g := range f.Groups() {
		cover(TargetKey{typ: policy.DeviceGroups, id: string(g)}, nearnessOf(byGroup, 1, n))
		for i, id := range c.Places.groupChains[g] {
			cover(TargetKey{typ: policy.DeviceGroups, id: id, below: true}, nearnessOf(byGroup, i+1, n))
		}
	}
	for i, id := range c.Places.Chains[f.Site] {
		if i == 0 {
			cover(TargetKey{typ: policy.Sites, id: id}, nearnessOf(bySite, 1, 0))
		}
		cover(TargetKey{typ: policy.Sites, id: id, below: true}, nearnessOf(bySite, i+1, 0))
	}
	cover(TargetKey{}, byEverything)
	slices.SortStableFunc(all, func(x, y covering) int { return cmp.Compare(x.near, y.near) })
	var out []covering
	for _, x := range all {
		if !slices.ContainsFunc(out, func(o covering) bool { return o.target == x.target }) {
			out = append(out, x)
		}
	}
	return slices.Clip(out)
}

// nearest is how a line covers a resource that it covers.
func (f *DeviceFacts) nearest(l *Line, point Target) nearness {
	if point != 0 && slices.Contains(l.On, point) {
		return nearnessOf(byPoint, 1, 0)
	}
	for _, x := range f.covered {
		if slices.Contains(l.On, x.target) {
			return x.near
		}
	}
	return byEverything
}

// gatherDevices compiles all devices.
func (c *Compiled) gatherDevices() {
	table := c.policy.Table(policy.Devices)
	into := container.Gather(&c.Devices, table.Len())
	listed := perEntry(keysOf[policy.DeviceID](table), policy.Each[*policy.DeviceGroup](c.policy), func(g *policy.DeviceGroup) []policy.DeviceID { return g.Devices },
		func(id policy.DeviceID) policy.DeviceID { return id }, func(g *policy.DeviceGroup, _ policy.DeviceID) policy.DeviceGroupID { return g.ID })
	var key ClassKey
	i := 0
	for d := range policy.Each[*policy.Device](c.policy) {
		facts := c.deviceFacts(d, listed[i])
		key = facts.key(key[:0])
		into.Add(d.ID, key, func() DeviceClass {
			facts.listed = slices.Clone(facts.listed)
			return c.deviceClass(facts)
		})
		i++
	}
	into.End()
}

// moveDevices compiles the devices that a change touches.
func (c *Compiled) moveDevices(changed map[policy.DeviceID]*listings) {
	if len(changed) == 0 {
		return
	}
	moving := container.Move(&c.Devices)
	for id, l := range changed {
		d, ok := policy.Find[*policy.Device](c.policy, string(id))
		if !ok {
			moving.Remove(id)
			continue
		}
		var listed []policy.DeviceGroupID
		if class := c.Devices.Find(id); class != nil {
			listed = slices.DeleteFunc(slices.Clone(class.Facts.listed), func(g policy.DeviceGroupID) bool { return slices.Contains(l.out, g) })
		}
		facts := c.deviceFacts(d, append(listed, l.in...))
		moving.Put(id, facts.key(nil), func() DeviceClass { return c.deviceClass(facts) })
	}
	moving.End()
}

// GroupsOf lists the device groups that a device is in, and those above them, each once.
func (c *Compiled) GroupsOf(f *DeviceFacts) []policy.DeviceGroupID {
	var out []policy.DeviceGroupID
	for _, g := range f.Groups() {
		for _, id := range c.Places.groupChains[g] {
			if id := policy.DeviceGroupID(id); !slices.Contains(out, id) {
				out = append(out, id)
			}
		}
	}
	return out
}

// InGroup tells whether a device is in a device group, or in one below it: listed, or by a match.
func (c *Compiled) InGroup(d *policy.Device, id policy.DeviceGroupID) bool {
	class := c.Devices.Find(d.ID)
	return class != nil && slices.Contains(c.GroupsOf(class.Facts), id)
}

// Selects tells whether a match selects a device.
func (c *Compiled) Selects(m *policy.Match, d *policy.Device) bool {
	return matches(m, d, c.Places.Chains[d.Site])
}

// Matching yields the devices that a match selects, in the order of their ids.
func (c *Compiled) Matching(m *policy.Match) iter.Seq[*policy.Device] {
	return func(yield func(*policy.Device) bool) {
		if m == nil {
			return
		}
		for d := range policy.Each[*policy.Device](c.policy) {
			if matches(m, d, c.Places.Chains[d.Site]) && !yield(d) {
				return
			}
		}
	}
}
