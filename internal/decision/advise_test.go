package decision_test

import (
	"math/rand/v2"
	"testing"
	"time"

	"sentier/internal/decision"
)

func TestTheFirstAdviceTurnsTheAnswerAndChangesWhatItCounts(t *testing.T) {
	t.Parallel()
	given, taken := map[decision.AdviceKind]int{}, 0
	for seed := range uint64(10) {
		m := maker{rand.New(rand.NewPCG(seed, 41))}
		c := decision.Compile(m.whole(t))
		asked := 0
		everyQuestion(c.Policy(), func(q decision.Question) {
			if asked++; asked%17 != 0 || q.At != probes[0] {
				return
			}
			before := c.Decide(&q)
			for i, advice := range c.Advise(q, time.Time{}, 3) {
				next, _, err := c.Policy().Apply(advice.Changes)
				if err != nil {
					t.Fatalf("seed %d: %+v: advice %s is refused: %v", seed, q, advice.Kind, err)
				}
				after := decision.Compile(next)
				if after.Decide(&q).Allowed == before.Allowed {
					t.Fatalf("seed %d: %+v: advice %s leaves the answer as it is", seed, q, advice.Kind)
				}
				d := decision.Compare(c, after, nil, decision.Circumstances{At: q.At}, 1000)
				changed := d.Gained.All() + d.Lost.All()
				device := q
				if device.Point = ""; q.Point == "" || c.Decide(&device).Allowed == after.Decide(&device).Allowed {
					changed-- // the answer itself
				}
				if changed != advice.Else {
					t.Fatalf("seed %d: %+v: advice %d, %s, counts %d others, asking finds %d", seed, q, i, advice.Kind, advice.Else, changed)
				}
				if before.Allowed {
					taken++
				} else {
					given[advice.Kind]++
				}
			}
		})
	}
	for _, kind := range []decision.AdviceKind{decision.AdviseUser, decision.AdviseDevice, decision.AdviseJoin, decision.AdviseGrant, decision.AdviseWiden, decision.AdviseEnable} {
		if given[kind] == 0 {
			t.Errorf("no %s was advised in %v: the test tells nothing about it", kind, given)
		}
	}
	if taken == 0 {
		t.Error("nothing was advised to take an answer away")
	}
}
