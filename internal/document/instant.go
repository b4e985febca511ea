package document

import (
	"strings"
	"time"

	"sentier/internal/policy"
)

var days = map[string]int{"today": 0, "tomorrow": 1, "yesterday": -1}

// ParseInstant reads a time as people give it: an instant of RFC 3339; now; or a local time of zone:
// 2026-07-04 21:30, 2026-07-04 (its midnight), today 06:00, tomorrow 06:00, mon 06:00 (the next
// Monday at six), 21:30 (today). now says what today is.
func ParseInstant(s string, now time.Time, zone *time.Location) (time.Time, error) {
	s = strings.TrimSpace(s)
	if s == "now" {
		return now, nil
	}
	if _, err := time.Parse(time.RFC3339, strings.ToUpper(s)); err == nil {
		return Moment(strings.ToUpper(s))
	}
	today := now.In(zone)
	if date := len(time.DateOnly); len(s) > date && s[date] == 'T' {
		s = s[:date] + " " + s[date+1:]
	}
	day, clock, _ := strings.Cut(strings.ToLower(s), " ")
	var date time.Time
	switch offset, named := days[day]; {
	case named:
		date = time.Date(today.Year(), today.Month(), today.Day()+offset, 0, 0, 0, 0, time.UTC)
	case weekdayNamed(day) >= 0 && clock != "":
		ahead := (weekdayNamed(day) - int(today.Weekday()) + 7) % 7
		date = time.Date(today.Year(), today.Month(), today.Day()+ahead, 0, 0, 0, 0, time.UTC)
	case clock == "" && strings.Contains(day, ":"):
		day, clock = "today", day
		date = time.Date(today.Year(), today.Month(), today.Day(), 0, 0, 0, 0, time.UTC)
	default:
		var err error
		if date, err = time.Parse(time.DateOnly, day); err != nil {
			return time.Time{}, unreadable(s)
		}
	}
	if clock == "" {
		clock = "00:00"
	}
	at, err := time.Parse("15:04", clock)
	if err != nil {
		if at, err = time.Parse("15:04:05", clock); err != nil {
			return time.Time{}, unreadable(s)
		}
	}
	t := time.Date(date.Year(), date.Month(), date.Day(), at.Hour(), at.Minute(), at.Second(), 0, zone)
	if t.Hour() != at.Hour() || t.Minute() != at.Minute() || t.Format(time.DateOnly) != date.Format(time.DateOnly) {
		return time.Time{}, policy.Say("%s does not occur on %s in %s: the clock is put forward then", clock, date.Format(time.DateOnly), zone)
	}
	return inRange(firstOf(t).UTC())
}

// Moment reads an instant of RFC 3339 that is asked about, and refuses one so far away that its answer could not be
// written.
func Moment(text string) (time.Time, error) {
	t, err := policy.ParseInstant(text)
	if err != nil {
		return t, err
	}
	return inRange(t)
}

// lastYear is the last that can be asked about: answers look 400 days ahead, and years have four digits.
const lastYear = 9997

func inRange(t time.Time) (time.Time, error) {
	if t.Year() < 1 || t.Year() > lastYear {
		return time.Time{}, policy.Say("lies too far away: ask about the years 1 to %d", lastYear)
	}
	return t, nil
}

// firstOf gives the first of two instants that have the same wall clock, where the clock is put back.
func firstOf(t time.Time) time.Time {
	start, _ := t.ZoneBounds()
	if start.IsZero() {
		return t
	}
	_, now := t.Zone()
	_, before := start.Add(-1).Zone()
	earlier := t.Add(time.Duration(now-before) * time.Second)
	if now < before && earlier.Before(start) {
		return earlier
	}
	return t
}

func weekdayNamed(name string) int {
	for d := time.Sunday; d <= time.Saturday; d++ {
		if full := strings.ToLower(d.String()); name == full || name == full[:3] {
			return int(d)
		}
	}
	return -1
}

func unreadable(s string) error {
	return policy.Say("%q is no time that can be read: write an instant such as 2026-07-04T21:30:00+01:00, or a local time such as 2026-07-04 21:30, 21:30, tomorrow 06:00 or mon 06:00", s)
}
