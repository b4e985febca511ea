package decision_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"

	"sentier/internal/decision"
	"sentier/internal/policy"
	"sentier/internal/specimen"
)

// literal holds the trails of an answer against the page.
type literal struct{ specimen.Literal }

// chain tells whether a trail's cover is a way from the device up to what its line names.
func (l *literal) chain(t decision.Trail) bool {
	line, c := &t.Grant.Lines[t.Line], t.Covers
	last := ""
	if len(c.Chain) > 0 {
		last = c.Chain[len(c.Chain)-1]
	}
	switch c.Type {
	case policy.Sites:
		up := l.SitesUp()
		return slices.Contains(line.On.Sites, policy.SiteID(last)) && len(c.Chain) <= len(up) && up[len(c.Chain)-1] == policy.SiteID(last)
	case policy.DeviceGroups:
		return slices.Contains(line.On.DeviceGroups, policy.DeviceGroupID(last)) && slices.ContainsFunc(l.Gear(), func(up []policy.DeviceGroupID) bool {
			g, _ := policy.Find[*policy.DeviceGroup](l.Policy, c.Chain[0])
			return string(up[0]) == c.Chain[0] && len(c.Chain) <= len(up) && string(up[len(c.Chain)-1]) == last && c.Match != slices.Contains(g.Devices, l.Device.ID)
		})
	case policy.Devices:
		return last == string(l.Device.ID) && (c.Point == "" && slices.Contains(line.On.Devices, l.Device.ID) || c.Point == l.Question.Point && c.Point != "")
	}
	return line.On.Everything
}

// TestDecidingIsWhatThePageSays holds every answer and its trails against the literal reading, on random policies.
func TestDecidingIsWhatThePageSays(t *testing.T) {
	t.Parallel()
	reasons := map[string]int{}
	for seed := range uint64(60) {
		m := specimen.Maker{Rand: rand.New(rand.NewPCG(seed, 31))}
		p := m.Whole(t)
		c := decision.Compile(p)
		large := c.WithoutPairs()
		var questions []decision.Question
		specimen.EveryQuestion(p, func(q decision.Question) {
			if m.IntN(2) == 0 {
				q.Context = decision.Context{StrongSignIn: decision.Tri(m.IntN(3)), Attended: decision.Tri(m.IntN(3)), Place: specimen.Pick[policy.SiteID](m, "s", specimen.SiteCount+2), IP: netip.AddrFrom4([4]byte{10, byte(m.IntN(2)), 0, 1})}
			}
			if m.IntN(100) == 0 {
				q.User, q.Device, q.Right = specimen.Pick[policy.UserID](m, "u", 2*specimen.UserCount), specimen.Pick[policy.DeviceID](m, "x", 2*specimen.DeviceCount), specimen.Pick[policy.RightID](m, "r", 6)
			}
			questions = append(questions, q)
		})
		for i, many := range c.AnswerMany(questions) {
			q := questions[i]
			l := &literal{specimen.Literal{Policy: p, Question: q}}
			want := l.Decide()
			reasons[want.Reason]++
			a, plain := c.Explain(q), c.Decide(&q)
			if plain != large.Decide(&q) || plain != a.Outcome || many.Outcome != plain || !many.Until.Equal(a.Until) || plain.Reason.String() != want.Reason || plain.Allowed != (want.Reason == "granted") {
				t.Fatalf("seed %d: %+v: %v, explained %v, among many %v; the page says %v", seed, q, plain, a.Outcome, many.Outcome, want)
			}
			l.trails(t, a, want)
		}
	}
	if len(reasons) < 15 {
		t.Errorf("only %d reasons came up: %v", len(reasons), reasons)
	}
}

// trails holds the trails of an answer: all lines that decide; of those that miss, some of the nearest.
func (l *literal) trails(t *testing.T, a decision.Answer, want specimen.Verdict) {
	t.Helper()
	var got []string
	for _, trail := range append(slices.Clone(a.Because), a.Missing...) {
		got = append(got, fmt.Sprintf("%s/%d", trail.Grant.ID, trail.Line))
		if !l.chain(trail) {
			t.Fatalf("%+v: line %s does not cover it by %+v", l.Question, got[len(got)-1], trail.Covers)
		}
	}
	slices.Sort(got)
	switch want.Reason {
	case "granted", "denied":
		if slices.Sort(want.Lines); !slices.Equal(got, want.Lines) {
			t.Fatalf("%+v: %s by %v, the page says by %v", l.Question, want.Reason, got, want.Lines)
		}
	case "no_grant":
		l.nearestStrangers(t, got)
	default:
		for _, name := range got {
			if !slices.Contains(want.Lines, name) {
				t.Fatalf("%+v: %s is shown as near, the nearest are %v", l.Question, name, want.Lines)
			}
		}
		if len(want.Lines) > 0 && len(got) != min(3, len(want.Lines)) {
			t.Fatalf("%+v: %d of the nearest are shown: %v of %v", l.Question, len(got), got, want.Lines)
		}
	}
}

func (l *literal) nearestStrangers(t *testing.T, got []string) {
	t.Helper()
	all := l.Strangers()
	most := 0 // that any that is shown lacks
	for _, name := range got {
		if _, there := all[name]; !there {
			t.Fatalf("%+v: %s is shown, and would not give the right: %v would", l.Question, name, all)
		}
		most = max(most, all[name])
	}
	direct := l.Policy.Settings().Combine == policy.DirectFirst
	if len(got) != min(3, len(all)) && !direct { // whom a direct grant concerns, no stranger can help
		t.Fatalf("%+v: %v are shown of %v", l.Question, got, all)
	}
	for name, lacks := range all {
		if lacks < most && !slices.Contains(got, name) {
			t.Fatalf("%+v: %v are shown, and %s lacks less: %v", l.Question, got, name, all)
		}
	}
}
