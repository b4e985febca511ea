package icalendar

import (
	"slices"
	"strconv"
	"strings"
	"time"

	"sentier/internal/policy"
)

// A time without its zone is kept as if it were UTC: what the clock on the wall shows.

// zone tells what the clock on the wall shows.
type zone interface {
	// offset is by how much the clock is ahead of UTC at an instant.
	offset(at time.Time) time.Duration
}

// named is a zone of the IANA time zone database.
type named struct{ *time.Location }

func (z named) offset(at time.Time) time.Duration {
	_, seconds := at.In(z.Location).Zone()
	return time.Duration(seconds) * time.Second
}

// described is a zone that a calendar describes itself (RFC 5545, 3.6.5).
type described struct {
	onsets []onset // in order
	before time.Duration
}

type onset struct {
	at     time.Time
	offset time.Duration
}

func (z *described) offset(at time.Time) time.Duration {
	i, found := slices.BinarySearchFunc(z.onsets, at, func(o onset, at time.Time) int { return o.at.Compare(at) })
	if found {
		i++
	}
	if i == 0 {
		return z.before
	}
	return z.onsets[i-1].offset
}

// instant is when a wall clock shows a time: the first of two; ok is false where it never does, and the instant is by the clock as it was before.
func instant(z zone, wall time.Time) (at time.Time, ok bool) {
	before, after := z.offset(wall.Add(-24*time.Hour)), z.offset(wall.Add(24*time.Hour))
	for _, o := range []time.Duration{max(before, after), min(before, after)} {
		if at := wall.Add(-o); z.offset(at) == o {
			return at, true
		}
	}
	return wall.Add(-before), false
}

// wallOf is what the clock on the wall shows at an instant.
func wallOf(z zone, at time.Time) time.Time { return at.UTC().Add(z.offset(at)) }

// moment is a time as a calendar writes it (RFC 5545, 3.3.4 and 3.3.5).
type moment struct {
	wall time.Time
	zone zone // nil: that of whoever reads it
	date bool // a whole day
}

// at is the instant; of a whole day its first.
func (m moment) at(of zone) (time.Time, bool) {
	if m.zone != nil {
		of = m.zone
	}
	return instant(of, m.wall)
}

// moments reads the times of a property; a period stands for its beginning.
func (r *reader) moments(p property) (out []moment, problem *policy.Said) {
	var of zone
	if name, ok := p.params["TZID"]; ok {
		if of, problem = r.zone(name); problem != nil {
			return nil, problem
		}
	}
	for text := range strings.SplitSeq(p.value, ",") {
		text, _, _ = strings.Cut(strings.TrimSpace(text), "/")
		m := moment{zone: of}
		var err error
		switch body, utc := strings.CutSuffix(text, "Z"); {
		case len(text) == 8:
			m.date, m.zone = true, nil
			m.wall, err = time.Parse("20060102", text)
		case utc:
			m.zone = named{time.UTC}
			m.wall, err = time.Parse("20060102T150405", body)
		default:
			m.wall, err = time.Parse("20060102T150405", text)
		}
		if err != nil {
			return nil, policy.Complain("%s on line %d holds %q, which is no time", p.name, p.line, policy.Clip(text))
		}
		if m.wall.Year() < firstYear || m.wall.Year() > lastYear {
			return nil, policy.Complain("%s on line %d lies in the year %d: %d to %d are read", p.name, p.line, m.wall.Year(), firstYear, lastYear)
		}
		if out = append(out, m); len(out) > mostDates {
			return nil, policy.Complain("%s on line %d holds more than %d times", p.name, p.line, mostDates)
		}
	}
	return out, nil
}

// moment reads the one time of a property.
func (r *reader) moment(p property) (moment, *policy.Said) {
	list, problem := r.moments(p)
	if problem == nil && len(list) != 1 {
		problem = policy.Complain("%s on line %d holds %d times, and one is wanted", p.name, p.line, len(list))
	}
	if problem != nil {
		return moment{}, problem
	}
	return list[0], nil
}

// zone finds a zone by its name: of the IANA database, or as the calendar describes it.
func (r *reader) zone(name string) (zone, *policy.Said) {
	if z, ok := r.zones[name]; ok {
		return z, nil
	}
	if loc, err := policy.LoadZone(strings.TrimPrefix(name, "/")); err == nil {
		r.zones[name] = named{loc}
		return r.zones[name], nil
	}
	for _, c := range r.root.parts {
		if c.name == "VTIMEZONE" && c.text("TZID") == name {
			z, problem := r.describe(c)
			if problem == nil {
				r.zones[name] = z
			}
			return z, problem
		}
	}
	return nil, policy.Complain("the zone %q is none of the IANA time zone database, and the calendar does not describe it", policy.Clip(name))
}

// describe reads a zone that the calendar describes.
func (r *reader) describe(c *component) (zone, *policy.Said) {
	z := &described{}
	first := time.Time{}
	for _, part := range c.parts {
		if part.name != "STANDARD" && part.name != "DAYLIGHT" {
			continue
		}
		start, ok := part.first("DTSTART")
		from, fromOK := utcOffset(part.text("TZOFFSETFROM"))
		to, toOK := utcOffset(part.text("TZOFFSETTO"))
		if !ok || !fromOK || !toOK {
			return nil, policy.Complain("the zone on line %d cannot be read: DTSTART, TZOFFSETFROM and TZOFFSETTO are wanted", part.line)
		}
		begin, problem := r.moment(start)
		if problem != nil {
			return nil, problem
		}
		walls := []time.Time{begin.wall}
		for _, p := range part.properties {
			switch p.name {
			case "RDATE":
				list, problem := r.moments(p)
				if problem != nil {
					return nil, problem
				}
				for _, m := range list {
					walls = append(walls, m.wall)
				}
			case "RRULE":
				rule, problem := readRule(p)
				if problem != nil {
					return nil, problem
				}
				problem = rule.each(begin.wall, r.until.AddDate(0, 0, 2), &r.steps, func(wall time.Time) bool {
					at := wall.Add(-from)
					if rule.over(wall, at) || len(walls) > mostOnsets {
						return false
					}
					walls = append(walls, wall)
					return true
				})
				if problem != nil {
					return nil, problem
				}
			}
		}
		for _, wall := range walls {
			at := wall.Add(-from)
			z.onsets = append(z.onsets, onset{at, to})
			if first.IsZero() || at.Before(first) {
				first, z.before = at, from
			}
		}
	}
	if len(z.onsets) == 0 || len(z.onsets) > mostOnsets {
		return nil, policy.Complain("the zone on line %d says %d times what the clock shows: 1 to %d are read", c.line, len(z.onsets), mostOnsets)
	}
	slices.SortStableFunc(z.onsets, func(a, b onset) int { return a.at.Compare(b.at) })
	return z, nil
}

// utcOffset reads by how much a clock is ahead of UTC: +0100, -023000 (RFC 5545, 3.3.14).
func utcOffset(text string) (time.Duration, bool) {
	if len(text) != 5 && len(text) != 7 || text[0] != '+' && text[0] != '-' {
		return 0, false
	}
	n, err := strconv.ParseUint((text + "00")[1:7], 10, 32)
	if err != nil || n%100 > 59 || n/100%100 > 59 || n/10000 > 23 {
		return 0, false
	}
	out := time.Duration(n/10000)*time.Hour + time.Duration(n/100%100)*time.Minute + time.Duration(n%100)*time.Second
	if text[0] == '-' {
		out = -out
	}
	return out, true
}

// length is how long an event takes: whole days by the calendar, and hours by the clock (RFC 5545, 3.3.6).
type length struct {
	days  int
	exact time.Duration
}

func readLength(p property) (out length, problem *policy.Said) {
	fail := func() (length, *policy.Said) {
		return length{}, policy.Complain("%s on line %d is %q, which is no length of time", p.name, p.line, policy.Clip(p.value))
	}
	text := strings.TrimPrefix(strings.TrimSpace(p.value), "+")
	text, ok := strings.CutPrefix(text, "P")
	if !ok || text == "" {
		return fail()
	}
	inTime := false
	for text != "" {
		if rest, ok := strings.CutPrefix(text, "T"); ok && !inTime && rest != "" {
			inTime, text = true, rest
			continue
		}
		digits := len(text) - len(strings.TrimLeft(text, "0123456789"))
		if digits == 0 || digits > 6 || digits == len(text) {
			return fail()
		}
		n, err := strconv.Atoi(text[:digits])
		if err != nil {
			return fail()
		}
		switch unit := text[digits]; {
		case unit == 'W' && !inTime:
			out.days += 7 * n
		case unit == 'D' && !inTime:
			out.days += n
		case unit == 'H' && inTime:
			out.exact += time.Duration(n) * time.Hour
		case unit == 'M' && inTime:
			out.exact += time.Duration(n) * time.Minute
		case unit == 'S' && inTime:
			out.exact += time.Duration(n) * time.Second
		default:
			return fail()
		}
		text = text[digits+1:]
	}
	return out, nil
}
