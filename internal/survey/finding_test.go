package survey_test

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"testing"

	"sentier/internal/decision"
	"sentier/internal/specimen"
	"sentier/internal/survey"
)

// changesNothing are the kinds of finding whose mends give nobody anything and take nothing.
var changesNothing = []survey.FindingKind{survey.HeldTwice, survey.IdleMembership, survey.PastEnd, survey.Covered, survey.BehindDeny, survey.OnNothing, survey.ToNobody, survey.NeverOpen,
	survey.NeverInForce, survey.NotApplicable, survey.DirectGrant, survey.EmptyGroup}

// mended holds each mend of a finding against what it says: the finding is gone, and what it promises not to change is as it was.
func mended(t *testing.T, before *survey.Upkeep, x survey.Finding) {
	t.Helper()
	c, at := before.Compiled, before.At
	for _, mend := range x.Mends {
		next, done, err := c.Policy().Apply(mend.Changes)
		if err != nil {
			t.Fatalf("%s: its mend %q cannot be made: %v", x.Key(), mend.Word, err)
		}
		after := c.Next(next, done)
		if slices.ContainsFunc(again(t, before, after).Found, func(y survey.Finding) bool { return y.Key() == x.Key() }) {
			t.Fatalf("%s is still there after %q: %v", x.Key(), mend.Word, specimen.Keys(done))
		}
		if d := survey.Compare(c, after, done, survey.Circumstances{At: at}, 3); slices.Contains(changesNothing, x.Kind) && d.Pairs > 0 {
			t.Fatalf("%s: the mend %q changes %+v", x.Key(), mend.Word, d)
		}
	}
}

// again finds what a later policy shows, from what an earlier one did, and holds it against what a look at all of it finds.
func again(t *testing.T, before *survey.Upkeep, after *decision.Compiled) *survey.Upkeep {
	t.Helper()
	next, whole := before.Next(after), survey.Of(after).Upkeep(before.At)
	if !reflect.DeepEqual(keysOf(next), keysOf(whole)) || !reflect.DeepEqual(next.Counts, whole.Counts) {
		t.Fatalf("found by the change are %v, and by a look at all %v; the change: %v", keysOf(next), keysOf(whole), specimen.Keys(before.Policy().Compare(after.Policy())))
	}
	return next
}

func keysOf(u *survey.Upkeep) (keys []string) {
	for _, x := range u.Found {
		keys = append(keys, fmt.Sprint(x.Key(), " ", x.Count, " ", len(x.Mends)))
	}
	return keys
}

// TestEachFindingHasItsPolicy: for each kind, a policy that shows it, one that nearly does, and its mends.
func TestEachFindingHasItsPolicy(t *testing.T) {
	t.Parallel()
	base := `
sites: [{id: port}]
kinds: [{id: pump}, {id: gauge}]
devices: [{id: gate, site: port, kind: pump}, {id: weir, site: port, kind: gauge}]
users: [{id: ana, name: Ana}, {id: ben, name: Ben}, {id: cho, name: Cho}, {id: dee, name: Dee}, {id: eve, name: Eve}, {id: fay, name: Fay}]
`
	grant := func(more string) string {
		return "grants: [{id: base, to: {users: [ana, ben]}, lines: [{rights: [control], on: {sites: [port]}}]}, " + more + "]\n"
	}
	seen := map[survey.FindingKind]bool{}
	for _, c := range []struct {
		kind          survey.FindingKind
		shows, nearly string
		want          string
		keepDevices   bool // of base
	}{
		{survey.EveryoneGets, grant("{id: g, to: {everyone: true}, lines: [{rights: [view], on: {sites: [port]}}]}"), grant("{id: g, effect: deny, to: {everyone: true}, lines: [{rights: [control], on: {devices: [weir]}}]}"), "everyone grants/g", true},
		{survey.EverythingGiven, grant("{id: g, to: {users: [cho]}, lines: [{rights: [view], on: {everything: true}}]}"), grant("{id: g, to: {users: [cho]}, lines: [{rights: [view], on: {sites: [port]}}]}"), "everything grants/g", true},
		{survey.SinglePerson, "grants: [{id: g, to: {users: [ana]}, lines: [{rights: [control], on: {devices: [gate]}}]}]\n", "grants: [{id: g, to: {users: [ana, ben]}, lines: [{rights: [control], on: {devices: [gate]}}]}]\n", "single_person devices/gate users/ana", true},
		{survey.Leftover, "user_groups: [{id: crew, members: [ana, ben, cho]}, {id: tech, members: [ana, dee, eve]}]\n" + grant("{id: g, to: {groups: [crew]}, lines: [{rights: [view], on: {devices: [gate]}}]}, {id: h, to: {groups: [tech]}, lines: [{rights: [view], on: {devices: [weir]}}]}"),
			"user_groups: [{id: crew, members: [ana, ben, cho]}, {id: tech, members: [ana, ben, eve]}]\n" + grant("{id: g, to: {groups: [crew]}, lines: [{rights: [view], on: {devices: [gate]}}]}, {id: h, to: {groups: [tech]}, lines: [{rights: [view], on: {devices: [weir]}}]}"), "leftover users/ana user_groups/crew user_groups/tech", true},
		{survey.HeldTwice, "user_groups: [{id: crew, members: [cho]}]\n" + grant("{id: g, to: {users: [cho, fay]}, lines: [{rights: [view], on: {devices: [gate]}}]}, {id: h, to: {groups: [crew]}, lines: [{rights: [control], on: {sites: [port]}}]}"),
			"user_groups: [{id: crew, members: [{user: cho, until: 2027-01-01T00:00:00Z}]}]\n" + grant("{id: g, to: {users: [cho]}, lines: [{rights: [view], on: {devices: [gate]}}]}, {id: h, to: {groups: [crew]}, lines: [{rights: [control], on: {sites: [port]}}]}"), "held_twice grants/g users/cho", true},
		{survey.IdleMembership, "user_groups: [{id: crew, members: [cho]}, {id: look, members: [cho, dee]}]\n" + grant("{id: g, to: {groups: [look]}, lines: [{rights: [view], on: {devices: [gate]}}]}, {id: h, to: {groups: [crew]}, lines: [{rights: [control], on: {sites: [port]}}]}"),
			"user_groups: [{id: crew, members: [cho]}, {id: look, members: [cho, dee]}]\n" + grant("{id: g, to: {groups: [look]}, lines: [{rights: [view], on: {devices: [gate]}}]}, {id: h, to: {groups: [crew]}, lines: [{rights: [control], on: {sites: [port]}, if: {attended: true}}]}"), "idle_member users/cho user_groups/look", true},
		{survey.PastEnd, "user_groups: [{id: crew, members: [{user: cho, until: 2026-11-01T00:00:00Z}]}]\n", "user_groups: [{id: crew, members: [{user: cho, until: 2026-11-24T10:00:01Z}]}]\n", "past_end users/cho user_groups/crew", true},
		{survey.EndsSoon, grant("{id: g, to: {users: [cho]}, valid: {until: 2026-11-27T00:00:00Z}, lines: [{rights: [view], on: {devices: [gate]}}]}"), grant("{id: g, to: {users: [cho]}, valid: {until: 2026-12-27T00:00:00Z}, lines: [{rights: [view], on: {devices: [gate]}}]}"), "ends_soon grants/g", true},
		{survey.Covered, "user_groups: [{id: crew, members: [cho, dee]}]\n" + grant("{id: g, to: {groups: [crew]}, lines: [{rights: [view], on: {devices: [gate]}}]}, {id: h, to: {groups: [crew]}, lines: [{rights: [control], on: {sites: [port]}}]}"),
			"user_groups: [{id: crew, members: [cho, dee]}]\n" + grant("{id: g, to: {groups: [crew]}, lines: [{rights: [view], on: {devices: [gate]}}]}, {id: h, to: {groups: [crew]}, lines: [{rights: [control], on: {sites: [port]}, when: [days]}]}") + "schedules: [{id: days, windows: [{from: '06:00', to: '05:59'}]}]\n", "covered grants/g", true},
		{survey.Covered, "user_groups: [{id: crew, members: [cho, dee]}]\n" + grant("{id: g, to: {groups: [crew]}, lines: [{rights: [control], on: {devices: [gate]}, limits: {minutes: 5}}]}, {id: h, to: {groups: [crew]}, lines: [{rights: [control], on: {sites: [port]}, limits: {minutes: 10}}]}"),
			"user_groups: [{id: crew, members: [cho, dee]}]\n" + grant("{id: g, to: {groups: [crew]}, lines: [{rights: [control], on: {devices: [gate]}}]}, {id: h, to: {groups: [crew]}, lines: [{rights: [control], on: {sites: [port]}, limits: {minutes: 5}}]}"), "covered grants/g", true},
		{survey.BehindDeny, grant("{id: g, to: {users: [cho]}, lines: [{rights: [control], on: {devices: [gate]}}]}, {id: n, effect: deny, to: {everyone: true}, lines: [{rights: [view], on: {devices: [gate]}}]}"),
			grant("{id: g, to: {users: [cho]}, lines: [{rights: [control], on: {devices: [gate]}}]}, {id: n, effect: deny, to: {everyone: true}, lines: [{rights: [control], on: {devices: [gate]}}]}"), "behind_deny grants/g", true},
		{survey.OnNothing, "device_groups: [{id: none}]\n" + grant("{id: g, to: {users: [cho]}, lines: [{rights: [view], on: {device_groups: [none]}}]}"), "device_groups: [{id: none, devices: [gate]}]\n" + grant("{id: g, to: {users: [cho]}, lines: [{rights: [view], on: {device_groups: [none]}}]}"), "on_nothing grants/g", true},
		{survey.ToNobody, "user_groups: [{id: crew}]\n" + grant("{id: g, to: {groups: [crew]}, lines: [{rights: [view], on: {devices: [gate]}}]}"), "user_groups: [{id: crew, members: [cho]}]\n" + grant("{id: g, to: {groups: [crew]}, lines: [{rights: [view], on: {devices: [gate]}}]}"), "to_nobody grants/g", true},
		{survey.NeverOpen, "schedules: [{id: gone, dates: {to: 2025-01-01}, windows: [{from: '08:00', to: '16:00'}]}]\n" + grant("{id: g, to: {users: [cho]}, lines: [{rights: [view], on: {devices: [gate]}, when: [gone]}]}"),
			"schedules: [{id: gone, dates: {from: 2027-06-01}, windows: [{from: '08:00', to: '16:00'}]}]\n" + grant("{id: g, to: {users: [cho]}, lines: [{rights: [view], on: {devices: [gate]}, when: [gone]}]}"), "never_open grants/g", true},
		{survey.NeverInForce, grant("{id: g, enabled: false, to: {users: [cho]}, lines: [{rights: [view], on: {devices: [gate]}}]}"), grant("{id: g, to: {users: [cho]}, lines: [{rights: [view], on: {devices: [gate]}}]}"), "never_in_force grants/g", true},
		{survey.NotApplicable, "rights: [{id: calibrate, implies: [view], kinds: [gauge]}]\n" + grant("{id: g, to: {users: [cho]}, lines: [{rights: [calibrate], on: {devices: [gate]}}]}"), "rights: [{id: calibrate, implies: [view], kinds: [gauge]}]\n" + grant("{id: g, to: {users: [cho]}, lines: [{rights: [calibrate], on: {sites: [port]}}]}"), "not_applicable grants/g calibrate", true},
		{survey.DirectGrant, grant("{id: g, to: {users: [cho, dee, eve]}, lines: [{rights: [view], on: {devices: [gate]}}]}"), grant("{id: g, to: {users: [cho, dee]}, lines: [{rights: [view], on: {devices: [gate]}}]}"), "direct_grant grants/g", true},
		{survey.EmptyGroup, "user_groups: [{id: crew}]\n", "user_groups: [{id: crew, includes: [more]}, {id: more, members: [ana]}]\n", "empty_group user_groups/crew", true},
		{survey.AlikeGroups, "user_groups: [{id: crew, members: [ana, ben]}, {id: team, members: [ana, ben]}]\n", "user_groups: [{id: crew, members: [ana, ben]}, {id: team, members: [ana, ben, cho]}]\n", "alike_groups user_groups/crew user_groups/team", true},
		{survey.Unsorted, "devices: [{id: mast}]\n", "sites: [{id: port}]\ndevices: [{id: mast, site: port}]\n", "unsorted devices/mast", false},
		{survey.NobodyReaches, "grants: [{id: g, to: {users: [ana, ben]}, lines: [{rights: [control], on: {devices: [gate]}}]}]\n", "grants: [{id: g, to: {users: [ana, ben]}, lines: [{rights: [view], on: {devices: [weir]}, if: {attended: true}}]}]\n", "nobody_reaches devices/weir", true},
		{survey.AllReach, "user_groups: [{id: crew, members: [ana, ben, cho, dee, eve, fay]}]\ngrants: [{id: g, to: {groups: [crew]}, lines: [{rights: [view], on: {devices: [gate]}}]}]\n", "user_groups: [{id: crew, members: [ana, ben, cho, dee, eve]}]\ngrants: [{id: g, to: {groups: [crew]}, lines: [{rights: [view], on: {devices: [gate]}}]}]\n", "all_reach devices/gate", true},
		{survey.SimilarNames, "user_groups: [{id: a, name: Bridge crew}, {id: b, name: Bridge-crow}]\n", "user_groups: [{id: a, name: Bridge crew 1}, {id: b, name: Bridge crew 2}]\n", "similar_names user_groups/a user_groups/b", true},
	} {
		seen[c.kind] = true
		at := specimen.Instant(t, "2026-11-24T10:00:00Z")
		on := base
		if !c.keepDevices {
			on = "users: [{id: ana}]\n"
		}
		shown := specimen.Compile(t, on+c.shows)
		upkeep := survey.Of(shown).Upkeep(at)
		i := slices.IndexFunc(upkeep.Found, func(x survey.Finding) bool { return x.Key() == c.want })
		if i < 0 {
			t.Errorf("%s is not found; there are %v", c.want, keysOf(upkeep))
			continue
		}
		mended(t, upkeep, upkeep.Found[i])
		if slices.ContainsFunc(again(t, upkeep, specimen.Compile(t, on+c.nearly)).Found, func(x survey.Finding) bool { return x.Key() == c.want }) {
			t.Errorf("%s is found where it nearly is", c.want)
		}
	}
	for _, kind := range survey.FindingKinds() {
		if !seen[kind] && kind != survey.Unused { // which is read from the record
			t.Errorf("no policy shows %s", kind)
		}
	}
}

// TestMendsDoWhatTheySay on random policies: each ends its finding, and changes nothing that it does not tell.
func TestMendsDoWhatTheySay(t *testing.T) {
	t.Parallel()
	tried := map[survey.FindingKind]int{}
	for seed := range uint64(8) {
		m := specimen.Maker{Rand: rand.New(rand.NewPCG(seed, 515))}
		c, at := decision.Compile(m.Whole(t)), specimen.Probes[m.IntN(len(specimen.Probes))]
		upkeep := survey.Of(c).Upkeep(at)
		for _, x := range upkeep.Found {
			if tried[x.Kind]++; upkeep.Counts[x.Kind] == 0 {
				t.Fatalf("seed %d: %s is found, and not counted", seed, x.Key())
			}
			mended(t, upkeep, x)
		}
	}
	for _, kind := range []survey.FindingKind{survey.HeldTwice, survey.IdleMembership, survey.Covered, survey.NotApplicable, survey.SinglePerson} {
		if tried[kind] < 1 {
			t.Errorf("only %d of %s", tried[kind], kind)
		}
	}
}

// TestMendsLeaveLimits as they are, where they say that they change nothing: whatever is allowed before and after is within the same limits.
func TestMendsLeaveLimits(t *testing.T) {
	t.Parallel()
	tried := 0
	for seed := range uint64(60) {
		m := specimen.Maker{Rand: rand.New(rand.NewPCG(seed, 516))}
		c, at := decision.Compile(m.Limited(t, m.Whole(t))), specimen.Probes[m.IntN(len(specimen.Probes))]
		upkeep := survey.Of(c).Upkeep(at)
		for _, x := range upkeep.Found {
			if !slices.Contains(changesNothing, x.Kind) {
				continue
			}
			for _, mend := range x.Mends {
				next, done, err := c.Policy().Apply(mend.Changes)
				if err != nil {
					t.Fatalf("%s: %v", x.Key(), err)
				}
				tried++
				after := c.Next(next, done)
				again(t, upkeep, after)
				specimen.EveryQuestion(c.Policy(), func(q decision.Question) {
					if q.At.Before(at) {
						return
					}
					if a, b := c.Explain(q), after.Explain(q); a.Allowed && b.Allowed && !reflect.DeepEqual(a.Limits, b.Limits) {
						t.Fatalf("seed %d: %s: its mend %q makes the limits of %v %v of %v", seed, x.Key(), mend.Word, q, b.Limits, a.Limits)
					}
				})
			}
		}
	}
	if tried < 40 {
		t.Errorf("only %d mends were tried", tried)
	}
}

// TestFindingsFollowTheChanges: through many random changes, what is found of each policy from what was found before is what a look at all of it finds.
func TestFindingsFollowTheChanges(t *testing.T) {
	t.Parallel()
	for seed := range uint64(12) {
		m := specimen.Maker{Rand: rand.New(rand.NewPCG(seed, 99))}
		p := m.Whole(t)
		c := decision.Compile(p)
		upkeep := survey.Of(c).Upkeep(specimen.Probes[m.IntN(len(specimen.Probes))])
		for range 12 {
			next, done, err := m.Step(p)
			if err != nil {
				continue
			}
			p, c = next, c.Next(next, done)
			upkeep = again(t, upkeep, c)
		}
	}
}

// TestStandingsAreFoundByTheMinutesOfTheWeek: where schedules are the same every week, what grants and memberships come to is told by sets of its minutes; it
// is what looking at instants tells.
func TestStandingsAreFoundByTheMinutesOfTheWeek(t *testing.T) {
	t.Parallel()
	byWeek := 0
	for seed := range uint64(80) {
		m := specimen.Maker{Rand: rand.New(rand.NewPCG(seed, 4242))}
		c, at := survey.Of(decision.Compile(m.Whole(t))), specimen.Probes[m.IntN(len(specimen.Probes))]
		weekly, n := survey.Standings(c, at, true)
		instants, _ := survey.Standings(c, at, false)
		if byWeek += n; !reflect.DeepEqual(weekly, instants) {
			t.Fatalf("seed %d: by the week %v, by instants %v", seed, weekly, instants)
		}
	}
	if byWeek < 500 {
		t.Errorf("only %d were told by the week", byWeek)
	}
}
