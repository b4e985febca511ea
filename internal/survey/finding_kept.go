package survey

import (
	"slices"

	"sentier/internal/decision"
	"sentier/internal/policy"
)

// What was found of a grant holds as long as the grant, its lines, whom they reach and what they cover are the same. So a change of single users and devices
// has few grants looked at again.

// ofGrant is what was found of one grant by itself.
type ofGrant struct {
	lines []int32 // their numbers
	found []Finding
	again bool // it cannot be taken over: what is told depends on more than the grant, or on how much was told before it
}

// kept is what an earlier upkeep found that still holds, but for what has to do with some subjects and targets.
type kept struct {
	byGrant  []ofGrant // in the order of the grants, which are the same
	subjects []bool    // held by users who are others now
	targets  []bool    // of devices that are
}

// keep takes over what was found of grants where a change touches single users and devices alone, so that all lines are the same.
func (f *finder) keep(u *Upkeep, users []userJoint, devices []deviceJoint, whom *decision.ClassSet) {
	k := &kept{u.byGrant, make([]bool, len(f.BySubject)), make([]bool, len(f.ByTarget))}
	user := func(class *decision.UserClass) {
		if class != nil {
			for _, h := range class.Held {
				k.subjects[h.Subject] = true
			}
		}
	}
	for i := range users {
		if j := &users[i]; j.moved {
			user(j.before)
			user(j.after)
		}
	}
	for _, n := range whom.List {
		user(f.Users.Classes.At(n))
	}
	others := false
	for i := range devices {
		j := &devices[i]
		if !j.moved {
			continue
		}
		for _, class := range []*decision.DeviceClass{j.before, j.after} {
			if class == nil {
				continue
			}
			others = true
			for _, t := range slices.Concat(class.Facts.Targets, class.Facts.Points) {
				k.targets[t] = true
			}
		}
	}
	clock := func(a, b *decision.DeviceClass) bool { return a.Clock == b.Clock }
	if !others || slices.EqualFunc(f.clocks, u.clocks, clock) { // whether a line is ever open is told by all clocks
		f.kept, f.gives = k, u.gives
	}
}

// linesByGrant begins what is found of each grant.
func (f *finder) linesByGrant() []ofGrant {
	places := map[policy.GrantID]int{}
	for g := range policy.Each[*policy.Grant](f.Policy()) {
		places[g.ID] = len(places)
	}
	out := make([]ofGrant, len(places))
	for i := range f.Lines {
		of := &out[places[f.Lines[i].Grant.ID]]
		of.lines = append(of.lines, int32(i))
	}
	return out
}

// asBefore takes over what was found of a grant, where it still holds.
func (f *finder) asBefore(was *ofGrant) bool {
	f.now.lines = was.lines
	if was.again {
		return false
	}
	for _, n := range was.lines {
		l := &f.Lines[n]
		if slices.ContainsFunc(l.To, func(s decision.Subject) bool { return f.kept.subjects[s] }) || slices.ContainsFunc(l.On, func(t decision.Target) bool { return f.kept.targets[t] }) {
			return false
		}
	}
	for _, x := range was.found {
		if f.Counts[x.Kind] >= MostFindings {
			return false
		}
	}
	for _, x := range was.found {
		f.add(x)
	}
	return true
}

// keepMentions takes over how often groups are mentioned, where all that can mention them besides groups is the same.
func (f *finder) keepMentions(u *Upkeep) {
	for _, t := range mentioning {
		if !u.Policy().Table(t).Same(f.Policy().Table(t)) {
			return
		}
	}
	f.mentioned = u.mentioned
}

// mentioning are the types that can mention groups of users, besides groups.
var mentioning = [...]policy.Type{policy.Grants, policy.Expectations, policy.Mandates}

// mentions counts how often groups are mentioned by others than groups.
func (f *finder) mentions() map[policy.UserGroupID]int {
	if f.mentioned == nil {
		f.mentioned = map[policy.UserGroupID]int{}
		for _, t := range mentioning {
			for r := range f.Policy().Table(t).All() {
				countMentions(r, f.mentioned)
			}
		}
	}
	return f.mentioned
}

// countMentions counts the groups that a record mentions.
func countMentions(r policy.Record, into map[policy.UserGroupID]int) {
	policy.References(r, func(ref policy.Reference) {
		if ref.Type == policy.UserGroups {
			into[policy.UserGroupID(ref.ID)]++
		}
	})
}
