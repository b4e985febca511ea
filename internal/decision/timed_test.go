package decision_test

import (
	"math/rand/v2"
	"reflect"
	"slices"
	"testing"

	"sentier/internal/decision"
	"sentier/internal/policy"
	"sentier/internal/specimen"
)

// TestWhatIsGivenForATime: before the instant all is as if it were for good; from it on, once it is put back, as if it had never been; and what was
// given is over by then although nothing puts it back.
func TestWhatIsGivenForATime(t *testing.T) {
	t.Parallel()
	m := specimen.Maker{Rand: rand.New(rand.NewPCG(31, 1))}
	base := m.Whole(t)
	until := specimen.Probes[1]
	tried, alone := 0, 0
	for n := range 700 {
		if n%50 == 0 {
			base = m.Whole(t)
		}
		after, _, err := m.Step(base)
		if err != nil {
			continue
		}
		timed, done, err := base.Apply(base.ForATime(after, until))
		if err != nil {
			t.Fatalf("step %d: %v", n, err)
		}
		if again, _, err := base.Apply(base.ForATime(timed, until)); err != nil || len(timed.Compare(again)) > 0 {
			t.Fatalf("step %d: done once more it gives something else: %v %v", n, specimen.Keys(timed.Compare(again)), err)
		}
		back, left := timed.PutBack(done)
		ended, _, err := timed.Apply(back)
		if err != nil || len(left) > 0 {
			t.Fatalf("step %d: put back: %v, and left as it is: %v", n, err, specimen.Keys(left))
		}
		was, want, is, over := decision.Compile(base), decision.Compile(after), decision.Compile(timed), decision.Compile(ended)
		gives := onlyGives(done)
		tried++
		if gives {
			alone++
		}
		specimen.EveryQuestion(after, func(q decision.Question) {
			if q.At.Before(until) {
				if a, b := want.Decide(&q), is.Decide(&q); a.Allowed != b.Allowed {
					t.Errorf("step %d, %v, before the end: %v for a time, %v for good", n, q, b.Allowed, a.Allowed)
				}
				return
			}
			before := was.Decide(&q)
			if b := over.Decide(&q); before.Allowed != b.Allowed {
				t.Errorf("step %d, %v, put back: %v %s, and it was %v %s", n, q, b.Allowed, b.Reason, before.Allowed, before.Reason)
			}
			if b := is.Decide(&q); gives && b.Allowed && !before.Allowed {
				t.Errorf("step %d, %v: still allowed after the end, with nothing put back: %v", n, q, specimen.Keys(done))
			}
		})
		if t.Failed() {
			t.Fatalf("the step was %v", specimen.Keys(base.Compare(after)))
		}
		base = after
	}
	if tried < 500 || alone < 60 {
		t.Errorf("only %d steps, %d of which only give", tried, alone)
	}
}

// onlyGives tells whether a change does nothing but to memberships, grants and users that allow.
func onlyGives(done []policy.RecordChange) bool {
	for _, c := range done {
		was, is := c.Before, c.After
		switch r := c.Record().(type) {
		case *policy.UserGroup:
			a, isA := was.(*policy.UserGroup)
			b, isB := is.(*policy.UserGroup)
			if !isA || !isB || a.Enabled != b.Enabled || !reflect.DeepEqual(a.Includes, b.Includes) ||
				slices.ContainsFunc(a.Members, func(m policy.Member) bool { return !slices.Contains(b.Members, m) }) { // who leaves may have been denied something there
				return false
			}
		case *policy.Grant:
			if a, ok := was.(*policy.Grant); r.Effect == policy.Deny || ok && a.Effect == policy.Deny || is == nil {
				return false
			}
		case *policy.User:
		default:
			return false
		}
	}
	return true
}
