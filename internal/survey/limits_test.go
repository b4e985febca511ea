package survey_test

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"sentier/internal/decision"
	"sentier/internal/policy"
	"sentier/internal/specimen"
	"sentier/internal/survey"
)

// TestLimitsAndPointsInAnImpact: what a change tells beside rights that are gained and lost.
func TestLimitsAndPointsInAnImpact(t *testing.T) {
	at := specimen.Instant(t, "2026-11-24T10:00:00Z")
	policyOf := func(points, grants string) *decision.Compiled {
		return specimen.Compile(t, "users: [{id: ana}]\nuser_groups: [{id: crew, members: [ana]}]\nschedules: [{id: nights, windows: [{from: '20:00', to: '06:00'}]}]\n"+
			"devices: [{id: weir, points: ["+points+"]}]\ngrants: ["+grants+"]\n")
	}
	line := func(id, more string) string {
		return "{id: " + id + ", to: {groups: [crew]}, lines: [{rights: [view], on: {devices: [weir]}" + more + "}]}"
	}
	short, long := line("g", ", limits: {minutes: 5}"), line("g", ", limits: {minutes: 30}")
	for name, c := range map[string]struct{ points, before, pointsAfter, after, want string }{
		"a larger number":         {"", short, "", long, "loosened weir view now 0s 5→30"},
		"a smaller number":        {"", long, "", short, "tightened weir view now 0s 30→5"},
		"a limit gone":            {"", short, "", line("g", ""), "loosened weir view now 0s 5→<nil>"},
		"beside a line without":   {"", line("h", ""), "", line("h", "") + ", " + short, ""},
		"one more line":           {"", short, "", short + ", " + line("h", ", limits: {minutes: 10}"), "loosened weir view now 0s 5→10"},
		"one more line, at night": {"", short, "", short + ", " + line("h", ", when: [nights], limits: {minutes: 10}"), "loosened weir view later 10h0m0s 5→10"},
		"attended":                {"", short, "", short + ", " + line("h", ", if: {attended: true}"), "loosened weir view if 0s 5→<nil>"},
		"a point that comes":      {"", short, "{id: a}", short, "gained weir/a view now impossible→now"},
		"a point that goes":       {"{id: a}, {id: b}", short, "{id: b}", short, "lost weir/a view now now→impossible"},
	} {
		before, after := policyOf(c.points, c.before), policyOf(c.pointsAfter, c.after)
		for _, done := range [][]policy.RecordChange{nil, before.Policy().Compare(after.Policy())} {
			d := survey.Compare(before, after, done, survey.Circumstances{At: at}, 10)
			got := ""
			for _, x := range d.Items {
				key := survey.Reached[policy.DeviceID]{ID: x.Device, Point: x.Point}.Key()
				for word, list := range map[string][]survey.Change{"gained": x.Gained, "lost": x.Lost} {
					for _, r := range list {
						got += fmt.Sprint(word, " ", key, " ", r.Right, " ", r.Degree, " ", r.Before, "→", r.After)
					}
				}
				for word, list := range map[string][]survey.LimitChange{"loosened": x.Loosened, "tightened": x.Tightened} {
					for _, r := range list {
						got += fmt.Sprint(word, " ", key, " ", r.Right, " ", r.Degree, " ", r.First().Sub(at), " ", minutes(r.Before), "→", minutes(r.After))
					}
				}
			}
			if got != c.want {
				t.Errorf("%s: %q, want %q", name, got, c.want)
			}
		}
	}
}

func minutes(limits map[string]policy.Limit) any {
	if l, there := limits["minutes"]; there {
		return l.Number
	}
	return nil
}

// TestLimitsInAnImpactAreWhatAnswersSay: of random changes of policies with limits, what is told of limits is so at the instant and in the circumstances told, and no
// answer that both give now has other limits untold.
func TestLimitsInAnImpactAreWhatAnswersSay(t *testing.T) {
	t.Parallel()
	told, seen := 0, 0
	for seed := range uint64(5) {
		m := specimen.Maker{Rand: rand.New(rand.NewPCG(seed, 33))}
		p := m.Limited(t, m.Whole(t))
		for range 6 {
			next, done, err := m.Step(p)
			if err != nil || len(done) == 0 {
				continue
			}
			if m.IntN(2) == 0 {
				next = m.Limited(t, next)
				done = p.Compare(next)
			}
			before, after := decision.Compile(p), decision.Compile(next)
			came := [2]*decision.Compiled{cameIn(t, p), cameIn(t, next)}
			in := survey.Circumstances{At: specimen.Probes[0], Context: randomContext(m)}
			d := survey.Compare(before, after, done, in, 10_000)
			if whole := survey.Compare(before, after, nil, in, 10_000); shown(whole) != shown(d) {
				t.Fatalf("seed %d: by the change %s, as a whole %s", seed, shown(d), shown(whole))
			}
			known := map[string]survey.Degree{}
			for _, item := range d.Items {
				for sign, list := range map[string][]survey.LimitChange{"+": item.Loosened, "-": item.Tightened} {
					for _, x := range list {
						q := decision.Question{User: item.User, Device: item.Device, Point: item.Point, Right: x.Right, At: x.First(), Context: x.Given.In(in.Context)}
						known[fmt.Sprint(sign, q.User, q.Device, "/", q.Point, q.Right)] = x.Degree
						a, b := before.Answer(q), after.Answer(q)
						if comesIn(x.Given) {
							a, b = came[0].Answer(q), came[1].Answer(q)
						}
						if sign == "-" {
							a, b = b, a
						}
						if !a.Allowed || !b.Allowed || !specimen.Looser(b.Limits, a.Limits) {
							t.Fatalf("seed %d: told is %s%+v of %+v, and the answers are %+v and %+v", seed, sign, x, q, a, b)
						}
						told++
					}
				}
			}
			everywhere(m, p, next, in, func(q decision.Question, degree survey.Degree) {
				a, b := before.Answer(q), after.Answer(q)
				if !a.Allowed || !b.Allowed || q.Point != "" {
					return
				}
				for sign, is := range map[string]bool{"+": specimen.Looser(b.Limits, a.Limits), "-": specimen.Looser(a.Limits, b.Limits)} {
					if seen++; is && known[fmt.Sprint(sign, q.User, q.Device, "/", q.Right)] < degree {
						t.Fatalf("seed %d: the limits of %+v were %v and are %v, and it is not told", seed, q, a.Limits, b.Limits)
					}
				}
			})
			p = next
		}
	}
	if told < 50 || seen < 300 {
		t.Errorf("only %d are told, of %d answers", told, seen)
	}
}
