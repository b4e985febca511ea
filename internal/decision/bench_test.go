package decision_test

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"sentier/internal/decision"
	"sentier/internal/policy"
)

// large makes a policy of n users and n devices: four groups a user, sites and groups of devices, and lines with schedules.
func large(b *testing.B, n int) *policy.Policy {
	b.Helper()
	random := rand.New(rand.NewPCG(3, 4))
	r := policy.Records{Kinds: []policy.Kind{{ID: "gate"}, {ID: "pump"}}, Schedules: []policy.Schedule{{ID: "day", Windows: []policy.Window{{From: 420, To: 1200}}}}}
	groups, places := max(4, min(2_000, n/20)), max(4, min(1_000, n/20))
	for i := range groups {
		r.UserGroups = append(r.UserGroups, policy.UserGroup{ID: policy.UserGroupID(fmt.Sprintf("g%d", i))})
	}
	for i := range places {
		r.Sites = append(r.Sites, policy.Site{ID: policy.SiteID(fmt.Sprintf("s%d", i))})
		r.DeviceGroups = append(r.DeviceGroups, policy.DeviceGroup{ID: policy.DeviceGroupID(fmt.Sprintf("d%d", i))})
	}
	for i := range n {
		r.Users = append(r.Users, policy.User{ID: policy.UserID(fmt.Sprintf("user-%d", i))})
		for range 4 {
			g := &r.UserGroups[random.IntN(groups)]
			g.Members = append(g.Members, policy.Member{User: policy.UserID(fmt.Sprintf("user-%d", i))})
		}
		r.Devices = append(r.Devices, policy.Device{ID: policy.DeviceID(fmt.Sprintf("device-%d", i)), Kind: "gate", Site: policy.SiteID(fmt.Sprintf("s%d", random.IntN(places)))})
		for range 2 {
			g := &r.DeviceGroups[random.IntN(places)]
			g.Devices = append(g.Devices, policy.DeviceID(fmt.Sprintf("device-%d", i)))
		}
	}
	for i := range min(20_000, n/2) {
		r.Grants = append(r.Grants, policy.Grant{ID: policy.GrantID(fmt.Sprintf("grant-%d", i)), To: policy.To{Groups: []policy.UserGroupID{policy.UserGroupID(fmt.Sprintf("g%d", random.IntN(groups)))}},
			Lines: []policy.Line{{Rights: []policy.RightID{"control"}, When: []policy.ScheduleID{"day"}, On: policy.Where{DeviceGroups: []policy.DeviceGroupID{policy.DeviceGroupID(fmt.Sprintf("d%d", random.IntN(places)))}}}}})
	}
	p, err := policy.FromRecords(&r)
	if err != nil {
		b.Fatal(err)
	}
	return p
}

// BenchmarkDecide gives the plain decision on random pairs as a multiple of finding two texts in two Go maps of that size.
func BenchmarkDecide(b *testing.B) {
	for _, n := range []int{1_000, 100_000} {
		c := decision.Compile(large(b, n))
		random := rand.New(rand.NewPCG(5, 6))
		at := time.Date(2026, 11, 24, 10, 0, 0, 0, time.UTC)
		questions := make([]decision.Question, 1<<14)
		users, devices := map[policy.UserID]int{}, map[policy.DeviceID]int{}
		for i := range n {
			users[policy.UserID(fmt.Sprintf("user-%d", i))], devices[policy.DeviceID(fmt.Sprintf("device-%d", i))] = i, i
		}
		for i := range questions {
			questions[i] = decision.Question{Right: "control", At: at, User: policy.UserID(fmt.Sprintf("user-%d", random.IntN(n))), Device: policy.DeviceID(fmt.Sprintf("device-%d", random.IntN(n)))}
		}
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			b.ReportAllocs()
			for i := range b.N {
				c.Decide(questions[i&(1<<14-1)])
			}
			took := b.Elapsed()
			b.StopTimer()
			start, found := time.Now(), 0
			for i := range b.N {
				q := &questions[i&(1<<14-1)]
				found += users[q.User] + devices[q.Device]
			}
			floor := time.Since(start)
			if found < 0 {
				b.Fatal("never")
			}
			b.ReportMetric(float64(took)/float64(floor), "×floor")
		})
	}
}
