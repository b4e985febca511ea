package main

import (
	"fmt"
	"math/rand/v2"
	"runtime"
	"testing"
	"time"

	"sentier/internal/decision"
	"sentier/internal/demo"
	"sentier/internal/policy"
)

// at is a working Tuesday, at which about half of the schedules are open.
var at = time.Date(2026, 11, 24, 10, 0, 0, 0, time.UTC)

// world is a grown navigation and questions about it.
type world struct {
	policy    *policy.Policy
	compiled  *decision.Compiled
	users     map[policy.UserID]int
	devices   map[policy.DeviceID]int
	userIDs   []policy.UserID
	deviceIDs []policy.DeviceID
	questions []decision.Question
}

// asked is how many questions are asked in turn: few enough that reading them is not what is measured.
const asked = 1 << 12

func newWorld(n int) *world {
	p, err := demo.Grown(n, n)
	check(err)
	w := &world{policy: p, users: map[policy.UserID]int{}, devices: map[policy.DeviceID]int{}}
	for u := range policy.Each[*policy.User](p) {
		w.users[u.ID] = len(w.userIDs)
		w.userIDs = append(w.userIDs, u.ID)
	}
	for d := range policy.Each[*policy.Device](p) {
		w.devices[d.ID] = len(w.deviceIDs)
		w.deviceIDs = append(w.deviceIDs, d.ID)
	}
	random := rand.New(rand.NewPCG(5, 6))
	for range asked {
		w.questions = append(w.questions, decision.Question{
			User: w.userIDs[random.IntN(len(w.userIDs))], Device: w.deviceIDs[random.IntN(len(w.deviceIDs))], Right: "control", At: at,
		})
	}
	return w
}

// against times two things in turn, so that what the machine is otherwise busy with hits both, and gives the
// shortest time of each.
func against(times int, thing, floor func()) (took, least time.Duration) {
	took, least = 1<<62, 1<<62
	for range times {
		start := time.Now()
		floor()
		least = min(least, time.Since(start))
		start = time.Now()
		thing()
		took = min(took, time.Since(start))
	}
	return took, least
}

func each(d time.Duration, n int) time.Duration { return d / time.Duration(n) }

var sink int // keeps the compiler from leaving out what is measured

func (r *run) plain(w *world, n int) {
	var took, floor time.Duration
	profiled(func() {
		took, floor = against(99, func() {
			for i := range w.questions {
				if w.compiled.Decide(&w.questions[i]).Allowed {
					sink++
				}
			}
		}, func() {
			for i := range w.questions {
				q := &w.questions[i]
				sink += w.users[q.User] + w.devices[q.Device]
			}
		})
	})
	r.report(figure{"plain decision by ids", n, ratio(took, floor), 1.5, false,
		fmt.Sprintf("%v, finding both ids in Go maps %v", each(took, asked), each(floor, asked))})
	i := 0
	allocs := testing.AllocsPerRun(asked-1, func() {
		if w.compiled.Decide(&w.questions[i]).Allowed {
			sink++
		}
		i++
	})
	r.report(figure{"allocations of a plain decision", n, allocs, 0, false, ""})
}

func ratio(a, b time.Duration) float64 { return float64(a) / float64(b) }

func heap() uint64 {
	var m runtime.MemStats
	runtime.GC()
	runtime.GC()
	runtime.ReadMemStats(&m)
	return m.HeapAlloc
}
