package decision

import (
	"cmp"
	"iter"
	"sentier/internal/container"
	"slices"
	"time"

	"sentier/internal/policy"
)

// places are the sites and the device groups, without their devices.
type places struct {
	chains      map[policy.SiteID][]string        // each site and its ancestors, the site first
	groupChains map[policy.DeviceGroupID][]string // each device group likewise
	zones       map[policy.SiteID]string
	matching    []*policy.DeviceGroup // those with a match
	matchSites  bool                  // any of them looks at sites
}

func compilePlaces(p *policy.Policy) *places {
	out := &places{
		chains: map[policy.SiteID][]string{}, groupChains: map[policy.DeviceGroupID][]string{}, zones: map[policy.SiteID]string{"": p.Settings().Zone},
	}
	for s := range policy.Each[*policy.Site](p) {
		for id := s.ID; id != ""; {
			out.chains[s.ID] = append(out.chains[s.ID], string(id))
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
		if matches(g.Match, d, p.chains[d.Site]) {
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

// deviceClass is what decisions know of devices. It fills one line of the processor's cache, of which
// most decisions need no more.
type deviceClass struct {
	around  vicinity // the marks of the targets; everywhere, where no line decides alone
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
	covered []covering // by targets, the nearest first
	points  []target   // of each point of named; 0: no grant names it
	chains  [][]string // of the site, then of each of groups
	zone    *time.Location
}

// groups lists the groups that the device is in by itself, each once: those that list it, then those that match it.
func (f *deviceFacts) groups() []policy.DeviceGroupID {
	out := slices.Clip(f.listed)
	for _, id := range f.matched {
		if !slices.Contains(f.listed, id) {
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
	f.covered = c.covered(&f)
	f.targets = make([]target, len(f.covered))
	for i, x := range f.covered {
		f.targets[i] = x.target
	}
	slices.Sort(f.targets) // as rules are
	f.points = nil
	f.chains = [][]string{c.places.chains[f.site]}
	for _, g := range f.groups() {
		f.chains = append(f.chains, c.places.groupChains[g])
	}
	f.chains = slices.Clip(f.chains)
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
	if out.retired || f.lockout != (period{}) || len(f.targets) == 0 { // in nothing's vicinity not even what bars a user would be seen
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
	target target
	near   nearness
}

// covered lists what covers a device, each target once, the nearest first.
func (c *Compiled) covered(f *deviceFacts) []covering {
	var all []covering
	cover := func(k targetKey, near nearness) {
		if t := c.targets[k]; t != 0 {
			all = append(all, covering{t, near})
		}
	}
	if f.named != nil {
		cover(deviceTarget(f.named.ID, ""), nearnessOf(byItself, 1, 0))
	}
	for n, g := range f.groups() {
		cover(targetKey{typ: policy.DeviceGroups, id: string(g)}, nearnessOf(byGroup, 1, n))
		for i, id := range c.places.groupChains[g] {
			cover(targetKey{typ: policy.DeviceGroups, id: id, below: true}, nearnessOf(byGroup, i+1, n))
		}
	}
	for i, id := range c.places.chains[f.site] {
		if i == 0 {
			cover(targetKey{typ: policy.Sites, id: id}, nearnessOf(bySite, 1, 0))
		}
		cover(targetKey{typ: policy.Sites, id: id, below: true}, nearnessOf(bySite, i+1, 0))
	}
	cover(targetKey{}, byEverything)
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
func (f *deviceFacts) nearest(l *line, point target) nearness {
	if point != 0 && slices.Contains(l.on, point) {
		return nearnessOf(byPoint, 1, 0)
	}
	for _, x := range f.covered {
		if slices.Contains(l.on, x.target) {
			return x.near
		}
	}
	return byEverything
}

// gatherDevices compiles all devices.
func (c *Compiled) gatherDevices() {
	table := c.policy.Table(policy.Devices)
	into := container.Gather(&c.devices, table.Len())
	listed := perEntry(keysOf[policy.DeviceID](table), policy.Each[*policy.DeviceGroup](c.policy), func(g *policy.DeviceGroup) []policy.DeviceID { return g.Devices },
		func(id policy.DeviceID) policy.DeviceID { return id }, func(g *policy.DeviceGroup, _ policy.DeviceID) policy.DeviceGroupID { return g.ID })
	var key classKey
	i := 0
	for d := range policy.Each[*policy.Device](c.policy) {
		facts := c.deviceFacts(d, listed[i])
		key = facts.key(key[:0])
		into.Add(d.ID, key, func() deviceClass {
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
	moving := container.Move(&c.devices)
	for id, l := range changed {
		d, ok := policy.Find[*policy.Device](c.policy, string(id))
		if !ok {
			moving.Remove(id)
			continue
		}
		var listed []policy.DeviceGroupID
		if class := c.devices.Find(id); class != nil {
			listed = slices.DeleteFunc(slices.Clone(class.facts.listed), func(g policy.DeviceGroupID) bool { return slices.Contains(l.out, g) })
		}
		facts := c.deviceFacts(d, append(listed, l.in...))
		moving.Put(id, facts.key(nil), func() deviceClass { return c.deviceClass(facts) })
	}
	moving.End()
}

// groupsOf lists the device groups that a device is in, and those above them, each once.
func (c *Compiled) groupsOf(f *deviceFacts) []policy.DeviceGroupID {
	var out []policy.DeviceGroupID
	for _, g := range f.groups() {
		for _, id := range c.places.groupChains[g] {
			if id := policy.DeviceGroupID(id); !slices.Contains(out, id) {
				out = append(out, id)
			}
		}
	}
	return out
}

// InGroup tells whether a device is in a device group, or in one below it: listed, or by a match.
func (c *Compiled) InGroup(d *policy.Device, id policy.DeviceGroupID) bool {
	class := c.devices.Find(d.ID)
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
