package survey

import (
	"slices"

	"sentier/internal/decision"
	"sentier/internal/policy"
)

// Use is a line of a grant that makes use of a record, and how much it comes to.
type Use struct {
	Grant   *policy.Grant
	Line    int // from 0
	Rights  []policy.RightID
	Users   Tally // whom it reaches, by when it is in force for them
	Devices int   // which it covers; for a place, only those in it
	Prospect
}

// Uses lists the lines that make use of a grant, a role, a right, a schedule, a site, a device group or a user group: for
// places those that cover any of their devices, for a user group those that reach its members. Its degrees tell when the line is in
// force, whatever others do.
func (c Survey) Uses(t policy.Type, id string, in Circumstances) []Use {
	var out []Use
	inside := c.inside(t, id)
	for i := range c.Lines {
		l := &c.Lines[i]
		if !c.makesUse(l, t, id, inside) {
			continue
		}
		use := Use{Grant: l.Grant, Line: l.Number, Rights: c.rightIDs(l.Rights)}
		classes := decision.NewClassSet(c.Devices.Classes.Size)
		for _, t := range l.On {
			classes.Add(c.Covered(t))
		}
		var climates []climate
		for _, n := range classes.List {
			if (inside == nil || inside[n]) && in.shows(c.Devices.Classes.At(n)) {
				use.Devices += c.Devices.Members.At(n).Size
				if k := (climate{c.Devices.Classes.At(n).Clock, c.Devices.Classes.At(n).Facts.State}); !slices.Contains(climates, k) {
					climates = append(climates, k)
				}
			}
		}
		classes = decision.NewClassSet(c.Users.Classes.Size)
		for _, s := range l.To {
			classes.Add(c.Holders(s))
		}
		for _, n := range classes.List {
			if p := c.force(int32(i), c.Users.Classes.At(n), climates, in); p.Degree != Impossible {
				use.Users[p.Degree] += c.Users.Members.At(n).Size
				if p.before(use.Prospect) {
					use.Prospect = p
				}
			}
		}
		out = append(out, use)
	}
	return out
}

// before tells whether a prospect is nearer than another.
func (p Prospect) before(o Prospect) bool {
	return p.Degree > o.Degree || p.Degree == o.Degree && p.first < o.first
}

// force tells when a line is in force for users on devices of some climates: the nearest of them.
func (c Survey) force(number int32, who *decision.UserClass, climates []climate, in Circumstances) Prospect {
	l := c.Lines[number]
	var best Prospect
	right := 0 // any that the line gives or takes
	for right < len(c.RightList) && !l.Rights.Has(right) {
		right++
	}
	if right == len(c.RightList) {
		return best
	}
	p := decision.Part{Line: &l, Number: number}
	for _, h := range who.Held {
		if slices.Contains(l.To, h.Subject) {
			p.Periods = append(p.Periods, h.Period)
		}
	}
	for _, k := range climates {
		// A device on which nothing but the line decides.
		what := &decision.DeviceClass{Clock: k.clock, Facts: &decision.DeviceFacts{State: k.state}}
		if kinds := c.RightList[right].Kinds; len(kinds) > 0 {
			what.Facts.Kind = kinds[0]
		}
		a := decision.ResolvedQuery{Who: who, What: what, Moment: decision.MomentOf(in.At), Context: in.Context}
		if l.Ifs != nil && !decision.StateMet(&l, &a) {
			continue
		}
		l.Deny, l.Ifs = c.Lines[number].Deny, c.Lines[number].Ifs
		met := l.Ifs == nil || c.ConditionsMet(&l, &a)
		if l.Deny = false; met { // in the circumstances that are given, known or not
			l.Ifs = nil
		}
		h := hand{c: c.Compiled, who: who, what: what, parts: []decision.Part{p}}
		if found := (&search{after: &h, right: right, had: -1, at: a.Moment, context: in.Context}).prospect(in.Degrees); found.before(best) {
			best = found
		}
	}
	return best
}

// inside marks the classes of devices in a site or a device group; nil for other types.
func (c Survey) inside(t policy.Type, id string) []bool {
	if t != policy.Sites && t != policy.DeviceGroups {
		return nil
	}
	out := make([]bool, c.Devices.Classes.Size)
	for n := range c.Devices.Inhabited {
		facts := c.Devices.Classes.At(n).Facts
		if t == policy.Sites {
			out[n] = slices.Contains(c.Places.Chains[facts.Site], id)
		} else {
			out[n] = slices.Contains(c.GroupsOf(facts), policy.DeviceGroupID(id))
		}
	}
	return out
}

func (c Survey) makesUse(l *decision.Line, t policy.Type, id string, inside []bool) bool {
	record := &l.Grant.Lines[l.Number]
	switch t {
	case policy.Grants:
		return string(l.Grant.ID) == id
	case policy.Roles:
		return slices.Contains(record.Roles, policy.RoleID(id))
	case policy.Rights:
		n, ok := c.Right(policy.RightID(id))
		return ok && l.Rights.Has(n)
	case policy.Schedules:
		return slices.Contains(record.When, policy.ScheduleID(id))
	case policy.UserGroups:
		return slices.ContainsFunc(c.PassesTo(policy.UserGroupID(id)), func(g policy.UserGroupID) bool { return slices.Contains(l.Grant.To.Groups, g) })
	case policy.Sites, policy.DeviceGroups:
		return slices.ContainsFunc(l.On, func(t decision.Target) bool {
			return slices.ContainsFunc(c.Covered(t), func(n int32) bool { return inside[n] })
		})
	}
	return false
}
