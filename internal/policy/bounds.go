package policy

import "time"

// Bounds visits the instants at which something of the policy begins or ends by itself: users, memberships, grants, mandates, lockouts, the dates of
// schedules and the days of calendars. A day is given a day early, as its zone may be ahead. What repeats every year or every week has none.
func (p *Policy) Bounds(yield func(time.Time) bool) {
	more := true
	at := func(t time.Time) { more = more && (t.IsZero() || yield(t)) }
	span := func(s Span) {
		at(s.From)
		at(s.Until)
	}
	day := func(d Date, later int) {
		if !d.IsZero() {
			at(time.Date(d.Year, d.Month, d.Day+later, 0, 0, 0, 0, time.UTC).AddDate(0, 0, -1))
		}
	}
	for u := range Each[*User](p) {
		span(u.Valid)
	}
	for g := range Each[*UserGroup](p) {
		for i := range g.Members {
			if m := &g.Members[i]; !m.From.IsZero() || !m.Until.IsZero() {
				span(m.Span())
			}
		}
	}
	for g := range Each[*Grant](p) {
		span(g.Valid)
	}
	for m := range Each[*Mandate](p) {
		span(m.Valid)
	}
	for d := range Each[*Device](p) {
		if d.Lockout != nil {
			span(d.Lockout.Span())
		}
	}
	for s := range Each[*Schedule](p) {
		if s.Dates != nil {
			day(s.Dates.From, 0)
			day(s.Dates.To, 1)
		}
	}
	for c := range Each[*Calendar](p) {
		for _, d := range c.Days {
			first, last := d.Bounds()
			day(first, 0)
			day(last, 1)
		}
	}
}
