package decision

import (
	"slices"
	"time"

	"sentier/internal/policy"
)

// Use is a line of a grant that makes use of a record, and how much it comes to.
type Use struct {
	Grant   *policy.Grant
	Line    int // from 0
	Rights  []policy.RightID
	Users   int  // whom it reaches at the instant
	Devices int  // which it covers; for a site, only those in it
	Force   bool // the grant is enabled and valid at the instant
}

// Uses lists the lines that make use of a grant, a role, a right, a schedule, a site, a device group or a user group: for
// places those that cover any of their devices, for a user group those that reach its members.
func (c *Compiled) Uses(t policy.Type, id string, at time.Time) []Use {
	var out []Use
	now := momentOf(at)
	inside := c.inside(t, id)
	for i := range c.lines {
		l := &c.lines[i]
		if !c.makesUse(l, t, id, inside) {
			continue
		}
		use := Use{Grant: l.grant, Line: l.number, Rights: c.rightIDs(l.rights), Force: l.valid.holds(now)}
		classes := newClassSet(c.users.classes.size)
		for _, s := range l.to {
			classes.add(c.inverted().holders[s])
		}
		for _, n := range classes.list {
			class := c.users.classes.at(n)
			if _, barred := class.barred(now); !barred && slices.ContainsFunc(class.held, func(h held) bool { return h.period.holds(now) && slices.Contains(l.to, h.subject) }) {
				use.Users += c.users.members.at(n).size
			}
		}
		classes = newClassSet(c.devices.classes.size)
		for _, t := range c.lineTargetKeys(l) {
			classes.add(c.inverted().covered[t])
		}
		for _, n := range classes.list {
			if inside == nil || inside[n] {
				use.Devices += c.devices.members.at(n).size
			}
		}
		out = append(out, use)
	}
	return out
}

// inside marks the classes of devices in a site or a device group; nil for other types.
func (c *Compiled) inside(t policy.Type, id string) []bool {
	if t != policy.Sites && t != policy.DeviceGroups {
		return nil
	}
	out := make([]bool, c.devices.classes.size)
	for n := range c.devices.inhabited {
		facts := c.devices.classes.at(n).facts
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
		return slices.ContainsFunc(c.lineTargetKeys(l), func(t target) bool {
			return slices.ContainsFunc(c.inverted().covered[t], func(n int32) bool { return inside[n] })
		})
	}
	return false
}
