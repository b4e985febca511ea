package decision

import (
	"cmp"
	"net/netip"
	"slices"
	"time"

	"sentier/internal/policy"
	"sentier/internal/schedule"
)

// Answer is a decision with all that there is to say about it.
type Answer struct {
	Outcome
	At      time.Time
	Until   time.Time // zero: not within 400 days
	Zone    string    // IANA zone of the device's site; empty where the device is not known
	Limits  map[string]policy.Limit
	Because []Trail // every line that decided
	Missing []Trail // the nearest that would have made it a yes
	Lockout *policy.Lockout
	User    *policy.User      // nil: unknown, or a group was asked about
	Group   *policy.UserGroup // the group that was asked about
	Device  *policy.Device    // nil: unknown
}

// Trail is the way from a user to a resource through one line of a grant.
type Trail struct {
	Grant      *policy.Grant
	Line       int // in the grant, from 0
	Via        Via
	Membership Membership // where Via is Group or Stranger
	Covers     Cover
	Times      []Time      // of the line's schedules; empty: always
	Conditions []Condition // of the line
	Misses     []Reason    // what keeps the line from giving the right, empty: nothing; NoGrant: it does not reach the user
	Right      bool        // the line gives, or takes, the right
}

// Via is how a grant reaches a user.
type Via string

// The ways. A Stranger is not reached.
const (
	ViaUser     Via = "user"
	ViaGroup    Via = "group"
	ViaEveryone Via = "everyone"
	Stranger    Via = "none"
)

// Membership is the way from a user to a group that a grant names. For a Stranger, Groups holds only that group.
type Membership struct {
	Groups []policy.UserGroupID // from the one that lists the user to the one that the grant names
	Span   policy.Span          // of the membership in the first of Groups
}

// Cover is what covers the resource.
type Cover struct {
	Type  policy.Type // Sites, DeviceGroups or Devices; SettingsType: everything
	Chain []string    // ids from the one the device is in to the one that the line names
	Point policy.PointID
	Match bool // the device is in the first group of the chain by its match
}

// Time is a schedule at the instant of the question.
type Time struct {
	Schedule *policy.Schedule
	Zone     string
	Open     bool
	Since    time.Time // zero: more than a week ago
	Until    time.Time // zero: not within 400 days
}

// Condition is one condition of a line, and whether it was met.
type Condition struct {
	Name  string // networks, states, strong_sign_in or attended
	Met   bool
	Known bool // the context says anything about it
	Want  []string
	Have  string
}

// maxMissing bounds how many near misses an answer names.
const maxMissing = 3

// inquiry is a question as it was asked, with what was found.
type inquiry struct {
	asked
	Question
}

// Explain answers a question with its reasons.
func (c *Compiled) Explain(q Question) Answer {
	out := Answer{At: q.At}
	a := inquiry{Question: q}
	reason, known := c.find(&q, &a.asked)
	if a.who != nil {
		out.User, _ = policy.Find[*policy.User](c.policy, string(q.User))
	}
	c.explain(&a, reason, known, &out)
	return out
}

func (c *Compiled) explain(a *inquiry, reason Reason, known bool, out *Answer) {
	q := &a.Question
	if a.what != nil {
		out.Device, _ = policy.Find[*policy.Device](c.policy, string(q.Device))
		out.Zone = a.what.facts.zone.String()
	}
	if !known {
		out.Reason = reason
		return
	}
	out.Outcome = c.decide(&a.asked)
	out.Until, _ = c.until(&a.asked)
	switch out.Reason {
	case Granted:
		out.Because = c.trails(a, func(l *line, m misses) bool { return !l.deny && m == 0 })
		out.Limits = limits(out.Because)
	case Denied:
		out.Because = c.trails(a, func(l *line, m misses) bool { return l.deny && m == 0 })
	case OutsideSchedule, ConditionNotMet, GrantNotInForce, RightNotGranted:
		out.Missing = c.nearest(a, out.Reason)
	case NoGrant:
		out.Missing = c.strangers(a)
	case DeviceLockedOut:
		out.Lockout = out.Device.Lockout
	}
}

// ExplainGroup is [Compiled.Explain] for somebody who is in a user group and in no other; q.User is left out.
func (c *Compiled) ExplainGroup(group policy.UserGroupID, q Question) Answer {
	q.User = ""
	out := Answer{At: q.At}
	a := inquiry{Question: q, asked: asked{who: c.memberOf(group)}}
	if a.who == nil {
		out.Reason = UnknownUser
		return out
	}
	out.Group, _ = policy.Find[*policy.UserGroup](c.policy, string(group))
	reason, known := c.findResource(&q, &a.asked)
	c.explain(&a, reason, known, &out)
	return out
}

// trails draws the lines that count and that want tells, each line once, the shortest way first.
func (c *Compiled) trails(a *inquiry, want func(*line, misses) bool) []Trail {
	var out []Trail
	done := map[int32]bool{}
	for _, n := range c.counting(&a.asked, nil) {
		l := &c.lines[n]
		m := c.misses(l, &a.asked)
		if done[n] || !want(l, m) {
			continue
		}
		done[n] = true
		out = append(out, c.trail(l, m, a))
	}
	sortTrails(out)
	return out
}

func sortTrails(list []Trail) {
	length := func(t Trail) int { return len(t.Membership.Groups) + len(t.Covers.Chain) }
	slices.SortStableFunc(list, func(x, y Trail) int { return length(x) - length(y) })
}

// nearest draws the allow lines with the fewest misses whose code is the answer's.
func (c *Compiled) nearest(a *inquiry, reason Reason) []Trail {
	fewest := 5
	collect := func(l *line, m misses) bool { return !l.deny && m.first() == reason }
	all := c.trails(a, collect)
	for _, t := range all {
		fewest = min(fewest, len(t.Misses))
	}
	all = slices.DeleteFunc(all, func(t Trail) bool { return len(t.Misses) > fewest })
	return all[:min(len(all), maxMissing)]
}

// strangers draws the lines that give the right on the resource, but not to the user: those that
// lack nothing else first.
func (c *Compiled) strangers(a *inquiry) []Trail {
	if c.onlyDirect(&a.asked, nil) != nil {
		return nil
	}
	type candidate struct {
		line, length int32
		misses       misses
	}
	var room [64]candidate
	list := room[:0]
	for _, t := range append(slices.Clip(a.what.facts.targets), a.point) {
		for _, n := range c.byTarget[t] {
			if l := &c.lines[n]; !l.deny && l.rights.has(a.right) {
				list = append(list, candidate{n, 0, c.misses(l, &a.asked)})
			}
		}
	}
	// Least is missing first, then as the grants and lines come; a line that covers in several ways is there several times.
	slices.SortFunc(list, func(x, y candidate) int { return cmp.Or(lackRank[x.misses]-lackRank[y.misses], int(x.line-y.line)) })
	list = slices.CompactFunc(list, func(x, y candidate) bool { return x.line == y.line })
	// Only those that lack as little as the last one shown are looked at any closer.
	for i := range list {
		if i >= maxMissing && list[maxMissing-1].misses != list[i].misses {
			list = list[:i]
			break
		}
		grant, number := c.lines[list[i].line].grant, c.lines[list[i].line].number
		list[i].length = int32(c.coverLength(&grant.Lines[number], a) + min(1, len(grant.To.Groups)))
	}
	slices.SortStableFunc(list, func(x, y candidate) int {
		return cmp.Or(lackRank[x.misses]-lackRank[y.misses], int(x.length-y.length))
	})
	var out []Trail
	for _, x := range list[:min(len(list), maxMissing)] {
		out = append(out, c.trail(&c.lines[x.line], x.misses, a))
	}
	return out
}

// lackRank orders sets of misses: fewer first, then by their codes in order.
var lackRank = func() (rank [16]int) {
	sets := make([]misses, len(rank))
	for i := range sets {
		sets[i] = misses(i)
	}
	slices.SortFunc(sets, func(x, y misses) int {
		a, b := x.codes(), y.codes()
		return cmp.Or(len(a)-len(b), slices.Compare(a, b))
	})
	for i, m := range sets {
		rank[m] = i
	}
	return rank
}()

// coverLength is the length of the chain that [Compiled.cover] draws.
func (c *Compiled) coverLength(l *policy.Line, a *inquiry) int {
	if len(l.On.Devices)+len(l.On.Points) > 0 && len(c.cover(l, a).Chain) == 1 {
		return 1
	}
	best := 0
	take := func(n int) {
		if best == 0 || n < best {
			best = n
		}
	}
	f := a.what.facts
	for _, list := range [][]policy.DeviceGroupID{f.listed, f.matched} {
		for _, g := range list {
			n := 1
			for id := g; id != ""; id = c.places.parents[id] {
				if slices.Contains(l.On.DeviceGroups, id) && (n == 1 || l.Depth != policy.Here) {
					take(n)
				}
				n++
			}
		}
	}
	if best > 0 {
		return best
	}
	for i, id := range c.places.chains[f.site] {
		if slices.Contains(l.On.Sites, id) && (i == 0 || l.Depth != policy.Here) {
			return i + 1
		}
	}
	return 0
}

// codes are the reasons of misses, after those before.
func (m misses) codes(before ...Reason) []Reason {
	for bit := missesSchedule; bit <= missesRight; bit <<= 1 {
		if m&bit != 0 {
			before = append(before, bit.first())
		}
	}
	return before
}

func (c *Compiled) trail(l *line, m misses, a *inquiry) Trail {
	t := Trail{Grant: l.grant, Line: l.number, Right: m&missesRight == 0}
	t.Via, t.Membership = c.way(l.grant, a)
	t.Covers = c.cover(&l.grant.Lines[l.number], a)
	for _, s := range l.when {
		t.Times = append(t.Times, timeOf(s, &a.asked))
	}
	if l.ifs != nil {
		t.Conditions = conditions(l, &a.asked)
	}
	if t.Via == Stranger {
		t.Misses = append(t.Misses, NoGrant)
	}
	t.Misses = m.codes(t.Misses...)
	return t
}

// way finds how a grant reaches the user, by the fewest groups.
func (c *Compiled) way(g *policy.Grant, a *inquiry) (Via, Membership) {
	if slices.Contains(g.To.Users, a.User) {
		return ViaUser, Membership{}
	}
	type step struct {
		group policy.UserGroupID
		path  []policy.UserGroupID
		m     membership
	}
	var todo []step
	for _, m := range a.who.facts.direct {
		if m.period.holds(a.at) {
			todo = append(todo, step{m.group, []policy.UserGroupID{m.group}, m})
		}
	}
	seen := map[policy.UserGroupID]bool{}
	for len(todo) > 0 {
		s := todo[0]
		todo = todo[1:]
		at := c.groups[s.group]
		if seen[s.group] || !at.enabled {
			continue
		}
		seen[s.group] = true
		if slices.Contains(g.To.Groups, s.group) {
			return ViaGroup, Membership{Groups: s.path, Span: s.m.period.span()}
		}
		for _, up := range at.includedBy {
			todo = append(todo, step{up, append(slices.Clone(s.path), up), s.m})
		}
	}
	if g.To.Everyone {
		return ViaEveryone, Membership{}
	}
	return Stranger, c.lost(g, a)
}

// lost names the group of a grant that does not reach the user: one that the user was or will be in, then
// one that is disabled, then the first.
func (c *Compiled) lost(g *policy.Grant, a *inquiry) Membership {
	for _, m := range a.who.facts.direct {
		if slices.Contains(g.To.Groups, m.group) {
			return Membership{Groups: []policy.UserGroupID{m.group}, Span: m.period.span()}
		}
	}
	if len(g.To.Groups) == 0 {
		return Membership{}
	}
	return Membership{Groups: g.To.Groups[:1]}
}

func (p period) span() policy.Span {
	var s policy.Span
	if p.from != beginning {
		s.From = p.from.time()
	}
	if p.until != end {
		s.Until = p.until.time()
	}
	return s
}

// cover finds what of a line covers the resource: the nearest first.
func (c *Compiled) cover(l *policy.Line, a *inquiry) Cover {
	id := a.Question.Device
	if a.point != 0 && slices.Contains(l.On.Points, policy.PointRef(string(id)+"/"+string(a.Question.Point))) {
		return Cover{Type: policy.Devices, Chain: []string{string(id)}, Point: a.Question.Point}
	}
	if slices.Contains(l.On.Devices, id) {
		return Cover{Type: policy.Devices, Chain: []string{string(id)}}
	}
	if best := c.coverByGroup(l, a.what.facts); best.Chain != nil {
		return best
	}
	sites := c.places.chains[a.what.facts.site]
	for i, id := range sites {
		if slices.Contains(l.On.Sites, id) && (i == 0 || l.Depth != policy.Here) {
			return Cover{Type: policy.Sites, Chain: texts(sites[:i+1])}
		}
	}
	return Cover{Type: policy.SettingsType}
}

func (c *Compiled) coverByGroup(l *policy.Line, f *deviceFacts) Cover {
	var best Cover
	if len(l.On.DeviceGroups) == 0 {
		return best
	}
	for _, g := range f.groups() {
		chain := c.places.groupChain(g)
		for i, id := range chain {
			if slices.Contains(l.On.DeviceGroups, id) && (i == 0 || l.Depth != policy.Here) && (best.Chain == nil || i+1 < len(best.Chain)) {
				best = Cover{Type: policy.DeviceGroups, Chain: texts(chain[:i+1]), Match: f.byMatch(g)}
			}
		}
	}
	return best
}

func texts[T ~string](ids []T) []string {
	out := make([]string, len(ids))
	for i, id := range ids {
		out[i] = string(id)
	}
	return out
}

const week = 7 * 24 * time.Hour

func timeOf(s *schedules, a *asked) Time {
	line := s.byZone[a.what.clock]
	open, until := line.At(a.at.seconds())
	t := Time{Schedule: s.record, Zone: line.Zone().String(), Open: open}
	if until != schedule.Never {
		t.Until = time.Unix(until, 0).UTC()
	}
	if since, ok := line.Since(a.at.seconds(), week); ok {
		t.Since = time.Unix(since, 0).UTC()
	}
	return t
}

func conditions(l *line, a *asked) []Condition {
	var out []Condition
	if len(l.ifs.Networks) > 0 {
		c := Condition{Name: "networks", Met: networkMet(l, a), Known: a.context.IP.IsValid()}
		for _, p := range l.ifs.Networks {
			c.Want = append(c.Want, netip.Prefix.String(p))
		}
		if c.Known {
			c.Have = a.context.IP.String()
		}
		out = append(out, c)
	}
	if len(l.ifs.States) > 0 {
		out = append(out, Condition{"states", stateMet(l, a), true, texts(l.ifs.States), string(a.what.facts.state)})
	}
	yes := map[bool]string{true: "yes", false: "no"}
	tri := func(name string, want *bool, have Tri) {
		if want != nil {
			c := Condition{Name: name, Met: triMet(want, have, l.deny), Known: have != NotKnown, Want: []string{yes[*want]}}
			if c.Known {
				c.Have = yes[have == True]
			}
			out = append(out, c)
		}
	}
	tri("strong_sign_in", l.ifs.StrongSignIn, a.context.StrongSignIn)
	tri("attended", l.ifs.Attended, a.context.Attended)
	return out
}

// limits are those that every allowing line carries: the largest of the numbers, all of the texts.
func limits(trails []Trail) map[string]policy.Limit {
	var out map[string]policy.Limit
	for i, t := range trails {
		of := t.Grant.Lines[t.Line].Limits
		if i == 0 {
			out = map[string]policy.Limit{}
			for name, l := range of {
				out[name] = l
			}
			continue
		}
		for name, have := range out {
			l, ok := of[name]
			if !ok {
				delete(out, name)
				continue
			}
			if have.Texts != nil {
				have.Texts = append(slices.Clone(have.Texts), l.Texts...)
				slices.Sort(have.Texts)
				have.Texts = slices.Compact(have.Texts)
			}
			have.Number = max(have.Number, l.Number)
			out[name] = have
		}
	}
	if len(out) == 0 {
		return nil
	}
	return out
}

// Answer answers a question with what an enforcement point needs: the outcome, until when it holds, and the limits.
func (c *Compiled) Answer(q Question) Answer {
	out := Answer{At: q.At}
	var a asked
	reason, known := c.find(&q, &a)
	if !known {
		out.Reason = reason
		return out
	}
	out.Outcome = c.decide(&a)
	out.Until, _ = c.until(&a)
	if !out.Allowed {
		return out
	}
	var allowing []Trail
	for _, n := range c.counting(&a, nil) {
		l := &c.lines[n]
		if c.misses(l, &a) != 0 {
			continue
		}
		if !l.limited {
			return out // a line without a limit is a line without that limit
		}
		allowing = append(allowing, Trail{Grant: l.grant, Line: l.number})
	}
	out.Limits = limits(allowing)
	return out
}
