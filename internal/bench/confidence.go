package main

import (
	"fmt"
	"time"

	"sentier/internal/decision"
	"sentier/internal/policy"
	"sentier/internal/survey"
)

// impact measures what a change that gives many people much is told to do before it is saved, against compiling the whole policy.
func (r *run) impact(w *world, n int) {
	many := min(10_000, n/10)
	group := &policy.UserGroup{ID: "bench-crew", Name: "Bench crew"}
	gear := &policy.DeviceGroup{ID: "bench-gear", Name: "Bench gear"}
	for i := range many {
		group.Members = append(group.Members, policy.Member{User: w.userIDs[i*(n/many)]})
		gear.Devices = append(gear.Devices, w.deviceIDs[i*(n/many)])
	}
	grant := &policy.Grant{ID: "bench-grant", Name: "Bench grant", Lines: []policy.Line{{Rights: []policy.RightID{policy.Control}, On: policy.Where{DeviceGroups: []policy.DeviceGroupID{gear.ID}}}}}
	base := w.next(w.compiled, put(group), put(gear), put(grant))
	given := *grant
	given.To.Groups = []policy.UserGroupID{group.ID}
	var found survey.Differences
	var took, floor time.Duration
	profiled(func() {
		took, floor = against(3, func() {
			next, done, err := base.Policy().Apply([]policy.Change{put(&given)})
			check(err)
			found = survey.Compare(base, base.Next(next, done), done, survey.Circumstances{At: at, Degrees: survey.AllDegrees}, 50)
		}, w.compile)
	})
	r.report(figure{"the impact of a group on many devices", n, ratio(took, floor), 2, false,
		fmt.Sprintf("%v for %d people and devices, %d gains; compiling %v", took, many, found.Gained.All(), floor)})
}

// compile is the floor: the whole policy.
func (w *world) compile() { sink += len(decision.Compile(w.policy).Lines) }

// upkeep measures what is found that may not be meant as it is.
func (r *run) upkeep(w *world, n int) {
	var upkeep *survey.Upkeep
	var all, floor time.Duration
	profiled(func() {
		all, floor = against(2, func() { upkeep = survey.Of(w.compiled).Upkeep(at) }, w.compile)
	})
	r.report(figure{"all findings", n, ratio(all, floor), 10, false, fmt.Sprintf("%v, compiling %v; %d kinds", all, floor, len(upkeep.Counts))})
	after := w.next(w.compiled, policy.Change{Op: policy.Add, Type: policy.UserGroups, ID: "district-100-keepers", List: "members", Entry: policy.Entry{Value: string(w.userIDs[7])}})
	again, _ := against(3, func() { sink += len(upkeep.Next(after).Found) }, func() {})
	r.report(figure{"all findings after one edit", n, ratio(again, all), 0.1, false, fmt.Sprintf("%v, all %v", again, all)})
}

// expectations measures what each change is held against.
func (r *run) expectations(w *world, n int) {
	var expect []policy.Change
	groups := 0
	for g := range policy.Each[*policy.UserGroup](w.policy) {
		if groups++; groups > 100 {
			break
		}
		e := &policy.Expectation{ID: policy.ExpectationID(fmt.Sprint("bench-", groups)), Who: policy.To{Groups: []policy.UserGroupID{g.ID}}, Rights: []policy.RightID{"release"},
			On: policy.Where{Devices: []policy.DeviceID{w.deviceIDs[groups]}}, Expect: policy.Never}
		if groups%10 == 0 {
			e.On = policy.Where{Everything: true}
		}
		expect = append(expect, put(e))
	}
	with := w.next(w.compiled, expect...)
	edit := []policy.Change{{Op: policy.Add, Type: policy.UserGroups, ID: "district-100-keepers", List: "members", Entry: policy.Entry{Value: string(w.userIDs[7])}}}
	next, done, err := with.Policy().Apply(edit)
	check(err)
	after := with.Next(next, done)
	var times []time.Duration
	for range 20 {
		start := time.Now()
		sink += len(survey.Broken(with, after, done, at))
		times = append(times, time.Since(start))
	}
	beside := median(times)
	r.report(figure{"100 expectations beside an edit, in ms", n, float64(beside.Microseconds()) / 1000, 20, false, fmt.Sprintf("%v, %d expectations", beside, len(expect))})
}

func put(r policy.Record) policy.Change {
	return policy.Change{Op: policy.Put, Type: r.Type(), ID: r.Key(), Record: r}
}

// next is a policy with some changes made to it.
func (w *world) next(c *decision.Compiled, changes ...policy.Change) *decision.Compiled {
	next, done, err := c.Policy().Apply(changes)
	check(err)
	return c.Next(next, done)
}
