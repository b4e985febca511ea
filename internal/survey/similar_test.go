package survey_test

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"testing"

	"sentier/internal/policy"
	"sentier/internal/survey"
)

// TestSimilarNamesAreFoundByHashes as they are by the keys themselves.
func TestSimilarNamesAreFoundByHashes(t *testing.T) {
	t.Parallel()
	found := 0
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 77))
		var changes []policy.Change
		for n := range 60 {
			name := []rune([]string{"Heron weir", "Heron wéir 1", "Mill basin", "Alder cut", "aaaaaaa", "Gate 12", "Gate 21", "Tom"}[r.IntN(8)])
			for range r.IntN(3) {
				i := r.IntN(len(name))
				switch r.IntN(3) {
				case 0:
					name[i] = rune('a' + r.IntN(4))
				case 1:
					name = append(name[:i:i], name[i+1:]...)
				default:
					name = append(name[:i:i], append([]rune{rune('0' + r.IntN(3))}, name[i:]...)...)
				}
			}
			id := fmt.Sprintf("u%02d", n)
			changes = append(changes, policy.Change{Op: policy.Put, Type: policy.Users, ID: id, Record: &policy.User{ID: policy.UserID(id), Name: string(name)}})
		}
		p, _, err := policy.Empty().Apply(changes)
		if err != nil {
			t.Fatal(err)
		}
		got, want := survey.SimilarBothWays(p.Table(policy.Users))
		if found += len(got); len(got)+len(want) > 0 && !reflect.DeepEqual(got, want) {
			t.Fatalf("seed %d: by hashes %v, by keys %v", seed, got, want)
		}
	}
	if found < 300 {
		t.Errorf("only %d pairs were found", found)
	}
}
