package decision_test

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"sentier/internal/decision"
	"sentier/internal/policy"
)

func TestStretchesAreWhatAskingAtEachTimeFinds(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(9, 9))
	for seed := range uint64(20) {
		m := maker{rand.New(rand.NewPCG(seed, 51))}
		c := decision.Compile(m.whole(t))
		q := decision.Question{User: "u1", Device: "x1", Right: policy.Control, At: probes[0]}
		end := probes[0].AddDate(0, 0, 7)
		list, reason := c.Stretches(q, end)
		if reason != decision.Granted {
			t.Fatal(reason)
		}
		at := q.At
		for i, s := range list {
			if !s.From.Equal(at) || !s.Until.After(s.From) || i > 0 && s.Allowed == list[i-1].Allowed {
				t.Fatalf("seed %d: stretch %d is %+v after %+v", seed, i, s, list[max(i-1, 0)])
			}
			at = s.Until
		}
		if !at.Equal(end) {
			t.Fatalf("seed %d: the stretches end at %v", seed, at)
		}
		for range 60 {
			q.At = probes[0].Add(time.Duration(random.Int64N(int64(7 * 24 * time.Hour))))
			for _, s := range list {
				if !q.At.Before(s.From) && q.At.Before(s.Until) && c.Decide(&q).Allowed != s.Allowed {
					t.Fatalf("seed %d: at %v the week says %t", seed, q.At, s.Allowed)
				}
			}
		}
	}
}

// TestAGroupAmountsToWhatItsOnlyMemberHas: somebody who is in one group and named nowhere is what a group is asked about.
func TestAGroupAmountsToWhatItsOnlyMemberHas(t *testing.T) {
	t.Parallel()
	for seed := range uint64(30) {
		m := maker{rand.New(rand.NewPCG(seed, 61))}
		p, _, err := m.whole(t).Apply([]policy.Change{
			put(&policy.User{ID: "only"}),
			{Op: policy.Add, Type: policy.UserGroups, ID: "g3", List: "members", Entry: policy.Entry{Value: "only"}},
		})
		if err != nil {
			t.Fatal(err)
		}
		c := decision.Compile(p)
		for _, anyTime := range []bool{false, true} {
			in := decision.Circumstances{At: probes[1], AnyTime: anyTime}
			mine, _ := c.DevicesOf("only", in)
			ours, _ := c.DevicesOfGroup("g3", in)
			if a, b := fmt.Sprint(mine.Page("", 100)), fmt.Sprint(ours.Page("", 100)); a != b {
				t.Fatalf("seed %d: the member reaches %s, the group %s", seed, a, b)
			}
		}
		for d := range policy.Each[*policy.Device](p) {
			q := decision.Question{Device: d.ID, Right: policy.View, At: probes[1]}
			group := c.ExplainGroup("g3", q)
			q.User = "only"
			if member := c.Explain(q); member.Outcome != group.Outcome || !member.Until.Equal(group.Until) || len(member.Because) != len(group.Because) {
				t.Fatalf("seed %d: %s: the member %+v, the group %+v", seed, d.ID, member.Outcome, group.Outcome)
			}
		}
	}
}

func TestUsesCountWhomALineReachesAndWhatItCovers(t *testing.T) {
	c := compile(t, corner)
	at := instant(t, "2026-11-24T10:00:00Z")
	got := map[string]string{}
	for _, of := range []struct {
		t  policy.Type
		id string
	}{{policy.Grants, "setpoints"}, {policy.Schedules, "day"}, {policy.Sites, "low"}, {policy.DeviceGroups, "old-wet"}, {policy.UserGroups, "crew"}, {policy.Rights, "setpoint"}, {policy.Grants, "old"}} {
		text := ""
		for _, u := range c.Uses(of.t, of.id, at) {
			text += fmt.Sprintf("%s/%d %d×%d %t; ", u.Grant.ID, u.Line, u.Users, u.Devices, u.Force)
		}
		got[of.t.String()+"/"+of.id] = text
	}
	for key, want := range map[string]string{
		"grants/setpoints":      "setpoints/0 2×1 true; setpoints/1 2×4 true; ", // ana and dee; ben not yet, eli suspended
		"schedules/day":         "setpoints/0 2×1 true; two-misses/1 1×5 true; ",
		"device_groups/old-wet": "deny-control/0 2×1 true; ended/0 1×1 false; here-only/0 1×1 true; l1/0 1×1 true; l2/0 1×1 true; net/0 1×1 true; old/0 1×1 false; setpoints/1 2×1 true; two-misses/0 1×1 true; two-misses/1 1×1 true; ",
		"user_groups/crew":      "deny-control/0 2×1 true; setpoints/0 2×1 true; setpoints/1 2×4 true; ",
		"rights/setpoint":       "deny-control/0 2×1 true; deny-view/0 1×1 true; setpoints/0 2×1 true; ", // to deny control, or view, takes setpoint
		"grants/old":            "old/0 1×4 false; ",
	} {
		if got[key] != want {
			t.Errorf("%s: %s\nwant %s", key, got[key], want)
		}
	}
}
