package decision

import (
	"slices"

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
func (c *Compiled) Uses(t policy.Type, id string, in Circumstances) []Use {
	var out []Use
	inside := c.inside(t, id)
	for i := range c.lines {
		l := &c.lines[i]
		if !c.makesUse(l, t, id, inside) {
			continue
		}
		use := Use{Grant: l.grant, Line: l.number, Rights: c.rightIDs(l.rights)}
		classes := newClassSet(c.devices.Classes.Size)
		for _, t := range l.on {
			classes.add(c.inverted().covered[t])
		}
		var climates []climate
		for _, n := range classes.list {
			if inside == nil || inside[n] {
				use.Devices += c.devices.Members.At(n).Size
				if k := (climate{c.devices.Classes.At(n).clock, c.devices.Classes.At(n).facts.state}); !slices.Contains(climates, k) {
					climates = append(climates, k)
				}
			}
		}
		classes = newClassSet(c.users.Classes.Size)
		for _, s := range l.to {
			classes.add(c.inverted().holders[s])
		}
		for _, n := range classes.list {
			if p := c.force(int32(i), c.users.Classes.At(n), climates, in); p.Degree != Impossible {
				use.Users[p.Degree] += c.users.Members.At(n).Size
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
func (c *Compiled) force(number int32, who *UserClass, climates []climate, in Circumstances) Prospect {
	l := c.lines[number]
	var best Prospect
	right := slices.IndexFunc(c.rightList, func(r rightInfo) bool { n, _ := c.right(r.id); return l.rights.has(n) })
	if right < 0 {
		return best
	}
	p := part{line: &l, number: number}
	for _, h := range who.held {
		if slices.Contains(l.to, h.subject) {
			p.periods = append(p.periods, h.period)
		}
	}
	for _, k := range climates {
		// A device on which nothing but the line decides.
		what := &deviceClass{clock: k.clock, facts: &deviceFacts{state: k.state}}
		if kinds := c.rightList[right].kinds; len(kinds) > 0 {
			what.facts.kind = kinds[0]
		}
		a := resolvedQuery{who: who, what: what, at: momentOf(in.At), context: in.Context}
		if l.ifs != nil && !stateMet(&l, &a) {
			continue
		}
		l.deny, l.ifs = c.lines[number].deny, c.lines[number].ifs
		met := l.ifs == nil || c.conditionsMet(&l, &a)
		if l.deny = false; met { // in the circumstances that are given, known or not
			l.ifs = nil
		}
		h := hand{c: c, who: who, what: what, parts: []part{p}}
		if found := (&search{after: &h, right: right, had: -1, at: a.at, context: in.Context}).prospect(in.Degrees); found.before(best) {
			best = found
		}
	}
	return best
}

// inside marks the classes of devices in a site or a device group; nil for other types.
func (c *Compiled) inside(t policy.Type, id string) []bool {
	if t != policy.Sites && t != policy.DeviceGroups {
		return nil
	}
	out := make([]bool, c.devices.Classes.Size)
	for n := range c.devices.Inhabited {
		facts := c.devices.Classes.At(n).facts
		if t == policy.Sites {
			out[n] = slices.Contains(c.places.chains[facts.site], id)
		} else {
			out[n] = slices.Contains(c.groupsOf(facts), policy.DeviceGroupID(id))
		}
	}
	return out
}

func (c *Compiled) makesUse(l *line, t policy.Type, id string, inside []bool) bool {
	record := &l.grant.Lines[l.number]
	switch t {
	case policy.Grants:
		return string(l.grant.ID) == id
	case policy.Roles:
		return slices.Contains(record.Roles, policy.RoleID(id))
	case policy.Rights:
		n, ok := c.right(policy.RightID(id))
		return ok && l.rights.has(n)
	case policy.Schedules:
		return slices.Contains(record.When, policy.ScheduleID(id))
	case policy.UserGroups:
		return slices.ContainsFunc(c.passesTo(policy.UserGroupID(id)), func(g policy.UserGroupID) bool { return slices.Contains(l.grant.To.Groups, g) })
	case policy.Sites, policy.DeviceGroups:
		return slices.ContainsFunc(l.on, func(t target) bool {
			return slices.ContainsFunc(c.inverted().covered[t], func(n int32) bool { return inside[n] })
		})
	}
	return false
}
