package service

import (
	"errors"
	"math/rand/v2"
	"slices"
	"testing"

	"sentier/internal/policy"
	"sentier/internal/specimen"
)

// TestManyChangesAreTakenBackInAnyOrder: five hundred random changes, each taken back by itself in a random order, lead to the first dump; where one
// cannot be taken back yet, the later one that is named has changed the same, and is there still.
func TestManyChangesAreTakenBackInAnyOrder(t *testing.T) {
	t.Parallel()
	const changes = 500
	s, owner := larkmere(t)
	m := specimen.Maker{Rand: rand.New(rand.NewPCG(500, 13))}
	step := func() (uint64, error) {
		o := EditOptions{Note: "random"}
		saved, err := answerOf(s.change(t.Context(), owner, &o, func(now *State) (step, error) {
			next, done, err := m.Step(now.Policy)
			return step{policy: next, done: done}, err
		}))
		return saved.Revision, err
	}
	var made []uint64
	before, last := dumped(t, s), s.State().Revision.Number
	for tries := 0; len(made) < changes; tries++ {
		if tries > 40*changes {
			t.Fatalf("only %d changes could be made", len(made))
		}
		if revision, err := step(); err == nil && revision > last {
			made, last = append(made, revision), revision
		}
	}
	left, all, refused := slices.Clone(made), slices.Clone(made), 0
	for again := true; again; {
		again = false
		m.Shuffle(len(left), func(i, j int) { left[i], left[j] = left[j], left[i] })
		for _, revision := range slices.Clone(left) {
			was := s.State().Revision.Number
			saved, err := s.Undo(t.Context(), owner, []uint64{revision}, EditOptions{})
			var later *LaterError
			switch {
			case err == nil:
				if saved.Revision > was {
					all = append(all, saved.Revision)
				}
				left, again = slices.DeleteFunc(left, func(n uint64) bool { return n == revision }), true
				continue
			case errors.As(err, &later):
				if later.Revision <= revision || !s.sameTouched(t, revision, later.Revision) {
					t.Fatalf("revision %d is not taken back, as %v", revision, err)
				}
			case !errors.As(err, new(policy.Faults)) && !errors.As(err, new(*UnmetError)):
				t.Fatalf("revision %d is not taken back: %v", revision, err)
			}
			if refused++; s.State().Revision.Number != was {
				t.Fatalf("revision %d was refused, and yet something changed", revision)
			}
		}
	}
	// Where a value came and went, and was taken back in between, the rest stands in its own way: with what was taken back, nothing does.
	if _, err := s.Undo(t.Context(), owner, all, EditOptions{}); len(left) > 0 && err != nil {
		t.Fatalf("%d are left, and all together: %v", len(left), err)
	}
	if dumped(t, s) != before {
		t.Error("all is taken back, and the dump is not the first")
	}
	if refused < changes/10 {
		t.Errorf("only %d were refused on the way", refused)
	}
}

// sameTouched tells whether two revisions have changed any of the same records.
func (s *Service) sameTouched(t *testing.T, a, b uint64) bool {
	t.Helper()
	touched := func(n uint64) (out []recordID) {
		done, err := s.borders.History.Changes(t.Context(), n)
		if err != nil {
			t.Fatal(err)
		}
		for _, c := range done {
			out = append(out, recordID{c.Record().Type(), c.Record().Key()})
		}
		return out
	}
	others := touched(b)
	return slices.ContainsFunc(touched(a), func(x recordID) bool { return slices.Contains(others, x) })
}
