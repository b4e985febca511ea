package survey_test

import (
	"math/rand/v2"
	"testing"

	"sentier/internal/decision"
	"sentier/internal/policy"
	"sentier/internal/specimen"
	"sentier/internal/survey"
)

// TestDevicesAreToldApart: for every user of random policies each device is in one part, and on all of a part the same lines bear.
func TestDevicesAreToldApart(t *testing.T) {
	t.Parallel()
	parts, devices := 0, 0
	for seed := range uint64(40) {
		m := specimen.Maker{Rand: rand.New(rand.NewPCG(seed, 808))}
		c := decision.Compile(m.Whole(t))
		for u := range policy.Each[*policy.User](c.Policy()) {
			told, hands := survey.Parts(survey.Of(c), u.ID)
			seen := map[string]bool{}
			for _, part := range told {
				parts++
				for _, id := range part {
					if devices++; seen[id] {
						t.Fatalf("seed %d: %s is in two parts for %s", seed, id, u.ID)
					}
					if seen[id] = true; hands[id] != hands[part[0]] {
						t.Fatalf("seed %d: %s and %s are in one part for %s, and %s bears on one, %s on the other", seed, part[0], id, u.ID, hands[part[0]], hands[id])
					}
				}
			}
			if len(seen) != c.Policy().Table(policy.Devices).Len() {
				t.Fatalf("seed %d: %d devices are told apart for %s", seed, len(seen), u.ID)
			}
		}
	}
	if parts == devices {
		t.Error("no two devices are ever alike")
	}
}
