package schedule

import (
	"time"

	"sentier/internal/policy"
)

// Day is the stretch of time that a date is by the clock of a zone. Where the clock is put forward over midnight it begins
// later than 00:00, and ok is false for a date that the zone skips whole.
func Day(date policy.Date, zone *time.Location) (from, until time.Time, ok bool) {
	from = beginningOf(date, zone)
	until = beginningOf(policy.Date{Year: date.Year, Month: date.Month, Day: date.Day + 1}, zone)
	return from, until, from.Before(until)
}

// beginningOf is the first instant at which the local date is a date or a later one.
func beginningOf(date policy.Date, zone *time.Location) time.Time {
	midnight := time.Date(date.Year, date.Month, date.Day, 0, 0, 0, 0, time.UTC)
	// No zone is a whole day and a half away from UTC; from there on it is looked at each change of the clock.
	at := midnight.Add(-36 * time.Hour).In(zone)
	for {
		_, offset := at.Zone()
		begins := midnight.Add(-time.Duration(offset) * time.Second) // if the clock stayed as it is
		_, change := at.ZoneBounds()
		switch {
		case begins.Before(at): // the clock was put forward over it
			return at
		case change.IsZero() || begins.Before(change):
			return begins.In(zone)
		}
		at = change.In(zone)
	}
}
