package policy

import (
	"time"
)

var errInstant = Say("is no instant: write it as in RFC 3339, such as 2026-07-04T21:30:00+01:00")

// earliest is the first instant that records tell apart from none: the zero [time.Time] stands for an end that is not given.
var earliest = time.Time{}.Add(time.Microsecond)

// ParseInstant reads an instant of RFC 3339 as records keep it: in UTC, cut to microseconds, in the years 1 to 9999. One
// that is given is never the zero Time, so that an end at the very beginning of the calendar is an end, and not none.
func ParseInstant(text string) (time.Time, error) {
	t, err := time.Parse(time.RFC3339, text)
	if err != nil || t.Year() < 1 {
		return time.Time{}, errInstant
	}
	t = t.UTC().Truncate(time.Microsecond)
	switch {
	case t.Before(earliest):
		return earliest, nil
	case t.Year() > 9999:
		return time.Time{}, Say("lies after the year 9999 by the clock of UTC: no later instant can be written")
	}
	return t, nil
}
