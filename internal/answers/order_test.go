package answers

import (
	"math/rand/v2"
	"slices"
	"testing"

	"sentier/internal/policy"
	"sentier/internal/specimen"
)

func TestNumbersInNamesCountAsNumbers(t *testing.T) {
	sorted := []string{"", "Alder gate", "Étang 2", "étang 10", "gate 1", "gate 1 b", "gate 02", "gate 2 a", "gate 10", "gate 10.5", "Gate x", "Mill", "zone"}
	for i, a := range sorted {
		for j, b := range sorted {
			if got := compareNatural(a, b); (got < 0) != (i < j) || (got == 0) != (i == j) {
				t.Errorf("%q and %q: %d", a, b, got)
			}
		}
	}
}

// TestEveryOrderOfEveryType reads sorted lists page by page: each record comes once, none before one that it belongs after, and from the
// end it is the same list turned round.
func TestEveryOrderOfEveryType(t *testing.T) {
	t.Parallel()
	m := specimen.Maker{Rand: rand.New(rand.NewPCG(3, 14))}
	p := m.Whole(t)
	for _, typ := range policy.Types() {
		for by := range orders[typ] {
			read := func(by string) (keys []string) {
				cursor, limit := "", 1+m.IntN(5)
				for {
					s, err := sortingOf(typ, by, cursor, limit)
					if err != nil {
						t.Fatal(err)
					}
					for r := range p.Table(typ).All() {
						s.show(p, r)
					}
					records, next, err := s.page()
					if err != nil || len(records) > limit || next != "" && len(records) != limit {
						t.Fatalf("%s by %s: a page of %d, then %q (%v)", typ, by, len(records), next, err)
					}
					for _, r := range records {
						keys = append(keys, r.Key())
					}
					if cursor = next; cursor == "" {
						return keys
					}
				}
			}
			there, back := read(by), read("-"+by)
			if slices.Reverse(back); !slices.Equal(there, back) || len(there) != p.Table(typ).Len() {
				t.Errorf("%s by %s: %v, and from the end %v of %d", typ, by, there, back, p.Table(typ).Len())
			}
			if !slices.IsSortedFunc(there, func(a, b string) int {
				x, _ := p.Get(typ, a)
				y, _ := p.Get(typ, b)
				return compareNatural(orders[typ][by](p, x), orders[typ][by](p, y))
			}) {
				t.Errorf("%s by %s are not in order: %v", typ, by, there)
			}
		}
	}
	for _, by := range []string{"", "-", "colour", "name-", "--name"} {
		if _, err := sortingOf(policy.Users, by, "", 1); err == nil {
			t.Errorf("sorted by %q", by)
		}
	}
	if _, err := sortingOf(policy.Users, "name", "no place", 1); err == nil {
		t.Error("a cursor that is none was taken")
	}
}
