package survey_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"
	"time"

	"sentier/internal/decision"
	"sentier/internal/policy"
	"sentier/internal/schedule"
	"sentier/internal/specimen"
	"sentier/internal/survey"
)

// said carries out "Expectations" of the semantics word by word, at one instant and in one context.
type said struct {
	c *decision.Compiled
	e *policy.Expectation
}

func (s said) open(d *policy.Device, at time.Time) bool {
	if len(s.e.When) == 0 {
		return true
	}
	zone, _ := policy.LoadZone(decision.SiteZone(s.c.Policy(), d.Site))
	return slices.ContainsFunc(s.e.When, func(id policy.ScheduleID) bool {
		w, _ := policy.Find[*policy.Schedule](s.c.Policy(), string(id))
		return schedule.Compile(w, nil).In(zone).Open(at.Unix())
	})
}

func (s said) about(u policy.UserID, at time.Time) bool {
	in := func(groups []policy.UserGroupID, users []policy.UserID) bool {
		return slices.Contains(users, u) || slices.ContainsFunc(s.c.Groups(u, at), func(g policy.UserGroupID) bool { return slices.Contains(groups, g) })
	}
	return (s.e.Who.Everyone || in(s.e.Who.Groups, s.e.Who.Users)) && !in(s.e.Except.Groups, s.e.Except.Users)
}

func (s said) covers(d *policy.Device, point policy.PointID) bool {
	on, here := &s.e.On, s.e.Depth == policy.Here
	if d.State == policy.Retired {
		return false
	}
	if point != "" {
		return slices.Contains(on.Points, policy.PointRef(string(d.ID)+"/"+string(point)))
	}
	for site := d.Site; site != ""; {
		if slices.Contains(on.Sites, site) {
			return true
		}
		of, _ := policy.Find[*policy.Site](s.c.Policy(), string(site))
		if site = of.Parent; here {
			break
		}
	}
	return on.Everything || slices.Contains(on.Devices, d.ID) || slices.ContainsFunc(on.DeviceGroups, func(id policy.DeviceGroupID) bool {
		g, _ := policy.Find[*policy.DeviceGroup](s.c.Policy(), string(id))
		return !here && s.c.InGroup(d, id) || slices.Contains(g.Devices, d.ID) || g.Match != nil && s.c.Selects(g.Match, d)
	})
}

// broken tells whether the statement does not hold of what a question is about; of someone the user is left out.
func (s said) broken(q decision.Question) bool {
	d, there := policy.Find[*policy.Device](s.c.Policy(), string(q.Device))
	if !there || !s.covers(d, q.Point) || !s.open(d, q.At) {
		return false
	}
	_, mayIn := s.c.MaySignIn(q.User, q.At)
	switch s.e.Expect {
	case policy.Never:
		return s.about(q.User, q.At) && s.c.Decide(&q).Allowed
	case policy.Always:
		q.Context = decision.Context{}
		return s.about(q.User, q.At) && mayIn && !s.c.Decide(&q).Allowed
	}
	return s.have(q) < s.e.AtLeast
}

// have counts who is allowed it in any of all contexts that tell anything apart in a specimen.
func (s said) have(q decision.Question) (n int) {
	for u := range policy.Each[*policy.User](s.c.Policy()) {
		q.User = u.ID
		if s.about(u.ID, q.At) && slices.ContainsFunc(everyContext, func(c decision.Context) bool { q.Context = c; return s.c.Decide(&q).Allowed }) {
			n++
		}
	}
	return n
}

var everyContext = func() (out []decision.Context) {
	for _, ip := range []byte{0, 1} {
		for site := range specimen.SiteCount {
			for sign := range 2 {
				for attended := range 2 {
					out = append(out, (&survey.Given{Places: []policy.SiteID{policy.SiteID(fmt.Sprint("s", site))}, StrongSignIn: decision.Tri(1 + sign), Attended: decision.Tri(1 + attended)}).In(
						decision.Context{IP: netip.AddrFrom4([4]byte{10, ip, 0, 1})}))
				}
			}
		}
	}
	return out
}()

func statements(c *decision.Compiled) map[policy.ExpectationID]said {
	out := map[policy.ExpectationID]said{}
	for e := range policy.Each[*policy.Expectation](c.Policy()) {
		out[e.ID] = said{c, e}
	}
	return out
}

// instants are some within the 400 days: many soon, few later.
func instants(m specimen.Maker, from time.Time) []time.Time {
	out := []time.Time{from}
	for range 5 {
		out = append(out, from.Add(time.Duration(m.IntN(96*60))*time.Minute), from.Add(time.Duration(m.IntN(400*24*60))*time.Minute))
	}
	return out
}

// sample asks about all that an expectation is about, here and there, and calls found where the statement does not hold.
func (s said) sample(m specimen.Maker, at time.Time, found func(decision.Question)) {
	for d := range policy.Each[*policy.Device](s.c.Policy()) {
		for _, point := range []policy.PointID{"", "a"} {
			if !s.covers(d, point) {
				continue
			}
			for _, right := range s.e.Rights {
				q := decision.Question{Device: d.ID, Point: point, Right: right}
				for _, q.At = range instants(m, at) {
					if s.e.Expect == policy.Someone {
						if s.broken(q) {
							found(q)
						}
						continue
					}
					for u := range policy.Each[*policy.User](s.c.Policy()) {
						q.User, q.Context = u.ID, randomContext(m)
						if s.broken(q) {
							found(q)
						}
					}
				}
			}
		}
	}
}

// TestExpectationsAreProved holds what is told of expectations against the statement asked at single instants, on random policies and
// after random changes: what is told is so, at that instant and in those circumstances, and what is found anywhere else is told, and not later.
func TestExpectationsAreProved(t *testing.T) {
	t.Parallel()
	held, unmet, broke, stayed := 0, 0, 0, 0
	for seed := range uint64(20) {
		m := specimen.Maker{Rand: rand.New(rand.NewPCG(seed, 1301))}
		p, at := m.Whole(t), specimen.Probes[m.IntN(len(specimen.Probes))]
		before := decision.Compile(p)
		for range 6 {
			told := map[policy.ExpectationID]survey.Break{}
			for _, b := range survey.Of(before).Unmet(at) {
				told[b.Expectation.ID] = b
			}
			for id, s := range statements(before) {
				b, isTold := told[id]
				if isTold && (!s.broken(b.Question()) || b.Have != s.counted(b)) {
					t.Fatalf("seed %d: %s: told is %+v, which is not so", seed, id, b)
				}
				s.sample(m, at, func(q decision.Question) {
					if !isTold || b.At.After(q.At) {
						t.Fatalf("seed %d: %s %s does not hold of %+v, and told is %+v", seed, id, s.e.Expect, q, b)
					}
				})
				held, unmet = held+1-decision.Bit(isTold), unmet+decision.Bit(isTold)
			}
			next, done, err := m.Step(p)
			if err != nil {
				continue
			}
			after := before.Next(next, done)
			told = map[policy.ExpectationID]survey.Break{}
			for _, b := range survey.Broken(before, after, done, at) {
				told[b.Expectation.ID] = b
			}
			old := statements(before)
			for id, s := range statements(after) {
				b, isTold := told[id]
				was, same := old[id]
				same = same && survey.SameStatement(was.e, s.e)
				if isTold && (!s.broken(b.Question()) || same && was.broken(b.Question()) && wasThere(before, b.Question())) {
					t.Fatalf("seed %d, after %v: %s: told is %+v, which is not so, or was so before", seed, specimen.Keys(done), id, b)
				}
				s.sample(m, at, func(q decision.Question) {
					if fresh := !same || !was.broken(q); fresh && (!isTold || b.At.After(q.At)) {
						t.Fatalf("seed %d, after %v: %s %s is broken for %+v, and told is %+v", seed, specimen.Keys(done), id, s.e.Expect, q, b)
					}
				})
				broke, stayed = broke+decision.Bit(isTold), stayed+decision.Bit(!isTold)
			}
			p, before = next, after
		}
	}
	if held < 100 || unmet < 100 || broke < 25 || stayed < 100 {
		t.Errorf("%d held, %d did not, %d broke and %d stayed: too few of some", held, unmet, broke, stayed)
	}
}

// counted is how many there are of someone.
func (s said) counted(b survey.Break) int {
	if s.e.Expect != policy.Someone {
		return 0
	}
	return s.have(b.Question())
}

// wasThere tells whether what is asked about was there: of what comes new, nothing was broken before.
func wasThere(c *decision.Compiled, q decision.Question) bool {
	_, device := c.Policy().Get(policy.Devices, string(q.Device))
	return device
}
