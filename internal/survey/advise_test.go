package survey_test

import (
	"math/rand/v2"
	"testing"
	"time"

	"sentier/internal/decision"
	"sentier/internal/specimen"
	"sentier/internal/survey"
)

func TestTheFirstAdviceTurnsTheAnswerAndChangesWhatItCounts(t *testing.T) {
	t.Parallel()
	given, taken := map[survey.AdviceKind]int{}, 0
	for seed := range uint64(10) {
		m := specimen.Maker{Rand: rand.New(rand.NewPCG(seed, 41))}
		c := decision.Compile(m.Whole(t))
		asked := 0
		specimen.EveryQuestion(c.Policy(), func(q decision.Question) {
			if asked++; asked%17 != 0 || q.At != specimen.Probes[0] {
				return
			}
			before := c.Decide(&q)
			for i, advice := range survey.Of(c).Advise(q, time.Time{}, 3) {
				next, _, err := c.Policy().Apply(advice.Changes)
				if err != nil {
					t.Fatalf("seed %d: %+v: advice %s is refused: %v", seed, q, advice.Kind, err)
				}
				after := decision.Compile(next)
				if after.Decide(&q).Allowed == before.Allowed {
					t.Fatalf("seed %d: %+v: advice %s leaves the answer as it is", seed, q, advice.Kind)
				}
				d := survey.Compare(c, after, nil, survey.Circumstances{At: q.At}, 1000)
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
	for _, kind := range []survey.AdviceKind{survey.AdviseUser, survey.AdviseDevice, survey.AdviseJoin, survey.AdviseGrant, survey.AdviseWiden, survey.AdviseEnable} {
		if given[kind] == 0 {
			t.Errorf("no %s was advised in %v: the test tells nothing about it", kind, given)
		}
	}
	if taken == 0 {
		t.Error("nothing was advised to take an answer away")
	}
}
