package daemon

import (
	"context"
	"os"
	"path/filepath"
	"runtime/debug"
	"runtime/metrics"
	"sync"
	"time"

	"sentier/internal/store"
)

// startPercent is how much the memory may grow at a start before garbage is looked for, as GOGC counts: next to nothing of what is read
// becomes garbage, and looking for some again and again would be in vain.
const startPercent = 400

// starting are the starts of this process that go on, and what its bounds were before the first of them: those belong to the process, in which
// several may start at once.
var starting struct {
	sync.Mutex
	count   int
	percent int
	limit   int64
}

// startLightly lets a start look for little garbage, as long as it needs little more than twice what the database in a folder takes. It gives
// what sets that back once no other start goes on.
func startLightly(dir string) (end func()) {
	if itsOwnPace() {
		return func() {}
	}
	s := &starting
	s.Lock()
	defer s.Unlock()
	if s.count == 0 {
		s.percent, s.limit = debug.SetGCPercent(startPercent), debug.SetMemoryLimit(-1)
	}
	s.count++
	if info, err := os.Stat(filepath.Join(dir, store.FileName)); err == nil {
		debug.SetMemoryLimit(min(s.limit, 2*info.Size()+mostGarbage))
	}
	return func() {
		s.Lock()
		defer s.Unlock()
		if s.count--; s.count == 0 {
			debug.SetMemoryLimit(s.limit)
			debug.SetGCPercent(s.percent)
		}
	}
}

// itsOwnPace is whether somebody has said when this process looks for garbage, which stands then.
func itsOwnPace() bool { return os.Getenv("GOGC") != "" }

// mostGarbage is about what garbage may take, in bytes, however much is in use, but for a quarter of that.
const mostGarbage = 512 << 20

// garbagePercent is how much the memory may grow before garbage is looked for, where so many bytes are in use.
func garbagePercent(live uint64) int {
	return int(min(100, max(25, 100*mostGarbage/max(live, 1))))
}

// paceMemory keeps garbage within its bounds until ctx ends.
func paceMemory(ctx context.Context) {
	if itsOwnPace() {
		return
	}
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
