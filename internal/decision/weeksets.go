package decision

import (
	"math/bits"
	"slices"

	"sentier/internal/policy"
)

// Weeks tells the minutes of the week apart as far as any schedule does that is the same every week: minutes in which the same schedules are open share a
// cell, so that a few words hold what a week of minutes would.
type Weeks struct {
	words int
	sets  map[*Schedules][]uint64
}

// Weeks are the cells of all schedules of a policy that are the same every week.
func (c *Compiled) Weeks() *Weeks {
	var weekly []*Schedules
	for _, s := range c.schedules {
		if s.Week != nil {
			weekly = append(weekly, s)
		}
	}
	cells := map[string]int{}
	var of [weekMinutes]int
	key := make([]byte, (len(weekly)+7)/8)
	for n := range weekMinutes {
		clear(key)
		for i, s := range weekly {
			key[i/8] |= byte(s.Week[n/64]>>(n%64)&1) << (i % 8)
		}
		cell, ok := cells[string(key)]
		if !ok {
			cell = len(cells)
			cells[string(key)] = cell
		}
		of[n] = cell
	}
	out := &Weeks{words: (len(cells) + 63) / 64, sets: map[*Schedules][]uint64{nil: make([]uint64, (len(cells)+63)/64)}}
	for cell := range cells {
		n := cells[cell]
		out.sets[nil][n/64] |= 1 << (n % 64) // a line without a schedule is open in all
	}
	for _, s := range weekly {
		set := make([]uint64, out.words)
		for n := range weekMinutes {
			if s.Week[n/64]>>(n%64)&1 != 0 {
				set[of[n]/64] |= 1 << (of[n] % 64)
			}
		}
		out.sets[s] = set
	}
	return out
}

// Open is the set of cells in which a line is open that allows by the clock of the site alone, the same every week and without an end; nil for all others.
// What several of such lines allow together is the union of their sets, at every instant.
func (w *Weeks) Open(l *Line) []uint64 {
	if l.Deny || l.Ifs != nil || l.Valid != Always {
		return nil
	}
	if len(l.When) == 0 {
		return w.sets[nil]
	}
	out := make([]uint64, w.words)
	for _, s := range l.When {
		set, weekly := w.sets[s]
		if !weekly || s.Record.Zone != policy.SiteZone {
			return nil
		}
		for n := range set {
			out[n] |= set[n]
		}
	}
	return out
}

// WeekSets are the parts of a hand as sets of cells, for each of the times between the ends of anything that bears on them. Parts are told by their bits.
type WeekSets struct {
	Bears  []uint64 // by right: the parts that give or take it, where it is for the kind of device
	Denies uint64   // the parts that take
	weeks  *Weeks
	parts  []Part
	who    *UserClass
	what   *DeviceClass
	rules  *Rights
	ends   []Moment
	open   []uint64 // by part: when its schedules are open
	taken  []uint64
	none   []uint64
}

// mostParts is how many parts of a hand can be told by bits.
const mostParts = 64

// Take reads the parts that bear on a user and a resource of a class each, from an instant on. It tells whether sets of cells can say when they hold:
// there are no conditions, and schedules by one clock that are the same every week.
func (s *WeekSets) Take(c *Compiled, weeks *Weeks, parts []Part, who *UserClass, what *DeviceClass, at Moment) bool {
	if c.DirectFirst || len(parts) > mostParts {
		return false
	}
	last := at + AnswerHorizon + 1
	s.weeks, s.parts, s.who, s.what, s.rules = weeks, parts, who, what, c.Rights
	s.ends, s.open = append(s.ends[:0], at, last), s.open[:0]
	s.bound(who.Valid)
	if what.Lockout != (Period{}) {
		s.bound(what.Lockout)
	}
	zone := ""
	s.Denies = 0
	for i := range parts {
		l := parts[i].Line
		if l.Ifs != nil && (len(l.Ifs.Networks)+len(l.Ifs.Places) > 0 || l.Ifs.StrongSignIn != nil || l.Ifs.Attended != nil) {
			return false
		}
		if l.Deny {
			s.Denies |= 1 << i
		}
		if l.Valid != Always {
			s.bound(l.Valid)
		}
		for _, p := range parts[i].Periods {
			if p != Always {
				s.bound(p)
			}
		}
		from := len(s.open)
		if len(l.When) == 0 {
			s.open = append(s.open, weeks.sets[nil]...)
			continue
		}
		for n, x := range l.When {
			set, weekly := weeks.sets[x]
			if !weekly || zone != "" && zone != x.Record.Zone {
				return false
			}
			zone = x.Record.Zone
			if n == 0 {
				s.open = append(s.open, set...)
				continue
			}
			for w := range set {
				s.open[from+w] |= set[w]
			}
		}
	}
	if len(s.ends) > 2 {
		slices.Sort(s.ends)
		s.ends = slices.Compact(s.ends)
	}
	s.Bears = s.Bears[:0]
	for right := range c.RightList {
		bears := uint64(0)
		if c.RightList[right].For(what.Facts.Kind) {
			for i := range parts {
				bears |= uint64(Bit(parts[i].Bears(right))) << i
			}
		}
		s.Bears = append(s.Bears, bears)
	}
	return true
}

func (s *WeekSets) bound(p Period) {
	for _, end := range []Moment{p.From, p.Until} {
		if end > s.ends[0] && end < s.ends[1] {
			s.ends = append(s.ends, end)
		}
	}
}

// Less tells whether a set lacks anything that another has, of one hand; sure is false where that may be at no minute, as the time is less than a week.
func (s *WeekSets) Less(a, b []uint64) (less, sure bool) {
	words, sure := s.weeks.words, true
	for n := range s.ends[1:] {
		if subset(b[n*words:][:words], a[n*words:][:words]) {
			continue
		}
		if s.ends[n+1]-s.ends[n] >= ManyWeeks {
			return true, true
		}
		sure = false
	}
	return false, sure
}

// Some tells whether there is anything in a set; sure as for [WeekSets.Less].
func (s *WeekSets) Some(a []uint64) (some, sure bool) {
	s.none = s.none[:0]
	for range a {
		s.none = append(s.none, 0)
	}
	return s.Less(s.none, a)
}

// Allowed is when a right is allowed by some of the parts: a set of cells for each of the times, in the room of an earlier one.
func (s *WeekSets) Allowed(right int, by uint64, out []uint64) []uint64 {
	words := s.weeks.words
	out = out[:0]
	for _, at := range s.ends[:len(s.ends)-1] {
		from := len(out)
		for range words {
			out = append(out, 0)
		}
		if !s.who.Valid.Holds(at) || s.rules.RightList[right].Controls && s.what.Lockout.Holds(at) {
			continue
		}
		now := out[from:]
		s.taken = append(s.taken[:0], now...)
		for left := by & s.Bears[right]; left != 0; left &= left - 1 {
			i := bits.TrailingZeros64(left)
			p := &s.parts[i]
			if !p.Line.Valid.Holds(at) || !p.holds(at) {
				continue
			}
			into := now
			if p.Line.Deny {
				into = s.taken
			}
			for w, word := range s.open[i*words:][:words] {
				into[w] |= word
			}
		}
		for w := range now {
			now[w] &^= s.taken[w]
		}
	}
	return out
}

// subset tells whether a set lies in another.
func subset(a, b []uint64) bool {
	for i := range a {
		if a[i]&^b[i] != 0 {
			return false
		}
	}
	return true
}
