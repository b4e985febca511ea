package survey_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"strconv"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"sentier/internal/decision"
	"sentier/internal/policy"
	"sentier/internal/specimen"
	"sentier/internal/survey"
)

// seeded runs a test of random policies for each of so many seeds, two side by side; SENTIER_SEEDS=N makes them N times as many.
func seeded(t *testing.T, seeds int, test func(seed uint64)) {
	t.Helper()
	if times, err := strconv.Atoi(os.Getenv("SENTIER_SEEDS")); err == nil {
		seeds *= times
	}
	var wait sync.WaitGroup
	var next atomic.Int64
	for range 2 {
		wait.Go(func() {
			for n := next.Add(1) - 1; n < int64(seeds) && !t.Failed(); n = next.Add(1) - 1 {
				test(uint64(n))
			}
		})
	}
	wait.Wait()
}

// asTold is a prospect as the page tells it.
func asTold(p survey.Prospect) specimen.Chance {
	if p.Degree == survey.Impossible {
		return specimen.Chance{Degree: "impossible"}
	}
	return specimen.Chance{Degree: p.Degree.String(), First: p.First().UTC(), Given: size(p.Given), ComesIn: comesIn(p.Given)}
}

// resource is what a random question is about.
type resource struct {
	user   policy.UserID
	device policy.DeviceID
	point  policy.PointID
	right  policy.RightID
}

func (r resource) question(at time.Time, context decision.Context) decision.Question {
	return decision.Question{User: r.user, Device: r.device, Point: r.point, Right: r.right, At: at, Context: context}
}

func randomResource(m specimen.Maker) resource {
	return resource{
		specimen.Pick[policy.UserID](m, "u", specimen.UserCount), specimen.Pick[policy.DeviceID](m, "x", specimen.DeviceCount),
		[]policy.PointID{"", "", "a", "b", "c"}[m.IntN(5)], []policy.RightID{policy.View, policy.Control, "r0", "r1", "r2"}[m.IntN(5)],
	}
}

// repointed is a policy in which a device has a point more, or less.
func repointed(m specimen.Maker, p *policy.Policy) *policy.Policy {
	d, there := policy.Find[*policy.Device](p, string(specimen.Pick[policy.DeviceID](m, "x", specimen.DeviceCount)))
	if !there {
		return p
	}
	next := *d
	next.Points = [][]policy.Point{{{ID: "a"}}, {{ID: "a"}, {ID: "b"}}, {{ID: "a"}, {ID: "b"}, {ID: "c"}}}[m.IntN(3)]
	if out, _, err := p.Apply([]policy.Change{specimen.Put(&next)}); err == nil {
		return out
	}
	return p
}

// TestThePageRead holds what is possible, and the impact of 2,000 random changes, against a second reading of the page of semantics: 50 questions of each, 100,000
// in all, with the degree, the first instant, the number of values that must be given, whether somebody has to come in, and the limits; and each total against
// its items.
func TestThePageRead(t *testing.T) {
	t.Parallel()
	edits := atomic.Int64{}
	var mu sync.Mutex
	seen := map[string]int{}
	seeded(t, 10, func(seed uint64) {
		m := specimen.Maker{Rand: rand.New(rand.NewPCG(seed, 2031))}
		p := m.Limited(t, m.Whole(t))
		c := decision.Compile(p)
		told := map[string]int{}
		for n := 0; n < 8; {
			next, _, err := m.Step(p)
			if err != nil {
				continue
			}
			if m.IntN(3) == 0 {
				next = repointed(m, next)
			}
			if m.IntN(3) == 0 {
				next = m.Limited(t, next)
			}
			done := p.Compare(next)
			if len(done) == 0 {
				continue
			}
			n++
			in := survey.Circumstances{At: specimen.Probes[m.IntN(len(specimen.Probes))], Context: randomContext(m)}
			after := c.Next(next, done)
			d := survey.Compare(c, after, done, in, 1<<20)
			total(t, seed, &d)
			items := itemsOf(&d)
			for range 50 {
				r := randomResource(m)
				if len(d.Items) > 0 && m.IntN(2) == 0 { // half of them are about what is told
					x := d.Items[m.IntN(len(d.Items))]
					r.user, r.device, r.point = x.User, x.Device, x.Point
				}
				if err := sameAsThePage(p, next, after, items, r, in, told); err != nil {
					t.Errorf("seed %d, change %d %v: %v", seed, n, specimen.Keys(done), err)
					return
				}
			}
			p, c = next, after
			edits.Add(1)
		}
		mu.Lock()
		defer mu.Unlock()
		for word, n := range told {
			seen[word] += n
		}
	})
	t.Log(edits.Load(), "changes;", seen)
	for _, word := range []string{"possible now", "possible later", "possible if", "comes in", "+now", "+later", "+if", "-now", "-later", "-if", "loosened", "tightened"} {
		if seen[word] < 20 {
			t.Errorf("only %d times %s", seen[word], word)
		}
	}
}

// total holds the totals of a comparison against its items.
func total(t *testing.T, seed uint64, d *survey.Differences) {
	t.Helper()
	var gained, lost, loosened, tightened survey.Tally
	users, gainers := map[policy.UserID]bool{}, map[policy.UserID]bool{}
	devices := map[policy.DeviceID]bool{}
	for _, x := range d.Items {
		for _, g := range x.Gained {
			gained[g.Degree]++
			gainers[x.User] = true
		}
		for _, g := range x.Lost {
			lost[g.Degree]++
		}
		for _, g := range x.Loosened {
			loosened[g.Degree]++
		}
		for _, g := range x.Tightened {
			tightened[g.Degree]++
		}
		users[x.User], devices[x.Device] = true, true
	}
	if gained != d.Gained || lost != d.Lost || loosened != d.Loosened || tightened != d.Tightened || len(d.Items) != d.Pairs || len(users) != d.Users || len(gainers) != d.Gainers || len(devices) != d.Devices {
		t.Errorf("seed %d: the items come to %v gained, %v lost, %v loosened, %v tightened, %d pairs, %d users, %d who gain, %d devices; told are %v %v %v %v %d %d %d %d", seed,
			gained, lost, loosened, tightened, len(d.Items), len(users), len(gainers), len(devices), d.Gained, d.Lost, d.Loosened, d.Tightened, d.Pairs, d.Users, d.Gainers, d.Devices)
	}
}

// itemOf is what a comparison tells of a right of a user on a resource.
type itemOf struct {
	gained, lost, loosened, tightened specimen.Chance
	before, after                     string // what was gained or lost, from what to what
}

func nothingTold() itemOf {
	none := specimen.Chance{Degree: "impossible"}
	return itemOf{gained: none, lost: none, loosened: none, tightened: none}
}

// itemsOf are what is told, by resource; a point of which nothing is told by itself goes with its device.
func itemsOf(d *survey.Differences) map[resource]map[policy.RightID]itemOf {
	out := map[resource]map[policy.RightID]itemOf{}
	for _, x := range d.Items {
		of := map[policy.RightID]itemOf{}
		out[resource{user: x.User, device: x.Device, point: x.Point}] = of
		change := func(right policy.RightID, set func(*itemOf)) {
			item, there := of[right]
			if !there {
				item = nothingTold()
			}
			set(&item)
			of[right] = item
		}
		for _, g := range x.Gained {
			change(g.Right, func(i *itemOf) { i.gained, i.before, i.after = asTold(g.Prospect), g.Before.String(), g.After.String() })
		}
		for _, g := range x.Lost {
			change(g.Right, func(i *itemOf) { i.lost, i.before, i.after = asTold(g.Prospect), g.Before.String(), g.After.String() })
		}
		for _, g := range x.Loosened {
			change(g.Right, func(i *itemOf) { i.loosened = asTold(g.Prospect) })
		}
		for _, g := range x.Tightened {
			change(g.Right, func(i *itemOf) { i.tightened = asTold(g.Prospect) })
		}
	}
	return out
}

// sameAsThePage holds what is told of one right against the page.
func sameAsThePage(p, next *policy.Policy, after *decision.Compiled, items map[resource]map[policy.RightID]itemOf, r resource, in survey.Circumstances, told map[string]int) error {
	q := r.question(in.At, in.Context)
	page := specimen.ReadBeside(p, next, q)
	back, possible := page.Back(), page.Possible()
	if got := asTold(survey.Of(after).Possible(q)); got != possible {
		return fmt.Errorf("%+v is possible as %+v; the page says %+v", q, got, possible)
	}
	told["possible "+possible.Degree]++
	told["comes in"] += decision.Bit(possible.ComesIn)
	want := itemOf{gained: page.Gained(), lost: back.Gained(), loosened: page.Looser(), tightened: back.Looser()}
	of, by := items[resource{user: r.user, device: r.device, point: r.point}]
	if r.point != "" && !by && (there(p, r) || there(next, r)) && (there(p, r) == there(next, r) || whole(p, r) != whole(next, r)) { // as its device
		of = items[resource{user: r.user, device: r.device}]
	}
	got, known := of[r.right]
	if !known || r.point != "" && !by && want == nothingTold() { // nor is it told of a point that nothing changes on it
		got = nothingTold()
	}
	if got.before != "" { // told where something is gained or lost
		want.before, want.after = back.Possible().Degree, possible.Degree
	}
	if got != want {
		return fmt.Errorf("of %+v in %+v is told %+v; the page says %+v", r, in, got, want)
	}
	told["+"+want.gained.Degree]++
	told["-"+want.lost.Degree]++
	told["loosened"] += decision.Bit(want.loosened.Degree != "impossible")
	told["tightened"] += decision.Bit(want.tightened.Degree != "impossible")
	return nil
}

// whole tells whether there is a device.
func whole(p *policy.Policy, r resource) bool {
	_, known := policy.Find[*policy.Device](p, string(r.device))
	return known
}

// there tells whether a device has a point.
func there(p *policy.Policy, r resource) bool {
	d, known := policy.Find[*policy.Device](p, string(r.device))
	if !known {
		return false
	}
	for _, point := range d.Points {
		if point.ID == r.point {
			return true
		}
	}
	return false
}
