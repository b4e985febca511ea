package decision

import (
	"cmp"
	"math/rand/v2"
	"slices"
	"testing"
)

// TestAShortlistIsTheBeginningOfTheSortedList: kept as candidates come, it is what sorting all of them would begin with.
func TestAShortlistIsTheBeginningOfTheSortedList(t *testing.T) {
	random := rand.New(rand.NewPCG(8, 9))
	for range 2000 {
		var all []candidate
		var short shortlist
		hindrances := map[int32]UnmetConditions{}
		for range random.IntN(12) {
			x := candidate{line: random.Int32N(6), length: random.Int32N(4)}
			if _, ok := hindrances[x.line]; !ok {
				hindrances[x.line] = UnmetConditions(random.IntN(16))
			}
			all = append(all, x)
			if all[len(all)-1].misses = hindrances[x.line]; short.wants(x) {
				short.add(all[len(all)-1])
			}
		}
		slices.SortFunc(all, func(x, y candidate) int {
			return cmp.Or(lackRank[x.misses]-lackRank[y.misses], int(x.length-y.length), int(x.line-y.line))
		})
		var want []candidate
		for _, x := range all { // a line once, by its best way
			if !slices.ContainsFunc(want, func(o candidate) bool { return o.line == x.line }) && len(want) < maxMissing {
				want = append(want, x)
			}
		}
		if got := short.list[:short.size]; !slices.Equal(got, want) {
			t.Fatalf("of %v: %v, want %v", all, got, want)
		}
	}
}
