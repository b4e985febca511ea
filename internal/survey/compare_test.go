package survey_test

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"sentier/internal/decision"
	"sentier/internal/policy"
	"sentier/internal/specimen"
	"sentier/internal/survey"
)

// TestCompareFindsWhatAskingEverythingFinds holds the impact of random changes against questions at many instants and in many circumstances: what they
// find is told, in a degree that is no lower, and what is told is so.
func TestCompareFindsWhatAskingEverythingFinds(t *testing.T) {
	t.Parallel()
	told, quiet := 0, 0
	for seed := range uint64(8) {
		m := specimen.Maker{Rand: rand.New(rand.NewPCG(seed, 31))}
		p := m.Whole(t)
		c := decision.Compile(p)
		for range 8 {
			next, done, err := m.Step(p)
			if err != nil || len(done) == 0 {
				continue
			}
			after := c.Next(next, done)
			in := survey.Circumstances{At: specimen.Probes[0], Context: randomContext(m)}
			byChange, whole := survey.Compare(c, after, done, in, 10_000), survey.Compare(c, decision.Compile(next), nil, in, 10_000)
			apart := survey.Compare(decision.Compile(p), decision.Compile(next), done, in, 10_000)
			if a, b, c := shown(byChange), shown(whole), shown(apart); a != b || a != c {
				t.Fatalf("seed %d: compared by the change %s, as a whole %s, of two that were compiled apart %s; changed: %v", seed, a, b, c, specimen.Keys(done))
			}
			degrees := map[string]survey.Degree{}
			came := [2]*decision.Compiled{cameIn(t, p), cameIn(t, next)}
			for _, item := range byChange.Items {
				for sign, list := range map[string][]survey.Change{"+": item.Gained, "-": item.Lost} {
					for _, g := range list {
						degrees[fmt.Sprint(sign, item.User, item.Device, "/", item.Point, g.Right)] = g.Degree
						q := decision.Question{User: item.User, Device: item.Device, Point: item.Point, Right: g.Right, At: g.First(), Context: g.Given.In(in.Context)}
						had, has := c.Decide(&q).Allowed, after.Decide(&q).Allowed
						if comesIn(g.Given) {
							had, has = came[0].Decide(&q).Allowed, came[1].Decide(&q).Allowed
						}
						if has == had || has != (sign == "+") || g.Degree == survey.Now && !q.At.Equal(in.At) {
							t.Fatalf("seed %d: told is %s%+v of %s on %s, and before %t, after %t", seed, sign, g.Possibility, item.User, item.Device, had, has)
						}
						told++
					}
				}
			}
			everywhere(m, c.Policy(), after.Policy(), in, func(q decision.Question, degree survey.Degree) {
				had, has := c.Decide(&q).Allowed, after.Decide(&q).Allowed
				if had == has {
					if had, has, degree = came[0].Decide(&q).Allowed, came[1].Decide(&q).Allowed, survey.If; had == has {
						return
					}
				}
				sign := map[bool]string{true: "+", false: "-"}[has]
				got, ok := degrees[fmt.Sprint(sign, q.User, q.Device, "/", q.Point, q.Right)]
				if !ok && q.Point != "" { // told with the device
					got = degrees[fmt.Sprint(sign, q.User, q.Device, "/", q.Right)]
				}
				if got < degree {
					t.Fatalf("seed %d: %s %+v is a difference %s, and told is %s; changed: %v", seed, sign, q, degree, got, specimen.Keys(done))
				}
			})
			if len(degrees) == 0 {
				quiet++
			}
			p, c = next, after
		}
	}
	if told < 300 || quiet < 5 {
		t.Errorf("only %d differences were told, and %d changes had none", told, quiet)
	}
}

// TestCompareOfRevisionsFarApart: after many steps, and back again, as two revisions are compared that were compiled apart, with what leads from one to the other and
// without.
func TestCompareOfRevisionsFarApart(t *testing.T) {
	t.Parallel()
	compared := 0
	for seed := range uint64(40) {
		m := specimen.Maker{Rand: rand.New(rand.NewPCG(seed, 32))}
		p := m.Whole(t)
		far := []*policy.Policy{p}
		for range 12 {
			if next, done, err := m.Step(p); err == nil && len(done) > 0 {
				p = next
				far = append(far, p)
			}
		}
		in := survey.Circumstances{At: specimen.Probes[0], Context: randomContext(m)}
		for range 6 {
			a, b := far[m.IntN(len(far))], far[m.IntN(len(far))]
			done := a.Compare(b)
			by, whole := survey.Compare(decision.Compile(a), decision.Compile(b), done, in, 10_000), survey.Compare(decision.Compile(a), decision.Compile(b), nil, in, 10_000)
			if shown(by) != shown(whole) || fmt.Sprint(by.Mandates) != fmt.Sprint(whole.Mandates) {
				t.Fatalf("seed %d: with what leads there %s, without %s; changed: %v", seed, shown(by), shown(whole), specimen.Keys(done))
			}
			compared += whole.Pairs
		}
	}
	if compared < 1000 {
		t.Errorf("only %d pairs differed", compared)
	}
}

// shown writes what a comparison found, but for who holds mandates.
func shown(d survey.Differences) string {
	d.Mandates = nil
	return fmt.Sprint(d)
}

// TestCompareOfAChangeThatTouchesManyAtOnce: so many people change that all is compiled again, with other classes.
func TestCompareOfAChangeThatTouchesManyAtOnce(t *testing.T) {
	m := specimen.Maker{Rand: rand.New(rand.NewPCG(1, 71))}
	var changes, more []policy.Change
	for i := range 200 {
		id := policy.UserID(fmt.Sprintf("v%03d", i))
		changes = append(changes, specimen.Put(&policy.User{ID: id}),
			policy.Change{Op: policy.Add, Type: policy.UserGroups, ID: fmt.Sprint("g", i%specimen.GroupCount), List: "members", Entry: policy.Entry{Value: string(id)}})
		if i%2 == 0 {
			more = append(more, specimen.Put(&policy.User{ID: id, Status: policy.Suspended}))
		}
	}
	p, _, err := m.Whole(t).Apply(changes)
	if err != nil {
		t.Fatal(err)
	}
	before := decision.Compile(p)
	next, done, err := p.Apply(more)
	if err != nil {
		t.Fatal(err)
	}
	in := survey.Circumstances{At: specimen.Probes[0]}
	after := before.Next(next, done)
	got := survey.Compare(before, after, done, in, 10)
	lost := 0
	specimen.EveryQuestion(p, func(q decision.Question) {
		if q.At.Equal(in.At) && q.Point == "" && before.Decide(&q).Allowed && !after.Decide(&q).Allowed {
			lost++
		}
	})
	if got.Gained.All() != 0 || got.Lost[survey.Now] < lost || lost == 0 {
		t.Errorf("compared by the change: %v gained and %v lost, asking finds %d lost", got.Gained, got.Lost, lost)
	}
}
