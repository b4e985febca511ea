package specimen

import (
	"math/bits"
	"net/netip"
	"slices"
	"time"

	"sentier/internal/decision"
	"sentier/internal/policy"
)

// Horizon is how far ahead the page looks: 400 days.
const Horizon = 400 * 24 * time.Hour

// Reading is all of a policy that can bear on a user, a right and a resource at any time, picked out by the page. It takes schedules whose windows open every
// day, as those of [Maker] do.
type Reading struct {
	Literal
	there bool // the user, the device, its point and the right exist
	right *policy.Right
	rows  []row
	when  []policy.ScheduleID // of an expectation that is looked at

	subjectsAt map[time.Time]map[policy.UserGroupID]bool
}

// row is a line of a grant that covers the resource.
type row struct {
	grant           *policy.Grant
	line            *policy.Line
	concerns, named bool // it gives or takes the right; the grant names the user
}

// Read picks out what bears on a question at any time.
func Read(p *policy.Policy, q decision.Question) *Reading {
	r := &Reading{Literal: Literal{Policy: p, Question: q}, subjectsAt: map[time.Time]map[policy.UserGroupID]bool{}}
	var user, device, right bool
	r.User, user = policy.Find[*policy.User](p, string(q.User))
	r.Device, device = policy.Find[*policy.Device](p, string(q.Device))
	r.right, right = policy.Find[*policy.Right](p, string(q.Right))
	r.there = user && device && right && (q.Point == "" || slices.ContainsFunc(r.Device.Points, func(x policy.Point) bool { return x.ID == q.Point }))
	if !r.there {
		return r
	}
	r.clock()
	for g := range policy.Each[*policy.Grant](p) {
		for i := range g.Lines {
			if line := &g.Lines[i]; r.covers(line) {
				r.rows = append(r.rows, row{g, line, r.concerns(g, line), slices.Contains(g.To.Users, q.User)})
			}
		}
	}
	return r
}

// Invited tells whether the user has yet to come in.
func (r *Reading) Invited() bool { return r.there && r.User.Status == policy.Invited }

// Allowed tells whether the page allows it at an instant and in a context, as if an invited user had come in, and within which limits.
func (r *Reading) Allowed(at time.Time, context decision.Context) (limits map[string]policy.Limit, allowed bool) {
	switch {
	case !r.there, r.User.Status == policy.Suspended, !within(r.User.Valid, at), r.Device.State == policy.Retired,
		len(r.right.Kinds) > 0 && !slices.Contains(r.right.Kinds, r.Device.Kind),
		r.Device.Lockout != nil && within(r.Device.Lockout.Span(), at) && r.implies(r.right.ID, policy.Control):
		return nil, false
	}
	l := r.Literal
	l.Question.At, l.Question.Context = at, context
	groups := r.groups(at)
	direct := r.Policy.Settings().Combine == policy.DirectFirst && slices.ContainsFunc(r.rows, func(x row) bool { return x.named && inForce(x.grant, at) })
	first := true
	for _, x := range r.rows {
		reached := x.named || !direct && (x.grant.To.Everyone || slices.ContainsFunc(x.grant.To.Groups, func(id policy.UserGroupID) bool { return groups[id] }))
		if !reached || !x.concerns || !inForce(x.grant, at) || !l.open(x.line) || !l.conditions(x.grant, x.line) {
			continue
		}
		if x.grant.Effect == policy.Deny {
			return nil, false
		}
		if limits = common(limits, x.line.Limits, first); len(limits) == 0 {
			limits = nil
		}
		first, allowed = false, true
	}
	return limits, allowed
}

// groups are those of the subject set at an instant.
func (r *Reading) groups(at time.Time) map[policy.UserGroupID]bool {
	groups, known := r.subjectsAt[at]
	if !known {
		l := r.Literal
		l.Question.At = at
		groups = l.subjects()
		r.subjectsAt[at] = groups
	}
	return groups
}

// common carries out "Limits": what every line carries, the largest of the numbers and the union of the lists.
func common(some, more map[string]policy.Limit, first bool) map[string]policy.Limit {
	out := map[string]policy.Limit{}
	for name, b := range more {
		a, both := some[name]
		if first {
			a, both = b, true
		}
		if !both {
			continue
		}
		c := policy.Limit{Number: max(a.Number, b.Number), Texts: slices.Concat(a.Texts, b.Texts)}
		slices.Sort(c.Texts)
		c.Texts = slices.Compact(c.Texts)
		out[name] = c
	}
	return out
}

// Looser tells whether some limits allow anything that others do not: a larger number, a longer list, or no limit at all.
func Looser(some, others map[string]policy.Limit) bool {
	for name, y := range others {
		x, there := some[name]
		if !there || x.Number > y.Number || slices.ContainsFunc(x.Texts, func(text string) bool { return !slices.Contains(y.Texts, text) }) {
			return true
		}
	}
	return false
}

// Instants are those at which any of some readings can begin or cease to allow anything, and all that can be told apart between them: their ends, where clocks are
// set, and the edges of all windows on the two days after each.
func Instants(at time.Time, readings ...*Reading) (out []time.Time) {
	last := at.Add(Horizon)
	marks, edges := []time.Time{at}, map[policy.Clock]bool{}
	windows := func(r *Reading, list []policy.ScheduleID) {
		for _, id := range list {
			s, _ := policy.Find[*policy.Schedule](r.Policy, string(id))
			edges[s.Windows[0].From], edges[s.Windows[0].To] = true, true
		}
	}
	var zones []*time.Location
	span := func(s policy.Span) { marks = append(marks, s.From, s.Until) }
	for _, r := range readings {
		for g := range policy.Each[*policy.UserGroup](r.Policy) {
			for _, m := range g.Members {
				if m.User == r.Question.User {
					span(m.Span())
				}
			}
		}
		if !r.there {
			continue
		}
		span(r.User.Valid)
		if r.Device.Lockout != nil {
			span(r.Device.Lockout.Span())
		}
		for _, x := range r.rows {
			span(x.grant.Valid)
			windows(r, x.line.When)
		}
		windows(r, r.when)
		zone := r.clock()
		zones = append(zones, zone)
		for t := at; t.Before(last); {
			_, end := t.In(zone).ZoneBounds()
			if end.IsZero() {
				break
			}
			marks, t = append(marks, end), end
		}
	}
	for _, mark := range marks {
		out = append(out, mark.UTC())
		for _, zone := range zones {
			y, m, d := mark.In(zone).Date()
			for day := range 3 {
				for edge := range edges {
					first := time.Date(y, m, d+day, 0, int(edge), 0, 0, zone).UTC()
					out = append(out, first, first.Add(time.Hour)) // where clocks are set back, it comes twice
				}
			}
		}
	}
	out = slices.DeleteFunc(out, func(t time.Time) bool { return t.Before(at) || t.After(last) })
	slices.SortFunc(out, time.Time.Compare)
	return slices.CompactFunc(out, time.Time.Equal)
}

// Contexts are one of each kind that the conditions of some readings can tell apart, with how many values each gives beside what is known: fewest first.
func Contexts(base decision.Context, readings ...*Reading) (out [][]decision.Context) {
	var ips []netip.Addr
	var places []policy.SiteID
	var signIn, attended bool
	for _, r := range readings {
		for _, x := range r.rows {
			if !x.concerns {
				continue
			}
			for _, n := range x.line.If.Networks {
				ips = append(ips, n.Addr(), netip.AddrFrom4([4]byte{}), netip.IPv6Unspecified())
			}
			signIn, attended = signIn || x.line.If.StrongSignIn != nil, attended || x.line.If.Attended != nil
			if len(x.line.If.Places) > 0 {
				for _, of := range readings {
					for s := range policy.Each[*policy.Site](of.Policy) {
						places = append(places, s.ID)
					}
				}
			}
		}
	}
	slices.Sort(places)
	slices.SortFunc(ips, netip.Addr.Compare)
	steps := [][]func(*decision.Context){}
	var aspect []func(*decision.Context)
	add := func() {
		if len(aspect) > 0 {
			steps = append(steps, aspect)
		}
		aspect = nil
	}
	for _, ip := range slices.Compact(ips) {
		aspect = append(aspect, func(c *decision.Context) { c.IP = ip })
	}
	add()
	for _, place := range slices.Compact(places) {
		aspect = append(aspect, func(c *decision.Context) { c.Place = place })
	}
	add()
	for n, used := range []bool{signIn, attended} {
		for _, yes := range []decision.Tri{decision.True, decision.False} {
			if used {
				aspect = append(aspect, func(c *decision.Context) { *[]*decision.Tri{&c.StrongSignIn, &c.Attended}[n] = yes })
			}
		}
		add()
	}
	out = make([][]decision.Context, len(steps)+1)
	for set := range 1 << len(steps) {
		list := []decision.Context{base}
		for n, aspect := range steps {
			if set>>n&1 == 0 {
				continue
			}
			var more []decision.Context
			for _, c := range list {
				for _, give := range aspect {
					c := c
					give(&c)
					more = append(more, c)
				}
			}
			list = more
		}
		out[bits.OnesCount(uint(set))] = append(out[bits.OnesCount(uint(set))], list...)
	}
	return out
}

// Chance is a degree of "What is possible": the first instant, and how many values must be given for it.
type Chance struct {
	Degree  string // now, later, if or impossible
	First   time.Time
	Given   int
	ComesIn bool
}

// Beside is two readings of the same question, of a policy and of another, at an instant and in a context.
type Beside struct {
	was, is  *Reading
	at       time.Time
	instants []time.Time
	contexts [][]decision.Context
}

// ReadBeside reads a question, by its instant and in its context, in two policies.
func ReadBeside(p, next *policy.Policy, q decision.Question) *Beside {
	b := &Beside{was: Read(p, q), is: Read(next, q), at: q.At}
	b.instants, b.contexts = Instants(q.At, b.was, b.is), Contexts(q.Context, b.was, b.is)
	return b
}

// Back is the same the other way round.
func (b *Beside) Back() *Beside {
	return &Beside{b.is, b.was, b.at, b.instants, b.contexts}
}

// Possible tells what the later policy makes possible.
func (b *Beside) Possible() Chance {
	return b.chance(func(at time.Time, c decision.Context) bool {
		_, allowed := b.is.Allowed(at, c)
		return allowed
	})
}

// Gained tells what the later policy makes possible that the other does not.
func (b *Beside) Gained() Chance {
	return b.chance(func(at time.Time, c decision.Context) bool {
		if _, is := b.is.Allowed(at, c); !is {
			return false
		}
		_, was := b.was.Allowed(at, c)
		return !(was && (b.is.Invited() || !b.was.Invited()))
	})
}

// Looser tells where both policies allow it, and the later within limits that are looser; it is told of people who have come in, or have yet to, in both.
func (b *Beside) Looser() Chance {
	if b.is.Invited() != b.was.Invited() {
		return Chance{Degree: "impossible"}
	}
	return b.chance(func(at time.Time, c decision.Context) bool {
		mine, is := b.is.Allowed(at, c)
		theirs, was := b.was.Allowed(at, c)
		return is && was && Looser(mine, theirs)
	})
}

// chance asks at every instant, in circumstances with fewer values first.
func (b *Beside) chance(is func(time.Time, decision.Context) bool) Chance {
	for given, contexts := range b.contexts {
		best := Chance{Degree: "impossible"}
		for _, c := range contexts {
			for _, t := range b.instants {
				if best.Degree != "impossible" && !t.Before(best.First) {
					break
				}
				if is(t, c) {
					best = Chance{"if", t, given, b.is.Invited()}
					break
				}
			}
		}
		switch {
		case best.Degree == "impossible":
			continue
		case given > 0 || best.ComesIn:
		case best.First.Equal(b.at):
			best.Degree = "now"
		default:
			best.Degree = "later"
		}
		return best
	}
	return Chance{Degree: "impossible"}
}

// inState tells whether the device is in a state that a line asks for: states stay as they are.
func (r *Reading) inState(line *policy.Line) bool {
	return len(line.If.States) == 0 || slices.Contains(line.If.States, r.Device.State)
}

// Concerned tells whether a grant gives or takes what is read, and reaches the user while it is valid, at any instant from one on.
func (r *Reading) Concerned(g *policy.Grant, at time.Time) bool {
	if !slices.ContainsFunc(r.rows, func(x row) bool { return x.grant == g && x.concerns && r.inState(x.line) }) {
		return false
	}
	return slices.ContainsFunc(Instants(at, r), func(t time.Time) bool {
		groups := r.groups(t)
		return inForce(g, t) && (g.To.Everyone || slices.Contains(g.To.Users, r.Question.User) || slices.ContainsFunc(g.To.Groups, func(id policy.UserGroupID) bool { return groups[id] }))
	})
}
