package decision_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"
	"time"

	"sentier/internal/decision"
	"sentier/internal/policy"
	"sentier/internal/specimen"
)

// literal reads the page of semantics word by word, record by record, without a thought of speed: what the
// compiled policy has to agree with.
type literal struct {
	p *policy.Policy
	q decision.Question
	u *policy.User
	d *policy.Device
}

func within(s policy.Span, at time.Time) bool {
	return (s.From.IsZero() || !at.Before(s.From)) && (s.Until.IsZero() || at.Before(s.Until))
}

// subjects are the groups of "Who: the subject set".
func (l *literal) subjects() map[policy.UserGroupID]bool {
	in := map[policy.UserGroupID]bool{}
	for more := true; more; {
		more = false
		for g := range policy.Each[*policy.UserGroup](l.p) {
			belongs := slices.ContainsFunc(g.Includes, func(id policy.UserGroupID) bool { return in[id] })
			for _, m := range g.Members {
				belongs = belongs || m.User == l.q.User && within(m.Span(), l.q.At)
			}
			if belongs && g.Enabled != policy.Off && !in[g.ID] {
				in[g.ID], more = true, true
			}
		}
	}
	return in
}

func (l *literal) sitesUp() []policy.SiteID {
	var out []policy.SiteID
	for id := l.d.Site; id != ""; {
		out = append(out, id)
		s, _ := policy.Find[*policy.Site](l.p, string(id))
		id = s.Parent
	}
	return out
}

// gear lists, for each group that the device is in by itself, the group and its ancestors.
func (l *literal) gear() [][]policy.DeviceGroupID {
	var out [][]policy.DeviceGroupID
	for g := range policy.Each[*policy.DeviceGroup](l.p) {
		if !slices.Contains(g.Devices, l.d.ID) && !l.matches(g.Match) {
			continue
		}
		var chain []policy.DeviceGroupID
		for id := g.ID; id != ""; {
			chain = append(chain, id)
			up, _ := policy.Find[*policy.DeviceGroup](l.p, string(id))
			id = up.Parent
		}
		out = append(out, chain)
	}
	return out
}

func (l *literal) matches(m *policy.Match) bool {
	if m == nil || len(m.Kinds)+len(m.Tags)+len(m.Sites) == 0 {
		return false
	}
	for _, tag := range m.Tags {
		if !slices.Contains(l.d.Tags, tag) {
			return false
		}
	}
	at := func(id policy.SiteID) bool { return slices.Contains(l.sitesUp(), id) }
	return (len(m.Kinds) == 0 || slices.Contains(m.Kinds, l.d.Kind)) && (len(m.Sites) == 0 || slices.ContainsFunc(m.Sites, at))
}

func (l *literal) covers(line *policy.Line) bool {
	if line.On.Everything || slices.Contains(line.On.Devices, l.d.ID) {
		return true
	}
	if l.q.Point != "" && slices.Contains(line.On.Points, policy.PointRef(fmt.Sprintf("%s/%s", l.d.ID, l.q.Point))) {
		return true
	}
	for i, id := range l.sitesUp() {
		if slices.Contains(line.On.Sites, id) && (i == 0 || line.Depth != policy.Here) {
			return true
		}
	}
	for _, chain := range l.gear() {
		for i, id := range chain {
			if slices.Contains(line.On.DeviceGroups, id) && (i == 0 || line.Depth != policy.Here) {
				return true
			}
		}
	}
	return false
}

func (l *literal) implies(have, want policy.RightID) bool {
	r, _ := policy.Find[*policy.Right](l.p, string(have))
	return have == want || slices.ContainsFunc(r.Implies, func(id policy.RightID) bool { return l.implies(id, want) })
}

// concerns tells whether a line gives the right, or takes it.
func (l *literal) concerns(g *policy.Grant, line *policy.Line) bool {
	return slices.ContainsFunc(line.Rights, func(id policy.RightID) bool {
		if g.Effect == policy.Deny {
			return l.implies(l.q.Right, id)
		}
		return l.implies(id, l.q.Right)
	})
}

func (l *literal) open(line *policy.Line) bool {
	return len(line.When) == 0 || slices.ContainsFunc(line.When, func(id policy.ScheduleID) bool {
		s, _ := policy.Find[*policy.Schedule](l.p, string(id))
		zone, err := time.LoadLocation(decision.SiteZone(l.p, l.d.Site))
		if err != nil {
			panic(err)
		}
		at := l.q.At.In(zone)
		now := policy.Clock(at.Hour()*60 + at.Minute())
		w := s.Windows[0] // the windows of these policies open every day
		if w.From < w.To {
			return w.From <= now && now < w.To
		}
		return w.From <= now || now < w.To
	})
}

func (l *literal) conditions(g *policy.Grant, line *policy.Line) bool {
	unknown := g.Effect == policy.Deny
	tri := func(want *bool, have decision.Tri) bool {
		return want == nil || have == decision.NotKnown && unknown || have == decision.TriOf(want)
	}
	network := len(line.If.Networks) == 0 || !l.q.Context.IP.IsValid() && unknown
	for _, n := range line.If.Networks {
		network = network || l.q.Context.IP.IsValid() && n.Contains(l.q.Context.IP)
	}
	_, there := policy.Find[*policy.Site](l.p, string(l.q.Context.Place))
	place := len(line.If.Places) == 0 || !there && unknown
	for site := l.q.Context.Place; there && site != ""; {
		place = place || slices.Contains(line.If.Places, site)
		s, _ := policy.Find[*policy.Site](l.p, string(site))
		site = s.Parent
	}
	return network && place && (len(line.If.States) == 0 || slices.Contains(line.If.States, l.d.State)) &&
		tri(line.If.StrongSignIn, l.q.Context.StrongSignIn) && tri(line.If.Attended, l.q.Context.Attended)
}

func inForce(g *policy.Grant, at time.Time) bool {
	return g.Enabled != policy.Off && within(g.Valid, at)
}

// verdict is what the page says of a question: the reason, and the lines (grant/number) that decide or are nearest.
type verdict struct {
	reason string
	lines  []string
	misses int // of each of lines
}

func (l *literal) decide() verdict {
	var known bool
	if l.u, known = policy.Find[*policy.User](l.p, string(l.q.User)); !known {
		return verdict{reason: "unknown_user"}
	}
	if l.d, known = policy.Find[*policy.Device](l.p, string(l.q.Device)); !known {
		return verdict{reason: "unknown_device"}
	}
	if l.q.Point != "" && !slices.ContainsFunc(l.d.Points, func(p policy.Point) bool { return p.ID == l.q.Point }) {
		return verdict{reason: "unknown_point"}
	}
	right, known := policy.Find[*policy.Right](l.p, string(l.q.Right))
	switch {
	case !known:
		return verdict{reason: "unknown_right"}
	case l.u.Status == policy.Suspended:
		return verdict{reason: "user_suspended"}
	case l.u.Status == policy.Invited:
		return verdict{reason: "user_invited"}
	case !l.u.Valid.From.IsZero() && l.q.At.Before(l.u.Valid.From):
		return verdict{reason: "user_not_yet_valid"}
	case !within(l.u.Valid, l.q.At):
		return verdict{reason: "user_expired"}
	case l.d.State == policy.Retired:
		return verdict{reason: "device_retired"}
	case len(right.Kinds) > 0 && !slices.Contains(right.Kinds, l.d.Kind):
		return verdict{reason: "right_not_applicable"}
	case l.d.Lockout != nil && within(l.d.Lockout.Span(), l.q.At) && l.implies(right.ID, policy.Control):
		return verdict{reason: "device_locked_out"}
	}
	return l.byLines()
}

// eachLine calls for every line that covers the resource, with whether its grant reaches the user.
func (l *literal) eachLine(f func(name string, g *policy.Grant, line *policy.Line, reached bool)) {
	groups := l.subjects()
	direct := false
	for pass := range 2 { // the first looks for what counts alone under direct-first
		for g := range policy.Each[*policy.Grant](l.p) {
			named := slices.Contains(g.To.Users, l.q.User)
			reached := named || g.To.Everyone || slices.ContainsFunc(g.To.Groups, func(id policy.UserGroupID) bool { return groups[id] })
			for i := range g.Lines {
				switch line := &g.Lines[i]; {
				case !l.covers(line):
				case pass == 0:
					direct = direct || named && inForce(g, l.q.At) && l.p.Settings().Combine == policy.DirectFirst
				case !direct || named:
					f(fmt.Sprintf("%s/%d", g.ID, i), g, line, reached)
				}
			}
		}
	}
}

var missOrder = []string{"outside_schedule", "condition_not_met", "grant_not_in_force", "right_not_granted"}

// missing lists what keeps a line from giving the right, by the order of the codes.
func (l *literal) missing(g *policy.Grant, line *policy.Line) []string {
	var out []string
	for i, holds := range []bool{l.open(line), l.conditions(g, line), inForce(g, l.q.At), l.concerns(g, line)} {
		if !holds {
			out = append(out, missOrder[i])
		}
	}
	return out
}

func (l *literal) byLines() verdict {
	var allowing, denying []string
	best := verdict{reason: "no_grant", misses: 9}
	l.eachLine(func(name string, g *policy.Grant, line *policy.Line, reached bool) {
		missing := l.missing(g, line)
		switch {
		case !reached:
		case len(missing) == 0 && g.Effect == policy.Deny:
			denying = append(denying, name)
		case len(missing) == 0:
			allowing = append(allowing, name)
		case g.Effect == policy.Deny:
		case slices.Contains(missing, "right_not_granted"):
			if best.reason == "no_grant" || best.reason == "right_not_granted" && len(missing) < best.misses {
				best = verdict{"right_not_granted", nil, len(missing)}
			}
			if best.reason == "right_not_granted" && best.misses == len(missing) {
				best.lines = append(best.lines, name)
			}
		default:
			if best.reason == "right_not_granted" {
				best.misses = 9 // any line that gives the right is nearer
			}
			rank := func(code string) int { return slices.Index(missOrder, code) }
			if len(missing) < best.misses || len(missing) == best.misses && rank(missing[0]) < rank(best.reason) {
				best = verdict{missing[0], nil, len(missing)}
			}
			if best.misses == len(missing) && best.reason == missing[0] {
				best.lines = append(best.lines, name)
			}
		}
	})
	switch {
	case len(denying) > 0:
		return verdict{"denied", denying, 0}
	case len(allowing) > 0:
		return verdict{"granted", allowing, 0}
	}
	return best
}

// strangers counts the allow lines that give the right on the resource to others, by how much they lack besides.
func (l *literal) strangers() map[string]int {
	out := map[string]int{}
	l.eachLine(func(name string, g *policy.Grant, line *policy.Line, reached bool) {
		if !reached && g.Effect != policy.Deny && l.concerns(g, line) {
			out[name] = len(l.missing(g, line))
		}
	})
	return out
}

// chain tells whether a trail's cover is a way from the device up to what its line names.
func (l *literal) chain(t decision.Trail) bool {
	line, c := &t.Grant.Lines[t.Line], t.Covers
	last := ""
	if len(c.Chain) > 0 {
		last = c.Chain[len(c.Chain)-1]
	}
	switch c.Type {
	case policy.Sites:
		up := l.sitesUp()
		return slices.Contains(line.On.Sites, policy.SiteID(last)) && len(c.Chain) <= len(up) && up[len(c.Chain)-1] == policy.SiteID(last)
	case policy.DeviceGroups:
		return slices.Contains(line.On.DeviceGroups, policy.DeviceGroupID(last)) && slices.ContainsFunc(l.gear(), func(up []policy.DeviceGroupID) bool {
			g, _ := policy.Find[*policy.DeviceGroup](l.p, c.Chain[0])
			return string(up[0]) == c.Chain[0] && len(c.Chain) <= len(up) && string(up[len(c.Chain)-1]) == last && c.Match != slices.Contains(g.Devices, l.d.ID)
		})
	case policy.Devices:
		return last == string(l.d.ID) && (c.Point == "" && slices.Contains(line.On.Devices, l.d.ID) || c.Point == l.q.Point && c.Point != "")
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
			l := &literal{p: p, q: q}
			want := l.decide()
			reasons[want.reason]++
			a, plain := c.Explain(q), c.Decide(&q)
			if plain != large.Decide(&q) || plain != a.Outcome || many.Outcome != plain || !many.Until.Equal(a.Until) || plain.Reason.String() != want.reason || plain.Allowed != (want.reason == "granted") {
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
func (l *literal) trails(t *testing.T, a decision.Answer, want verdict) {
	t.Helper()
	var got []string
	for _, trail := range append(slices.Clone(a.Because), a.Missing...) {
		got = append(got, fmt.Sprintf("%s/%d", trail.Grant.ID, trail.Line))
		if !l.chain(trail) {
			t.Fatalf("%+v: line %s does not cover it by %+v", l.q, got[len(got)-1], trail.Covers)
		}
	}
	slices.Sort(got)
	switch want.reason {
	case "granted", "denied":
		if slices.Sort(want.lines); !slices.Equal(got, want.lines) {
			t.Fatalf("%+v: %s by %v, the page says by %v", l.q, want.reason, got, want.lines)
		}
	case "no_grant":
		l.nearestStrangers(t, got)
	default:
		for _, name := range got {
			if !slices.Contains(want.lines, name) {
				t.Fatalf("%+v: %s is shown as near, the nearest are %v", l.q, name, want.lines)
			}
		}
		if len(want.lines) > 0 && len(got) != min(3, len(want.lines)) {
			t.Fatalf("%+v: %d of the nearest are shown: %v of %v", l.q, len(got), got, want.lines)
		}
	}
}

func (l *literal) nearestStrangers(t *testing.T, got []string) {
	t.Helper()
	all := l.strangers()
	most := 0 // that any that is shown lacks
	for _, name := range got {
		if _, there := all[name]; !there {
			t.Fatalf("%+v: %s is shown, and would not give the right: %v would", l.q, name, all)
		}
		most = max(most, all[name])
	}
	direct := l.p.Settings().Combine == policy.DirectFirst
	if len(got) != min(3, len(all)) && !direct { // whom a direct grant concerns, no stranger can help
		t.Fatalf("%+v: %v are shown of %v", l.q, got, all)
	}
	for name, lacks := range all {
		if lacks < most && !slices.Contains(got, name) {
			t.Fatalf("%+v: %v are shown, and %s lacks less: %v", l.q, got, name, all)
		}
	}
}
