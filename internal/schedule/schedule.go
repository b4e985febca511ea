// Package schedule judges schedules: is one open at an instant, and when does that change?
// It carries out "When: schedules" of the semantics, and keeps no clock of its own.
package schedule

import (
	"cmp"
	"math"
	"slices"
	"sort"
	"sync/atomic"
	"time"

	"sentier/internal/policy"
)

// Horizon is how far ahead of an instant its next change is looked for. It is more than the 400
// days that an answer can hold, so that "none" is never said too early.
const Horizon = 401 * 24 * time.Hour

// Never stands for an instant beyond every horizon, in Unix seconds.
const Never int64 = math.MaxInt64

const answerHorizon = 400 * daySeconds

const daySeconds = 24 * 60 * 60

// Schedule is a [policy.Schedule] with its calendars, compiled. It is immutable.
type Schedule struct {
	windows [7][]span // by weekday of the start day
	season  *policy.Season
	dates   days // the days that Dates allows
	closed  []days
	special []special
}

type special struct {
	on      []days
	windows []span
}

// span is a range of minutes after the midnight of the start day; it may end on the next day.
type span struct{ from, to int }

// days is a range of days since 1970-01-01, both ends included.
type days struct{ first, last int }

// Compile prepares a schedule. calendar gives the calendar of an id; one that is not there has no days.
func Compile(s *policy.Schedule, calendar func(policy.CalendarID) (*policy.Calendar, bool)) *Schedule {
	out := &Schedule{season: s.Season, dates: days{math.MinInt, math.MaxInt}}
	for _, w := range s.Windows {
		open := spanOf(w.From, w.To)
		for day := range out.windows {
			if len(w.Days) == 0 || slices.Contains(w.Days, policy.Weekday(day)) {
				out.windows[day] = append(out.windows[day], open)
			}
		}
	}
	if d := s.Dates; d != nil {
		if !d.From.IsZero() {
			out.dates.first = d.From.Days()
		}
		if !d.To.IsZero() {
			out.dates.last = d.To.Days()
		}
	}
	for _, id := range s.Closed {
		out.closed = append(out.closed, daysOf(id, calendar)...)
	}
	out.closed = merged(out.closed)
	for _, sp := range s.Special {
		entry := special{on: merged(daysOf(sp.Calendar, calendar))}
		for _, w := range sp.Windows {
			entry.windows = append(entry.windows, spanOf(w.From, w.To))
		}
		out.special = append(out.special, entry)
	}
	return out
}

// spanOf reads "to on the same day, or, when to is not later than from, on the next day".
func spanOf(from, to policy.Clock) span {
	s := span{int(from), int(to)}
	if s.to <= s.from {
		s.to += int(policy.Midnight)
	}
	return s
}

func daysOf(id policy.CalendarID, calendar func(policy.CalendarID) (*policy.Calendar, bool)) []days {
	c, ok := calendar(id)
	if !ok {
		return nil
	}
	out := make([]days, len(c.Days))
	for i, d := range c.Days {
		first, last := d.Bounds()
		out[i] = days{first.Days(), last.Days()}
	}
	return out
}

// merged sorts ranges and joins those that overlap or touch.
func merged(list []days) []days {
	slices.SortFunc(list, func(a, b days) int { return cmp.Compare(a.first, b.first) })
	out := list[:0]
	for _, d := range list {
		if n := len(out); n > 0 && d.first <= out[n-1].last+1 {
			out[n-1].last = max(out[n-1].last, d.last)
			continue
		}
		out = append(out, d)
	}
	return out
}

func contains(list []days, day int) bool {
	i := sort.Search(len(list), func(i int) bool { return list[i].last >= day })
	return i < len(list) && list[i].first <= day
}

// startWindows are the windows that open on a day: the second and third rule of the semantics.
func (s *Schedule) startWindows(day int) []span {
	if day < s.dates.first || day > s.dates.last || contains(s.closed, day) || !s.inSeason(day) {
		return nil
	}
	for _, sp := range s.special {
		if contains(sp.on, day) {
			return sp.windows
		}
	}
	return s.windows[weekday(day)]
}

// weekday of a day since 1970-01-01, a Thursday.
func weekday(day int) int { return ((day+4)%7 + 7) % 7 }

func (s *Schedule) inSeason(day int) bool {
	if s.season == nil {
		return true
	}
	_, month, d := time.Unix(int64(day)*daySeconds, 0).UTC().Date()
	now, from, to := policy.MonthDay{Month: month, Day: d}.Ordinal(), s.season.From.Ordinal(), s.season.To.Ordinal()
	if from <= to {
		return from <= now && now <= to
	}
	return now >= from || now <= to
}

// wall gives the minutes of a day at which the schedule is open by the wall clock, in order and
// apart: what opens on the day, and what runs on from the day before.
func (s *Schedule) wall(day int, buffer []span) []span {
	const midnight = int(policy.Midnight)
	open := buffer[:0]
	for _, w := range s.startWindows(day - 1) {
		if w.to > midnight {
			open = append(open, span{0, w.to - midnight})
		}
	}
	for _, w := range s.startWindows(day) {
		open = append(open, span{w.from, min(w.to, midnight)})
	}
	slices.SortFunc(open, func(a, b span) int { return cmp.Compare(a.from, b.from) })
	out := open[:0]
	for _, w := range open {
		if n := len(out); n > 0 && w.from <= out[n-1].to {
			out[n-1].to = max(out[n-1].to, w.to)
			continue
		}
		out = append(out, w)
	}
	return out
}

// Opening is a stretch of time, [From, Until) in Unix seconds, in which a schedule stays open.
type Opening struct{ From, Until int64 }

// Openings calls yield for each stretch in [from, until) in which the schedule is open by the clock of
// zone, in order and cut at both ends, until yield returns false. Only the wall clock counts: where an
// hour occurs twice it is inside both times, where it is skipped it never occurs.
func (s *Schedule) Openings(zone *time.Location, from, until int64, yield func(Opening) bool) {
	var buffer [16]span
	var held Opening // grows while what follows touches it
	emit := func(o Opening) bool {
		if o.From == held.Until && held.Until != held.From {
			held.Until = o.Until
			return true
		}
		last := held
		held = o
		return last.From == last.Until || yield(last)
	}
	for t := from; t < until; {
		local := time.Unix(t, 0).In(zone)
		_, offset := local.Zone()
		end := until
		if _, bound := local.ZoneBounds(); !bound.IsZero() {
			end = min(end, bound.Unix())
		}
		shift := int64(offset)
		for day := floorDay(t + shift); int64(day)*daySeconds-shift < end; day++ {
			midnight := int64(day)*daySeconds - shift
			for _, w := range s.wall(day, buffer[:]) {
				o := Opening{max(midnight+int64(w.from)*60, t), min(midnight+int64(w.to)*60, end)}
				if o.From < o.Until && !emit(o) {
					return
				}
			}
		}
		t = end
	}
	if held.From != held.Until {
		yield(held)
	}
}

func floorDay(seconds int64) int {
	day := seconds / daySeconds
	if seconds%daySeconds < 0 {
		day--
	}
	return int(day)
}

// Timeline is a schedule by the clock of one zone. It remembers the last answer, which holds until it
// ends, and is safe for use by many at once.
type Timeline struct {
	schedule *Schedule
	zone     *time.Location
	last     atomic.Pointer[state]
	began    atomic.Pointer[beginning]
	looks    atomic.Int64          // since the last table was written
	table    atomic.Pointer[table] // nil: none yet
}

type state struct {
	from, until int64 // the state lasts from from, where it was asked for, to until
	known       int64 // what was looked at ends here
	open        bool
}

// In gives the schedule by the clock of a zone.
func (s *Schedule) In(zone *time.Location) *Timeline { return &Timeline{schedule: s, zone: zone} }

// Zone is the zone by whose clock the timeline goes.
func (t *Timeline) Zone() *time.Location { return t.zone }

// At tells whether the schedule is open at an instant (Unix seconds; its fraction does not matter, as
// windows begin and end on whole minutes), and the next instant at which that changes:
// [Never] where it does not within 400 days.
func (t *Timeline) At(at int64) (open bool, until int64) {
	s := t.last.Load()
	if s == nil || at < s.from || at >= s.until || s.until == Never && at+answerHorizon > s.known {
		s = t.look(at)
	}
	return s.open, s.until
}

// Open tells whether the schedule is open at an instant, in Unix seconds.
func (t *Timeline) Open(at int64) bool {
	s := t.last.Load()
	if s == nil || at < s.from || at >= min(s.until, s.known) {
		s = t.look(at)
	}
	return s.open
}

func (t *Timeline) look(at int64) *state {
	if s := t.ahead(at); s != nil {
		t.last.Store(s)
		return s
	}
	s := &state{from: at, until: Never, known: at + int64(Horizon/time.Second)}
	t.schedule.Openings(t.zone, at, s.known, func(o Opening) bool {
		s.open = o.From == at
		s.until = o.From
		if s.open {
			s.until = o.Until
		}
		return false
	})
	if s.until >= s.known {
		s.until = Never
	}
	t.last.Store(s)
	return s
}

// Since is the instant at which the present stretch, open or closed, began, looked for over the time
// before; ok is false where it began earlier than that.
func (t *Timeline) Since(at int64, back time.Duration) (since int64, ok bool) {
	start := at - int64(back/time.Second)
	if b := t.began.Load(); b != nil && at >= b.from && at < b.until && (b.found || start >= b.looked) {
		since = max(b.since, start)
		return since, since > start
	}
	since = start
	t.schedule.Openings(t.zone, start, at+1, func(o Opening) bool {
		since = o.Until
		if o.Until > at {
			since = o.From
		}
		return true
	})
	b := &beginning{from: at, since: since, looked: start, found: since > start}
	if b.found {
		b.from = since
	}
	if _, b.until = t.At(at); b.until == Never {
		b.until = at + 1 // it may end beyond what At looks at
	}
	t.began.Store(b)
	return since, b.found
}

// beginning is when a stretch began, which is the same for all instants from from to until.
type beginning struct {
	from, until, since int64
	looked             int64 // from when on it was looked for
	found              bool
}
