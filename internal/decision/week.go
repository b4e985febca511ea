package decision

import (
	"slices"

	"sentier/internal/policy"
)

// Week is the minutes of the wall clock in which a schedule is open that is the same every week, from Sunday on. Whatever the date and the
// clock change, it is open in these minutes and in no others.
type Week [(weekMinutes + 63) / 64]uint64

const (
	dayMinutes  = 24 * 60
	weekMinutes = 7 * dayMinutes
)

// weekOf is when a schedule is open, by which day it begins; nil where dates, seasons or calendars make it another from week to week.
func weekOf(s *policy.Schedule) *Week {
	if s.Season != nil || s.Dates != nil || len(s.Closed)+len(s.Special) > 0 {
		return nil
	}
	out := &Week{}
	for _, w := range s.Windows {
		for day := range 7 {
			if len(w.Days) > 0 && !slices.Contains(w.Days, policy.Weekday(day)) {
				continue
			}
			from, to := day*dayMinutes+int(w.From), day*dayMinutes+int(w.To)
			if to <= from {
				to += dayMinutes
			}
			for m := from; m < to; m++ {
				n := m % weekMinutes
				out[n/64] |= 1 << (n % 64)
			}
		}
	}
	return out
}

// Add opens the week in the minutes of another as well.
func (w *Week) Add(o *Week) {
	for i := range w {
		w[i] |= o[i]
	}
}

// Take shuts the week in the minutes of another.
func (w *Week) Take(o *Week) {
	for i := range w {
		w[i] &^= o[i]
	}
}

// wholeWeek is open in every minute.
var wholeWeek = func() (w Week) {
	for n := range weekMinutes {
		w[n/64] |= 1 << (n % 64)
	}
	return w
}()

// Weekly opens an empty week in the minutes in which the course allows while all but the schedules stays as it is at an instant, by the clock of a zone,
// or by any where that is empty. It cannot be told so, and ok is false, where the schedules are not the same every week.
func (k *Course) Weekly(at Moment, w *Week) (zone string, ok bool) {
	if !k.There() {
		return "", true
	}
	if k.Compiled.DirectFirst {
		return "", false
	}
	if !k.Who.Valid.Holds(at) || k.What.Lockout.Holds(at) && k.Compiled.RightList[k.Right].Controls {
		return "", true
	}
	var taken Week
	for i := range k.Parts {
		l := k.Parts[i].Line
		if !l.Valid.Holds(at) || !k.Parts[i].holds(at) {
			continue
		}
		into := w
		if l.Deny {
			into = &taken
		}
		if len(l.When) == 0 {
			*into = wholeWeek
		}
		for _, s := range l.When {
			if s.Week == nil || zone != "" && zone != s.Record.Zone {
				return "", false
			}
			zone = s.Record.Zone
			into.Add(s.Week)
		}
	}
	w.Take(&taken)
	return zone, true
}

// Steady is the first instant after at at which anything that bears on the answer begins or ends, but for schedules.
func (k *Course) Steady(at Moment) Moment {
	if !k.There() {
		return End
	}
	first := k.Who.Valid.Next(at)
	if k.Compiled.RightList[k.Right].Controls && k.What.Lockout != (Period{}) {
		first = min(first, k.What.Lockout.Next(at))
	}
	for i := range k.Parts {
		p := &k.Parts[i]
		first = min(first, p.Line.Valid.Next(at))
		for _, held := range p.Periods {
			first = min(first, held.Next(at))
		}
	}
	return first
}

// ManyWeeks is how long it takes at most until every minute of the week has been, whatever the clock change.
const ManyWeeks = 16 * dayMinutes * 60 * microsPerSecond

// Within tells whether the week is open only when another is.
func (w *Week) Within(o *Week) bool {
	for i := range w {
		if w[i]&^o[i] != 0 {
			return false
		}
	}
	return true
}
