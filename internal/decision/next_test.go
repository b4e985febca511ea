package decision_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"testing"
	"time"

	"sentier/internal/decision"
	"sentier/internal/policy"
)

// maker makes random changes to a small policy, dense enough that they meet.
type maker struct{ *rand.Rand }

func pick[T ~string](m maker, prefix string, n int) T { return T(fmt.Sprint(prefix, m.IntN(n))) }

func some[T ~string](m maker, prefix string, n, most int) []T {
	var out []T
	for range m.IntN(most + 1) {
		out = append(out, pick[T](m, prefix, n))
	}
	return out
}

func (m maker) span() policy.Span {
	var s policy.Span
	if m.IntN(4) == 0 {
		s.From = probes[0].Add(time.Duration(m.IntN(300)-150) * time.Hour)
	}
	if m.IntN(4) == 0 {
		s.Until = probes[0].Add(time.Duration(150+m.IntN(200)) * time.Hour)
	}
	return s
}

// Everything is there from the start, so that no change refers to nothing: see [maker.record].
const (
	userCount, groupCount, siteCount, gearCount, deviceCount, grantCount = 9, 6, 5, 4, 8, 8
)

var probes = []time.Time{
	time.Date(2026, 11, 24, 9, 30, 0, 0, time.UTC), time.Date(2026, 11, 28, 23, 10, 0, 0, time.UTC), time.Date(2026, 12, 5, 3, 0, 0, 0, time.UTC),
}

// record makes a record of some type. Parents and includes only point to smaller numbers: no circles.
func (m maker) record(t policy.Type, n int) policy.Record {
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
			g.Members = append(g.Members, policy.Member{User: pick[policy.UserID](m, "u", userCount), From: s.From, Until: s.Until})
		}
		return g
	case policy.Sites:
		return &policy.Site{ID: policy.SiteID("s" + id), Name: "site " + id, Parent: policy.SiteID(below("s")), Zone: []string{"", "Europe/Madrid", "Europe/Lisbon"}[m.IntN(3)]}
	case policy.DeviceGroups:
		g := &policy.DeviceGroup{ID: policy.DeviceGroupID("d" + id), Name: "gear " + id, Parent: policy.DeviceGroupID(below("d")), Devices: some[policy.DeviceID](m, "x", deviceCount, 3)}
		if m.IntN(3) == 0 {
			g.Match = &policy.Match{Kinds: some[policy.KindID](m, "k", 2, 1), Tags: some[string](m, "t", 2, 1), Sites: some[policy.SiteID](m, "s", siteCount, 1)}
		}
		return g
	case policy.Devices:
		d := &policy.Device{ID: policy.DeviceID("x" + id), Kind: pick[policy.KindID](m, "k", 2), Tags: some[string](m, "t", 2, 2),
			State: []policy.State{"in-service", "in-service", "maintenance", "retired"}[m.IntN(4)], Points: []policy.Point{{ID: "a"}, {ID: "b"}}}
		if m.IntN(6) > 0 {
			d.Site = pick[policy.SiteID](m, "s", siteCount)
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
	return m.grant(id)
}

func (m maker) grant(id string) policy.Record {
	g := &policy.Grant{ID: policy.GrantID("p" + id), Name: "grant " + id, Valid: m.span(), To: policy.To{
		Groups: some[policy.UserGroupID](m, "g", groupCount, 2), Users: some[policy.UserID](m, "u", userCount, 1), Everyone: m.IntN(8) == 0}}
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
			l.On.Devices = some[policy.DeviceID](m, "x", deviceCount, 2)
		case 2:
			l.On.Points = []policy.PointRef{policy.PointRef(pick[string](m, "x", deviceCount) + "/a")}
		default:
			l.On.Sites, l.On.DeviceGroups = some[policy.SiteID](m, "s", siteCount, 1), some[policy.DeviceGroupID](m, "d", gearCount, 2)
		}
		if m.IntN(3) == 0 {
			l.Depth = policy.Here
		}
		if m.IntN(5) == 0 {
			l.If.States = []policy.State{"maintenance"}
		}
		yes := m.IntN(2) == 0
		if m.IntN(8) == 0 {
			l.If.Places = some[policy.SiteID](m, "s", siteCount, 2)
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
	policy.Users: userCount, policy.UserGroups: groupCount, policy.Sites: siteCount, policy.DeviceGroups: gearCount,
	policy.Devices: deviceCount, policy.Schedules: 3, policy.Rights: 3, policy.Grants: grantCount, policy.SettingsType: 1,
}

func put(r policy.Record) policy.Change {
	return policy.Change{Op: policy.Put, Type: r.Type(), ID: r.Key(), Record: r}
}

// whole is a policy with all records.
func (m maker) whole(t testing.TB) *policy.Policy {
	t.Helper()
	changes := []policy.Change{put(&policy.Kind{ID: "k0"}), put(&policy.Kind{ID: "k1"})}
	for _, typ := range policy.Types() {
		for n := range sizes[typ] {
			changes = append(changes, put(m.record(typ, n)))
		}
	}
	p, _, err := policy.Empty().Apply(changes)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// step makes one to three random changes: puts, entries in and out, and removals with all that mentions them.
func (m maker) step(p *policy.Policy) (*policy.Policy, []policy.RecordChange, error) {
	var changes []policy.Change
	for range 1 + m.IntN(3) {
		types := policy.Types()
		t := types[m.IntN(len(types))]
		if sizes[t] == 0 {
			continue
		}
		n := m.IntN(sizes[t])
		r := m.record(t, n)
		switch roll := m.IntN(8); {
		case roll == 0 && t != policy.SettingsType && t != policy.Schedules && t != policy.Rights && t != policy.Sites:
			if _, ok := p.Get(t, r.Key()); ok {
				changes = append(p.Cascade(t, r.Key()), put(r)) // gone and back, without its old ties
				if m.IntN(2) == 0 {
					changes = changes[:len(changes)-1]
				}
			}
		case roll < 4 && t == policy.UserGroups:
			changes = append(changes, policy.Change{Op: []policy.Op{policy.Add, policy.Drop}[m.IntN(2)], Type: t, ID: r.Key(), List: "members", Entry: policy.Entry{Value: pick[string](m, "u", userCount)}})
		default:
			changes = append(changes, put(r))
		}
	}
	return p.Apply(changes)
}

// everyQuestion asks every pair of user and device (and a point) for every right at the probes.
func everyQuestion(p *policy.Policy, ask func(decision.Question)) {
	for u := range policy.Each[*policy.User](p) {
		for d := range policy.Each[*policy.Device](p) {
			for r := range policy.Each[*policy.Right](p) {
				for _, at := range probes {
					ask(decision.Question{User: u.ID, Device: d.ID, Right: r.ID, At: at})
				}
				ask(decision.Question{User: u.ID, Device: d.ID, Point: "a", Right: r.ID, At: probes[0]})
			}
		}
	}
}

func TestAnIncrementalCompileEqualsAFullOne(t *testing.T) {
	t.Parallel()
	for seed := range uint64(25) {
		m := maker{rand.New(rand.NewPCG(seed, 11))}
		p := m.whole(t)
		c := decision.Compile(p)
		applied := 0
		for i := range 40 {
			next, done, err := m.step(p)
			if err != nil || len(done) == 0 {
				continue // a change that is refused, such as one that mentions what an earlier step took away
			}
			applied++
			before := c
			p, c = next, c.Next(next, done)
			full := decision.Compile(p)
			everyQuestion(p, func(q decision.Question) {
				if got, want := c.Decide(&q), full.Decide(&q); got != want {
					t.Fatalf("seed %d, step %d: %+v: %v, and compiled from nothing %v; changed: %v", seed, i, q, got, want, keys(done))
				}
			})
			if got, want := fmt.Sprint(c.Count()), fmt.Sprint(full.Count()); got != want {
				t.Fatalf("seed %d, step %d: counts %s, and compiled from nothing %s", seed, i, got, want)
			}
			if i%10 == 0 { // and what was there before has not changed under it
				again := decision.Compile(before.Policy())
				everyQuestion(before.Policy(), func(q decision.Question) {
					if before.Decide(&q) != again.Decide(&q) {
						t.Fatalf("seed %d, step %d changed the policy before it: %+v", seed, i, q)
					}
				})
			}
		}
		if applied < 10 {
			t.Errorf("seed %d: only %d of 40 steps were possible", seed, applied)
		}
	}
}

func keys(done []policy.RecordChange) []string {
	var out []string
	for _, d := range done {
		out = append(out, fmt.Sprintf("%s %s (made %t, gone %t)", d.Record().Type(), d.Record().Key(), d.Before == nil, d.After == nil))
	}
	return out
}
