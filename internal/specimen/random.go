// Package specimen holds what the tests of other packages ask about: random policies, changes and questions, small and dense, so that
// everything meets; and a policy of corners.
package specimen

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"testing"
	"time"

	"sentier/internal/decision"
	"sentier/internal/policy"
)

// Maker makes random changes to a small policy, dense enough that they meet.
type Maker struct{ *rand.Rand }

// Pick chooses one of n ids.
func Pick[T ~string](m Maker, prefix string, n int) T { return T(fmt.Sprint(prefix, m.IntN(n))) }

func some[T ~string](m Maker, prefix string, n, most int) []T {
	var out []T
	for range m.IntN(most + 1) {
		out = append(out, Pick[T](m, prefix, n))
	}
	return out
}

func (m Maker) span() policy.Span {
	var s policy.Span
	if m.IntN(4) == 0 {
		s.From = Probes[0].Add(time.Duration(m.IntN(300)-150) * time.Hour)
	}
	if m.IntN(4) == 0 {
		s.Until = Probes[0].Add(time.Duration(150+m.IntN(200)) * time.Hour)
	}
	return s
}

// Everything is there from the start, so that no change refers to nothing: see [Maker.Record].
const (
	UserCount, GroupCount, SiteCount, gearCount, DeviceCount, grantCount, expectationCount = 9, 6, 5, 4, 8, 8, 6
)

// Probes are the instants that are asked about.
var Probes = []time.Time{
	time.Date(2026, 11, 24, 9, 30, 0, 0, time.UTC), time.Date(2026, 11, 28, 23, 10, 0, 0, time.UTC), time.Date(2026, 12, 5, 3, 0, 0, 0, time.UTC),
}

// Record makes a record of some type. Parents and includes only point to smaller numbers: no circles.
func (m Maker) Record(t policy.Type, n int) policy.Record {
	id := fmt.Sprint(n)
	below := func(prefix string) string {
		if n == 0 || m.IntN(2) == 0 {
			return ""
		}
		return fmt.Sprint(prefix, m.IntN(n))
	}
	switch t {
	case policy.Users:
		return &policy.User{ID: policy.UserID("u" + id), Status: []policy.Status{"active", "active", "active", "suspended", "invited"}[m.IntN(5)], Valid: m.span()}
	case policy.UserGroups:
		g := &policy.UserGroup{ID: policy.UserGroupID("g" + id), Name: "group " + id + string(rune('a'+n))}
		if m.IntN(5) == 0 {
			g.Enabled = policy.Off
		}
		if in := below("g"); in != "" {
			g.Includes = []policy.UserGroupID{policy.UserGroupID(in)}
		}
		for range m.IntN(5) {
			s := m.span()
			g.Members = append(g.Members, policy.Member{User: Pick[policy.UserID](m, "u", UserCount), From: s.From, Until: s.Until})
		}
		return g
	case policy.Sites:
		return &policy.Site{ID: policy.SiteID("s" + id), Name: "site " + id, Parent: policy.SiteID(below("s")), Zone: []string{"", "Europe/Madrid", "Europe/Lisbon"}[m.IntN(3)]}
	case policy.DeviceGroups:
		g := &policy.DeviceGroup{ID: policy.DeviceGroupID("d" + id), Name: "gear " + id, Parent: policy.DeviceGroupID(below("d")), Devices: some[policy.DeviceID](m, "x", DeviceCount, 3)}
		if m.IntN(3) == 0 {
			g.Match = &policy.Match{Kinds: some[policy.KindID](m, "k", 2, 1), Tags: some[string](m, "t", 2, 1), Sites: some[policy.SiteID](m, "s", SiteCount, 1)}
		}
		return g
	case policy.Devices:
		d := &policy.Device{ID: policy.DeviceID("x" + id), Kind: Pick[policy.KindID](m, "k", 2), Tags: some[string](m, "t", 2, 2),
			State: []policy.State{"in-service", "in-service", "maintenance", "retired"}[m.IntN(4)], Points: []policy.Point{{ID: "a"}, {ID: "b"}}}
		if m.IntN(6) > 0 {
			d.Site = Pick[policy.SiteID](m, "s", SiteCount)
		}
		if m.IntN(6) == 0 {
			s := m.span()
			d.Lockout = &policy.Lockout{From: s.From, Until: s.Until}
		}
		return d
	case policy.Schedules:
		return &policy.Schedule{ID: policy.ScheduleID("w" + id), Name: "when " + id, Windows: []policy.Window{{From: policy.Clock(60 * m.IntN(24)), To: policy.Clock(60 * m.IntN(24))}}}
	case policy.Rights:
		return &policy.Right{ID: policy.RightID("r" + id), Implies: some[policy.RightID](m, "r", max(n, 1), n), Kinds: some[policy.KindID](m, "k", 2, 1)}
	case policy.SettingsType:
		return &policy.Settings{Combine: []policy.Combine{policy.Sum, policy.DirectFirst}[m.IntN(2)]}
	}
	if t == policy.Expectations {
		return m.expectation(id)
	}
	return m.grant(id)
}

func (m Maker) expectation(id string) policy.Record {
	e := &policy.Expectation{ID: policy.ExpectationID("e" + id), Rights: []policy.RightID{[]policy.RightID{policy.View, policy.Control, "r0"}[m.IntN(3)]},
		When: some[policy.ScheduleID](m, "w", 3, 1), Expect: []policy.Expect{policy.Never, policy.Always, policy.Someone}[m.IntN(3)]}
	switch m.IntN(4) {
	case 0:
		e.Who.Everyone = true
	case 1:
		e.Who.Users = []policy.UserID{Pick[policy.UserID](m, "u", UserCount)}
	default:
		e.Who.Groups = []policy.UserGroupID{Pick[policy.UserGroupID](m, "g", GroupCount)}
	}
	if m.IntN(3) == 0 {
		e.Except = policy.Holders{Groups: some[policy.UserGroupID](m, "g", GroupCount, 1), Users: some[policy.UserID](m, "u", UserCount, 1)}
	}
	switch m.IntN(5) {
	case 0:
		e.On.Everything = true
	case 1:
		e.On.Sites = []policy.SiteID{Pick[policy.SiteID](m, "s", SiteCount)}
	case 2:
		e.On.Points = []policy.PointRef{policy.PointRef(Pick[string](m, "x", DeviceCount) + "/a")}
	case 3:
		e.On.Devices = []policy.DeviceID{Pick[policy.DeviceID](m, "x", DeviceCount)}
	default:
		e.On.DeviceGroups = []policy.DeviceGroupID{Pick[policy.DeviceGroupID](m, "d", gearCount)}
	}
	if m.IntN(3) == 0 {
		e.Depth = policy.Here
	}
	if e.Expect == policy.Someone && m.IntN(2) == 0 {
		e.AtLeast = 2
	}
	return e
}

func (m Maker) grant(id string) policy.Record {
	g := &policy.Grant{ID: policy.GrantID("p" + id), Name: "grant " + id, Valid: m.span(), To: policy.To{
		Groups: some[policy.UserGroupID](m, "g", GroupCount, 2), Users: some[policy.UserID](m, "u", UserCount, 1), Everyone: m.IntN(8) == 0}}
	if m.IntN(4) == 0 {
		g.Effect = policy.Deny
	}
	for range 1 + m.IntN(2) {
		l := policy.Line{Rights: some[policy.RightID](m, "r", 3, 2), When: some[policy.ScheduleID](m, "w", 3, 1)}
		if m.IntN(2) == 0 {
			l.Rights = append(l.Rights, policy.Control)
		}
		switch m.IntN(6) {
		case 0:
			l.On.Everything = true
		case 1:
			l.On.Devices = some[policy.DeviceID](m, "x", DeviceCount, 2)
		case 2:
			l.On.Points = []policy.PointRef{policy.PointRef(Pick[string](m, "x", DeviceCount) + "/a")}
		default:
			l.On.Sites, l.On.DeviceGroups = some[policy.SiteID](m, "s", SiteCount, 1), some[policy.DeviceGroupID](m, "d", gearCount, 2)
		}
		if m.IntN(3) == 0 {
			l.Depth = policy.Here
		}
		if m.IntN(5) == 0 {
			l.If.States = []policy.State{"maintenance"}
		}
		yes := m.IntN(2) == 0
		if m.IntN(8) == 0 {
			l.If.Places = some[policy.SiteID](m, "s", SiteCount, 2)
		}
		switch m.IntN(12) {
		case 0:
			l.If.StrongSignIn = &yes
		case 1:
			l.If.Attended = &yes
		case 2:
			l.If.Networks = []netip.Prefix{netip.MustParsePrefix("10.1.0.0/16")}
		}
		g.Lines = append(g.Lines, l)
	}
	return g
}

var sizes = map[policy.Type]int{
	policy.Users: UserCount, policy.UserGroups: GroupCount, policy.Sites: SiteCount, policy.DeviceGroups: gearCount,
	policy.Devices: DeviceCount, policy.Schedules: 3, policy.Rights: 3, policy.Grants: grantCount, policy.Expectations: expectationCount,
	policy.SettingsType: 1,
}

// Limited is the policy with limits on some of its allow lines.
func (m Maker) Limited(t testing.TB, p *policy.Policy) *policy.Policy {
	t.Helper()
	var changes []policy.Change
	for g := range policy.Each[*policy.Grant](p) {
		if g.Effect == policy.Deny {
			continue
		}
		n := *g
		n.Lines = append([]policy.Line{}, g.Lines...)
		for i := range n.Lines {
			limits := map[string]policy.Limit{}
			if m.IntN(2) == 0 {
				limits["minutes"] = policy.Limit{Number: float64(5 * (1 + m.IntN(3)))}
			}
			if m.IntN(4) == 0 {
				limits["folders"] = policy.Limit{Texts: []string{"logs", "readings", "states"}[:1+m.IntN(3)]}
			}
			n.Lines[i].Limits = limits
		}
		changes = append(changes, Put(&n))
	}
	out, _, err := p.Apply(changes)
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// Put is the change that puts a record.
func Put(r policy.Record) policy.Change {
	return policy.Change{Op: policy.Put, Type: r.Type(), ID: r.Key(), Record: r}
}

// Whole is a policy with all records.
func (m Maker) Whole(t testing.TB) *policy.Policy {
	t.Helper()
	changes := []policy.Change{Put(&policy.Kind{ID: "k0"}), Put(&policy.Kind{ID: "k1"})}
	for _, typ := range policy.Types() {
		for n := range sizes[typ] {
			changes = append(changes, Put(m.Record(typ, n)))
		}
	}
	p, _, err := policy.Empty().Apply(changes)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// Step makes one to three random changes: puts, entries in and out, and removals with all that mentions them.
func (m Maker) Step(p *policy.Policy) (*policy.Policy, []policy.RecordChange, error) {
	var changes []policy.Change
	for range 1 + m.IntN(3) {
		types := policy.Types()
		t := types[m.IntN(len(types))]
		if sizes[t] == 0 {
			continue
		}
		n := m.IntN(sizes[t])
		r := m.Record(t, n)
		switch roll := m.IntN(8); {
		case roll == 0 && t != policy.SettingsType && t != policy.Schedules && t != policy.Rights && t != policy.Sites:
			if _, ok := p.Get(t, r.Key()); ok {
				changes = append(p.Cascade(t, r.Key()), Put(r)) // gone and back, without its old ties
				if m.IntN(2) == 0 {
					changes = changes[:len(changes)-1]
				}
			}
		case roll < 4 && t == policy.UserGroups:
			changes = append(changes, policy.Change{Op: []policy.Op{policy.Add, policy.Drop}[m.IntN(2)], Type: t, ID: r.Key(), List: "members", Entry: policy.Entry{Value: Pick[string](m, "u", UserCount)}})
		default:
			changes = append(changes, Put(r))
		}
	}
	return p.Apply(changes)
}

// EveryQuestion asks every pair of user and device (and a point) for every right at the Probes.
func EveryQuestion(p *policy.Policy, ask func(decision.Question)) {
	for u := range policy.Each[*policy.User](p) {
		for d := range policy.Each[*policy.Device](p) {
			for r := range policy.Each[*policy.Right](p) {
				for _, at := range Probes {
					ask(decision.Question{User: u.ID, Device: d.ID, Right: r.ID, At: at})
				}
				ask(decision.Question{User: u.ID, Device: d.ID, Point: "a", Right: r.ID, At: Probes[0]})
			}
		}
	}
}

// Keys names what was done to which records.
func Keys(done []policy.RecordChange) []string {
	var out []string
	for _, d := range done {
		out = append(out, fmt.Sprintf("%s %s (made %t, gone %t)", d.Record().Type(), d.Record().Key(), d.Before == nil, d.After == nil))
	}
	return out
}
