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

// startPercent is how much the memory may grow at a start before garbage is looked for, as GOGC counts: next to nothing of what is read
// becomes garbage, and looking for some again and again would be in vain.
const startPercent = 400

// startLightly lets a start look for little garbage, as long as it needs little more than twice what the database in a folder takes. It gives
// what sets that back.
func startLightly(dir string) (end func()) {
	percent := debug.SetGCPercent(startPercent)
	limit := debug.SetMemoryLimit(-1)
	if info, err := os.Stat(filepath.Join(dir, store.FileName)); err == nil {
		debug.SetMemoryLimit(min(limit, 2*info.Size()+mostGarbage))
	}
	return func() {
		debug.SetMemoryLimit(limit)
		debug.SetGCPercent(percent)
	}
}

// mostGarbage is about what garbage may take, in bytes, however much is in use, but for a quarter of that.
const mostGarbage = 512 << 20

// garbagePercent is how much the memory may grow before garbage is looked for, where so many bytes are in use.
func garbagePercent(live uint64) int {
	return int(min(100, max(25, 100*mostGarbage/max(live, 1))))
}

// paceMemory keeps garbage within its bounds until ctx ends.
func paceMemory(ctx context.Context) {
	live := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
	for {
		metrics.Read(live)
		debug.SetGCPercent(garbagePercent(live[0].Value.Uint64()))
		select {
		case <-ctx.Done():
			return
		case <-time.After(5 * time.Second):
		}
	}
}
