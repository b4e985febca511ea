package survey

import (
	"slices"
	"strings"
	"time"

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

// finder gathers findings.
type finder struct {
	Survey
	at     time.Time
	clocks []*decision.DeviceClass // a class of devices for each clock
	out    map[FindingKind][]Finding
	more   map[FindingKind]int
}

// Findings are what may not be meant as it is, at an instant: of each kind the first, and how many there are.
func (c Survey) Findings(at time.Time) (found []Finding, counts map[FindingKind]int) {
	f := &finder{Survey: c, at: at, out: map[FindingKind][]Finding{}, more: map[FindingKind]int{}}
	for n := range c.Devices.Inhabited {
		class := c.Devices.Classes.At(n)
		if !slices.ContainsFunc(f.clocks, func(d *decision.DeviceClass) bool { return d.Clock == class.Clock }) {
			f.clocks = append(f.clocks, class)
		}
	}
	f.grants()
	f.people()
	f.groups()
	f.devices()
	f.names()
	for _, kind := range FindingKinds() {
		found = append(found, f.out[kind]...)
	}
	return found, f.more
}

func (f *finder) add(x Finding) {
	if f.more[x.Kind]++; f.more[x.Kind] <= MostFindings {
		f.out[x.Kind] = append(f.out[x.Kind], x)
	}
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
	f.add(Finding{Kind: kind, Of: of(policy.Grants, string(g.ID)), Mends: []Mend{f.removal(policy.Grants, string(g.ID))}})
}

func put(r policy.Record) policy.Change {
	return policy.Change{Op: policy.Put, Type: r.Type(), ID: r.Key(), Record: r}
}

// grants looks at each grant by itself.
func (f *finder) grants() {
	lines := map[policy.GrantID][]int32{}
	for i := range f.Lines {
		lines[f.Lines[i].Grant.ID] = append(lines[f.Lines[i].Grant.ID], int32(i))
	}
	for g := range policy.Each[*policy.Grant](f.Policy()) {
		self, mine := of(policy.Grants, string(g.ID)), lines[g.ID]
		if g.Enabled == policy.Off {
			f.useless(NeverInForce, g)
			continue
		}
		if until := g.Valid.Until; !until.IsZero() && !until.After(f.at) {
			f.add(Finding{Kind: PastEnd, Of: self, At: until, Mends: []Mend{f.removal(policy.Grants, string(g.ID))}})
			continue
		} else if f.soon(until) {
			f.add(Finding{Kind: EndsSoon, Of: self, At: until})
		}
		users, devices := f.reached(mine)
		switch {
		case len(users) == 0:
			f.useless(ToNobody, g)
		case len(devices) == 0:
			f.useless(OnNothing, g)
		case !f.everOpen(mine):
			f.useless(NeverOpen, g)
		case g.Effect != policy.Deny:
			f.allowing(g, mine, users, devices)
		}
	}
}

func (f *finder) soon(t time.Time) bool {
	return !t.IsZero() && t.After(f.at) && t.Before(f.at.AddDate(0, 0, 7))
}

// reached are the classes of users that lines are given to, and of devices that they cover.
func (f *finder) reached(lines []int32) (users, devices []int32) {
	who, what := decision.NewClassSet(f.Users.Classes.Size), decision.NewClassSet(f.Devices.Classes.Size)
	in := f.Inverted()
	for _, n := range lines {
		for _, s := range f.Lines[n].To {
			who.Add(in.Holders[s])
		}
		for _, t := range f.Lines[n].On {
			what.Add(in.Covered[t])
		}
	}
	live := slices.DeleteFunc(what.List, func(n int32) bool { return f.Devices.Classes.At(n).Retired })
	return who.List, live
}

// everOpen tells whether any of some lines holds at any time of the 400 days, by any clock.
func (f *finder) everOpen(lines []int32) bool {
	from := decision.MomentOf(f.at)
	return slices.ContainsFunc(lines, func(n int32) bool {
		l := &f.Lines[n]
		if len(l.When) == 0 {
			return true
		}
		return slices.ContainsFunc(f.clocks, func(d *decision.DeviceClass) bool { return f.OpensWithin(l, d, from) })
	})
}

// allowing looks at a grant that gives something at some time.
func (f *finder) allowing(g *policy.Grant, lines []int32, users, devices []int32) {
	self := of(policy.Grants, string(g.ID))
	if g.To.Everyone {
		f.add(Finding{Kind: EveryoneGets, Of: self})
	}
	if slices.ContainsFunc(g.Lines, func(l policy.Line) bool { return l.On.Everything }) {
		f.add(Finding{Kind: EverythingGiven, Of: self})
	}
	ours := func(p *decision.Part) bool { return p.Line.Grant == g }
	switch f.without(users, devices, ours) {
	case heldOtherwise:
		f.useless(Covered, g)
		return
	case denied:
		f.useless(BehindDeny, g)
		return
	case nothing: // those whom it reaches may do nothing now, and would have it again later
		return
	}
	f.inapplicable(g, lines)
	if f.DirectFirst {
		return // who is named there stands before what groups give
	}
	for _, id := range g.To.Users {
		f.twice(g, id, devices)
	}
	if len(users) <= mostHeld && !g.To.Everyone { // what everyone has, some have twice
		f.heldTwice(g, users, devices)
	}
	if most := 2; len(g.To.Users) > most {
		f.add(Finding{Kind: DirectGrant, Of: self, Count: len(g.To.Users), Mends: []Mend{f.grouped(g)}})
	}
}

// worth is what some lines come to for those whom they reach, beside all others. What is more goes before what is less.
type worth uint8

const (
	nothing       worth = iota // nobody has anything by them
	denied                     // all that they give is denied
	heldOtherwise              // others give all of it as well
	needed                     // somebody would lose something without them
)

// without tells what the parts that are dropped come to, for users and on devices of some classes.
func (f *finder) without(users, devices []int32, drops func(*decision.Part) bool) worth {
	most := nothing
	for _, u := range users {
		if most = max(most, f.withoutFor(f.Users.Classes.At(u), devices, drops)); most == needed {
			break
		}
	}
	return most
}

func (f *finder) withoutFor(u *decision.UserClass, devices []int32, drops func(*decision.Part) bool) worth {
	most := nothing
	for _, d := range devices {
		class := f.Devices.Classes.At(d)
		for _, target := range append([]decision.Target{0}, class.Facts.Points...) {
			if most = max(most, f.withoutOn(u, class, target, drops)); most == needed {
				return most
			}
		}
	}
	return most
}

func (f *finder) withoutOn(u *decision.UserClass, d *decision.DeviceClass, point decision.Target, drops func(*decision.Part) bool) worth {
	a := decision.ResolvedQuery{Who: u, What: d, PointTarget: point, Moment: decision.MomentOf(f.at)}
	if u.Bar != 0 || d.Retired || !a.Prefilter() {
		return nothing
	}
	with := f.hand(&a)
	left := with
	left.parts = slices.DeleteFunc(slices.Clone(with.parts), func(p decision.Part) bool { return drops(&p) })
	if len(left.parts) == len(with.parts) {
		return nothing
	}
	most := nothing
	for right := range f.RightList {
		if !slices.ContainsFunc(with.parts, func(p decision.Part) bool { return drops(&p) && p.Bears(right) }) || f.likeEarlier(&with, right) {
			continue
		}
		switch {
		case (&search{before: &left, after: &with, had: right, right: right, at: a.Moment}).any():
			return needed
		case (&search{after: &with, had: -1, right: right, at: a.Moment}).any():
			most = max(most, heldOtherwise)
		case slices.ContainsFunc(with.parts, func(p decision.Part) bool { return p.Line.Deny && p.Bears(right) }):
			most = max(most, denied)
		}
	}
	return most
}

// likeEarlier tells whether the same lines give and take a right as an earlier one, so that it goes with that.
func (f *finder) likeEarlier(h *hand, right int) bool {
	for earlier := range right {
		x, y := &f.RightList[earlier], &f.RightList[right]
		if x.Controls == y.Controls && slices.Equal(x.Kinds, y.Kinds) && !slices.ContainsFunc(h.parts, func(p decision.Part) bool { return p.Bears(earlier) != p.Bears(right) }) {
			return true
		}
	}
	return false
}

// any tells whether there is an instant, and circumstances, at which the search finds anything.
func (s *search) any() bool {
	if s.nothing() {
		return false
	}
	if _, ok := s.first(s.context); ok {
		return true
	}
	values := s.values()
	full, found := usable(&values), false
	if full == 0 {
		return false
	}
	s.each(full, &values, choice{}, 0, func(at decision.Context) {
		if !found {
			_, found = s.first(at)
		}
	})
	return found
}

// twice finds that a grant names somebody who has all of it by groups.
func (f *finder) twice(g *policy.Grant, id policy.UserID, devices []int32) {
	class := f.Users.Find(id)
	if class == nil || class.Bar != 0 {
		return
	}
	if f.withoutFor(class, devices, func(p *decision.Part) bool { return p.Direct && p.Line.Grant == g }) != heldOtherwise {
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
func (f *finder) heldTwice(g *policy.Grant, users, devices []int32) {
	for _, n := range users {
		class := f.Users.Classes.At(n)
		if slices.Contains(g.To.Users, class.Named()) || f.withoutFor(class, devices, func(p *decision.Part) bool { return p.Line.Grant == g }) != heldOtherwise {
			continue
		}
		for id := range f.Users.Members.At(n).All {
			f.add(Finding{Kind: HeldTwice, Of: append(of(policy.Grants, string(g.ID)), FindingOf{policy.Users, string(id)})})
		}
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
		_, devices := f.reached([]int32{n})
		record := &g.Lines[l.Number]
		for _, id := range record.Rights {
			number, _ := f.Compiled.Right(id)
			kinds := f.RightList[number].Kinds
			if len(kinds) == 0 || len(devices) == 0 || slices.ContainsFunc(devices, func(d int32) bool {
				return slices.Contains(kinds, f.Devices.Classes.At(d).Facts.Kind)
			}) {
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
