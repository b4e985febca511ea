package daemon

import (
	"context"
	"os"
	"path/filepath"
	"runtime/debug"
	"runtime/metrics"
	"time"

	"sentier/internal/store"
)

// How much the memory may grow, in hundredths of what is in use, before garbage is looked for, as GOGC counts. Next to nothing of what
// is read at a start becomes garbage, and looking for some again and again would be in vain; but of a large policy it would be gigabytes.
const (
	startPercent = 400
	smallPercent = 100
	largePercent = 25

	large = 256 << 20 // bytes
)

// startLightly lets a start look for little garbage where the database in a folder is small, and gives what sets that back.
func startLightly(dir string) (end func()) {
	percent := startPercent
	if info, err := os.Stat(filepath.Join(dir, store.FileName)); err == nil && info.Size() > large {
		percent = 2 * largePercent
	}
	before := debug.SetGCPercent(percent)
	return func() { debug.SetGCPercent(before) }
}

// paceMemory keeps what garbage may take to a small part of what is in use, where that is much, until ctx ends.
func paceMemory(ctx context.Context) {
	live := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
	for {
		percent := smallPercent
		if metrics.Read(live); live[0].Value.Uint64() > large {
			percent = largePercent
		}
		debug.SetGCPercent(percent)
		select {
		case <-ctx.Done():
			return
		case <-time.After(5 * time.Second):
		}
	}
}
