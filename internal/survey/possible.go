package survey

import (
	"fmt"
	"net/netip"
	"slices"
	"time"

	"sentier/internal/decision"
	"sentier/internal/policy"
)

// Degree is how possible it is that a user has a right on a resource: "What is possible" in the semantics.
type Degree uint8

// The degrees. What is in none of the last three is impossible under the policy.
const (
	Impossible Degree = iota
	If                // in other circumstances, at the instant or within 400 days
	Later             // in the circumstances that are given, within 400 days
	Now
)

var degreeNames = [...]string{"impossible", "if", "later", "now"}

// String is the degree's word, such as "later".
func (d Degree) String() string { return degreeNames[d] }

// DegreeNamed finds a degree, other than Impossible, by its word.
func DegreeNamed(word string) (Degree, bool) {
	i := slices.Index(degreeNames[:], word)
	return Degree(max(i, 0)), i > 0
}

// Degrees is a set of degrees. The empty set stands for Now alone.
type Degrees uint8

// AllDegrees is all that is possible.
const AllDegrees = Degrees(1<<If | 1<<Later | 1<<Now)

// With adds a degree.
func (s Degrees) With(d Degree) Degrees { return s | 1<<d }

// Has tells whether a degree is in the set.
func (s Degrees) Has(d Degree) bool {
	if s == 0 {
		return d == Now
	}
	return s&(1<<d) != 0
}

// Prospect is what is possible for a user, a right and a resource.
type Prospect struct {
	Degree Degree
	Given  *Given // the circumstances that must be given, for If

	first decision.Moment // at which it is allowed, in those circumstances
}

// First is the first instant at which it is allowed, in the circumstances that it takes.
func (p Prospect) First() time.Time { return p.first.Time() }

// Given is circumstances: the fewest values that must be given for something to be allowed. Any of the networks and any of
// the places will do.
type Given struct {
	Networks     []netip.Prefix // exactly those addresses
	Places       []policy.SiteID
	StrongSignIn decision.Tri
	Attended     decision.Tri
	ComesIn      bool // an invited user has to come in first
}

// String writes what must be given, for people who read the output of a program.
func (g *Given) String() string {
	if g == nil {
		return "nothing"
	}
	return fmt.Sprintf("networks %v, places %v, strong sign-in %d, attended %d, comes in %t", g.Networks, g.Places, g.StrongSignIn, g.Attended, g.ComesIn)
}

// In is a context in which the circumstances are given.
func (g *Given) In(c decision.Context) decision.Context {
	if g == nil {
		return c
	}
	if len(g.Networks) > 0 {
		c.IP = g.Networks[0].Addr()
	}
	if len(g.Places) > 0 {
		c.Place = g.Places[0]
	}
	if g.StrongSignIn != decision.NotKnown {
		c.StrongSignIn = g.StrongSignIn
	}
	if g.Attended != decision.NotKnown {
		c.Attended = g.Attended
	}
	return c
}

// Possible tells what is possible for the user, the right and the resource of a question, at its instant and in its context.
func (c Survey) Possible(q decision.Question) Prospect {
	var a decision.ResolvedQuery
	if _, known := c.Resolve(&q, &a); !known {
		return Prospect{}
	}
	return c.possible(&a)
}

func (c Survey) possible(a *decision.ResolvedQuery) Prospect {
	if c.DecideResolved(a).Allowed {
		return Prospect{Degree: Now, first: a.Moment}
	}
	h := c.hand(a)
	return (&search{after: &h, right: a.Right, at: a.Moment, context: a.Context}).prospect(AllDegrees)
}

// hand is all lines of a policy that bear on a user and a resource at any instant and in any circumstances. The zero hand is
// that of a user or a resource that is not there.
type hand struct {
	c     *decision.Compiled
	who   *decision.UserClass
	what  *decision.DeviceClass
	parts []decision.Part
	scope *decision.Scope // nothing is allowed outside it; nil: no bounds

	comesIn bool // the user is invited, and has to come in first: who is as if they had
}

// hand gathers the lines that bear on the user and the resource of a question, each once. What states of devices rule out is
// left out: they stay as they are.
func (c Survey) hand(a *decision.ResolvedQuery) hand { return c.handIn(a, nil) }

// handIn is a hand in a room that is used again.
func (c Survey) handIn(a *decision.ResolvedQuery, room []decision.Part) hand {
	b, comesIn := comeIn(a)
	a = b
	h := hand{c: c.Compiled, who: a.Who, what: a.What, comesIn: comesIn}
	h.parts = c.Parts(a, room, func(l *decision.Line) bool { return l.Ifs == nil || decision.StateMet(l, a) })
	return h
}

// comeIn is a question as if its user had come in, where they are invited: nobody is asked again when they do.
func comeIn(a *decision.ResolvedQuery) (_ *decision.ResolvedQuery, comesIn bool) {
	who, comesIn := cameIn(a.Who)
	if !comesIn {
		return a, false
	}
	came := *a
	came.Who = who
	return &came, true
}

// cameIn is a class of users as if they had come in, where they are invited.
func cameIn(u *decision.UserClass) (_ *decision.UserClass, comesIn bool) {
	if u == nil || u.Bar != decision.UserInvited {
		return u, false
	}
	came := *u
	came.Bar = 0
	return &came, true
}

// course is a course of answers of which only what lies in a scope counts.
type course struct {
	decision.Course
	scope *decision.Scope // nil: no bounds
}

func (k *course) Allowed(at decision.Moment) bool {
	return (k.scope == nil || k.scope.Holds(at)) && k.Course.Allowed(at)
}

func (k *course) Next(at decision.Moment) decision.Moment {
	next := k.Course.Next(at)
	if k.scope != nil {
		next = min(next, k.scope.Next(at))
	}
	return next
}

func (k *course) Never() bool { return k.scope != nil && k.scope.Empty() || k.Course.Never() }

// in is the course of the answer about a right in a context.
func (h *hand) in(right int, context decision.Context) course {
	out := course{decision.Course{Compiled: h.c, Who: h.who, What: h.what, Right: right}, h.scope}
	if !out.There() {
		return out
	}
	a := decision.ResolvedQuery{What: h.what, Context: context}
	for _, p := range h.parts {
		if p.Idle = p.Idle || !p.Bears(right) || p.Line.Ifs != nil && !h.c.ConditionsMet(p.Line, &a); !p.Idle || h.c.DirectFirst && p.Direct {
			out.Parts = append(out.Parts, p)
		}
	}
	return out
}

// search looks for an instant and circumstances in which one policy allows what another does not. Without the other, it is what the
// one makes possible.
type search struct {
	before, after *hand // before may be nil: nothing is allowed
	right         int   // in after
	had           int   // the same right in before; -1: it is not there
	at            decision.Moment
	context       decision.Context
	loosens       bool // what is looked for is that both allow it, and after with limits that are looser

	ever  bool             // whether there is an instant is all that is asked: it need not be the first
	known map[string]found // by the parts that count
}

type found struct {
	first decision.Moment
	ok    bool
}

// first finds the first instant, the present one included and not more than 400 days away, at which after allows in a context what before
// does not.
func (s *search) first(context decision.Context) (decision.Moment, bool) {
	after, before := s.courses(context)
	if after.Never() {
		return 0, false
	}
	key := after.Key(before.Key(nil))
	if f, ok := s.known[string(key)]; ok {
		return f.first, f.ok
	}
	f := s.look(&after, &before)
	if s.known == nil {
		s.known = map[string]found{}
	}
	s.known[string(key)] = f
	return f.first, f.ok
}

// courses are those of the answers that are held against each other.
func (s *search) courses(context decision.Context) (after, before course) {
	return s.after.in(s.right, context), s.earlier(context)
}

// earlier is that of before: the zero one where nothing is allowed.
func (s *search) earlier(context decision.Context) (before course) {
	if s.before != nil && s.had >= 0 {
		before = s.before.in(s.had, context)
	}
	return before
}

// once is [search.first] where nothing else is looked for after it.
func (s *search) once(context decision.Context) (decision.Moment, bool) {
	after, before := s.courses(context)
	if after.Never() {
		return 0, false
	}
	f := s.look(&after, &before)
	return f.first, f.ok
}

// is tells whether what the search looks for is so at an instant.
func (s *search) is(after, before *course, idle bool, at decision.Moment) bool {
	switch {
	case !after.Allowed(at):
		return false
	case s.loosens:
		return !idle && before.Allowed(at) && !asLoose(before.Limits(at), after.Limits(at))
	}
	return idle || !before.Allowed(at)
}

// look finds the first instant at which what the search looks for is so.
func (s *search) look(after, before *course) found {
	idle, last := before.Never(), s.at+decision.AnswerHorizon
	steady := s.at // until when the schedules alone tell one instant from another, as far as that is known
	for at := s.at; at <= last; {
		if s.is(after, before, idle, at) {
			return found{at, true}
		}
		if at >= steady && !s.loosens {
			if steady = after.Steady(at); !idle {
				steady = min(steady, before.Steady(at))
			}
			if min(steady, last)-at >= decision.ManyWeeks {
				switch ever, known := s.weekly(after, before, idle, at); {
				case known && !ever && steady > last:
					return found{}
				case known && !ever:
					at = steady
					continue
				case known && s.ever:
					return found{at, true}
				case s.ever && !known && at == s.at && s.nothing():
					return found{}
				}
			}
		}
		next := after.Next(at)
		if !idle {
			next = min(next, before.Next(at))
		}
		if next == decision.End {
			break
		}
		at = next
	}
	return found{}
}

// weekly tells, where the schedules are the same every week, whether there is a minute of it in which after allows what before does not.
func (s *search) weekly(after, before *course, idle bool, at decision.Moment) (ever, known bool) {
	if after.scope != nil || before.scope != nil {
		return false, false
	}
	var is, was decision.Week
	here, ok := after.Weekly(at, &is)
	if !ok {
		return false, false
	}
	if !idle {
		there, ok := before.Weekly(at, &was)
		if !ok || here != "" && there != "" && here != there || before.What.Clock != after.What.Clock || before.Compiled != after.Compiled {
			return false, false
		}
	}
	return !is.Within(&was), true
}

// now tells whether it is so at once, in the circumstances that are given.
func (s *search) now() bool {
	after := s.after.in(s.right, s.context)
	if after.Never() || !after.Allowed(s.at) {
		return false // which it mostly is: what was before need not be gathered
	}
	before := s.earlier(s.context)
	return s.is(&after, &before, before.Never(), s.at)
}

// prospect tells the degree of what the search looks for, as far as the degrees that are asked for.
func (s *search) prospect(degrees Degrees) Prospect {
	switch {
	case s.after.comesIn:
		if !degrees.Has(If) || degrees == 0 {
			return Prospect{}
		}
		p := s.came(AllDegrees)
		if p.Degree != Impossible {
			given := Given{ComesIn: true}
			if p.Given != nil {
				given = *p.Given
				given.ComesIn = true
			}
			p.Degree, p.Given = If, &given
		}
		return p
	case s.before != nil && s.before.comesIn: // who has not come in may do nothing of what the other policy lets them do at once
		alone := *s
		alone.before, alone.had, alone.known = nil, -1, nil
		return alone.came(degrees)
	}
	return s.came(degrees)
}

// came is [search.prospect] as if everybody who is invited had come in.
func (s *search) came(degrees Degrees) Prospect {
	if s.now() {
		return Prospect{Degree: Now, first: s.at}
	}
	if !s.loosens && s.nothing() {
		return Prospect{}
	}
	if degrees&AllDegrees == 0 || degrees == 1<<Now {
		return Prospect{}
	}
	if first, ok := s.once(s.context); ok {
		return Prospect{Degree: Later, first: first}
	}
	if !degrees.Has(If) {
		return Prospect{}
	}
	given, first, ok := s.elsewhere()
	if !ok {
		return Prospect{}
	}
	return Prospect{Degree: If, Given: given, first: first}
}
