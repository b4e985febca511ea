package service

import (
	"testing"
	"time"

	"sentier/internal/policy"
)

// TestTagsTellVersionsApart: the same content has the same tag in whatever memory it lies, and every other content another.
func TestTagsTellVersionsApart(t *testing.T) {
	until := time.Date(2026, 12, 1, 17, 0, 0, 0, time.UTC)
	group := func(change func(g *policy.UserGroup)) policy.Record {
		g := &policy.UserGroup{ID: "crew", Name: "Crew", Members: []policy.Member{{User: "ana"}, {User: "ben", Until: until}}}
		change(g)
		return g
	}
	seen := map[string]string{}
	for name, r := range map[string]policy.Record{
		"a group":                       group(func(*policy.UserGroup) {}),
		"of another name":               group(func(g *policy.UserGroup) { g.Name = "Crews" }),
		"disabled":                      group(func(g *policy.UserGroup) { g.Enabled = policy.Off }),
		"without members":               group(func(g *policy.UserGroup) { g.Members = nil }),
		"with one member less":          group(func(g *policy.UserGroup) { g.Members = g.Members[:1] }),
		"with another member":           group(func(g *policy.UserGroup) { g.Members[0].User = "anb" }),
		"with another end":              group(func(g *policy.UserGroup) { g.Members[1].Until = until.Add(time.Microsecond) }),
		"with a beginning":              group(func(g *policy.UserGroup) { g.Members[0].From = until }),
		"with that as its end":          group(func(g *policy.UserGroup) { g.Members[0].Until = until }),
		"with an end at the very start": group(func(g *policy.UserGroup) { g.Members[0].Until = time.Time{}.Add(time.Microsecond) }),
		"with both in one":              group(func(g *policy.UserGroup) { g.Members = []policy.Member{{User: "anaben", Until: until}} }),
		"a device group":                &policy.DeviceGroup{ID: "crew", Name: "Crew"},
		"with a device":                 &policy.DeviceGroup{ID: "crew", Name: "Crew", Devices: []policy.DeviceID{"gate"}},
		"with two":                      &policy.DeviceGroup{ID: "crew", Name: "Crew", Devices: []policy.DeviceID{"gate", "pump"}},
		"with one of both names":        &policy.DeviceGroup{ID: "crew", Name: "Crew", Devices: []policy.DeviceID{"gatepump"}},
	} {
		tag := Tag(r)
		if other, taken := seen[tag]; taken {
			t.Errorf("%s has the tag of %s", name, other)
		}
		if seen[tag] = name; len(tag) != 26 || tag[0] != '"' {
			t.Errorf("%s has the tag %s", name, tag)
		}
	}
	if a, b := Tag(group(func(*policy.UserGroup) {})), Tag(group(func(*policy.UserGroup) {})); a != b {
		t.Errorf("the same content has the tags %s and %s", a, b)
	}
}
