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

// Within tells whether the week is open only when another is.
func (w *Week) Within(o *Week) bool {
	for i := range w {
		if w[i]&^o[i] != 0 {
			return false
		}
	}
	return true
}
