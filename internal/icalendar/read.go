package icalendar

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"sentier/internal/outbound"
	"sentier/internal/policy"
	"sentier/internal/source"
)

// Bounds of what is followed.
const (
	firstYear    = 1900
	lastYear     = 2200
	mostDates    = 10_000 // of one property
	mostOnsets   = 5_000  // of one zone
	mostInterval = 100_000
	mostSteps    = 20_000_000 // that are looked at of one calendar
	mostTimes    = 100_000    // of all events, in the span that is asked for
)

// reader is a calendar while it is read.
type reader struct {
	root        *component
	of          zone // of times that have none
	zones       map[string]zone
	from, until time.Time // by the wall clock
	steps       int
}

// event is one VEVENT.
type event struct {
	uid, name  string
	categories []string
	line       int
	start      moment
	takes      length
	rules      []rule
	more, not  []moment
	cancelled  bool
	sequence   string

	of     moment // an override: which time it takes the place of
	over   bool   // it is one
	onward bool   // and of all that follow
	broken *policy.Said
}

// Time is one time of an event. Of whole days, From and Until are by the clock of whoever reads it.
type Time struct {
	UID, Name   string
	Categories  []string
	Line        int
	From, Until time.Time // the end is not within
	Date        bool      // whole days
	Broken      *policy.Said
}

// Times are the times of all events that touch a span of days, in order, by the clock of a zone where they have none. An event that cannot be understood is
// there as well, and says why. The error is that the calendar cannot be read.
func Times(text []byte, of *time.Location, from, until policy.Date) ([]Time, error) {
	root, err := parse(text)
	if err != nil {
		return nil, err
	}
	day := func(d policy.Date) time.Time { return time.Date(d.Year, d.Month, d.Day, 0, 0, 0, 0, time.UTC) }
	r := &reader{root: root, of: named{of}, zones: map[string]zone{}, from: day(from), until: day(until).AddDate(0, 0, 1)}
	var order []string
	byUID := map[string][]*event{}
	for _, c := range root.parts {
		if c.name != "VEVENT" {
			continue
		}
		e := r.event(c)
		if _, there := byUID[e.uid]; !there {
			order = append(order, e.uid)
		}
		byUID[e.uid] = append(byUID[e.uid], e)
	}
	var out []Time
	for _, uid := range order {
		times, problem := r.times(byUID[uid])
		if problem == nil && len(out)+len(times) > mostTimes {
			return nil, outbound.Fault(nil, "there are more than %d times of events in %d days", mostTimes, int(r.until.Sub(r.from).Hours()/24))
		}
		if problem != nil {
			e := byUID[uid][0]
			times = []Time{{UID: uid, Name: e.name, Categories: e.categories, Line: e.line, Broken: problem}}
		}
		out = append(out, times...)
	}
	slices.SortStableFunc(out, func(a, b Time) int { return cmp.Or(a.From.Compare(b.From), strings.Compare(a.UID, b.UID)) })
	return out, nil
}

// Read finds on which days the events of a calendar take place, of those from one to another.
func Read(text []byte, of *time.Location, from, until policy.Date) (*source.Held, error) {
	times, err := Times(text, of, from, until)
	if err != nil {
		return nil, err
	}
	held := &source.Held{Span: source.Span{First: from, Last: until}}
	for _, t := range times {
		e := source.Event{Outside: t.UID, Name: t.Name, Categories: t.Categories, Timed: !t.Date, Line: t.Line, Broken: t.Broken}
		if t.Broken == nil {
			e.First, e.Last = policy.DateOf(t.From.In(of)), policy.DateOf(t.Until.Add(-1).In(of))
			if !t.Until.After(t.From) {
				e.Last = e.First
			}
			e.First, e.Last = source.Later(e.First, from), source.Earlier(e.Last, until)
		}
		held.Events = append(held.Events, e)
	}
	return held, nil
}

// event reads one VEVENT.
func (r *reader) event(c *component) *event {
	e := &event{uid: c.text("UID"), name: c.text("SUMMARY"), categories: c.texts("CATEGORIES"), line: c.line, sequence: c.text("SEQUENCE")}
	if e.uid == "" { // each by itself
		e.uid = fmt.Sprintf("line %d", c.line)
	}
	e.cancelled = strings.EqualFold(c.text("STATUS"), "CANCELLED")
	e.broken = r.fill(e, c)
	return e
}

// fill reads when an event takes place.
func (r *reader) fill(e *event, c *component) *policy.Said {
	var problem *policy.Said
	begin, ok := c.first("DTSTART")
	if !ok {
		return policy.Complain("it does not say when it begins: DTSTART is missing")
	}
	if e.start, problem = r.moment(begin); problem != nil {
		return problem
	}
	if p, ok := c.first("RECURRENCE-ID"); ok {
		if e.of, problem = r.moment(p); problem != nil {
			return problem
		}
		e.over, e.onward = true, strings.EqualFold(p.params["RANGE"], "THISANDFUTURE")
	}
	end, ends := c.first("DTEND")
	takes, lasts := c.first("DURATION")
	switch {
	case ends:
		until, problem := r.moment(end)
		if problem != nil {
			return problem
		}
		if until.date != e.start.date {
			return policy.Complain("it begins on a day and ends at a time, or the other way round")
		}
		if e.takes = r.between(e.start, until); e.takes.days < 0 || e.takes.exact < 0 {
			return policy.Complain("it ends before it begins")
		}
	case lasts:
		if e.takes, problem = readLength(takes); problem != nil {
			return problem
		}
	}
	if e.start.date { // a day that has no end is one
		e.takes = length{days: max(e.takes.days+int(e.takes.exact/(24*time.Hour)), 1)}
	}
	for _, p := range c.properties {
		switch p.name {
		case "RRULE":
			rule, problem := readRule(p)
			if problem != nil {
				return problem
			}
			e.rules = append(e.rules, rule)
		case "RDATE", "EXDATE":
			list, problem := r.moments(p)
			if problem != nil {
				return problem
			}
			if p.name == "RDATE" {
				e.more = append(e.more, list...)
			} else {
				e.not = append(e.not, list...)
			}
		case "EXRULE":
			return policy.Complain("EXRULE on line %d is of an older standard: EXDATE is read", p.line)
		}
	}
	return nil
}

// between is how long something takes from a moment to another.
func (r *reader) between(from, until moment) length {
	if from.date {
		return length{days: int(until.wall.Sub(from.wall).Hours() / 24)}
	}
	a, _ := from.at(r.of)
	b, _ := until.at(r.of)
	return length{exact: b.Sub(a)}
}

// key tells times of one event apart.
func (r *reader) key(m moment) int64 {
	if m.date {
		return m.wall.Unix()
	}
	at, _ := m.at(r.of)
	return at.Unix()
}

// times are the times of an event with its overrides.
func (r *reader) times(all []*event) ([]Time, *policy.Said) {
	var main *event
	overrides := map[int64]*event{}
	var onward []*event
	for _, e := range all {
		if e.broken != nil {
			return nil, e.broken
		}
		switch {
		case !e.over:
			if main == nil || len(e.sequence) > len(main.sequence) || len(e.sequence) == len(main.sequence) && e.sequence >= main.sequence { // a later state of it
				main = e
			}
		case e.onward:
			onward = append(onward, e)
		default:
			overrides[r.key(e.of)] = e
		}
	}
	var out []Time
	if main != nil && !main.cancelled {
		slices.SortFunc(onward, func(a, b *event) int { return cmp.Compare(r.key(a.of), r.key(b.of)) })
		starts, problem := r.starts(main, onward)
		if problem != nil {
			return nil, problem
		}
		for _, start := range starts {
			key := r.key(start)
			if _, other := overrides[key]; other {
				continue
			}
			e := main
			for _, later := range onward {
				if r.key(later.of) <= key {
					e = later
				}
			}
			if e != main {
				start = moment{start.wall.Add(e.start.wall.Sub(e.of.wall)), e.start.zone, e.start.date}
			}
			if !e.cancelled {
				out = r.add(out, e, start)
			}
		}
	}
	for _, e := range overrides {
		if !e.cancelled && (main == nil || !main.cancelled) {
			out = r.add(out, e, e.start)
		}
	}
	return out, nil
}

// add adds a time of an event where it touches the span that is asked for.
func (r *reader) add(out []Time, e *event, start moment) []Time {
	from, _ := start.at(r.of)
	var until time.Time
	if e.takes.days > 0 {
		until, _ = moment{start.wall.AddDate(0, 0, e.takes.days), start.zone, start.date}.at(r.of)
	} else {
		until = from
	}
	until = until.Add(e.takes.exact)
	first, last := wallOf(r.of, from), wallOf(r.of, until)
	if !first.Before(r.until) || last.Before(r.from) || last.Equal(r.from) && until.After(from) {
		return out
	}
	return append(out, Time{UID: e.uid, Name: e.name, Categories: e.categories, Line: e.line, From: from, Until: until, Date: start.date})
}

// starts are the beginnings of an event and of its recurrences, but for its exceptions.
func (r *reader) starts(e *event, onward []*event) (out []moment, problem *policy.Said) {
	not, notOn := map[int64]bool{}, map[time.Time]bool{}
	for _, m := range e.not {
		if m.date && !e.start.date {
			notOn[m.wall] = true
		} else {
			not[r.key(m)] = true
		}
	}
	// What is moved by days may come into the span from after it.
	last := r.until.AddDate(0, 0, 2)
	for _, o := range onward {
		if earlier := o.of.wall.Sub(o.start.wall); earlier > 0 {
			last = last.Add(earlier)
		}
	}
	seen := map[int64]bool{}
	take := func(m moment) {
		key := r.key(m)
		if day := m.wall.Truncate(24 * time.Hour); !seen[key] && !not[key] && !notOn[day] {
			out = append(out, m)
		}
		seen[key] = true
	}
	take(e.start) // it always counts, whether or not its rules give it
	for i := range e.rules {
		rule := &e.rules[i]
		count := 1
		problem := rule.each(e.start.wall, last, &r.steps, func(wall time.Time) bool {
			m := moment{wall, e.start.zone, e.start.date}
			at, shown := m.at(r.of)
			if !shown && !m.date { // the clock is put forward over it: it is none, and does not count
				return true
			}
			if rule.over(wall, at) {
				return false
			}
			if !wall.Equal(e.start.wall) {
				if count++; rule.count > 0 && count > rule.count {
					return false
				}
			}
			take(m)
			return len(out) <= mostTimes
		})
		if problem != nil {
			return nil, problem
		}
	}
	for _, m := range e.more {
		take(m)
	}
	if len(out) > mostTimes {
		return nil, policy.Complain("it recurs too often to be followed to its end")
	}
	return out, nil
}
