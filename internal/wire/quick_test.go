package wire

import (
	"encoding/json"
	"math/rand/v2"
	"testing"
	"time"

	quickjson "github.com/go-json-experiment/json"

	"sentier/internal/policy"
)

// TestDecisionsAreWrittenAsByReflection writes random decisions both ways.
func TestDecisionsAreWrittenAsByReflection(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 8))
	some := func() bool { return random.IntN(2) == 0 }
	for range 500 {
		var d Decisions
		d.Evaluations = []Decision{}
		for range random.IntN(4) {
			one := Decision{Decision: some(), Context: DecisionContext{Reason: []string{"granted", `a "b" <c> \`, "é\u2028"}[random.IntN(3)], Revision: random.Uint64N(1 << 40)}}
			if some() {
				until := time.Unix(random.Int64N(1<<33), random.Int64N(2)*1000).UTC()
				one.Context.Until = &until
			}
			if some() {
				one.Context.Limits = map[string]policy.Limit{"minutes": {Number: float64(random.IntN(100)) / 8}, "folders": {Texts: []string{"a", `"`}}}
			}
			if some() {
				one.Context.Error = &EvaluationError{Status: 400, Message: `subject.id: is "missing"`}
			}
			d.Evaluations = append(d.Evaluations, one)
		}
		want, err := quickjson.Marshal(d, quickjson.Deterministic(true))
		if err != nil {
			t.Fatal(err)
		}
		if got, err := d.AppendJSON(nil); err != nil || string(got) != string(want) || !json.Valid(got) {
			t.Fatalf("written as\n%s (%v), by reflection as\n%s", got, err, want)
		}
	}
}
