package decision_test

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"sentier/internal/decision"
	"sentier/internal/policy"
)

// gainsAndLosses compares two policies question by question.
func gainsAndLosses(a, b *decision.Compiled, in decision.Circumstances) (gained, lost int, of map[string]bool) {
	of = map[string]bool{}
	seen := map[decision.Question]bool{}
	for _, c := range []*decision.Compiled{a, b} {
		everyQuestion(c.Policy(), func(q decision.Question) {
			q.At = in.At
			if q.Point != "" || seen[q] {
				return
			}
			seen[q] = true
			switch had, has := a.Decide(q).Allowed, b.Decide(q).Allowed; {
			case has && !had:
				gained++
				of[fmt.Sprint("+", q.User, q.Device, q.Right)] = true
			case had && !has:
				lost++
				of[fmt.Sprint("-", q.User, q.Device, q.Right)] = true
			}
		})
	}
	return gained, lost, of
}

func TestCompareFindsWhatAskingEverythingFinds(t *testing.T) {
	t.Parallel()
	for seed := range uint64(25) {
		m := maker{rand.New(rand.NewPCG(seed, 31))}
		p := m.whole(t)
		c := decision.Compile(p)
		for range 15 {
			next, done, err := m.step(p)
			if err != nil || len(done) == 0 {
				continue
			}
			after := c.Next(next, done)
			in := decision.Circumstances{At: probes[0]}
			gained, lost, of := gainsAndLosses(c, after, in)
			for name, got := range map[string]decision.Differences{
				"by the change": decision.Compare(c, after, done, in, 10_000), "as a whole": decision.Compare(c, decision.Compile(next), nil, in, 10_000),
			} {
				if got.Gained != gained || got.Lost != lost {
					t.Fatalf("seed %d: compared %s: %d gained and %d lost, asking finds %d and %d; changed: %v", seed, name, got.Gained, got.Lost, gained, lost, keys(done))
				}
				told := 0
				for _, item := range got.Items {
					for sign, rights := range map[string][]policy.RightID{"+": item.Gained, "-": item.Lost} {
						for _, r := range rights {
							told++
							if !of[fmt.Sprint(sign, item.User, item.Device, r)] {
								t.Fatalf("seed %d: compared %s tells %s%s of %s on %s, which asking does not find", seed, name, sign, r, item.User, item.Device)
							}
						}
					}
				}
				if told != gained+lost {
					t.Fatalf("seed %d: compared %s tells %d of %d", seed, name, told, gained+lost)
				}
			}
			p, c = next, after
		}
	}
}
