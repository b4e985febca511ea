package decision_test

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"sentier/internal/decision"
	"sentier/internal/document"
	"sentier/internal/policy"
	"sentier/internal/specimen"
)

// TestPoliciesThatAreWrittenAreReadAgain writes random policies as documents and sheets and reads them: nothing is
// another thing, and nothing is decided otherwise.
func TestPoliciesThatAreWrittenAreReadAgain(t *testing.T) {
	t.Parallel()
	for seed := range uint64(40) {
		m := specimen.Maker{Rand: rand.New(rand.NewPCG(seed, 41))}
		p := m.Whole(t)
		first := map[document.Syntax]string{}
		for _, syntax := range []document.Syntax{document.YAML, document.JSON} {
			text, err := document.WritePolicy(p, syntax)
			if err != nil {
				t.Fatal(err)
			}
			first[syntax] = string(text)
			again, err := document.ReadPolicy(text)
			if err != nil {
				t.Fatalf("seed %d: what was written is not sound: %v\n%s", seed, err, text)
			}
			if changes := p.Compare(again); len(changes) > 0 {
				t.Fatalf("seed %d: read again, other records are there: %v", seed, specimen.Keys(changes))
			}
			// Whoever reads one syntax writes the other as it was.
			for other, want := range first {
				if got, err := document.WritePolicy(again, other); err != nil || string(got) != want {
					t.Fatalf("seed %d: written again, the document differs (%v)", seed, err)
				}
			}
			a, b := decision.Compile(p), decision.Compile(again)
			specimen.EveryQuestion(p, func(q decision.Question) {
				if got, want := b.Decide(&q), a.Decide(&q); got != want {
					t.Fatalf("seed %d: %+v: %v after reading, %v before", seed, q, got, want)
				}
			})
		}
		for _, sheet := range []document.Sheet{"users", "devices", "members", "device_lists"} {
			text, err := document.WriteCSV(p, sheet, true)
			if err != nil {
				t.Fatal(err)
			}
			in, err := document.ReadCSV(p, sheet, text, time.Time{})
			if err != nil {
				t.Fatalf("seed %d: the sheet %v is not sound: %v\n%s", seed, sheet, err, text)
			}
			next, done, err := p.Apply(in.Changes)
			if err != nil || len(done) > 0 || len(p.Compare(next)) > 0 {
				t.Fatalf("seed %d: the sheet %v changes %v (%v)\n%s", seed, sheet, specimen.Keys(done), err, text)
			}
		}
	}
}

// TestChangesLeadThereAndBack goes through random steps: what a step did, taken back, leads to where it began, and comparing
// two policies gives changes that lead from one to the other.
func TestChangesLeadThereAndBack(t *testing.T) {
	t.Parallel()
	for seed := range uint64(30) {
		m := specimen.Maker{Rand: rand.New(rand.NewPCG(seed, 43))}
		begin := m.Whole(t)
		p := begin
		var undo [][]policy.Change
		for range 25 {
			next, done, err := m.Step(p)
			if err != nil || len(done) == 0 {
				continue
			}
			undo = append(undo, policy.Changes(policy.Reverse(done)))
			p = next
		}
		end := p
		for i := len(undo) - 1; i >= 0; i-- {
			next, _, err := p.Apply(undo[i])
			if err != nil {
				t.Fatalf("seed %d: step %d cannot be taken back: %v", seed, i, err)
			}
			p = next
		}
		if left := begin.Compare(p); len(left) > 0 {
			t.Fatalf("seed %d: with %d steps taken back there are other records: %v", seed, len(undo), specimen.Keys(left))
		}
		there, _, err := begin.Apply(policy.Changes(begin.Compare(end)))
		if err != nil {
			t.Fatalf("seed %d: what compares the two cannot be applied: %v", seed, err)
		}
		if left := there.Compare(end); len(left) > 0 {
			t.Fatalf("seed %d: what compares the two leads elsewhere: %v", seed, specimen.Keys(left))
		}
		if fmt.Sprint(specimen.Keys(begin.Compare(begin))) != "[]" {
			t.Fatalf("seed %d: a policy is another than itself", seed)
		}
	}
}
