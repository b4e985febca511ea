package survey_test

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"sentier/internal/decision"
	"sentier/internal/policy"
	"sentier/internal/specimen"
	"sentier/internal/survey"
)

func TestStretchesAreWhatAskingAtEachTimeFinds(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(9, 9))
	for seed := range uint64(20) {
		m := specimen.Maker{Rand: rand.New(rand.NewPCG(seed, 51))}
		c := decision.Compile(m.Whole(t))
		q := decision.Question{User: "u1", Device: "x1", Right: policy.Control, At: specimen.Probes[0]}
		end := specimen.Probes[0].AddDate(0, 0, 7)
		list, reason := survey.Of(c).Stretches(q, end)
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
			q.At = specimen.Probes[0].Add(time.Duration(random.Int64N(int64(7 * 24 * time.Hour))))
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
		m := specimen.Maker{Rand: rand.New(rand.NewPCG(seed, 61))}
		p, _, err := m.Whole(t).Apply([]policy.Change{
			specimen.Put(&policy.User{ID: "only"}),
			{Op: policy.Add, Type: policy.UserGroups, ID: "g3", List: "members", Entry: policy.Entry{Value: "only"}},
		})
		if err != nil {
			t.Fatal(err)
		}
		c := decision.Compile(p)
		for _, degrees := range []survey.Degrees{0, survey.AllDegrees} {
			in := survey.Circumstances{At: specimen.Probes[1], Degrees: degrees}
			mine, _ := survey.Of(c).DevicesOf("only", in)
			ours, _ := survey.Of(c).DevicesOfGroup("g3", in)
			if a, b := fmt.Sprint(mine.Page("", 100)), fmt.Sprint(ours.Page("", 100)); a != b {
				t.Fatalf("seed %d: the member reaches %s, the group %s", seed, a, b)
			}
		}
		for d := range policy.Each[*policy.Device](p) {
			q := decision.Question{Device: d.ID, Right: policy.View, At: specimen.Probes[1]}
			group := c.ExplainGroup("g3", q)
			q.User = "only"
			if member := c.Explain(q); member.Outcome != group.Outcome || !member.Until.Equal(group.Until) || len(member.Because) != len(group.Because) {
				t.Fatalf("seed %d: %s: the member %+v, the group %+v", seed, d.ID, member.Outcome, group.Outcome)
			}
		}
	}
}

func TestUsesCountWhomALineReachesAndWhatItCovers(t *testing.T) {
	c := specimen.Compile(t, specimen.Corner)
	at := specimen.Instant(t, "2026-11-24T10:00:00Z")
	got := map[string]string{}
	for _, of := range []struct {
		t  policy.Type
		id string
	}{{policy.Grants, "setpoints"}, {policy.Schedules, "day"}, {policy.Sites, "low"}, {policy.DeviceGroups, "old-wet"}, {policy.UserGroups, "crew"}, {policy.Rights, "setpoint"}, {policy.Grants, "old"}} {
		text := ""
		for _, u := range survey.Of(c).Uses(of.t, of.id, survey.Circumstances{At: at, Degrees: survey.AllDegrees}) {
			text += fmt.Sprintf("%s/%d %d×%d %s; ", u.Grant.ID, u.Line, u.Users[1:], u.Devices, u.Degree)
		}
		got[of.t.String()+"/"+of.id] = text
	}
	for key, want := range map[string]string{
		"grants/setpoints":      "setpoints/0 [0 1 2]×1 now; setpoints/1 [0 1 2]×4 now; ", // ana and dee; ben later, eli is suspended
		"schedules/day":         "setpoints/0 [0 1 2]×1 now; two-misses/1 [0 0 0]×5 impossible; ",
		"device_groups/old-wet": "deny-control/0 [0 1 2]×1 now; ended/0 [0 0 0]×1 impossible; here-only/0 [0 0 1]×1 now; l1/0 [0 0 1]×1 now; l2/0 [0 0 1]×1 now; net/0 [1 0 0]×1 if; old/0 [0 0 0]×1 impossible; setpoints/1 [0 1 2]×1 now; two-misses/0 [0 0 0]×1 impossible; two-misses/1 [0 0 0]×1 impossible; ",
		"user_groups/crew":      "deny-control/0 [0 1 2]×1 now; setpoints/0 [0 1 2]×1 now; setpoints/1 [0 1 2]×4 now; ",
		"rights/setpoint":       "deny-control/0 [0 1 2]×1 now; deny-view/0 [0 0 1]×1 now; setpoints/0 [0 1 2]×1 now; ", // to deny control, or view, takes setpoint
		"grants/old":            "old/0 [0 0 0]×4 impossible; ",
	} {
		if got[key] != want {
			t.Errorf("%s: %s\nwant %s", key, got[key], want)
		}
	}
}
