package specimen

import (
	"slices"
	"time"

	"sentier/internal/decision"
	"sentier/internal/policy"
)

// Unmet carries out "Expectations" word by word: of how many users, rights and resources a statement does not hold within the 400 days, rights and resources alone
// where too few are allowed, and the first instant at which it does not.
func Unmet(p *policy.Policy, e *policy.Expectation, at time.Time) (cases int, first time.Time) {
	found := func(t time.Time) {
		if cases++; cases == 1 || t.Before(first) {
			first = t
		}
	}
	line := policy.Line{On: e.On, Depth: e.Depth, When: e.When}
	for d := range policy.Each[*policy.Device](p) {
		for _, point := range append([]policy.Point{{}}, d.Points...) {
			l := Literal{Policy: p, Question: decision.Question{Device: d.ID, Point: point.ID}, Device: d}
			if d.State == policy.Retired || point.ID == "" && !l.covers(&line) || point.ID != "" && !slices.Contains(e.On.Points, policy.PointRef(string(d.ID)+"/"+string(point.ID))) {
				continue
			}
			for _, right := range e.Rights {
				var all []*Reading
				for u := range policy.Each[*policy.User](p) {
					r := Read(p, decision.Question{User: u.ID, Device: d.ID, Point: point.ID, Right: right})
					r.when = e.When
					all = append(all, r)
				}
				if e.Expect == policy.Someone {
					if t, broken := firstOf(at, all, func(t time.Time) bool { return tooFew(all, e, &line, t) }); broken {
						found(t)
					}
					continue
				}
				for _, r := range all {
					one := []*Reading{r}
					if t, broken := firstOf(at, one, func(t time.Time) bool { return r.breaks(e, &line, t) }); broken {
						found(t)
					}
				}
			}
		}
	}
	return cases, first
}

// firstOf finds the first instant at which something is so, of those at which anything about some readings can begin or cease.
func firstOf(at time.Time, readings []*Reading, is func(time.Time) bool) (time.Time, bool) {
	instants := Instants(at, readings...)
	i := slices.IndexFunc(instants, is)
	if i < 0 {
		return time.Time{}, false
	}
	return instants[i], true
}

// about tells whether an expectation is about the user at an instant.
func (r *Reading) about(e *policy.Expectation, at time.Time) bool {
	groups := r.groups(at)
	among := func(users []policy.UserID, of []policy.UserGroupID) bool {
		return slices.Contains(users, r.Question.User) || slices.ContainsFunc(of, func(id policy.UserGroupID) bool { return groups[id] })
	}
	return (e.Who.Everyone || among(e.Who.Users, e.Who.Groups)) && !among(e.Except.Users, e.Except.Groups)
}

// openAt tells whether any of the schedules of a line is open at an instant.
func (r *Reading) openAt(line *policy.Line, at time.Time) bool {
	l := r.Literal
	l.Question.At = at
	return l.open(line)
}

// anyhow tells whether a user who has come in is allowed it at an instant in any circumstances.
func (r *Reading) anyhow(at time.Time) bool {
	return !r.Invited() && slices.ContainsFunc(slices.Concat(Contexts(decision.Context{}, r)...), func(c decision.Context) bool {
		_, allowed := r.Allowed(at, c)
		return allowed
	})
}

// breaks tells whether a statement of never or always does not hold of the user at an instant.
func (r *Reading) breaks(e *policy.Expectation, line *policy.Line, at time.Time) bool {
	if !r.about(e, at) || !r.openAt(line, at) {
		return false
	}
	if e.Expect == policy.Never {
		return r.anyhow(at)
	}
	_, allowed := r.Allowed(at, decision.Context{})
	return !allowed && r.User.Status == policy.Active && within(r.User.Valid, at)
}

// tooFew tells whether fewer are allowed it at an instant than a statement of someone asks for.
func tooFew(all []*Reading, e *policy.Expectation, line *policy.Line, at time.Time) bool {
	if !all[0].openAt(line, at) {
		return false
	}
	have := 0
	for _, r := range all {
		have += decision.Bit(r.about(e, at) && r.anyhow(at))
	}
	return have < max(e.AtLeast, 1)
}
