package decision_test

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"sentier/internal/decision"
	"sentier/internal/specimen"
	"sentier/internal/survey"
)

func TestAnIncrementalCompileEqualsAFullOne(t *testing.T) {
	t.Parallel()
	for seed := range uint64(25) {
		m := specimen.Maker{Rand: rand.New(rand.NewPCG(seed, 11))}
		p := m.Whole(t)
		c := decision.Compile(p)
		applied := 0
		for i := range 40 {
			next, done, err := m.Step(p)
			if err != nil || len(done) == 0 {
				continue // a change that is refused, such as one that mentions what an earlier step took away
			}
			applied++
			before := c
			p, c = next, c.Next(next, done)
			full := decision.Compile(p)
			specimen.EveryQuestion(p, func(q decision.Question) {
				if got, want := c.Decide(&q), full.Decide(&q); got != want {
					t.Fatalf("seed %d, step %d: %+v: %v, and compiled from nothing %v; changed: %v", seed, i, q, got, want, specimen.Keys(done))
				}
			})
			if got, want := fmt.Sprint(survey.Of(c).Count()), fmt.Sprint(survey.Of(full).Count()); got != want {
				t.Fatalf("seed %d, step %d: counts %s, and compiled from nothing %s", seed, i, got, want)
			}
			if i%10 == 0 { // and what was there before has not changed under it
				again := decision.Compile(before.Policy())
				specimen.EveryQuestion(before.Policy(), func(q decision.Question) {
					if before.Decide(&q) != again.Decide(&q) {
						t.Fatalf("seed %d, step %d changed the policy before it: %+v", seed, i, q)
					}
				})
			}
		}
		if applied < 10 {
			t.Errorf("seed %d: only %d of 40 steps were possible", seed, applied)
		}
	}
}
