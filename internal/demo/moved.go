package demo

import (
	"time"

	"sentier/internal/policy"
)

// Written is the instant for which the document of the navigation is written, and at which its stories begin: a Tuesday.
var Written = time.Date(2026, 11, 24, 10, 0, 0, 0, time.UTC)

// home is the zone by whose clock the navigation keeps its dates.
const home = "Europe/Lisbon"

// At is the navigation as it is alive at an instant. What the document says of its own week is said of the week of that
// instant: this Friday, the weekend after next, the works that began three weeks ago. The divers are below on that very
// day, and the seasons lie around it. At [Written] it is what the document says.
func At(at time.Time) (*policy.Policy, error) {
	p, err := Policy()
	if err != nil {
		return nil, err
	}
	r := p.Records()
	movedBy(at, Home()).move(r)
	return policy.FromRecords(r)
}

// Week is a date of the week of the document, as it is in the week of an instant.
func Week(date string, at time.Time) string {
	d, err := time.Parse(time.DateOnly, date)
	if err != nil {
		return date // as it was given
	}
	return d.AddDate(0, 0, movedBy(at, Home()).days).Format(time.DateOnly)
}

// Home is the zone by whose clock the navigation keeps its dates.
func Home() *time.Location {
	zone, err := policy.LoadZone(home)
	if err != nil {
		return time.UTC // cannot be: zones are part of the program
	}
	return zone
}

// mover moves the dates of the navigation by whole weeks.
type mover struct {
	zone        *time.Location
	today       policy.Date
	days, years int
}

func dayOf(t time.Time) policy.Date {
	y, m, d := t.Date()
	return policy.Date{Year: y, Month: m, Day: d}
}

func movedBy(at time.Time, zone *time.Location) mover {
	m := mover{zone: zone, today: dayOf(at.In(zone))}
	day := m.today.Days()
	if weekday := at.In(zone).Weekday(); weekday == time.Saturday || weekday == time.Sunday {
		day += 2 // “this Friday” is the coming one
	}
	// Whole weeks from the Monday of the document's week, rounded down.
	m.days = day - dayOf(Written).Days() + 1
	m.days -= (m.days%7 + 7) % 7
	m.years = m.today.Year - Written.Year()
	return m
}

// instant moves by the clock of the zone, so that five in the afternoon stays that in summer.
func (m mover) instant(t *time.Time) {
	if t.IsZero() {
		return
	}
	l := t.In(m.zone)
	*t = time.Date(l.Year(), l.Month(), l.Day()+m.days, l.Hour(), l.Minute(), l.Second(), 0, m.zone).UTC()
}

func (m mover) span(s *policy.Span) {
	m.instant(&s.From)
	m.instant(&s.Until)
}

func (m mover) date(d *policy.Date) {
	if !d.IsZero() {
		*d = dayOf(time.Date(d.Year, d.Month, d.Day+m.days, 0, 0, 0, 0, time.UTC))
	}
}

func (m mover) season(d *policy.MonthDay) {
	// In a year without a leap day: what matters is where today lies.
	t := time.Date(2026, d.Month, d.Day+m.days, 0, 0, 0, 0, time.UTC)
	*d = policy.MonthDay{Month: t.Month(), Day: t.Day()}
}

func (m mover) move(r *policy.Records) {
	for i := range r.Users {
		m.span(&r.Users[i].Valid)
	}
	for i := range r.UserGroups {
		g := &r.UserGroups[i]
		members := make([]policy.Member, len(g.Members))
		for k, member := range g.Members {
			m.instant(&member.From)
			m.instant(&member.Until)
			members[k] = member
		}
		g.Members = members
	}
	for i := range r.Devices {
		if l := r.Devices[i].Lockout; l != nil {
			today := *l
			today.From = time.Date(m.today.Year, m.today.Month, m.today.Day, 0, 0, 0, 0, m.zone).UTC()
			r.Devices[i].Lockout = &today
		}
	}
	for i := range r.Grants {
		m.span(&r.Grants[i].Valid)
	}
	for i := range r.Calendars {
		r.Calendars[i].Days = m.calendar(r.Calendars[i].Days)
	}
	for i := range r.Schedules {
		s := &r.Schedules[i]
		if s.Dates != nil {
			dates := *s.Dates
			m.date(&dates.From)
			m.date(&dates.To)
			s.Dates = &dates
		}
		if s.Season != nil {
			season := *s.Season
			m.season(&season.From)
			m.season(&season.To)
			s.Season = &season
		}
	}
}

// calendar moves days, but for those that are the same in every year.
func (m mover) calendar(days []policy.CalendarDay) []policy.CalendarDay {
	out := make([]policy.CalendarDay, len(days))
	for i, d := range days {
		if d.Name == "Christmas" || d.Name == "New Year" {
			d.Date.Year += m.years
		} else {
			m.date(&d.Date)
			m.date(&d.From)
			m.date(&d.To)
		}
		out[i] = d
	}
	return out
}
