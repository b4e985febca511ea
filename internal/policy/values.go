package policy

import (
	"encoding/json"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
)

// Span is a half-open range of instants, [From, Until); a zero end is open.
type Span struct {
	From  time.Time `json:"from,omitzero"`
	Until time.Time `json:"until,omitzero"`
}

// Holds tells whether at lies in the span.
func (s Span) Holds(at time.Time) bool {
	return (s.From.IsZero() || !at.Before(s.From)) && (s.Until.IsZero() || at.Before(s.Until))
}

func (s Span) utc() Span {
	if !s.From.IsZero() {
		s.From = s.From.UTC()
	}
	if !s.Until.IsZero() {
		s.Until = s.Until.UTC()
	}
	return s
}

// Switch is a boolean whose zero value is true: records are enabled unless they
// say otherwise.
type Switch uint8

// The two states of a [Switch].
const (
	On Switch = iota
	Off
)

// MarshalJSON writes true or false.
func (s Switch) MarshalJSON() ([]byte, error) { return strconv.AppendBool(nil, s == On), nil }

// UnmarshalJSON reads true or false.
func (s *Switch) UnmarshalJSON(b []byte) error {
	v, err := strconv.ParseBool(string(b))
	if err != nil {
		return Say("%s is neither true nor false", b)
	}
	*s = Off
	if v {
		*s = On
	}
	return nil
}

// Clock is a wall-clock time in minutes after midnight, 0 to 1440 (24:00).
type Clock int16

// Midnight is the end of a day, 24:00.
const Midnight Clock = 24 * 60

// MarshalText writes HH:MM.
func (c Clock) MarshalText() ([]byte, error) { return []byte(c.String()), nil }

func (c Clock) String() string { return fmt.Sprintf("%02d:%02d", c/60, c%60) }

// UnmarshalText reads HH:MM, 00:00 to 24:00.
func (c *Clock) UnmarshalText(b []byte) error {
	bad := Say("%q is no time of day: write HH:MM from 00:00 to 24:00, such as 07:30", b)
	if len(b) != 5 || b[2] != ':' {
		return bad
	}
	h, err1 := strconv.ParseUint(string(b[:2]), 10, 8)
	m, err2 := strconv.ParseUint(string(b[3:]), 10, 8)
	if err1 != nil || err2 != nil || m > 59 || h > 24 || (h == 24 && m > 0) {
		return bad
	}
	*c = Clock(h*60 + m)
	return nil
}

// Date is a day of the proleptic Gregorian calendar; the zero Date is none.
type Date struct {
	Year  int
	Month time.Month
	Day   int
}

// MarshalText writes YYYY-MM-DD.
func (d Date) MarshalText() ([]byte, error) { return []byte(d.String()), nil }

func (d Date) String() string { return fmt.Sprintf("%04d-%02d-%02d", d.Year, d.Month, d.Day) }

// IsZero tells whether d is no date.
func (d Date) IsZero() bool { return d == Date{} }

// Days counts the days from 1970-01-01 to d.
func (d Date) Days() int {
	return int(time.Date(d.Year, d.Month, d.Day, 0, 0, 0, 0, time.UTC).Unix() / 86400)
}

// DateOf is the day that an instant is on, by the clock of its zone.
func DateOf(at time.Time) Date { return Date{at.Year(), at.Month(), at.Day()} }

// Add is the day so many days later.
func (d Date) Add(days int) Date {
	return DateOf(time.Date(d.Year, d.Month, d.Day+days, 0, 0, 0, 0, time.UTC))
}

// UnmarshalText reads YYYY-MM-DD, and no day that does not exist.
func (d *Date) UnmarshalText(b []byte) error {
	t, err := time.Parse(time.DateOnly, string(b))
	if err != nil || t.Year() < 1 {
		return Say("%q is no date: write YYYY-MM-DD, such as 2026-07-04", b)
	}
	*d = Date{t.Year(), t.Month(), t.Day()}
	return nil
}

// MonthDay is a day of any year, for seasons.
type MonthDay struct {
	Month time.Month
	Day   int
}

// MarshalText writes MM-DD.
func (d MonthDay) MarshalText() ([]byte, error) {
	return fmt.Appendf(nil, "%02d-%02d", d.Month, d.Day), nil
}

// UnmarshalText reads MM-DD; 02-29 is a day of any year.
func (d *MonthDay) UnmarshalText(b []byte) error {
	t, err := time.Parse(time.DateOnly, "2000-"+string(b))
	if err != nil || len(b) != 5 {
		return Say("%q is no day of the year: write MM-DD, such as 04-01", b)
	}
	*d = MonthDay{t.Month(), t.Day()}
	return nil
}

// Ordinal orders the days of a year: 101 is the first of January, 1231 the last of December.
func (d MonthDay) Ordinal() int { return int(d.Month)*100 + d.Day }

// Weekday is a day of the week, written mon to sun.
type Weekday time.Weekday

var weekdays = [7]string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

// MarshalText writes mon, tue, wed, thu, fri, sat or sun.
func (w Weekday) MarshalText() ([]byte, error) { return []byte(weekdays[w]), nil }

// UnmarshalText reads what MarshalText writes.
func (w *Weekday) UnmarshalText(b []byte) error {
	for i, name := range weekdays {
		if name == string(b) {
			*w = Weekday(i)
			return nil
		}
	}
	if near := Nearest(string(b[:min(len(b), 3)]), weekdays[:]); near != "" {
		return Say("%q is no day: did you mean %q?", b, near)
	}
	return Say("%q is no day: write mon, tue, wed, thu, fri, sat or sun", b)
}

// Limit is what an enforcement point is told to hold an allowed user to: a
// number, or a list of texts where Texts is not nil.
type Limit struct {
	Number float64
	Texts  []string
}

// MarshalJSON writes a number or a list of texts.
func (l Limit) MarshalJSON() ([]byte, error) {
	if l.Texts != nil {
		return json.Marshal(l.Texts)
	}
	return json.Marshal(l.Number)
}

// UnmarshalJSON reads a finite number or a list of texts.
func (l *Limit) UnmarshalJSON(b []byte) error {
	*l = Limit{}
	if strings.HasPrefix(string(b), "[") {
		l.Texts = []string{}
		return json.Unmarshal(b, &l.Texts)
	}
	n, err := strconv.ParseFloat(string(b), 64)
	if err != nil || math.IsInf(n, 0) || math.IsNaN(n) {
		return Say("%s is neither a number nor a list of texts", b)
	}
	l.Number = n
	return nil
}
