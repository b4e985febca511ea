package decision

import (
	"slices"
	"sync"
	"time"

	"sentier/internal/container"
	"sentier/internal/policy"
)

// Compiled is a policy ready to be asked. It never changes.
//
// Whoever a grant can be given to is a subject: everyone, a user group, a user. Whatever a line can
// cover is a target: everything, a site with or without those below it, a device group likewise, a device, a
// point. Both are dense numbers. A user has the subjects that they are, a device the targets that cover it;
// lines hang on pairs of both. Subjects and targets that no grant and no expectation names are left out.
//
// It is made in layers, each standing on those before: rights, schedules, rules (the lines of grants), groups
// of users and places (sites and groups of devices), users, devices. A change makes again the layers that it
// touches, and of users and devices only those that it touches.
type Compiled struct {
	policy      *policy.Policy
	DirectFirst bool

	*Rights
	*clocks
	*rules
	groups   groups
	Places   *places
	mandates *mandates

	Users   container.Crowd[policy.UserID, UserClass]
	Devices container.Crowd[policy.DeviceID, DeviceClass]

	origin  *int // the same for all that came of one Compile by Next, whose classes keep their numbers
	pairs   pairs
	holders *inverse // of subjects
	covers  *inverse // of targets
}

// Policy is the policy that was compiled.
func (c *Compiled) Policy() *policy.Policy { return c.policy }

// Compile prepares a policy. The policy is sound, as every value made by the package policy is.
func Compile(p *policy.Policy) *Compiled {
	c := &Compiled{policy: p, DirectFirst: p.Settings().Combine == policy.DirectFirst, origin: new(int)}
	c.Rights = compileRights(p)
	c.clocks = compileClocks(p)
	c.rules = c.compileRules()
	c.groups = compileGroups(p)
	c.Places = compilePlaces(p)
	c.mandates = compileMandates(p)
	var both sync.WaitGroup
	both.Go(c.gatherUsers)
	both.Go(c.gatherDevices)
	both.Wait()
	c.compilePairs()
	c.holders, c.covers = &inverse{}, &inverse{}
	return c
}

// A change that touches more than fewTouched users and devices, and more than one in wholesaleShare, compiles everything again.
const (
	fewTouched     = 64
	wholesaleShare = 8
)

// Wholesale tells whether a change that leads to p compiles everything again, by which classes get other numbers.
func (t *touched) Wholesale(p *policy.Policy) bool {
	many := len(t.Users) + len(t.Devices)
	return many > fewTouched && many*wholesaleShare > p.Table(policy.Users).Len()+p.Table(policy.Devices).Len()
}

// Next prepares the policy that changes lead to; done is what they did to each record, as
// [policy.Policy.Apply] tells it. It equals Compile(p), and costs what the change touches.
func (c *Compiled) Next(p *policy.Policy, done []policy.RecordChange) *Compiled {
	t := c.Touched(done)
	if t.Wholesale(p) {
		return Compile(p)
	}
	n := *c
	n.policy, n.DirectFirst = p, p.Settings().Combine == policy.DirectFirst
	if t.rights {
		n.Rights = compileRights(p)
	}
	if t.clocks {
		n.clocks = compileClocks(p)
	}
	if t.rules {
		n.rules = n.compileRules()
	}
	if t.groups {
		n.groups = compileGroups(p)
	}
	if t.places {
		n.Places = compilePlaces(p)
	}
	if t.mandates {
		n.mandates = compileMandates(p)
	}
	if t.rules || t.groups || len(t.Users) > 0 {
		n.holders = &inverse{}
	}
	if t.rules || t.places || t.EveryDevice || len(t.Devices) > 0 {
		n.covers = &inverse{}
	}
	before := n.Users.Classes.Size
	n.moveDerived(t)
	if t.rules || t.groups || t.places || t.EveryDevice || len(t.Devices) > 0 {
		n.compilePairs()
	} else {
		n.pairUsers(before)
	}
	return &n
}

// moveDerived makes again the classes that a change touches.
func (n *Compiled) moveDerived(t *touched) {
	var both sync.WaitGroup
	defer both.Wait()
	// Those that the change touches move first: then no class is left of what is gone.
	both.Go(func() {
		n.moveUsers(t.Users)
		if t.rules || t.groups {
			n.Users.Derive(func(class *UserClass) UserClass { return n.userClass(*class.facts) })
		}
	})
	if t.EveryDevice {
		n.gatherDevices()
		return
	}
	n.moveDevices(t.Devices)
	if t.rules || t.places {
		n.Devices.Derive(func(class *DeviceClass) DeviceClass { return n.deviceClass(*class.Facts) })
	}
}

// Follows tells whether the policy came of another by [Compiled.Next] alone, without compiling everything again: classes of users and devices that are in both
// have the same numbers.
func (c *Compiled) Follows(o *Compiled) bool { return c.origin == o.origin }

// touched is what a change touches: which layers, which users and devices.
type touched struct {
	rights, clocks, rules, roles, groups, places, mandates, EveryDevice bool

	Users   map[policy.UserID]*joins
	Devices map[policy.DeviceID]*listings
}

// Few tells whether the change touches single users and devices alone: what they have to do with is as it was for everybody else.
func (t *touched) Few() bool {
	return !t.rights && !t.clocks && !t.rules && !t.groups && !t.places && !t.EveryDevice
}

// joins are the groups that a user joins and leaves.
type joins struct{ in, out []membership }

// listings are the device groups that list a device from now on, or do no more.
type listings struct{ in, out []policy.DeviceGroupID }

func (t *touched) user(id policy.UserID) *joins {
	if t.Users[id] == nil {
		t.Users[id] = &joins{}
	}
	return t.Users[id]
}

func (t *touched) device(id policy.DeviceID) *listings {
	if t.Devices[id] == nil {
		t.Devices[id] = &listings{}
	}
	return t.Devices[id]
}

// Touched tells which layers, users and devices a change touches.
func (c *Compiled) Touched(done []policy.RecordChange) *touched {
	t := &touched{Users: map[policy.UserID]*joins{}, Devices: map[policy.DeviceID]*listings{}}
	for _, change := range done {
		switch r := change.Record().(type) {
		case *policy.Settings, *policy.Schedule, *policy.Calendar:
			t.clocks, t.rules, t.places = true, true, true
		case *policy.Right:
			t.rights, t.rules = true, true
		case *policy.Role:
			t.rules, t.roles = true, true
		case *policy.Grant, *policy.Expectation:
			t.rules = true
			t.named(change.Before)
			t.named(change.After)
		case *policy.Site:
			t.clocks, t.rules, t.places = true, true, true
			t.EveryDevice = t.EveryDevice || c.Places.matchSites
		case *policy.Mandate:
			t.mandates = true
		case *policy.User:
			t.user(r.ID)
		case *policy.Device:
			t.device(r.ID)
		case *policy.UserGroup:
			t.userGroup(change)
		case *policy.DeviceGroup:
			t.deviceGroup(change)
		}
	}
	return t
}

// named touches whom and what a grant or an expectation names by themselves.
func (t *touched) named(r policy.Record) {
	policy.References(r, func(ref policy.Reference) {
		switch ref.Type {
		case policy.Users:
			t.user(policy.UserID(ref.ID))
		case policy.Devices:
			t.device(policy.DeviceID(ref.ID))
		}
	})
}

func (t *touched) userGroup(change policy.RecordChange) {
	before, _ := change.Before.(*policy.UserGroup)
	after, _ := change.After.(*policy.UserGroup)
	none := &policy.UserGroup{}
	switch {
	case before == nil:
		before, t.groups = none, true
	case after == nil:
		after, t.groups = none, true
	case before.Enabled != after.Enabled || !slices.Equal(before.Includes, after.Includes):
		t.groups = true
	}
	id := policy.UserGroupID(change.Record().Key())
	added, dropped := change.Entries()
	for _, e := range dropped {
		m := e.Member()
		j := t.user(m.User)
		j.out = append(j.out, membership{id, PeriodOf(m.Span())})
	}
	for _, e := range added {
		m := e.Member()
		j := t.user(m.User)
		j.in = append(j.in, membership{id, PeriodOf(m.Span())})
	}
}

func (t *touched) deviceGroup(change policy.RecordChange) {
	before, _ := change.Before.(*policy.DeviceGroup)
	after, _ := change.After.(*policy.DeviceGroup)
	none := &policy.DeviceGroup{}
	if before == nil {
		before, t.places = none, true
	}
	if after == nil {
		after, t.places = none, true
	}
	t.places = t.places || before.Parent != after.Parent
	if !sameMatch(before.Match, after.Match) {
		t.places, t.EveryDevice = true, true
	}
	id := policy.DeviceGroupID(change.Record().Key())
	added, dropped := change.Entries()
	for _, e := range dropped {
		l := t.device(policy.DeviceID(e.Value))
		l.out = append(l.out, id)
	}
	for _, e := range added {
		l := t.device(policy.DeviceID(e.Value))
		l.in = append(l.in, id)
	}
}

func sameMatch(a, b *policy.Match) bool {
	if a == nil || b == nil {
		return a == b
	}
	return slices.Equal(a.Kinds, b.Kinds) && slices.Equal(a.Tags, b.Tags) && slices.Equal(a.Sites, b.Sites)
}

// loadZone loads a zone that the policy's checks have seen to exist.
func loadZone(name string) *time.Location {
	loc, err := policy.LoadZone(name)
	if err != nil {
		panic("decision: a policy with an unchecked zone: " + err.Error())
	}
	return loc
}
