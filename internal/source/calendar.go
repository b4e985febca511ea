package source

import (
	"cmp"
	"fmt"
	"iter"
	"maps"
	"slices"
	"strings"

	"sentier/internal/policy"
)

// CalendarDays are the days of one of our calendars, as they would be and with those that would go.
type CalendarDays struct {
	Calendar string
	Days     []policy.CalendarDay // in order, within the span
	Comes    []policy.Date        // that were none before
	Goes     []policy.CalendarDay
	Events   int // that give it days
}

// LeaveTimedOut leaves those events out that are not on whole days.
func (h *Held) LeaveTimedOut() {
	h.Events = slices.DeleteFunc(h.Events, func(e Event) bool { return e.Timed && e.Broken == nil })
}

// calendars finds the days of the calendars that the source keeps.
func (w *planner) calendars() {
	of, keeps := map[string][]*Event{}, map[string]bool{}
	var order []string
	for _, r := range w.settings.Calendars {
		if !keeps[r.Calendar] {
			keeps[r.Calendar] = true
			order = append(order, r.Calendar)
		}
	}
	fits := make([]int, len(w.settings.Calendars))
	loose := map[string]int{}
	for i := range w.held.Events {
		e := &w.held.Events[i]
		at := slices.IndexFunc(w.settings.Calendars, func(r CalendarRule) bool { return r.fits(e) })
		switch {
		case at < 0:
			loose[e.Name]++
		case e.Broken != nil:
			w.Faults = append(w.Faults, Problem{e.place(), *e.Broken})
			w.Told = append(w.Told, Problem{e.place(), *e.Broken})
			fits[at]++
		default:
			fits[at]++
			of[w.settings.Calendars[at].Calendar] = append(of[w.settings.Calendars[at].Calendar], e)
		}
	}
	for i, r := range w.settings.Calendars {
		row := Matched{Outside: cmp.Or(r.Text, "*"), Place: r.Match, Calendar: r.Calendar, Rule: true, Found: fits[i] > 0, Members: fits[i]}
		if !row.Found {
			row.Why = "missing"
			row.Near, row.NearBy = w.nearEvent(r)
		}
		w.Matched = append(w.Matched, row)
	}
	if len(keeps) > 0 {
		for _, name := range slices.Sorted(maps.Keys(loose)) {
			w.Loose = append(w.Loose, Matched{Outside: name, Members: loose[name], Found: true})
		}
	}
	for _, id := range order {
		w.calendar(id, of[id])
	}
	for _, o := range w.known.things(w.source, policy.Calendars) {
		if _, there := w.policy.Get(policy.Calendars, o.Record); !keeps[o.Record] || !there {
			w.Lost = append(w.Lost, o)
		}
	}
}

// place is where an event stands, for people.
func (e *Event) place() string {
	return fmt.Sprintf("line %d, %s", e.Line, cmp.Or(Plain(policy.Clip(e.Name)), policy.Clip(e.Outside)))
}

// nearEvent is the category or name that was probably meant by a rule that fits nothing, and how often it is there; empty: none.
func (w *planner) nearEvent(r CalendarRule) (near string, count int) {
	names := map[string]int{}
	for i := range w.held.Events {
		switch e := &w.held.Events[i]; r.Match {
		case "name":
			names[e.Name]++
		case "category":
			for _, c := range e.Categories {
				names[c]++
			}
		}
	}
	near = nearName(r.Text, slices.Sorted(maps.Keys(names)))
	return near, names[near]
}

// calendar finds the days of one calendar. Those before the span stay as they were.
func (w *planner) calendar(id string, events []*Event) {
	c, there := policy.Find[*policy.Calendar](w.policy, id)
	if !there {
		w.tell(id, "there is no calendar %q: make it first", id)
		return
	}
	o, kept := w.known.Origin(policy.Calendars, id)
	if kept && o.Source != w.source {
		w.tell(id, "the days of %s are kept by %s already", c.Title(), w.known.Name(o.Source))
		return
	}
	out := CalendarDays{Calendar: id, Days: daysOf(events), Events: len(events)}
	next := *c
	next.Days = nil
	before, span := map[policy.Date]bool{}, w.held.Span
	for _, d := range c.Days {
		first, last := d.Bounds()
		earlier := d
		if last.Days() >= span.First.Days() {
			earlier = dayRange(first, span.First.Add(-1), d.Name)
			out.Goes = append(out.Goes, dayRange(Later(first, span.First), last, d.Name))
			for at := range days(Later(first, span.First), Earlier(last, span.Last)) {
				before[at] = true
			}
		}
		if first.Days() < span.First.Days() {
			next.Days = append(next.Days, earlier)
		}
	}
	next.Days = append(next.Days, out.Days...)
	now := map[policy.Date]bool{}
	for _, d := range out.Days {
		first, last := d.Bounds()
		for at := range days(first, Earlier(last, span.Last)) {
			if !now[at] && !before[at] {
				out.Comes = append(out.Comes, at)
			}
			now[at] = true
		}
	}
	out.Goes = slices.DeleteFunc(out.Goes, func(d policy.CalendarDay) bool {
		first, last := d.Bounds()
		for at := range days(first, Earlier(last, span.Last)) {
			if !now[at] {
				return false
			}
		}
		return true
	})
	for at := range before {
		if !now[at] {
			w.GoneDays++
		}
	}
	w.DaysBefore += len(before)
	w.NewDays += len(out.Comes)
	if !slices.Equal(next.Days, c.Days) && w.sound(id, policy.Empty(), &next) {
		w.Changes = append(w.Changes, policy.Change{Op: policy.Put, Type: policy.Calendars, ID: id, Record: &next})
	}
	if !kept {
		w.Origins = append(w.Origins, Origin{Source: w.source, Type: policy.Calendars, Outside: id, Record: id})
	}
	w.Calendars = append(w.Calendars, out)
}

// daysOf are the days of events, in order: those of one name that follow each other are one range.
func daysOf(events []*Event) (out []policy.CalendarDay) {
	type run struct {
		Span
		name string
	}
	byName := map[string][]Span{}
	for _, e := range events {
		name := Plain(policy.Clip(e.Name))
		byName[name] = append(byName[name], e.Span)
	}
	var runs []run
	for name, spans := range byName {
		slices.SortFunc(spans, func(a, b Span) int {
			return cmp.Or(cmp.Compare(a.First.Days(), b.First.Days()), cmp.Compare(a.Last.Days(), b.Last.Days()))
		})
		at := spans[0]
		for _, s := range spans[1:] {
			if s.First.Days() > at.Last.Days()+1 {
				runs = append(runs, run{at, name})
				at = s
			}
			at.Last = Later(at.Last, s.Last)
		}
		runs = append(runs, run{at, name})
	}
	slices.SortFunc(runs, func(a, b run) int {
		return cmp.Or(cmp.Compare(a.First.Days(), b.First.Days()), cmp.Compare(a.Last.Days(), b.Last.Days()), strings.Compare(a.name, b.name))
	})
	for _, r := range runs {
		out = append(out, dayRange(r.First, r.Last, r.name))
	}
	return out
}

func dayRange(first, last policy.Date, name string) policy.CalendarDay {
	if first == last {
		return policy.CalendarDay{Date: first, Name: name}
	}
	return policy.CalendarDay{From: first, To: last, Name: name}
}

// days are the days from one to another, both included.
func days(first, last policy.Date) iter.Seq[policy.Date] {
	return func(yield func(policy.Date) bool) {
		for at := first; at.Days() <= last.Days() && yield(at); at = at.Add(1) {
		}
	}
}

// Later is the later of two days.
func Later(a, b policy.Date) policy.Date {
	if a.Days() > b.Days() {
		return a
	}
	return b
}

// Earlier is the earlier of two days.
func Earlier(a, b policy.Date) policy.Date {
	if a.Days() < b.Days() {
		return a
	}
	return b
}
