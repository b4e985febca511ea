package survey

import (
	"slices"
	"strings"
	"time"

	"sentier/internal/container"
	"sentier/internal/decision"
	"sentier/internal/policy"
)

// FindingKind is what may not be meant as it is.
type FindingKind string

// The kinds of finding, in the order in which they are told.
const (
	EveryoneGets    FindingKind = "everyone"       // a grant gives to everyone
	EverythingGiven FindingKind = "everything"     // a grant gives on everything
	SinglePerson    FindingKind = "single_person"  // one person alone can control a device
	Leftover        FindingKind = "leftover"       // somebody is the only one of a group who is in another as well
	HeldTwice       FindingKind = "held_twice"     // a grant names somebody who has all of it by a group
	IdleMembership  FindingKind = "idle_member"    // a membership gives nothing that is not held otherwise
	PastEnd         FindingKind = "past_end"       // a membership, a grant or an account is past its end
	EndsSoon        FindingKind = "ends_soon"      // one ends within a week
	Covered         FindingKind = "covered"        // a grant gives nothing that others do not
	BehindDeny      FindingKind = "behind_deny"    // all that a grant gives is denied
	OnNothing       FindingKind = "on_nothing"     // a grant covers no device
	ToNobody        FindingKind = "to_nobody"      // a grant reaches nobody
	NeverOpen       FindingKind = "never_open"     // its schedules are open at no time of the 400 days
	NeverInForce    FindingKind = "never_in_force" // it is switched off
	NotApplicable   FindingKind = "not_applicable" // a line names a right that no device it covers is of a kind for
	DirectGrant     FindingKind = "direct_grant"   // a grant names several people, where a group would do
	EmptyGroup      FindingKind = "empty_group"    // a group of users has nobody in it
	AlikeGroups     FindingKind = "alike_groups"   // two groups list the same people
	Unsorted        FindingKind = "unsorted"       // a device has no site
	NobodyReaches   FindingKind = "nobody_reaches" // no person can do anything on a device
	AllReach        FindingKind = "all_reach"      // everybody can do something on it
	SimilarNames    FindingKind = "similar_names"  // two names nearly match
	Unused          FindingKind = "unused"         // somebody has asked for nothing for a long time
)

// FindingKinds lists all kinds, in the order in which they are told.
func FindingKinds() []FindingKind {
	return []FindingKind{EveryoneGets, EverythingGiven, SinglePerson, Leftover, HeldTwice, IdleMembership, PastEnd, EndsSoon, Covered, BehindDeny, OnNothing, ToNobody,
		NeverOpen, NeverInForce, NotApplicable, DirectGrant, EmptyGroup, AlikeGroups, Unsorted, NobodyReaches, AllReach, SimilarNames, Unused}
}

// MostFindings is how many findings of a kind are told.
const MostFindings = 500

// FindingOf is a record that a finding is about.
type FindingOf struct {
	Type policy.Type
	ID   string
}

// Finding is one thing that may not be meant as it is.
type Finding struct {
	Kind  FindingKind
	Of    []FindingOf // what it is about, the first before the others
	Right policy.RightID
	Line  int       // from 0, of a grant
	At    time.Time // of an end; of the last that was asked
	Count int       // people that are named
	Mends []Mend    // the first before the others; none: it takes a decision that nobody can foresee
}

// Mend is a change that ends a finding.
type Mend struct {
	Word    string // what it does: remove, drop, leave, group, rights
	Of      FindingOf
	Changes []policy.Change
}

// Key names the finding: the same as long as it is the same.
func (f *Finding) Key() string {
	parts := []string{string(f.Kind)}
	for _, of := range f.Of {
		parts = append(parts, of.Type.String()+"/"+of.ID)
	}
	if f.Right != "" {
		parts = append(parts, string(f.Right))
	}
	return strings.Join(parts, " ")
}

// Upkeep is the findings of a policy, and what they were found from, so that those of a later policy are found from what a change touches.
type Upkeep struct {
	Survey
	At     time.Time
	Found  []Finding           // of each kind the first
	Counts map[FindingKind]int // how many there are

	clocks    []*decision.DeviceClass     // a class of devices for each clock
	byGrant   []ofGrant                   // in the order of the grants
	mentioned map[policy.UserGroupID]int  // how often grants, expectations and mandates mention a group
	gives     map[policy.UserGroupID]bool // whether any line is given to those in a group
	standings []standing                  // by class of users
	access    []access                    // by class of devices
	crews     []crew                      // by class of users
	people    int
	similar   [len(namedTypes)][][2]string
}

// finder gathers findings.
type finder struct {
	*Upkeep
	kept    *kept    // nil: nothing is taken over
	now     *ofGrant // what is found of the grant at hand; nil: it is not about a grant by itself
	holders *decision.ClassSet
	out     map[FindingKind][]Finding
}

// Upkeep finds what may not be meant as it is, at an instant.
func (c Survey) Upkeep(at time.Time) *Upkeep {
	f := newFinder(c, at)
	c.assess(decision.MomentOf(at), slices.Collect(c.Users.Inhabited), f.standings)
	f.reachers(slices.Collect(c.Devices.Inhabited))
	for i, t := range namedTypes {
		f.similar[i] = similar(c.Policy().Table(t))
	}
	return f.gather()
}

// Next is the findings of a later policy, by what is different in it: those that [Survey.Upkeep] finds at the same instant.
func (u *Upkeep) Next(after *decision.Compiled) *Upkeep {
	f := newFinder(Of(after), u.At)
	done := u.Policy().Compare(after.Policy())
	users, devices := u.touched(f, done)
	f.keepMentions(u)
	f.assess(decision.MomentOf(u.At), users, f.standings)
	f.reachers(devices)
	for i, t := range namedTypes {
		if f.similar[i] = u.similar[i]; slices.ContainsFunc(done, func(c policy.RecordChange) bool {
			return c.Record().Type() == t && (c.Before == nil || c.After == nil || c.Before.Title() != c.After.Title())
		}) {
			f.similar[i] = similar(after.Policy().Table(t))
		}
	}
	return f.gather()
}

// touched lists the classes of users and of devices that a change touches, and takes over what was found of all others.
func (u *Upkeep) touched(f *finder, done []policy.RecordChange) (users, devices []int32) {
	p := newComparison(u.Compiled, f.Compiled, Circumstances{At: u.At})
	by := done
	if !f.Follows(u.Compiled) {
		by = nil
	}
	uj, dj := p.joints(by)
	before := u.around(uj, dj, func(j *userJoint) *decision.UserClass { return j.before }, func(j *deviceJoint) *decision.DeviceClass { return j.before })
	after := f.around(uj, dj, func(j *userJoint) *decision.UserClass { return j.after }, func(j *deviceJoint) *decision.DeviceClass { return j.after })
	whom, what := decision.NewClassSet(f.Users.Classes.Size), decision.NewClassSet(f.Devices.Classes.Size)
	if p.few { // whoever is in none of the joints is as they were
		defer func() { f.keep(u, uj, dj, whom) }()
		copy(f.standings, u.standings)
		copy(f.access, u.access)
		if f.people != u.people {
			what.Add(slices.Collect(f.Devices.Inhabited))
		}
	}
	for i := range uj {
		switch j := &uj[i]; {
		case j.ids.Size == 0 || j.after == nil:
		case j.moved || j.nearBefore || j.nearAfter || j.before != nil && before.user(j.before) || after.user(j.after):
			whom.Add([]int32{j.to})
		default:
			f.standings[j.to] = u.standings[j.from]
		}
	}
	for i := range dj {
		switch j := &dj[i]; {
		case j.ids.Size == 0 || j.after == nil:
		case f.people != u.people || j.moved || j.nearBefore || j.nearAfter || j.before != nil && before.device(j.before) || after.device(j.after):
			what.Add([]int32{j.to})
		default:
			f.access[j.to] = u.access[j.from]
		}
	}
	return whom.List, what.List
}

// around is whom the lines on devices concern that are others than in another policy, and what the lines concern that are given to users who are others.
func (c Survey) around(users []userJoint, devices []deviceJoint, user func(*userJoint) *decision.UserClass, device func(*deviceJoint) *decision.DeviceClass) concern {
	subjects, targets := make([]bool, len(c.BySubject)), make([]bool, len(c.ByTarget))
	for i := range users {
		if j := &users[i]; j.moved && j.ids.Size > 0 {
			if mine := user(j); mine != nil {
				for _, h := range mine.Held {
					subjects[h.Subject] = true
				}
			}
		}
	}
	for i := range devices {
		if j := &devices[i]; j.moved && j.ids.Size > 0 {
			if mine := device(j); mine != nil {
				for _, list := range [][]decision.Target{mine.Facts.Targets, mine.Facts.Points} {
					for _, t := range list {
						targets[t] = true
					}
				}
			}
		}
	}
	out := concern{make([]bool, len(c.BySubject)), make([]bool, len(c.ByTarget))}
	for i := range c.Lines {
		l := &c.Lines[i]
		if slices.ContainsFunc(l.On, func(t decision.Target) bool { return targets[t] }) {
			for _, s := range l.To {
				out.subjects[s] = true
			}
		}
		if slices.ContainsFunc(l.To, func(s decision.Subject) bool { return subjects[s] }) {
			for _, t := range l.On {
				out.targets[t] = true
			}
		}
	}
	return out
}

func newFinder(c Survey, at time.Time) *finder {
	f := &finder{Upkeep: &Upkeep{Survey: c, At: at, Counts: map[FindingKind]int{}}, out: map[FindingKind][]Finding{}, holders: decision.NewClassSet(c.Users.Classes.Size)}
	f.standings, f.access = make([]standing, c.Users.Classes.Size), make([]access, c.Devices.Classes.Size)
	f.crews, f.people = f.persons()
	for n := range c.Devices.Inhabited {
		class := c.Devices.Classes.At(n)
		if !slices.ContainsFunc(f.clocks, func(d *decision.DeviceClass) bool { return d.Clock == class.Clock }) {
			f.clocks = append(f.clocks, class)
		}
	}
	return f
}

func (f *finder) gather() *Upkeep {
	f.grants()
	f.members()
	f.groups()
	f.devices()
	f.names()
	for _, kind := range FindingKinds() {
		f.Found = append(f.Found, f.out[kind]...)
	}
	return f.Upkeep
}

func (f *finder) add(x Finding) {
	f.Counts[x.Kind]++
	told := f.Counts[x.Kind] <= MostFindings
	if told {
		f.out[x.Kind] = append(f.out[x.Kind], x)
	}
	if now := f.now; now != nil {
		now.found = append(now.found, x)
		now.again = now.again || !told || x.Kind == HeldTwice || x.Kind == DirectGrant // which name users, and groups yet to be made
	}
}

// addEach adds a finding for each of some users, of which those that are not told are counted alone.
func (f *finder) addEach(kind FindingKind, users container.Roll[policy.UserID], finding func(policy.UserID) Finding) {
	told := users.From("", max(MostFindings-f.Counts[kind], 0))
	if f.now != nil {
		f.now.again = true
	}
	for _, id := range told {
		f.add(finding(id))
	}
	f.Counts[kind] += users.Size - len(told)
}

func of(t policy.Type, ids ...string) []FindingOf {
	var out []FindingOf
	for _, id := range ids {
		out = append(out, FindingOf{t, id})
	}
	return out
}

// removal is the mend that takes a record away, with its mentions.
func (f *finder) removal(t policy.Type, id string) Mend {
	return Mend{"remove", FindingOf{t, id}, f.Policy().Cascade(t, id)}
}

// useless finds that a grant might as well not be there.
func (f *finder) useless(kind FindingKind, g *policy.Grant) {
	x := Finding{Kind: kind, Of: of(policy.Grants, string(g.ID))}
	if f.Counts[kind] < MostFindings { // else it is counted alone
		x.Mends = []Mend{f.removal(policy.Grants, string(g.ID))}
	}
	f.add(x)
}

func put(r policy.Record) policy.Change {
	return policy.Change{Op: policy.Put, Type: r.Type(), ID: r.Key(), Record: r}
}

// grants looks at each grant by itself.
func (f *finder) grants() {
	if f.kept != nil {
		f.byGrant = make([]ofGrant, len(f.kept.byGrant))
	} else {
		f.byGrant = f.linesByGrant()
	}
	n := 0
	for g := range policy.Each[*policy.Grant](f.Policy()) {
		if f.now = &f.byGrant[n]; f.kept == nil || !f.asBefore(&f.kept.byGrant[n]) {
			f.grant(g, f.now.lines)
		}
		n++
	}
	f.now = nil
}

// grant looks at one, by the numbers of its lines.
func (f *finder) grant(g *policy.Grant, mine []int32) {
	self := of(policy.Grants, string(g.ID))
	if g.Enabled == policy.Off {
		f.useless(NeverInForce, g)
		return
	}
	if until := g.Valid.Until; !until.IsZero() && !until.After(f.At) {
		f.add(Finding{Kind: PastEnd, Of: self, At: until, Mends: []Mend{f.removal(policy.Grants, string(g.ID))}})
		return
	} else if f.soon(until) {
		f.add(Finding{Kind: EndsSoon, Of: self, At: until})
	}
	users, devices := f.reached(mine)
	switch {
	case len(users) == 0:
		f.useless(ToNobody, g)
	case !devices:
		f.useless(OnNothing, g)
	case !f.everOpen(mine):
		f.useless(NeverOpen, g)
	case g.Effect != policy.Deny:
		f.allowing(g, mine, users)
	}
}

func (f *finder) soon(t time.Time) bool {
	return !t.IsZero() && t.After(f.At) && t.Before(f.At.AddDate(0, 0, 7))
}

// reached are the classes of users that lines are given to, good until the next, and whether they cover any device.
func (f *finder) reached(lines []int32) (users []int32, devices bool) {
	f.holders.Clear()
	for _, n := range lines {
		for _, s := range f.Lines[n].To {
			f.holders.Add(f.Holders(s))
		}
		devices = devices || f.covers(&f.Lines[n], func(*decision.DeviceClass) bool { return true })
	}
	return f.holders.List, devices
}

// covers tells whether a line covers any device that is not retired and meets a condition.
func (f *finder) covers(l *decision.Line, meets func(*decision.DeviceClass) bool) bool {
	return slices.ContainsFunc(l.On, func(t decision.Target) bool {
		return slices.ContainsFunc(f.Covered(t), func(n int32) bool {
			d := f.Devices.Classes.At(n)
			return !d.Retired && meets(d)
		})
	})
}

// everOpen tells whether any of some lines holds at any time of the 400 days, by any clock.
func (f *finder) everOpen(lines []int32) bool {
	from := decision.MomentOf(f.At)
	return slices.ContainsFunc(lines, func(n int32) bool {
		l := &f.Lines[n]
		if len(l.When) == 0 {
			return true
		}
		return slices.ContainsFunc(f.clocks, func(d *decision.DeviceClass) bool { return f.OpensWithin(l, d, from) })
	})
}

// allowing looks at a grant that gives something at some time.
func (f *finder) allowing(g *policy.Grant, lines []int32, users []int32) {
	self := of(policy.Grants, string(g.ID))
	if g.To.Everyone {
		f.add(Finding{Kind: EveryoneGets, Of: self})
	}
	if slices.ContainsFunc(g.Lines, func(l policy.Line) bool { return l.On.Everything }) {
		f.add(Finding{Kind: EverythingGiven, Of: self})
	}
	most := noWorth
	for _, n := range users {
		most = max(most, f.standings[n].of(g.ID).all)
	}
	switch most {
	case heldOtherwise:
		f.useless(Covered, g)
		return
	case denied:
		f.useless(BehindDeny, g)
		return
	case noWorth: // those whom it reaches may do nothing now, and would have it again later
		return
	}
	f.inapplicable(g, lines)
	if f.DirectFirst {
		return // who is named there stands before what groups give
	}
	for _, id := range g.To.Users {
		f.twice(g, id)
	}
	if len(users) <= mostHeld && !g.To.Everyone { // what everyone has, some have twice
		f.heldTwice(g, users)
	}
	if most := 2; len(g.To.Users) > most {
		f.add(Finding{Kind: DirectGrant, Of: self, Count: len(g.To.Users), Mends: []Mend{f.grouped(g)}})
	}
}

// twice finds that a grant names somebody who has all of it by groups.
func (f *finder) twice(g *policy.Grant, id policy.UserID) {
	at := f.Users.Where.Find(string(id))
	if at == nil || f.standings[at.Class].of(g.ID).own != heldOtherwise {
		return
	}
	less := *g
	less.To.Users = slices.DeleteFunc(slices.Clone(g.To.Users), func(u policy.UserID) bool { return u == id })
	mend := Mend{"drop", FindingOf{policy.Grants, string(g.ID)}, []policy.Change{put(&less)}}
	if len(less.To.Users)+len(less.To.Groups) == 0 && !less.To.Everyone {
		mend = f.removal(policy.Grants, string(g.ID))
	}
	f.add(Finding{Kind: HeldTwice, Of: append(of(policy.Grants, string(g.ID)), FindingOf{policy.Users, string(id)}), Mends: []Mend{mend}})
}

// mostHeld is how many kinds of people a grant reaches at most of whom each is looked at.
const mostHeld = 200

// heldTwice finds who has all that a grant gives them by groups otherwise as well. Which of the two is too much, nobody can foresee.
func (f *finder) heldTwice(g *policy.Grant, users []int32) {
	for _, n := range users {
		class := f.Users.Classes.At(n)
		if slices.Contains(g.To.Users, class.Named()) || f.standings[n].of(g.ID).all != heldOtherwise {
			continue
		}
		f.addEach(HeldTwice, *f.Users.Members.At(n), func(id policy.UserID) Finding {
			return Finding{Kind: HeldTwice, Of: append(of(policy.Grants, string(g.ID)), FindingOf{policy.Users, string(id)})}
		})
	}
}

// grouped is the mend that gives a grant to a group of those whom it names.
func (f *finder) grouped(g *policy.Grant) Mend {
	taken := func(t policy.Type) func(string) bool {
		return func(id string) bool { _, there := f.Policy().Get(t, id); return there }
	}
	group := &policy.UserGroup{ID: policy.UserGroupID(policy.MakeID(g.Title(), taken(policy.UserGroups))), Name: g.Title()}
	for n := 2; slices.ContainsFunc(slices.Collect(policy.Each[*policy.UserGroup](f.Policy())), func(o *policy.UserGroup) bool {
		return policy.FoldName(o.Title()) == policy.FoldName(group.Name)
	}); n++ {
		group.Name = g.Title() + " " + string(rune('0'+n%10))
	}
	for _, id := range g.To.Users {
		group.Members = append(group.Members, policy.Member{User: id})
	}
	given := *g
	given.To.Users, given.To.Groups = nil, append(slices.Clone(g.To.Groups), group.ID)
	return Mend{"group", FindingOf{policy.UserGroups, string(group.ID)}, []policy.Change{put(group), put(&given)}}
}

// inapplicable finds rights that no device of a line is of a kind for. What such a right implies is given all the same, and stays.
func (f *finder) inapplicable(g *policy.Grant, lines []int32) {
	for _, n := range lines {
		l := &f.Lines[n]
		record := &g.Lines[l.Number]
		for _, id := range record.Rights {
			number, _ := f.Compiled.Right(id)
			kinds := f.RightList[number].Kinds
			if len(kinds) == 0 || f.covers(l, func(d *decision.DeviceClass) bool { return slices.Contains(kinds, d.Facts.Kind) }) ||
				!f.covers(l, func(*decision.DeviceClass) bool { return true }) {
				continue
			}
			less := *g
			less.Lines = slices.Clone(g.Lines)
			own := &less.Lines[l.Number]
			own.Rights = slices.DeleteFunc(slices.Clone(own.Rights), func(r policy.RightID) bool { return r == id })
			right, _ := policy.Find[*policy.Right](f.Policy(), string(id))
			for _, implied := range right.Implies {
				if !slices.Contains(own.Rights, implied) {
					own.Rights = append(own.Rights, implied)
				}
			}
			var mends []Mend
			if len(own.Rights)+len(own.Roles) > 0 {
				mends = []Mend{{"rights", FindingOf{policy.Grants, string(g.ID)}, []policy.Change{put(&less)}}}
			}
			f.add(Finding{Kind: NotApplicable, Of: of(policy.Grants, string(g.ID)), Right: id, Line: l.Number, Mends: mends})
		}
	}
}
