package policy_test

import (
	"encoding/json"
	"math/rand/v2"
	"testing"

	"sentier/internal/policy"
	"sentier/internal/specimen"
)

// TestWhatWasIsFoundAgain: of random policies that changed many times, the policy of any moment comes back from any later one by what was
// kept of the changes between, to the last field; and changes that led elsewhere are told.
func TestWhatWasIsFoundAgain(t *testing.T) {
	t.Parallel()
	for seed := range uint64(40) {
		m := specimen.Maker{Rand: rand.New(rand.NewPCG(seed, 83))}
		were := []*policy.Policy{m.Whole(t)}
		var did [][]policy.RecordChange // what led from each to the next, as it is kept
		for len(did) < 25 {
			next, done, err := m.Step(were[len(were)-1])
			if err != nil || len(done) == 0 {
				continue
			}
			were, did = append(were, next), append(did, asKept(t, done))
		}
		for range 30 {
			from := 1 + m.IntN(len(did))
			to := m.IntN(from)
			var since [][]policy.RecordChange
			for i := from - 1; i >= to; i-- {
				since = append(since, did[i])
			}
			was, err := were[from].Before(since)
			if err != nil {
				t.Fatalf("seed %d, from %d to %d: %v", seed, from, to, err)
			}
			if diff := was.Compare(were[to]); len(diff) > 0 || was.Len() != were[to].Len() {
				t.Fatalf("seed %d: from %d back to %d, %d records are other than they were; the first is %s", seed, from, to, len(diff), diff[0].Record().Key())
			}
		}
	}
	lost := []policy.RecordChange{policy.Kept(nil, &policy.Kind{ID: "lock", Name: "Lock"}, nil, nil)}
	if _, err := policy.Empty().Before([][]policy.RecordChange{lost}); err == nil {
		t.Error("what was never there was taken away")
	}
}

// asKept writes what was done as the store does, and reads it back.
func asKept(t *testing.T, done []policy.RecordChange) []policy.RecordChange {
	t.Helper()
	var out []policy.RecordChange
	for _, c := range done {
		read := func(r policy.Record) policy.Record {
			if r == nil {
				return nil
			}
			back := policy.New(r.Type())
			if err := json.Unmarshal(policy.Write(r), back); err != nil {
				t.Fatal(err)
			}
			return back
		}
		added, dropped := c.Entries()
		out = append(out, policy.Kept(read(c.Before), read(c.After), added, dropped))
	}
	return out
}
