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
			switch had, has := a.Decide(&q).Allowed, b.Decide(&q).Allowed; {
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

// TestCompareOfAChangeThatTouchesManyAtOnce: so many people change that all is compiled again, with other classes.
func TestCompareOfAChangeThatTouchesManyAtOnce(t *testing.T) {
	m := maker{rand.New(rand.NewPCG(1, 71))}
	var changes, more []policy.Change
	for i := range 200 {
		id := policy.UserID(fmt.Sprintf("v%03d", i))
		changes = append(changes, put(&policy.User{ID: id}),
			policy.Change{Op: policy.Add, Type: policy.UserGroups, ID: fmt.Sprint("g", i%groupCount), List: "members", Entry: policy.Entry{Value: string(id)}})
		if i%2 == 0 {
			more = append(more, put(&policy.User{ID: id, Status: policy.Suspended}))
		}
	}
	p, _, err := m.whole(t).Apply(changes)
	if err != nil {
		t.Fatal(err)
	}
	before := decision.Compile(p)
	next, done, err := p.Apply(more)
	if err != nil {
		t.Fatal(err)
	}
	in := decision.Circumstances{At: probes[0]}
	after := before.Next(next, done)
	gained, lost, _ := gainsAndLosses(before, after, in)
	if got := decision.Compare(before, after, done, in, 10); got.Gained != gained || got.Lost != lost || lost == 0 {
		t.Errorf("compared by the change: %d gained and %d lost, asking finds %d and %d", got.Gained, got.Lost, gained, lost)
	}
}
