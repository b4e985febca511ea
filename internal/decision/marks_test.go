package decision

import (
	"math/rand/v2"
	"testing"
)

// TestMarksNeverMissATarget: they may say yes where there is nothing, and must not say no where there is something.
func TestMarksNeverMissATarget(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 6))
	for range 500 {
		r := rules{nearby: uint(random.IntN(4))}
		var m marks
		held := map[Target]bool{}
		for range random.IntN(40) {
			at := Target(random.IntN((neighbourhoods - 1) << r.nearby))
			held[at] = true
			m.add(r.mark(at))
		}
		var all marks
		meets := false
		for range random.IntN(9) {
			at := Target(random.IntN((neighbourhoods - 1) << r.nearby))
			all.add(r.mark(at))
			meets = meets || held[at]
		}
		m.add(everywhere) // as in all that a user has
		if near := all.vicinity(); meets && !m.meet(&near) {
			t.Fatalf("%v meets %v", near, held)
		}
	}
}
