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

// TestAStartGivesBackWhatItTook: the bounds of the process are after a start what they were before; a limit that somebody set is kept.
func TestAStartGivesBackWhatItTook(t *testing.T) {
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, store.FileName), make([]byte, 1<<20), 0o600); err != nil {
		t.Fatal(err)
	}
	defer debug.SetGCPercent(debug.SetGCPercent(77))
	for _, set := range []int64{1 << 62, 64 << 20} {
		before := debug.SetMemoryLimit(set)
		end := startLightly(dir)
		during := debug.SetMemoryLimit(-1)
		end()
		after, percent := debug.SetMemoryLimit(before), debug.SetGCPercent(77)
		if want := min(set, 2<<20+mostGarbage); during != want || after != set || percent != 77 {
			t.Errorf("a limit of %d was %d at the start, want %d, and %d with %d %% after it", set, during, want, after, percent)
		}
	}
}
