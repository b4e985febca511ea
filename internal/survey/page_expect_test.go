package survey_test

import (
	"math/rand/v2"
	"sync"
	"testing"

	"sentier/internal/decision"
	"sentier/internal/policy"
	"sentier/internal/specimen"
	"sentier/internal/survey"
)

// TestExpectationsAreWhatThePageSays: what is told of each expectation of random policies, with exceptions, is exactly what a second reading of the page finds, with
// the first instant and the number of cases.
func TestExpectationsAreWhatThePageSays(t *testing.T) {
	t.Parallel()
	var mu sync.Mutex
	seen := map[policy.Expect]int{}
	looked, except := 0, 0
	seeded(t, 40, func(seed uint64) {
		m := specimen.Maker{Rand: rand.New(rand.NewPCG(seed, 2033))}
		p, at := m.Whole(t), specimen.Probes[m.IntN(len(specimen.Probes))]
		told := map[policy.ExpectationID]survey.Break{}
		for _, b := range survey.Of(decision.Compile(p)).Unmet(at) {
			told[b.Expectation.ID] = b
		}
		for e := range policy.Each[*policy.Expectation](p) {
			cases, first := specimen.Unmet(p, e, at)
			b := told[e.ID]
			if b.Cases != cases || !b.At.Equal(first) {
				t.Errorf("seed %d: %s is told as not met in %d cases, first at %s; the page says %d, first at %s", seed, e.ID, b.Cases, b.At, cases, first)
			}
			mu.Lock()
			looked++
			except += decision.Bit(len(e.Except.Users)+len(e.Except.Groups) > 0)
			seen[e.Expect] += decision.Bit(cases > 0)
			mu.Unlock()
		}
	})
	t.Log(looked, "looked at,", except, "with exceptions; not met:", seen)
	for _, expect := range []policy.Expect{policy.Never, policy.Always, policy.Someone} {
		if seen[expect] < 15 || except < 30 {
			t.Errorf("too few were not met, or had exceptions: %d, %v", except, seen)
		}
	}
}
