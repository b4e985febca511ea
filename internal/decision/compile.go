package decision

import (
	"slices"
	"time"

	"sentier/internal/policy"
	"sentier/internal/schedule"
)

// Compiled is a policy ready to be asked. It never changes.
//
// Whoever a grant can be given to is a subject: everyone, a user group, a user. Whatever a line can
// cover is a target: everything, a site with or without those below it, a device group likewise, a device, a
// point. Both are dense numbers. A user has the subjects that they are, a device the targets that cover it;
// lines hang on pairs of both. Subjects and targets that no grant names are left out.
type Compiled struct {
	policy      *policy.Policy
	directFirst bool

	rights    map[policy.RightID]int
	rightList []rightInfo
	users     map[policy.UserID]*user
	devices   map[policy.DeviceID]*device
	groups    map[policy.UserGroupID]*group

	lines    []line
	rules    map[pair][]int32   // lines by subject and target
	byTarget map[target][]int32 // lines by target, for what is nearest to a grant
	subjects map[subjectKey]subject
	targets  map[targetKey]target
}

type (
	subject int32
	target  int32
	pair    struct {
		subject subject
		target  target
	}
)

// subjectKey names a subject: a user, a group, or, where both are empty, everyone.
type subjectKey struct {
	user  policy.UserID
	group policy.UserGroupID
}

// targetKey names a target: its type, its id and whether what lies below is covered too. The
// zero key is everything.
type targetKey struct {
	typ   policy.Type
	id    string
	point policy.PointID
	below bool
}

type rightInfo struct {
	id       policy.RightID
	gives    rightSet // what the right implies, itself included
	takenBy  rightSet // what implies the right, itself included
	kinds    []policy.KindID
	controls bool // is control or implies it
}

type user struct {
	record *policy.User
	valid  period
	self   subject // 0: no grant names the user
	held   []held
	direct []membership // every group that lists the user, for trails
}

// held is a subject that a user is during a period.
type held struct {
	subject subject
	period  period
}

type membership struct {
	group  policy.UserGroupID
	period period
}

type group struct {
	record     *policy.UserGroup
	includedBy []policy.UserGroupID
}

type device struct {
	record  *policy.Device
	zone    *time.Location
	lockout period // never, where there is none
	targets []target
	points  []target // of each point of the record; 0: no grant names it
}

type line struct {
	grant   *policy.Grant
	number  int // in the grant, from 0
	deny    bool
	valid   period
	rights  rightSet // given, or taken
	when    []*schedules
	ifs     *policy.If
	limited bool
}

// schedules is one schedule by the clocks of the zones in which it is judged.
type schedules struct {
	record *policy.Schedule
	fixed  *schedule.Timeline            // by a zone of its own
	bySite map[string]*schedule.Timeline // by the zone of the device's site
}

func (s *schedules) in(zone *time.Location) *schedule.Timeline {
	if s.fixed != nil {
		return s.fixed
	}
	return s.bySite[zone.String()]
}

// rightSet is a set of rights by their numbers.
type rightSet []uint64

func (b rightSet) has(i int) bool { return b[i>>6]&(1<<(i&63)) != 0 }
func (b rightSet) add(i int)      { b[i>>6] |= 1 << (i & 63) }
func (b rightSet) addAll(o rightSet) {
	for i := range b {
		b[i] |= o[i]
	}
}

// Compile prepares a policy. The policy is sound, as every value made by the package policy is.
func Compile(p *policy.Policy) *Compiled {
	c := &Compiled{
		policy:      p,
		directFirst: p.Settings().Combine == policy.DirectFirst,
		rules:       map[pair][]int32{},
		byTarget:    map[target][]int32{},
		subjects:    map[subjectKey]subject{},
		targets:     map[targetKey]target{},
	}
	c.compileRights()
	c.compileLines(c.compileSchedules())
	c.compileUsers()
	c.compileDevices()
	return c
}

// Policy is the policy that was compiled.
func (c *Compiled) Policy() *policy.Policy { return c.policy }

func (c *Compiled) compileRights() {
	c.rights = map[policy.RightID]int{}
	for r := range policy.Each[*policy.Right](c.policy) {
		c.rights[r.ID] = len(c.rightList)
		c.rightList = append(c.rightList, rightInfo{id: r.ID, kinds: r.Kinds})
	}
	words := (len(c.rightList) + 63) / 64
	for i := range c.rightList {
		c.rightList[i].gives, c.rightList[i].takenBy = make(rightSet, words), make(rightSet, words)
	}
	for i := range c.rightList {
		todo := []policy.RightID{c.rightList[i].id}
		for len(todo) > 0 {
			j := c.rights[todo[0]]
			todo = todo[1:]
			if c.rightList[i].gives.has(j) {
				continue
			}
			c.rightList[i].gives.add(j)
			c.rightList[j].takenBy.add(i)
			r, _ := policy.Find[*policy.Right](c.policy, string(c.rightList[j].id))
			todo = append(todo, r.Implies...)
		}
		c.rightList[i].controls = c.rightList[i].gives.has(c.rights[policy.Control])
	}
}

func (c *Compiled) compileSchedules() map[policy.ScheduleID]*schedules {
	zones := map[string]*time.Location{}
	settings := c.zone(c.policy.Settings().Zone)
	zones[settings.String()] = settings
	for s := range policy.Each[*policy.Site](c.policy) {
		if s.Zone != "" {
			zones[s.Zone] = c.zone(s.Zone)
		}
	}
	out := map[policy.ScheduleID]*schedules{}
	for s := range policy.Each[*policy.Schedule](c.policy) {
		compiled := schedule.Compile(s, func(id policy.CalendarID) (*policy.Calendar, bool) {
			return policy.Find[*policy.Calendar](c.policy, string(id))
		})
		entry := &schedules{record: s}
		if s.Zone == policy.SiteZone {
			entry.bySite = map[string]*schedule.Timeline{}
			for name, zone := range zones {
				entry.bySite[name] = compiled.In(zone)
			}
		} else {
			entry.fixed = compiled.In(c.zone(s.Zone))
		}
		out[s.ID] = entry
	}
	return out
}

// zone loads a zone that the policy's checks have seen to exist.
func (c *Compiled) zone(name string) *time.Location {
	loc, err := policy.LoadZone(name)
	if err != nil {
		panic("decision: a policy with an unchecked zone: " + err.Error())
	}
	return loc
}

// SiteZone is the zone of a site: its own, or that of the nearest ancestor that has one, then
// that of the settings.
func SiteZone(p *policy.Policy, id policy.SiteID) string {
	for id != "" {
		s, ok := policy.Find[*policy.Site](p, string(id))
		if !ok {
			break
		}
		if s.Zone != "" {
			return s.Zone
		}
		id = s.Parent
	}
	return p.Settings().Zone
}

func (c *Compiled) compileLines(whens map[policy.ScheduleID]*schedules) {
	for g := range policy.Each[*policy.Grant](c.policy) {
		subjects := c.grantSubjects(g)
		for i := range g.Lines {
			l := &g.Lines[i]
			n := int32(len(c.lines))
			compiled := line{
				grant: g, number: i, deny: g.Effect == policy.Deny, valid: periodOf(g.Valid),
				rights: c.lineRights(g, l), limited: len(l.Limits) > 0,
			}
			if g.Enabled == policy.Off {
				compiled.valid = period{}
			}
			if len(l.If.Networks)+len(l.If.States) > 0 || l.If.StrongSignIn != nil || l.If.Attended != nil {
				compiled.ifs = &l.If
			}
			for _, id := range l.When {
				compiled.when = append(compiled.when, whens[id])
			}
			c.lines = append(c.lines, compiled)
			for _, t := range c.lineTargets(l) {
				c.byTarget[t] = append(c.byTarget[t], n)
				for _, s := range subjects {
					c.rules[pair{s, t}] = append(c.rules[pair{s, t}], n)
				}
			}
		}
	}
}

func (c *Compiled) lineRights(g *policy.Grant, l *policy.Line) rightSet {
	out := make(rightSet, (len(c.rightList)+63)/64)
	add := func(ids []policy.RightID) {
		for _, id := range ids {
			info := &c.rightList[c.rights[id]]
			if g.Effect == policy.Deny {
				out.addAll(info.takenBy)
			} else {
				out.addAll(info.gives)
			}
		}
	}
	add(l.Rights)
	for _, id := range l.Roles {
		role, _ := policy.Find[*policy.Role](c.policy, string(id))
		add(role.Rights)
	}
	return out
}

func (c *Compiled) grantSubjects(g *policy.Grant) []subject {
	var out []subject
	add := func(k subjectKey) {
		if c.subjects[k] == 0 {
			c.subjects[k] = subject(len(c.subjects) + 1)
		}
		out = append(out, c.subjects[k])
	}
	if g.To.Everyone {
		add(subjectKey{})
	}
	for _, id := range g.To.Groups {
		add(subjectKey{group: id})
	}
	for _, id := range g.To.Users {
		add(subjectKey{user: id})
	}
	return out
}

func (c *Compiled) lineTargets(l *policy.Line) []target {
	var out []target
	add := func(k targetKey) {
		if c.targets[k] == 0 {
			c.targets[k] = target(len(c.targets) + 1)
		}
		out = append(out, c.targets[k])
	}
	below := l.Depth != policy.Here
	if l.On.Everything {
		add(targetKey{})
	}
	for _, id := range l.On.Sites {
		add(targetKey{typ: policy.Sites, id: string(id), below: below})
	}
	for _, id := range l.On.DeviceGroups {
		add(targetKey{typ: policy.DeviceGroups, id: string(id), below: below})
	}
	for _, id := range l.On.Devices {
		add(targetKey{typ: policy.Devices, id: string(id)})
	}
	for _, ref := range l.On.Points {
		d, p, _ := policy.SplitPoint(string(ref))
		add(targetKey{typ: policy.Devices, id: string(d), point: p})
	}
	return out
}

func (c *Compiled) compileUsers() {
	c.groups = map[policy.UserGroupID]*group{}
	for g := range policy.Each[*policy.UserGroup](c.policy) {
		c.groups[g.ID] = &group{record: g}
	}
	for g := range policy.Each[*policy.UserGroup](c.policy) {
		for _, in := range g.Includes {
			c.groups[in].includedBy = append(c.groups[in].includedBy, g.ID)
		}
	}
	c.users = make(map[policy.UserID]*user, c.policy.Table(policy.Users).Len())
	everyone := c.subjects[subjectKey{}]
	for u := range policy.Each[*policy.User](c.policy) {
		compiled := &user{record: u, valid: periodOf(u.Valid), self: c.subjects[subjectKey{user: u.ID}]}
		if everyone != 0 {
			compiled.held = append(compiled.held, held{everyone, always})
		}
		if compiled.self != 0 {
			compiled.held = append(compiled.held, held{compiled.self, always})
		}
		c.users[u.ID] = compiled
	}
	for g := range policy.Each[*policy.UserGroup](c.policy) {
		passesTo := c.passesTo(g.ID)
		for _, m := range g.Members {
			u := c.users[m.User]
			p := periodOf(m.Span())
			u.direct = append(u.direct, membership{g.ID, p})
			for _, s := range passesTo {
				u.held = append(u.held, held{s, p})
			}
		}
	}
	for _, u := range c.users {
		u.held = tidy(u.held)
	}
}

// tidy drops what another entry for the same subject already says.
func tidy(list []held) []held {
	var out []held
	for i, h := range list {
		covered := slices.ContainsFunc(list[:i], func(o held) bool { return o.subject == h.subject && o.period.and(h.period) == h.period })
		if !covered {
			out = append(out, h)
		}
	}
	return out
}

// passesTo lists the subjects that the members of a group are: the group and what includes it,
// as far as all on the way are enabled.
func (c *Compiled) passesTo(id policy.UserGroupID) []subject {
	var out []subject
	seen := map[policy.UserGroupID]bool{}
	todo := []policy.UserGroupID{id}
	for len(todo) > 0 {
		g := c.groups[todo[0]]
		todo = todo[1:]
		if seen[g.record.ID] || g.record.Enabled == policy.Off {
			continue
		}
		seen[g.record.ID] = true
		if s := c.subjects[subjectKey{group: g.record.ID}]; s != 0 {
			out = append(out, s)
		}
		todo = append(todo, g.includedBy...)
	}
	return out
}
