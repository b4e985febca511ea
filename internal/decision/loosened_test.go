package decision_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"sentier/internal/decision"
	"sentier/internal/policy"
	"sentier/internal/specimen"
)

// TestARemovalThatIsCalledHarmlessGivesNobodyAnything removes every record of random policies with its mentions, and asks everything before and
// after: where [policy.Policy.Loosened] has no reason, nobody is allowed anything that they were not.
func TestARemovalThatIsCalledHarmlessGivesNobodyAnything(t *testing.T) {
	t.Parallel()
	harmless, warned, gaining := 0, 0, 0
	for seed := range uint64(25) {
		m := specimen.Maker{Rand: rand.New(rand.NewPCG(seed, 83))}
		p := m.Whole(t)
		c := decision.Compile(p)
		for _, kind := range []policy.Type{policy.Sites, policy.Kinds, policy.DeviceGroups, policy.UserGroups, policy.Rights, policy.Calendars, policy.Schedules, policy.Roles, policy.Grants} {
			for _, id := range idsOf(p, kind) {
				next, done, err := p.Apply(p.Cascade(kind, id))
				if err != nil {
					continue // the lasting rights cannot go, and so on: it is refused as it is
				}
				reasons := p.Loosened(next, kind, id)
				after := c.Next(next, done)
				gained := ""
				specimen.EveryQuestion(p, func(q decision.Question) {
					q.Context = decision.Context{StrongSignIn: decision.Tri(m.IntN(3)), Attended: decision.Tri(m.IntN(3)), Place: specimen.Pick[policy.SiteID](m, "s", specimen.SiteCount+1)}
					if gained == "" && !c.Decide(&q).Allowed && after.Decide(&q).Allowed {
						gained = fmt.Sprintf("%+v", q)
					}
				})
				switch {
				case len(reasons) > 0:
					warned++
					if gained != "" {
						gaining++
					}
				case gained != "":
					t.Fatalf("seed %d: without %s %s somebody gains, and nothing says so: %s", seed, kind, id, gained)
				default:
					harmless++
				}
			}
		}
	}
	if harmless < 100 || gaining < 10 {
		t.Errorf("only %d removals were harmless, %d were warned of and %d of those gave something", harmless, warned, gaining)
	}
}

func idsOf(p *policy.Policy, t policy.Type) []string {
	var out []string
	for r := range p.Written(t) {
		out = append(out, r.Key())
	}
	return out
}

// TestWhyARemovalWouldGiveSomething names the ways in which one would.
func TestWhyARemovalWouldGiveSomething(t *testing.T) {
	base := `
sites: [{id: port}, {id: quay, parent: port, zone: Atlantic/Azores}]
kinds: [{id: crane}]
device_groups: [{id: lifting, match: {kinds: [crane]}}, {id: heavy, devices: [gate], parent: lifting}]
devices: [{id: gate, site: quay, kind: crane}]
users: [{id: ana}]
user_groups: [{id: crew, members: [ana]}, {id: all, includes: [crew]}]
calendars: [{id: closures, days: [{date: 2026-12-24}]}]
schedules: [{id: nights, windows: [{from: "20:00", to: "06:00"}]}, {id: closed, windows: [{from: "20:00", to: "06:00"}], closed: [closures]}]
`
	for name, c := range map[string]struct {
		grant string
		kind  policy.Type
		id    string
		want  string // the reasons; empty: none
	}{
		"a schedule of an allow":                    {"{id: g, to: {groups: [crew]}, lines: [{rights: [view], on: {everything: true}, when: [nights]}]}", policy.Schedules, "nights", ""},
		"a schedule of a deny":                      {"{id: g, effect: deny, to: {groups: [crew]}, lines: [{rights: [view], on: {everything: true}, when: [nights]}]}", policy.Schedules, "nights", "less"},
		"a group that a deny reaches by another":    {"{id: g, effect: deny, to: {groups: [all]}, lines: [{rights: [view], on: {everything: true}}]}", policy.UserGroups, "crew", "less"},
		"a group beside a deny":                     {"{id: g, effect: deny, to: {users: [ana]}, lines: [{rights: [view], on: {everything: true}}]}", policy.UserGroups, "crew", ""},
		"a kind by which a denied group is filled":  {"{id: g, effect: deny, to: {users: [ana]}, lines: [{rights: [view], on: {device_groups: [lifting]}}]}", policy.Kinds, "crane", "less"},
		"a group below a denied one":                {"{id: g, effect: deny, to: {users: [ana]}, lines: [{rights: [view], on: {device_groups: [lifting]}}]}", policy.DeviceGroups, "heavy", "less"},
		"a site below a denied one":                 {"{id: g, effect: deny, to: {users: [ana]}, lines: [{rights: [view], on: {sites: [port]}}]}", policy.Sites, "quay", "clock less"},
		"a site with a clock of its own":            {"{id: g, to: {users: [ana]}, lines: [{rights: [view], on: {everything: true}, when: [nights]}]}", policy.Sites, "quay", "clock"},
		"somebody who is denied, with what is said": {"{id: g, effect: deny, to: {users: [ana]}, lines: [{rights: [view], on: {everything: true}}]}", policy.Users, "ana", ""},
		"a deny that is switched off":               {"{id: g, enabled: false, effect: deny, to: {groups: [crew]}, lines: [{rights: [view], on: {everything: true}}]}", policy.UserGroups, "crew", "less"},
	} {
		p := specimen.Compile(t, base+"grants: ["+c.grant+"]\n").Policy()
		next, _, err := p.Apply(p.Cascade(c.kind, c.id))
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		var why []string
		for _, l := range p.Loosened(next, c.kind, c.id) {
			why = append(why, l.Why)
		}
		if got := strings.Join(slices.Compact(why), " "); got != c.want {
			t.Errorf("%s: %q, want %q", name, got, c.want)
		}
	}
}

// TestLastingOwners: who has it for good, and who only for a while or by a way that ends.
func TestLastingOwners(t *testing.T) {
	base := `
users: [{id: ana}, {id: ben, valid: {until: 2027-01-01T00:00:00Z}}, {id: cho, status: suspended}, {id: dee, status: invited}, {id: eve, valid: {from: 2027-01-01T00:00:00Z}}]
`
	at := time.Date(2026, 11, 24, 10, 0, 0, 0, time.UTC)
	for name, c := range map[string]struct{ text, want string }{
		"by name":                         {"mandates: [{id: m, role: owner, to: {users: [ana, ben, cho, dee, eve]}}]", "ana"},
		"by a membership":                 {"user_groups: [{id: g, members: [ana, ben]}]\nmandates: [{id: m, role: owner, to: {groups: [g]}}]", "ana"},
		"by a group in a group":           {"user_groups: [{id: in, members: [ana]}, {id: g, includes: [in]}]\nmandates: [{id: m, role: owner, to: {groups: [g]}}]", "ana"},
		"by a membership with an end":     {"user_groups: [{id: g, members: [{user: ana, until: 2028-01-01T00:00:00Z}]}]\nmandates: [{id: m, role: owner, to: {groups: [g]}}]", ""},
		"by one that has not begun":       {"user_groups: [{id: g, members: [{user: ana, from: 2027-01-01T00:00:00Z}]}]\nmandates: [{id: m, role: owner, to: {groups: [g]}}]", ""},
		"by a group that is switched off": {"user_groups: [{id: g, enabled: false, members: [ana]}]\nmandates: [{id: m, role: owner, to: {groups: [g]}}]", ""},
		"by a mandate with an end":        {"mandates: [{id: m, role: owner, to: {users: [ana]}, valid: {until: 2028-01-01T00:00:00Z}}]", ""},
		"by one that is switched off":     {"mandates: [{id: m, role: owner, enabled: false, to: {users: [ana]}}]", ""},
		"as an auditor":                   {"mandates: [{id: m, role: auditor, to: {users: [ana]}}]", ""},
		"twice":                           {"mandates: [{id: m, role: owner, to: {users: [ana]}}, {id: n, role: owner, to: {users: [ana]}}]", "ana"},
	} {
		var got []string
		for _, id := range specimen.Compile(t, base+c.text+"\n").LastingOwners(at) {
			got = append(got, string(id))
		}
		if strings.Join(got, " ") != c.want {
			t.Errorf("%s: %q, want %q", name, got, c.want)
		}
	}
}
