package icalendar

import (
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/teambition/rrule-go"

	"sentier/internal/policy"
)

// rule is a rule by which something recurs (RFC 5545, 3.3.10), without its end.
type rule struct {
	line    int
	options rrule.ROption
	count   int // 0: no count
	until   moment
	ends    bool // until is given
}

// units are the lengths of what recurs more than once a day.
var units = map[rrule.Frequency]time.Duration{rrule.HOURLY: time.Hour, rrule.MINUTELY: time.Minute, rrule.SECONDLY: time.Second}

// readRule reads a rule.
func readRule(p property) (out rule, problem *policy.Said) {
	out.line = p.line
	var rest []string
	seen := map[string]bool{}
	for part := range strings.SplitSeq(strings.ToUpper(strings.TrimSuffix(strings.TrimSpace(p.value), ";")), ";") {
		name, value, _ := strings.Cut(part, "=")
		if seen[name] {
			return rule{}, policy.Complain("the rule on line %d says %s twice", p.line, policy.Clip(name))
		}
		seen[name] = true
		switch name {
		case "COUNT":
			n, err := strconv.Atoi(value)
			if err != nil || n < 1 {
				return rule{}, policy.Complain("the rule on line %d counts to %q: write a number from 1", p.line, policy.Clip(value))
			}
			out.count = n
			continue
		case "INTERVAL":
			n, err := strconv.Atoi(value)
			if err != nil || n < 1 || n > mostInterval {
				return rule{}, policy.Complain("the rule on line %d has the interval %q: 1 to %d are read", p.line, policy.Clip(value), mostInterval)
			}
		case "UNTIL":
			r := reader{}
			until, problem := r.moment(property{name: "UNTIL", value: value, line: p.line})
			if problem != nil {
				return rule{}, problem
			}
			out.until, out.ends = until, true
			continue
		case "BYEASTER", "DTSTART":
			return rule{}, policy.Complain("the rule on line %d cannot be read: %s is no part of one", p.line, name)
		}
		rest = append(rest, part)
	}
	options, err := rrule.StrToROption(strings.Join(rest, ";"))
	if err == nil {
		out.options = *options
		_, err = rrule.NewRRule(out.options)
	}
	if err != nil {
		return rule{}, policy.Complain("the rule on line %d cannot be read: %s", p.line, policy.Clip(err.Error()))
	}
	if out.ends && out.count > 0 {
		return rule{}, policy.Complain("the rule on line %d has both COUNT and UNTIL: one is wanted", p.line)
	}
	o := &out.options
	o.Interval = max(o.Interval, 1)
	for _, list := range []*[]int{&o.Bysetpos, &o.Bymonth, &o.Bymonthday, &o.Byyearday, &o.Byweekno, &o.Byhour, &o.Byminute, &o.Bysecond} {
		slices.Sort(*list)
		*list = slices.Compact(*list)
	}
	if units[o.Freq] > 0 && len(o.Bysetpos)+len(o.Byweekno) > 0 {
		return rule{}, policy.Complain("the rule on line %d recurs within a day: it can have no BYSETPOS and no BYWEEKNO", p.line)
	}
	if slices.ContainsFunc(o.Byweekday, func(d rrule.Weekday) bool { return d.N() != 0 }) && (o.Freq > rrule.MONTHLY || len(o.Byweekno) > 0) {
		return rule{}, policy.Complain("the rule on line %d counts weekdays, which goes with months and years alone", p.line)
	}
	return out, nil
}

// over tells whether a time lies after the end of the rule.
func (r *rule) over(wall, at time.Time) bool {
	switch {
	case !r.ends:
		return false
	case r.until.date:
		return !wall.Before(r.until.wall.AddDate(0, 0, 1))
	case r.until.zone != nil:
		return at.After(r.until.wall)
	}
	return wall.After(r.until.wall)
}

// each gives the times by the wall clock at which something recurs that begins at one, in order and up to a last. steps bounds what is looked at of a whole
// calendar.
func (r *rule) each(start, last time.Time, steps *int, yield func(time.Time) bool) *policy.Said {
	tooMany := func() *policy.Said {
		return policy.Complain("the rule on line %d recurs too often to be followed to its end", r.line)
	}
	next := r.within(start, last)
	if next == nil {
		o := r.options
		o.Dtstart, o.Until = start, last
		made, err := rrule.NewRRule(o)
		if err != nil {
			return policy.Complain("the rule on line %d cannot be read: %s", r.line, policy.Clip(err.Error()))
		}
		next = made.Iterator()
		if r.mayNeverCome() { // which is looked for until the year 9999: that counts as well
			*steps += map[rrule.Frequency]int{rrule.DAILY: 250_000, rrule.WEEKLY: 180_000, rrule.MONTHLY: 40_000, rrule.YEARLY: 40_000}[o.Freq] / o.Interval
		}
	}
	for {
		if *steps++; *steps > mostSteps {
			return tooMany()
		}
		at, ok := next()
		if !ok {
			return nil
		}
		if !at.IsZero() && !yield(at) {
			return nil
		}
	}
}

// mayNeverCome tells whether the parts of a rule could rule each other out, as the 30th of February does.
func (r *rule) mayNeverCome() bool {
	o := &r.options
	months := o.Bymonth
	if len(months) == 0 {
		months = []int{1}
	}
	comes := len(o.Bymonthday) == 0
	for _, m := range months {
		longest := time.Date(2024, time.Month(m)+1, 0, 0, 0, 0, 0, time.UTC).Day()
		comes = comes || slices.ContainsFunc(o.Bymonthday, func(d int) bool { return max(d, -d) <= longest })
	}
	others := len(o.Bymonth) + len(o.Bymonthday) + len(o.Byweekday)
	return !comes || len(o.Bysetpos) > 0 || len(o.Byyearday) > 0 && others+len(o.Byweekno) > 0 || len(o.Byweekno) > 0 && others > len(o.Byweekday) ||
		slices.ContainsFunc(o.Byweekday, func(d rrule.Weekday) bool { return max(d.N(), -d.N()) > 5 })
}

// within gives the times of a rule that recurs within a day, and a zero time for each that does not fit; nil: it does not recur so often.
func (r *rule) within(start, last time.Time) func() (time.Time, bool) {
	unit := units[r.options.Freq] * time.Duration(r.options.Interval)
	if unit == 0 {
		return nil
	}
	o := &r.options
	fits := func(list []int, value int) bool { return len(list) == 0 || slices.Contains(list, value) }
	seconds, minutes := o.Bysecond, o.Byminute
	if o.Freq == rrule.SECONDLY || len(seconds) == 0 {
		seconds = []int{-1}
	}
	if o.Freq >= rrule.MINUTELY || len(minutes) == 0 {
		minutes = []int{-1}
	}
	at, todo := start.Add(-unit), []time.Time(nil)
	return func() (time.Time, bool) {
		if len(todo) > 0 {
			t := todo[0]
			todo = todo[1:]
			return t, true
		}
		if at = at.Add(unit); at.After(last) {
			return time.Time{}, false
		}
		monthEnd := time.Date(at.Year(), at.Month()+1, 0, 0, 0, 0, 0, time.UTC).Day()
		yearEnd := time.Date(at.Year(), time.December, 31, 0, 0, 0, 0, time.UTC).YearDay()
		day := fits(o.Bymonth, int(at.Month())) && fits(o.Byhour, at.Hour()) &&
			(fits(o.Bymonthday, at.Day()) || fits(o.Bymonthday, at.Day()-monthEnd-1)) && (fits(o.Byyearday, at.YearDay()) || fits(o.Byyearday, at.YearDay()-yearEnd-1)) &&
			(len(o.Byweekday) == 0 || slices.ContainsFunc(o.Byweekday, func(d rrule.Weekday) bool { return d.Day() == (int(at.Weekday())+6)%7 }))
		if !day || o.Freq >= rrule.MINUTELY && !fits(o.Byminute, at.Minute()) || o.Freq == rrule.SECONDLY && !fits(o.Bysecond, at.Second()) {
			return time.Time{}, true
		}
		for _, m := range minutes {
			for _, s := range seconds {
				t := at
				if m >= 0 {
					t = t.Add(time.Duration(m-t.Minute()) * time.Minute)
				}
				if s >= 0 {
					t = t.Add(time.Duration(s-t.Second()) * time.Second)
				}
				if !t.Before(start) && !t.After(last) {
					todo = append(todo, t)
				}
			}
		}
		return time.Time{}, true
	}
}
