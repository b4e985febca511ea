package specimen

import (
	"fmt"
	"slices"
	"time"

	"sentier/internal/decision"
	"sentier/internal/policy"
)

// Literal reads the page of semantics word by word, record by record, without a thought of speed: what the
// compiled policy has to agree with.
type Literal struct {
	Policy   *policy.Policy
	Question decision.Question
	User     *policy.User
	Device   *policy.Device
	zone     *time.Location // of the device's site, once it was looked for
}

func within(s policy.Span, at time.Time) bool {
	return (s.From.IsZero() || !at.Before(s.From)) && (s.Until.IsZero() || at.Before(s.Until))
}

// subjects are the groups of "Who: the subject set".
func (l *Literal) subjects() map[policy.UserGroupID]bool {
	in := map[policy.UserGroupID]bool{}
	for more := true; more; {
		more = false
		for g := range policy.Each[*policy.UserGroup](l.Policy) {
			belongs := slices.ContainsFunc(g.Includes, func(id policy.UserGroupID) bool { return in[id] })
			for _, m := range g.Members {
				belongs = belongs || m.User == l.Question.User && within(m.Span(), l.Question.At)
			}
			if belongs && g.Enabled != policy.Off && !in[g.ID] {
				in[g.ID], more = true, true
			}
		}
	}
	return in
}

// SitesUp lists the site of the device and all that it lies in, upwards.
func (l *Literal) SitesUp() []policy.SiteID {
	var out []policy.SiteID
	for id := l.Device.Site; id != ""; {
		out = append(out, id)
		s, _ := policy.Find[*policy.Site](l.Policy, string(id))
		id = s.Parent
	}
	return out
}

// Gear lists, for each group that the device is in by itself, the group and its ancestors.
func (l *Literal) Gear() [][]policy.DeviceGroupID {
	var out [][]policy.DeviceGroupID
	for g := range policy.Each[*policy.DeviceGroup](l.Policy) {
		if !slices.Contains(g.Devices, l.Device.ID) && !l.matches(g.Match) {
			continue
		}
		var chain []policy.DeviceGroupID
		for id := g.ID; id != ""; {
			chain = append(chain, id)
			up, _ := policy.Find[*policy.DeviceGroup](l.Policy, string(id))
			id = up.Parent
		}
		out = append(out, chain)
	}
	return out
}

func (l *Literal) matches(m *policy.Match) bool {
	if m == nil || len(m.Kinds)+len(m.Tags)+len(m.Sites) == 0 {
		return false
	}
	for _, tag := range m.Tags {
		if !slices.Contains(l.Device.Tags, tag) {
			return false
		}
	}
	at := func(id policy.SiteID) bool { return slices.Contains(l.SitesUp(), id) }
	return (len(m.Kinds) == 0 || slices.Contains(m.Kinds, l.Device.Kind)) && (len(m.Sites) == 0 || slices.ContainsFunc(m.Sites, at))
}

func (l *Literal) covers(line *policy.Line) bool {
	if line.On.Everything || slices.Contains(line.On.Devices, l.Device.ID) {
		return true
	}
	if l.Question.Point != "" && slices.Contains(line.On.Points, policy.PointRef(fmt.Sprintf("%s/%s", l.Device.ID, l.Question.Point))) {
		return true
	}
	for i, id := range l.SitesUp() {
		if slices.Contains(line.On.Sites, id) && (i == 0 || line.Depth != policy.Here) {
			return true
		}
	}
	for _, chain := range l.Gear() {
		for i, id := range chain {
			if slices.Contains(line.On.DeviceGroups, id) && (i == 0 || line.Depth != policy.Here) {
				return true
			}
		}
	}
	return false
}

func (l *Literal) implies(have, want policy.RightID) bool {
	r, _ := policy.Find[*policy.Right](l.Policy, string(have))
	return have == want || slices.ContainsFunc(r.Implies, func(id policy.RightID) bool { return l.implies(id, want) })
}

// concerns tells whether a line gives the right, or takes it.
func (l *Literal) concerns(g *policy.Grant, line *policy.Line) bool {
	return slices.ContainsFunc(line.Rights, func(id policy.RightID) bool {
		if g.Effect == policy.Deny {
			return l.implies(l.Question.Right, id)
		}
		return l.implies(id, l.Question.Right)
	})
}

func (l *Literal) open(line *policy.Line) bool {
	return len(line.When) == 0 || slices.ContainsFunc(line.When, func(id policy.ScheduleID) bool {
		s, _ := policy.Find[*policy.Schedule](l.Policy, string(id))
		at := l.Question.At.In(l.clock())
		now := policy.Clock(at.Hour()*60 + at.Minute())
		w := s.Windows[0] // the windows of these policies open every day
		if w.From < w.To {
			return w.From <= now && now < w.To
		}
		return w.From <= now || now < w.To
	})
}

// clock is the zone of the device's site: all schedules here go by it.
func (l *Literal) clock() *time.Location {
	if l.zone == nil {
		zone, err := policy.LoadZone(decision.SiteZone(l.Policy, l.Device.Site))
		if err != nil {
			panic(err)
		}
		l.zone = zone
	}
	return l.zone
}

func (l *Literal) conditions(g *policy.Grant, line *policy.Line) bool {
	unknown := g.Effect == policy.Deny
	tri := func(want *bool, have decision.Tri) bool {
		return want == nil || have == decision.NotKnown && unknown || have == decision.TriOf(want)
	}
	network := len(line.If.Networks) == 0 || !l.Question.Context.IP.IsValid() && unknown
	for _, n := range line.If.Networks {
		network = network || l.Question.Context.IP.IsValid() && n.Contains(l.Question.Context.IP)
	}
	_, there := policy.Find[*policy.Site](l.Policy, string(l.Question.Context.Place))
	place := len(line.If.Places) == 0 || !there && unknown
	for site := l.Question.Context.Place; there && site != ""; {
		place = place || slices.Contains(line.If.Places, site)
		s, _ := policy.Find[*policy.Site](l.Policy, string(site))
		site = s.Parent
	}
	return network && place && (len(line.If.States) == 0 || slices.Contains(line.If.States, l.Device.State)) &&
		tri(line.If.StrongSignIn, l.Question.Context.StrongSignIn) && tri(line.If.Attended, l.Question.Context.Attended)
}

func inForce(g *policy.Grant, at time.Time) bool {
	return g.Enabled != policy.Off && within(g.Valid, at)
}

// Verdict is what the page says of a question: the reason, and the lines (grant/number) that decide or are nearest.
type Verdict struct {
	Reason string
	Lines  []string
	Misses int // of each of lines
}

// Decide carries out "The decision, in this order".
func (l *Literal) Decide() Verdict {
	var known bool
	if l.User, known = policy.Find[*policy.User](l.Policy, string(l.Question.User)); !known {
		return Verdict{Reason: "unknown_user"}
	}
	if l.Device, known = policy.Find[*policy.Device](l.Policy, string(l.Question.Device)); !known {
		return Verdict{Reason: "unknown_device"}
	}
	if l.Question.Point != "" && !slices.ContainsFunc(l.Device.Points, func(p policy.Point) bool { return p.ID == l.Question.Point }) {
		return Verdict{Reason: "unknown_point"}
	}
	right, known := policy.Find[*policy.Right](l.Policy, string(l.Question.Right))
	switch {
	case !known:
		return Verdict{Reason: "unknown_right"}
	case l.User.Status == policy.Suspended:
		return Verdict{Reason: "user_suspended"}
	case l.User.Status == policy.Invited:
		return Verdict{Reason: "user_invited"}
	case !l.User.Valid.From.IsZero() && l.Question.At.Before(l.User.Valid.From):
		return Verdict{Reason: "user_not_yet_valid"}
	case !within(l.User.Valid, l.Question.At):
		return Verdict{Reason: "user_expired"}
	case l.Device.State == policy.Retired:
		return Verdict{Reason: "device_retired"}
	case len(right.Kinds) > 0 && !slices.Contains(right.Kinds, l.Device.Kind):
		return Verdict{Reason: "right_not_applicable"}
	case l.Device.Lockout != nil && within(l.Device.Lockout.Span(), l.Question.At) && l.implies(right.ID, policy.Control):
		return Verdict{Reason: "device_locked_out"}
	}
	return l.byLines()
}

// eachLine calls for every line that covers the resource, with whether its grant reaches the user.
func (l *Literal) eachLine(f func(name string, g *policy.Grant, line *policy.Line, reached bool)) {
	groups := l.subjects()
	direct := false
	for pass := range 2 { // the first looks for what counts alone under direct-first
		for g := range policy.Each[*policy.Grant](l.Policy) {
			named := slices.Contains(g.To.Users, l.Question.User)
			reached := named || g.To.Everyone || slices.ContainsFunc(g.To.Groups, func(id policy.UserGroupID) bool { return groups[id] })
			for i := range g.Lines {
				switch line := &g.Lines[i]; {
				case !l.covers(line):
				case pass == 0:
					direct = direct || named && inForce(g, l.Question.At) && l.Policy.Settings().Combine == policy.DirectFirst
				case !direct || named:
					f(fmt.Sprintf("%s/%d", g.ID, i), g, line, reached)
				}
			}
		}
	}
}

var missOrder = []string{"outside_schedule", "condition_not_met", "grant_not_in_force", "right_not_granted"}

// missing lists what keeps a line from giving the right, by the order of the codes.
func (l *Literal) missing(g *policy.Grant, line *policy.Line) []string {
	var out []string
	for i, holds := range []bool{l.open(line), l.conditions(g, line), inForce(g, l.Question.At), l.concerns(g, line)} {
		if !holds {
			out = append(out, missOrder[i])
		}
	}
	return out
}

func (l *Literal) byLines() Verdict {
	var allowing, denying []string
	best := Verdict{Reason: "no_grant", Misses: 9}
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
			if best.Reason == "no_grant" || best.Reason == "right_not_granted" && len(missing) < best.Misses {
				best = Verdict{"right_not_granted", nil, len(missing)}
			}
			if best.Reason == "right_not_granted" && best.Misses == len(missing) {
				best.Lines = append(best.Lines, name)
			}
		default:
			if best.Reason == "right_not_granted" {
				best.Misses = 9 // any line that gives the right is nearer
			}
			rank := func(code string) int { return slices.Index(missOrder, code) }
			if len(missing) < best.Misses || len(missing) == best.Misses && rank(missing[0]) < rank(best.Reason) {
				best = Verdict{missing[0], nil, len(missing)}
			}
			if best.Misses == len(missing) && best.Reason == missing[0] {
				best.Lines = append(best.Lines, name)
			}
		}
	})
	switch {
	case len(denying) > 0:
		return Verdict{"denied", denying, 0}
	case len(allowing) > 0:
		return Verdict{"granted", allowing, 0}
	}
	return best
}

// Strangers counts the allow lines that give the right on the resource to others, by how much they lack besides.
func (l *Literal) Strangers() map[string]int {
	out := map[string]int{}
	l.eachLine(func(name string, g *policy.Grant, line *policy.Line, reached bool) {
		if !reached && g.Effect != policy.Deny && l.concerns(g, line) {
			out[name] = len(l.missing(g, line))
		}
	})
	return out
}
