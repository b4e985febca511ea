package policy

import (
	"fmt"
	"strconv"
	"strings"
)

// Reference is a mention of one record, or of a point, by another.
type Reference struct {
	List  string  // where it stands in the record that refers
	Index int     // its place in that list; -1 where it is no list
	Type  Type    // of the record referred to
	ID    string  // of the record referred to
	Point PointID // of the device referred to; empty: the device itself
}

// Field is the path of the mention in the record that refers: lines[0].on.sites[1].
func (r Reference) Field() string {
	if r.Index < 0 {
		return r.List
	}
	return r.List + "[" + strconv.Itoa(r.Index) + "]"
}

// target is what is referred to, without where.
type target struct {
	Type  Type
	ID    string
	Point PointID
}

func (r Reference) target() target { return target{r.Type, r.ID, r.Point} }

// SplitPoint takes a reference to a point apart; ok is false where it does not name both a device and a point.
func SplitPoint(ref string) (d DeviceID, p PointID, ok bool) {
	device, point, _ := strings.Cut(ref, "/")
	return DeviceID(device), PointID(point), device != "" && point != ""
}

type visitor func(Reference)

func one[ID ~string](visit visitor, field string, t Type, id ID) {
	if id != "" {
		visit(Reference{List: field, Index: -1, Type: t, ID: string(id)})
	}
}

func many[ID ~string](visit visitor, field string, t Type, ids []ID) {
	for i, id := range ids {
		visit(Reference{List: field, Index: i, Type: t, ID: string(id)})
	}
}

// References calls visit for every mention of another record in r.
func References(r Record, visit func(Reference)) { r.references(visit) }

func (s *Settings) references(func(Reference)) {}

func (r *Right) references(visit func(Reference)) {
	many(visit, "implies", Rights, r.Implies)
	many(visit, "kinds", Kinds, r.Kinds)
}

func (r *Role) references(visit func(Reference)) { many(visit, "rights", Rights, r.Rights) }

func (k *Kind) references(func(Reference)) {}

func (s *Site) references(visit func(Reference)) { one(visit, "parent", Sites, s.Parent) }

func (d *Device) references(visit func(Reference)) {
	one(visit, "kind", Kinds, d.Kind)
	one(visit, "site", Sites, d.Site)
}

func (g *DeviceGroup) references(visit func(Reference)) {
	one(visit, "parent", DeviceGroups, g.Parent)
	many(visit, "devices", Devices, g.Devices)
	if g.Match != nil {
		many(visit, "match.kinds", Kinds, g.Match.Kinds)
		many(visit, "match.sites", Sites, g.Match.Sites)
	}
}

func (u *User) references(func(Reference)) {}

func (g *UserGroup) references(visit func(Reference)) {
	many(visit, "includes", UserGroups, g.Includes)
	for i, m := range g.Members {
		visit(Reference{List: "members", Index: i, Type: Users, ID: string(m.User)})
	}
}

func (k *Calendar) references(func(Reference)) {}

func (s *Schedule) references(visit func(Reference)) {
	many(visit, "closed", Calendars, s.Closed)
	for i, special := range s.Special {
		one(visit, fmt.Sprintf("special[%d].calendar", i), Calendars, special.Calendar)
	}
}

func (g *Grant) references(visit func(Reference)) {
	many(visit, "to.groups", UserGroups, g.To.Groups)
	many(visit, "to.users", Users, g.To.Users)
	for i, l := range g.Lines {
		field := fmt.Sprintf("lines[%d].", i)
		many(visit, field+"rights", Rights, l.Rights)
		many(visit, field+"roles", Roles, l.Roles)
		many(visit, field+"on.sites", Sites, l.On.Sites)
		many(visit, field+"on.device_groups", DeviceGroups, l.On.DeviceGroups)
		many(visit, field+"on.devices", Devices, l.On.Devices)
		for j, p := range l.On.Points {
			device, point, _ := SplitPoint(string(p))
			visit(Reference{field + "on.points", j, Devices, string(device), point})
		}
		many(visit, field+"when", Schedules, l.When)
	}
}

func (m *Mandate) references(visit func(Reference)) {
	many(visit, "to.groups", UserGroups, m.To.Groups)
	many(visit, "to.users", Users, m.To.Users)
	many(visit, "sites", Sites, m.Sites)
	many(visit, "groups", UserGroups, m.Groups)
	many(visit, "rights", Rights, m.Rights)
}
