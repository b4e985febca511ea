package decision_test

import (
	"math/rand/v2"
	"net/netip"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"testing"
	"time"

	"sentier/internal/decision"
	"sentier/internal/document"
	"sentier/internal/policy"
	"sentier/internal/specimen"
)

func TestReasons(t *testing.T) {
	c := specimen.Compile(t, specimen.Corner)
	yes := true
	for name, x := range map[string]struct {
		user, right, device string
		at                  string
		context             decision.Context
		reason, until       string
	}{
		"nobody":                            {"zed", "view", "gate-1", "", decision.Context{}, "unknown_user", ""},
		"no device before no right":         {"ana", "fly", "gate-9", "", decision.Context{}, "unknown_device", ""},
		"no point":                          {"ana", "view", "gate-1/x", "", decision.Context{}, "unknown_point", ""},
		"no right":                          {"ana", "fly", "gate-1", "", decision.Context{}, "unknown_right", ""},
		"suspended":                         {"eli", "view", "gate-1", "", decision.Context{}, "user_suspended", ""},
		"expires":                           {"dee", "view", "gate-1", "", decision.Context{}, "granted", "2026-11-24T12:00:00Z"},
		"the instant of the end":            {"dee", "view", "gate-1", "2026-11-24T12:00:00Z", decision.Context{}, "user_expired", ""},
		"retired":                           {"ana", "view", "gone", "", decision.Context{}, "device_retired", ""},
		"a right for other kinds":           {"ana", "setpoint", "gate-1", "", decision.Context{}, "right_not_applicable", ""},
		"locked out for control":            {"ana", "control", "locked", "", decision.Context{}, "device_locked_out", "2026-11-25T00:00:00Z"},
		"locked out for what implies it":    {"ana", "setpoint", "locked", "", decision.Context{}, "device_locked_out", ""},
		"locked out leaves view":            {"ana", "view", "locked", "", decision.Context{}, "granted", ""},
		"the instant the lock-out ends":     {"ana", "control", "locked", "2026-11-25T00:00:00Z", decision.Context{}, "granted", ""},
		"through an including group":        {"ana", "setpoint", "pump-1", "", decision.Context{}, "granted", "2026-11-24T16:00:00Z"},
		"outside the schedule":              {"ana", "setpoint", "pump-1", "2026-11-24T20:00:00Z", decision.Context{}, "outside_schedule", "2026-11-25T08:00:00Z"},
		"a membership still to come":        {"ben", "view", "gate-1", "", decision.Context{}, "no_grant", "2026-11-25T00:00:00Z"},
		"a membership that ends":            {"ben", "view", "gate-1", "2026-11-25T00:00:00Z", decision.Context{}, "granted", "2026-11-26T00:00:00Z"},
		"a disabled group passes nothing":   {"cho", "view", "gate-1", "", decision.Context{}, "no_grant", ""},
		"here does not reach below":         {"fay", "view", "locked", "", decision.Context{}, "no_grant", ""},
		"here covers what is there":         {"fay", "view", "gate-1", "", decision.Context{}, "granted", ""},
		"a point does not cover its device": {"fay", "control", "pump-1", "", decision.Context{}, "no_grant", ""},
		"a point is covered by itself":      {"fay", "control", "pump-1/a", "", decision.Context{}, "granted", ""},
		"nor another point":                 {"fay", "control", "pump-1/b", "", decision.Context{}, "no_grant", ""},
		"a device covers its points":        {"ana", "control", "pump-1/a", "", decision.Context{}, "granted", ""},
		"denying view takes control":        {"ana", "control", "pump-1/b", "", decision.Context{}, "denied", ""},
		"but only there":                    {"ana", "control", "pump-1", "", decision.Context{}, "granted", ""},
		"a deny whose context is missing":   {"ana", "control", "gate-1", "", decision.Context{}, "denied", ""},
		"a deny whose context differs":      {"ana", "control", "gate-1", "", decision.Context{Attended: decision.False}, "granted", ""},
		"denying control leaves view":       {"ana", "view", "gate-1", "", decision.Context{}, "granted", ""},
		"an allow whose context is missing": {"hal", "control", "pump-1", "", decision.Context{StrongSignIn: decision.True}, "condition_not_met", ""},
		"an address in other clothes":       {"hal", "control", "pump-1", "", decision.Context{StrongSignIn: decision.True, IP: netip.MustParseAddr("::ffff:10.2.3.4")}, "granted", ""},
		"one of two conditions":             {"hal", "control", "pump-1", "", decision.Context{StrongSignIn: decision.TriOf(new(bool)), IP: netip.MustParseAddr("10.2.3.4")}, "condition_not_met", ""},
		"and both":                          {"hal", "control", "pump-1", "", decision.Context{StrongSignIn: decision.TriOf(&yes), IP: netip.MustParseAddr("10.2.3.4")}, "granted", ""},
		"a right that is not given":         {"hal", "setpoint", "pump-1", "", decision.Context{StrongSignIn: decision.True, IP: netip.MustParseAddr("10.2.3.4")}, "right_not_granted", ""},
		"a disabled grant":                  {"ivy", "control", "pump-1", "", decision.Context{}, "grant_not_in_force", ""},
		"an ended grant and its schedule":   {"ivy", "view", "gate-1", "", decision.Context{}, "grant_not_in_force", ""},
		"the line with fewest misses":       {"jon", "control", "gate-1", "2026-11-24T10:00:00Z", decision.Context{}, "condition_not_met", ""},
		"equal misses, the first code":      {"jon", "control", "gate-1", "2026-11-24T20:00:00Z", decision.Context{}, "outside_schedule", ""},
		"a device without a site":           {"gus", "view", "loose", "", decision.Context{}, "granted", ""},
	} {
		t.Run(name, func(t *testing.T) {
			q := decision.Question{User: policy.UserID(x.user), Right: policy.RightID(x.right), At: specimen.Instant(t, "2026-11-24T10:00:00Z"), Context: x.context}
			q.Device, q.Point, _ = policy.SplitPoint(x.device)
			if x.at != "" {
				q.At = specimen.Instant(t, x.at)
			}
			a := c.Explain(q)
			if a.Reason.String() != x.reason || a.Outcome != c.Decide(&q) || a.Allowed != (x.reason == "granted") {
				t.Errorf("%v, plain %v, want %s", a.Outcome, c.Decide(&q), x.reason)
			}
			if until := a.Until.Format(time.RFC3339); x.until != "" && until != x.until {
				t.Errorf("until %s, want %s", until, x.until)
			}
			if a.Allowed && len(a.Because) == 0 || a.Reason == decision.OutsideSchedule && len(a.Missing) == 0 {
				t.Error("nothing is named that decided")
			}
		})
	}
}

func TestLimitsHoldOnlyWhereEveryAllowingLineHasThem(t *testing.T) {
	c := specimen.Compile(t, specimen.Corner)
	for device, want := range map[policy.DeviceID]map[string]policy.Limit{
		"gate-1": {"minutes": {Number: 30}, "paths": {Texts: []string{"a", "b", "c"}}},
		"loose":  {"minutes": {Number: 10}},
		"locked": {"minutes": {Number: 10}, "paths": {Texts: []string{"a", "b"}}},
		"pump-1": nil,
	} {
		q := decision.Question{User: "gus", Right: "view", Device: device, At: specimen.Instant(t, "2026-11-24T10:00:00Z")}
		if got := c.Explain(q).Limits; !reflect.DeepEqual(got, want) {
			t.Errorf("%s: %v, want %v", device, got, want)
		}
		if got := c.Answer(q).Limits; !reflect.DeepEqual(got, want) && len(got)+len(want) > 0 {
			t.Errorf("%s, without reasons: %v, want %v", device, got, want)
		}
	}
}

func TestDirectFirst(t *testing.T) {
	c := specimen.Compile(t, `
settings: {combine: direct-first}
devices: [{id: d}, {id: e}]
users: [{id: ana}, {id: ben}]
user_groups: [{id: crew, members: [ana, ben]}]
schedules: [{id: never, dates: {to: 2020-01-01}}]
grants:
  - {id: group, to: {groups: [crew]}, lines: [{rights: [control], on: {everything: true}}]}
  - {id: own, to: {users: [ana]}, valid: {from: 2026-01-01T00:00:00Z, until: 2026-02-01T00:00:00Z}, lines: [{rights: [view], on: {devices: [d]}, when: [never]}]}
  - {id: off, enabled: false, to: {users: [ana]}, lines: [{rights: [view], on: {devices: [e]}}]}
`)
	for _, x := range []struct{ user, device, at, reason, until string }{
		{"ana", "d", "2025-12-31T00:00:00Z", "granted", "2026-01-01T00:00:00Z"},
		// No line of the own grant gives the right, whatever its schedule says.
		{"ana", "d", "2026-01-10T00:00:00Z", "right_not_granted", "2026-02-01T00:00:00Z"},
		{"ana", "d", "2026-02-01T00:00:00Z", "granted", "0001-01-01T00:00:00Z"},
		{"ana", "e", "2026-01-10T00:00:00Z", "granted", "0001-01-01T00:00:00Z"},
		{"ben", "d", "2026-01-10T00:00:00Z", "granted", "0001-01-01T00:00:00Z"},
	} {
		q := decision.Question{User: policy.UserID(x.user), Right: "control", Device: policy.DeviceID(x.device), At: specimen.Instant(t, x.at)}
		a := c.Explain(q)
		if a.Reason.String() != x.reason || a.Until.Format(time.RFC3339) != x.until {
			t.Errorf("%s on %s at %s: %s until %s, want %s until %s", x.user, x.device, x.at, a.Reason, a.Until.Format(time.RFC3339), x.reason, x.until)
		}
	}
}

// allVectors are the policies with their right answers.
var allVectors = []string{"0", "1", "2", "places-0", "places-1"}

func vectors(t testing.TB, n string) (*policy.Policy, *document.Expectations) {
	t.Helper()
	p, err := document.ReadPolicy(read(t, "policy-"+n+".json"))
	if err != nil {
		t.Fatal(err)
	}
	e, err := document.ReadExpectations(read(t, "expect-"+n+".json"))
	if err != nil {
		t.Fatal(err)
	}
	return p, e
}

func TestVectors(t *testing.T) {
	for _, n := range allVectors {
		p, expectations := vectors(t, n)
		c := decision.Compile(p)
		for i, x := range expectations.Checks {
			q := decision.Question{User: x.User, Right: x.Right, At: x.At, Context: decision.Context{
				IP: x.Context.IP, Place: x.Context.Place, StrongSignIn: decision.TriOf(x.Context.StrongSignIn), Attended: decision.TriOf(x.Context.Attended)}}
			q.Device, q.Point, _ = policy.SplitPoint(x.Device)
			a := c.Explain(q)
			until := document.Never
			if !a.Until.IsZero() {
				until = a.Until.Format(time.RFC3339)
			}
			if a.Allowed != (x.Expect == "allow") || a.Reason.String() != x.Reason || x.Until != "" && until != x.Until {
				t.Errorf("policy %s, check %d: %+v: %v %s until %s", n, i, x, a.Allowed, a.Reason, until)
			}
		}
	}
}

// TestUntilIsTheFirstChange steps through time minute by minute from random questions on the vectors' policies.
func TestUntilIsTheFirstChange(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 7))
	const hours = 60
	for _, n := range allVectors {
		p, expectations := vectors(t, n)
		c := decision.Compile(p)
		rights := slices.Collect(policy.Each[*policy.Right](p))
		users := slices.Collect(policy.Each[*policy.User](p))
		devices := slices.Collect(policy.Each[*policy.Device](p))
		for range 150 {
			q := decision.Question{
				User: users[random.IntN(len(users))].ID, Right: rights[random.IntN(len(rights))].ID, Device: devices[random.IntN(len(devices))].ID,
				At: expectations.Checks[random.IntN(len(expectations.Checks))].At.Truncate(time.Minute), Context: decision.Context{Attended: decision.Tri(random.IntN(3))},
			}
			first := c.Decide(&q).Allowed
			until, ok := c.Until(q)
			later := q
			for m := 1; m <= hours*60; m++ {
				later.At = q.At.Add(time.Duration(m) * time.Minute)
				changed := c.Decide(&later).Allowed != first
				if due := ok && !later.At.Before(until); changed != due {
					t.Fatalf("policy %s, %+v: until is %v (%v), but at %s the answer has changed: %v", n, q, until, ok, later.At, changed)
				}
				if changed {
					break
				}
			}
		}
	}
}

func read(t testing.TB, name string) []byte {
	t.Helper()
	data, err := os.ReadFile(filepath.Join("../document/testdata/vectors", name))
	if err != nil {
		t.Fatal(err)
	}
	return data
}
