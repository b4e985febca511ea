package daemon

import (
	"os"
	"path/filepath"
	"runtime/debug"
	"testing"

	"sentier/internal/store"
)

// TestGarbageIsBounded: what garbage may take grows with what is in use up to half a gigabyte, and then with a quarter of it.
func TestGarbageIsBounded(t *testing.T) {
	for live, want := range map[uint64]int{0: 100, 30 << 20: 100, 512 << 20: 100, 1 << 30: 50, 2 << 30: 25, 100 << 30: 25} {
		if got := garbagePercent(live); got != want {
			t.Errorf("of %d MB in use, garbage is looked for at %d %%, want %d", live>>20, got, want)
		}
	}
}

// TestAStartGivesBackWhatItTook: the bounds of the process are what they were before once the last of the starts that went on at once has ended;
// a limit that somebody set is kept, and where somebody said when garbage is looked for, nothing is changed.
func TestAStartGivesBackWhatItTook(t *testing.T) {
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, store.FileName), make([]byte, 1<<20), 0o600); err != nil {
		t.Fatal(err)
	}
	defer debug.SetGCPercent(debug.SetGCPercent(77))
	for _, c := range []struct {
		gogc      string
		set, want int64
	}{{"", 1 << 62, 2<<20 + mostGarbage}, {"", 64 << 20, 64 << 20}, {"77", 1 << 62, 1 << 62}} {
		t.Setenv("GOGC", c.gogc)
		before := debug.SetMemoryLimit(c.set)
		end, endOther := startLightly(dir), startLightly(dir)
		during := debug.SetMemoryLimit(-1)
		end()
		between := debug.SetMemoryLimit(-1)
		endOther()
		after, percent := debug.SetMemoryLimit(before), debug.SetGCPercent(77)
		if during != c.want || between != c.want || after != c.set || percent != 77 {
			t.Errorf("a limit of %d was %d at two starts, want %d, %d when one of them had ended, and %d with %d %% after both", c.set, during, c.want, between, after, percent)
		}
	}
}
