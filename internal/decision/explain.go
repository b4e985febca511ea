package decision

import (
	"cmp"
	"iter"
	"maps"
	"slices"
	"time"

	"sentier/internal/container"
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
	Group   policy.UserGroupID // that was asked about; empty: a user was, or there is no such group
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
	Misses     []Reason    // what keeps the line from giving the right, empty: nothing; NoGrant: it does not reach the user; not to be changed
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
	Chain []string    // ids from the one the device is in to the one that the line names; not to be changed
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
	Name  string // networks, places, states, strong_sign_in or attended; of places Want and Have are ids of sites
	Met   bool
	Known bool // the context says anything about it
	Want  []string
	Have  string
}

// maxMissing bounds how many near misses an answer names.
const maxMissing = 3

// Inquiry is a question as it was asked, with what was found.
type Inquiry struct {
	ResolvedQuery
	Question
}

// Explain answers a question with its reasons.
func (c *Compiled) Explain(q Question) Answer {
	out := Answer{At: q.At}
	a := Inquiry{Question: q}
	reason, known := c.Resolve(&q, &a.ResolvedQuery)
	c.explain(&a, reason, known, &out)
	return out
}

func (c *Compiled) explain(a *Inquiry, reason Reason, known bool, out *Answer) {
	q := &a.Question
	if a.What != nil {
		out.Zone = a.What.Facts.Zone.String()
	}
	if !known {
		out.Reason = reason
		return
	}
	out.Outcome = c.DecideResolved(&a.ResolvedQuery)
	out.Until, _ = c.untilDecided(&a.ResolvedQuery, out.Allowed)
	switch out.Reason {
	case Granted:
		out.Because = c.Trails(a, func(l *Line, m UnmetConditions) bool { return !l.Deny && m == 0 })
		var allowing []map[string]policy.Limit
		for _, t := range out.Because {
			allowing = append(allowing, t.Grant.Lines[t.Line].Limits)
		}
		out.Limits = limits(allowing)
	case Denied:
		out.Because = c.Trails(a, func(l *Line, m UnmetConditions) bool { return l.Deny && m == 0 })
	case OutsideSchedule, ConditionNotMet, GrantNotInForce, RightNotGranted:
		out.Missing = c.nearest(a, out.Reason)
	case NoGrant:
		out.Missing = c.strangers(a)
	case DeviceLockedOut:
		device, _ := policy.Find[*policy.Device](c.policy, string(q.Device))
		out.Lockout = device.Lockout
	}
}

// ExplainGroup is [Compiled.Explain] for somebody who is in a user group and in no other; q.User is left out.
func (c *Compiled) ExplainGroup(group policy.UserGroupID, q Question) Answer {
	q.User = ""
	out := Answer{At: q.At}
	a := Inquiry{Question: q, ResolvedQuery: ResolvedQuery{Who: c.MemberOf(group)}}
	if a.Who == nil {
		out.Reason = UnknownUser
		return out
	}
	out.Group = group
	reason, known := c.ResolveResource(&q, &a.ResolvedQuery)
	c.explain(&a, reason, known, &out)
	return out
}

// Trails draws the lines that count and that want tells, each line once, the shortest way first.
func (c *Compiled) Trails(a *Inquiry, want func(*Line, UnmetConditions) bool) []Trail {
	var out []Trail
	done := map[int32]bool{}
	for _, n := range c.Counting(&a.ResolvedQuery, nil) {
		l := &c.Lines[n]
		m := c.Unmet(l, &a.ResolvedQuery)
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
func (c *Compiled) nearest(a *Inquiry, reason Reason) []Trail {
	fewest := 5
	collect := func(l *Line, m UnmetConditions) bool { return !l.Deny && m.code() == reason }
	all := c.Trails(a, collect)
	for _, t := range all {
		fewest = min(fewest, len(t.Misses))
	}
	all = slices.DeleteFunc(all, func(t Trail) bool { return len(t.Misses) > fewest })
	return all[:min(len(all), maxMissing)]
}

// strangers draws the lines that give the right on the resource, but not to the user: those that
// lack least, then the nearest, then as the grants and lines come.
func (c *Compiled) strangers(a *Inquiry) []Trail {
	if c.onlyDirect(&a.ResolvedQuery, nil) != nil {
		return nil
	}
	var found shortlist
	c.offers(a.PointTarget, nearnessOf(byPoint, 1, 0), &a.ResolvedQuery, &found)
	for _, x := range a.What.Facts.covered {
		c.offers(x.target, x.near, &a.ResolvedQuery, &found)
	}
	if found.size == 0 {
		return nil
	}
	room := new(struct { // most that is drawn, at once
		trails [maxMissing]Trail
		times  [maxMissing]Time
	})
	times := room.times[:]
	for i := range found.list[:found.size] {
		x, t := &found.list[i], &room.trails[i]
		l := &c.Lines[x.line]
		t.Via, t.Membership = Stranger, lost(l, a)
		c.draw(t, l, x.misses, a, x.near, times)
		times = times[min(len(times), len(t.Times)):]
	}
	return room.trails[:found.size]
}

// offers puts the lines that give a right on a target on a shortlist.
func (c *Compiled) offers(t Target, near nearness, a *ResolvedQuery, found *shortlist) {
	for _, o := range c.ByTarget[t] {
		x := candidate{line: o.Line, near: near, length: int32(near.length()) + o.toGroups}
		if o.rights>>(a.Right&63)&1 == 0 || !found.wants(x) { // even if it lacked nothing, which costs more to find
			continue
		}
		l := &c.Lines[o.Line]
		if c.Words > 1 && !l.Rights.Has(a.Right) {
			continue
		}
		x.misses = c.hindered(l, a)
		found.add(x)
	}
}

// candidate is a line that lacks something.
type candidate struct {
	line   int32
	length int32 // of the way from a user to the resource
	near   nearness
	misses UnmetConditions
}

func (x *candidate) before(y *candidate) bool {
	if x.misses != y.misses {
		return lackRank[x.misses] < lackRank[y.misses]
	}
	return x.length < y.length || x.length == y.length && x.line < y.line
}

// shortlist is the best few of many candidates, each line once, the best first.
type shortlist struct {
	list [maxMissing]candidate
	size int
}

func (s *shortlist) wants(x candidate) bool {
	return s.size < len(s.list) || x.before(&s.list[s.size-1])
}

func (s *shortlist) add(x candidate) {
	i := 0
	for i < s.size && s.list[i].before(&x) {
		i++
	}
	end := i // of those that move down: up to where the line stood before, or is new to the list
	for end < s.size && s.list[end].line != x.line {
		end++
	}
	switch {
	case i > 0 && s.has(x.line, i), i == len(s.list):
		return // a better way of the same line, or three better lines
	case end == s.size && s.size < len(s.list):
		s.size++
	case end == s.size:
		end--
	}
	copy(s.list[i+1:end+1], s.list[i:end])
	s.list[i] = x
}

// has tells whether a line is among the first n.
func (s *shortlist) has(line int32, n int) bool {
	return slices.ContainsFunc(s.list[:n], func(x candidate) bool { return x.line == line })
}

// lackRank orders sets of misses: fewer first, then by their codes in order.
var lackRank = func() (rank [16]int) {
	sets := make([]UnmetConditions, len(rank))
	for i := range sets {
		sets[i] = UnmetConditions(i)
	}
	slices.SortFunc(sets, func(x, y UnmetConditions) int {
		a, b := x.codes(), y.codes()
		return cmp.Or(len(a)-len(b), slices.Compare(a, b))
	})
	for i, m := range sets {
		rank[m] = i
	}
	return rank
}()

// codes are the reasons of misses, in their order; ofStranger are those of a line that does not reach the user either.
func (m UnmetConditions) codes() []Reason      { return codeLists[m][1:] }
func (m UnmetConditions) ofStranger() []Reason { return codeLists[m] }

var codeLists = func() (lists [16][]Reason) {
	for m := range lists {
		lists[m] = []Reason{NoGrant}
		for bit := missesSchedule; bit <= MissesRight; bit <<= 1 {
			if UnmetConditions(m)&bit != 0 {
				lists[m] = append(lists[m], bit.first())
			}
		}
		lists[m] = slices.Clip(lists[m])
	}
	return lists
}()

func (c *Compiled) trail(l *Line, m UnmetConditions, a *Inquiry) Trail {
	var t Trail
	t.Via, t.Membership = c.way(l, a)
	c.draw(&t, l, m, a, a.What.Facts.nearest(l, a.PointTarget), nil)
	return t
}

// draw draws all but the way to the line, with room for its times.
func (c *Compiled) draw(t *Trail, l *Line, m UnmetConditions, a *Inquiry, near nearness, room []Time) {
	t.Grant, t.Line, t.Right = l.Grant, l.Number, m&MissesRight == 0
	t.Covers = near.cover(a)
	if n := len(l.When); n > 0 {
		if n > len(room) {
			room = make([]Time, n)
		}
		t.Times = room[:n:n]
		for i, s := range l.When {
			t.Times[i] = timeOf(s, &a.ResolvedQuery)
		}
	}
	if l.Ifs != nil {
		t.Conditions = c.conditions(l, &a.ResolvedQuery)
	}
	t.Misses = m.codes()
	if t.Via == Stranger {
		t.Misses = m.ofStranger()
	}
}

// way finds how a grant reaches the user, by the fewest groups.
func (c *Compiled) way(l *Line, a *Inquiry) (Via, Membership) {
	g := l.Grant
	if slices.Contains(g.To.Users, a.User) {
		return ViaUser, Membership{}
	}
	type step struct {
		group policy.UserGroupID
		path  []policy.UserGroupID
		m     membership
	}
	var todo []step
	for _, m := range a.Who.facts.direct {
		if m.period.Holds(a.Moment) {
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
	return Stranger, lost(l, a)
}

// lost names the group of a grant that does not reach the user: one that the user was or will be in, then
// one that is disabled, then the first.
func lost(l *Line, a *Inquiry) Membership {
	for i, s := range a.Who.facts.groups {
		if s != 0 && slices.Contains(l.To, s) {
			m := a.Who.facts.direct[i]
			return Membership{Groups: []policy.UserGroupID{m.group}, Span: m.period.span()}
		}
	}
	to := l.Grant.To.Groups
	return Membership{Groups: to[:min(1, len(to)):min(1, len(to))]}
}

func (p Period) span() policy.Span {
	var s policy.Span
	if p.From != beginning {
		s.From = p.From.Time()
	}
	if p.Until != End {
		s.Until = p.Until.Time()
	}
	return s
}

// cover draws how a resource is covered.
func (n nearness) cover(a *Inquiry) Cover {
	f := a.What.Facts
	switch n.kind() {
	case byPoint:
		return Cover{Type: policy.Devices, Chain: []string{string(a.Question.Device)}, Point: a.Question.Point}
	case byItself:
		return Cover{Type: policy.Devices, Chain: []string{string(a.Question.Device)}}
	case byGroup:
		chain := f.chains[1+n.group()]
		return Cover{Type: policy.DeviceGroups, Chain: chain[:n.length():n.length()], Match: n.group() >= len(f.listed)}
	case bySite:
		return Cover{Type: policy.Sites, Chain: f.chains[0][:n.length():n.length()]}
	}
	return Cover{Type: policy.SettingsType}
}

func texts[T ~string](ids []T) []string {
	out := make([]string, len(ids))
	for i, id := range ids {
		out[i] = string(id)
	}
	return out
}

const week = 7 * 24 * time.Hour

func timeOf(s *Schedules, a *ResolvedQuery) Time {
	line := s.byZone[a.What.Clock]
	open, until := line.At(a.Moment.seconds())
	t := Time{Schedule: s.Record, Zone: line.Zone().String(), Open: open}
	if until != schedule.Never {
		t.Until = time.Unix(until, 0).UTC()
	}
	if since, ok := line.Since(a.Moment.seconds(), week); ok {
		t.Since = time.Unix(since, 0).UTC()
	}
	return t
}

// limits are those that every allowing line carries, given those of each: the largest of the numbers, all of the texts; nil for none. By “Limits” of the semantics.
func limits(allowing []map[string]policy.Limit) map[string]policy.Limit {
	var out map[string]policy.Limit
	for i, of := range allowing {
		if i == 0 {
			out = maps.Clone(of)
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
	var a ResolvedQuery
	reason, known := c.Resolve(&q, &a)
	return c.answer(&q, &a, reason, known)
}

// AnswerMany yields the [Compiled.Answer] to each of many questions in turn, faster than one by one.
func (c *Compiled) AnswerMany(questions []Question) iter.Seq2[int, Answer] {
	return func(yield func(int, Answer) bool) {
		for from := 0; from < len(questions); from += container.Together {
			some := questions[from:min(len(questions), from+container.Together)]
			var users [container.Together]*UserClass
			var devices [container.Together]*DeviceClass
			c.Users.FindMany(len(some), func(i int) policy.UserID { return some[i].User }, &users)
			c.Devices.FindMany(len(some), func(i int) policy.DeviceID { return some[i].Device }, &devices)
			for i := range some {
				a := ResolvedQuery{Who: users[i], What: devices[i]}
				reason, known := c.findRest(&some[i], &a)
				if !yield(from+i, c.answer(&some[i], &a, reason, known)) {
					return
				}
			}
		}
	}
}

func (c *Compiled) answer(q *Question, a *ResolvedQuery, reason Reason, known bool) Answer {
	out := Answer{At: q.At}
	if !known {
		out.Reason = reason
		return out
	}
	out.Outcome = c.DecideResolved(a)
	out.Until, _ = c.untilDecided(a, out.Allowed)
	if !out.Allowed {
		return out
	}
	var allowing []map[string]policy.Limit
	for _, n := range c.Counting(a, nil) {
		l := &c.Lines[n]
		if c.Unmet(l, a) != 0 {
			continue
		}
		if !l.limited {
			return out // a line without a limit is a line without that limit
		}
		allowing = append(allowing, l.Limits())
	}
	out.Limits = limits(allowing)
	return out
}
