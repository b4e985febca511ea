package schedule_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"sentier/internal/policy"
	"sentier/internal/schedule"
)

func zone(t testing.TB, name string) *time.Location {
	t.Helper()
	loc, err := policy.LoadZone(name)
	if err != nil {
		t.Fatal(err)
	}
	return loc
}

func clock(hours, minutes int) policy.Clock { return policy.Clock(hours*60 + minutes) }

func date(text string) (d policy.Date) {
	if err := d.UnmarshalText([]byte(text)); err != nil {
		panic(err)
	}
	return d
}

func compile(s *policy.Schedule, calendars ...policy.Calendar) *schedule.Schedule {
	return schedule.Compile(s, func(id policy.CalendarID) (*policy.Calendar, bool) {
		i := slices.IndexFunc(calendars, func(c policy.Calendar) bool { return c.ID == id })
		if i < 0 {
			return nil, false
		}
		return &calendars[i], true
	})
}

func TestOpenAndNextChange(t *testing.T) {
	day := func(from, to policy.Clock, days ...policy.Weekday) policy.Schedule {
		return policy.Schedule{Windows: []policy.Window{{Days: days, From: from, To: to}}}
	}
	night := day(clock(22, 0), clock(6, 0))
	off := []policy.Calendar{{ID: "off", Days: []policy.CalendarDay{{Date: date("2026-12-25")}}}, {ID: "long", Days: []policy.CalendarDay{{From: date("2026-12-25"), To: date("2026-12-26")}}}}
	closed := night
	closed.Closed = []policy.CalendarID{"off"}
	special := night
	special.Special = []policy.Special{{Calendar: "long", Windows: []policy.SpecialWindow{{From: clock(12, 0), To: clock(13, 0)}}}}
	both := special
	both.Closed = []policy.CalendarID{"off"}
	never := day(0, policy.Midnight)
	never.Dates = &policy.Dates{To: date("2024-05-31")}
	winter := day(clock(8, 0), clock(16, 0))
	winter.Season = &policy.Season{From: policy.MonthDay{Month: 11, Day: 1}, To: policy.MonthDay{Month: 2, Day: 29}}
	for name, c := range map[string]struct {
		s     policy.Schedule
		zone  string
		at    string
		open  bool
		until string // empty: never
	}{
		"a window of a day":                         {day(clock(8, 0), clock(16, 0)), "UTC", "2026-07-01T08:00:00Z", true, "2026-07-01T16:00:00Z"},
		"its end is not in it":                      {day(clock(8, 0), clock(16, 0)), "UTC", "2026-07-01T16:00:00Z", false, "2026-07-02T08:00:00Z"},
		"the whole day, every day":                  {day(0, policy.Midnight), "Europe/Lisbon", "2026-07-01T16:00:00Z", true, ""},
		"from and to the same is a day":             {day(clock(9, 0), clock(9, 0), policy.Weekday(time.Monday)), "UTC", "2026-11-24T08:59:59Z", true, "2026-11-24T09:00:00Z"},
		"over midnight, after it":                   {night, "Europe/Madrid", "2026-11-25T04:59:00Z", true, "2026-11-25T05:00:00Z"},
		"the start day counts, not the day after":   {day(clock(22, 0), clock(6, 0), policy.Weekday(time.Friday)), "UTC", "2026-11-28T05:00:00Z", true, "2026-11-28T06:00:00Z"},
		"runs on into a closed day":                 {closed, "UTC", "2026-12-25T03:00:00Z", true, "2026-12-25T06:00:00Z"},
		"does not start on a closed day":            {closed, "UTC", "2026-12-25T23:00:00Z", false, "2026-12-26T22:00:00Z"},
		"runs on into a special day":                {special, "UTC", "2026-12-25T05:59:00Z", true, "2026-12-25T06:00:00Z"},
		"a special day has its own windows":         {special, "UTC", "2026-12-25T07:00:00Z", false, "2026-12-25T12:00:00Z"},
		"closed beats special":                      {both, "UTC", "2026-12-25T12:30:00Z", false, "2026-12-26T12:00:00Z"},
		"over for good":                             {never, "UTC", "2026-12-25T12:30:00Z", false, ""},
		"a season over the new year":                {winter, "UTC", "2027-01-01T09:00:00Z", true, "2027-01-01T16:00:00Z"},
		"a season to the leap day":                  {winter, "UTC", "2027-02-28T17:00:00Z", false, "2027-11-01T08:00:00Z"},
		"Madrid, the hour that is skipped":          {day(clock(2, 0), clock(3, 0)), "Europe/Madrid", "2027-03-28T00:30:00Z", false, "2027-03-29T00:00:00Z"},
		"Madrid, into the skipped hour":             {day(clock(1, 0), clock(2, 30)), "Europe/Madrid", "2027-03-28T00:30:00Z", true, "2027-03-28T01:00:00Z"},
		"Madrid, out of the skipped hour":           {day(clock(2, 30), clock(4, 0)), "Europe/Madrid", "2027-03-28T00:59:59Z", false, "2027-03-28T01:00:00Z"},
		"Madrid, the hour that occurs twice, first": {day(clock(2, 15), clock(2, 45)), "Europe/Madrid", "2026-10-25T00:20:00Z", true, "2026-10-25T00:45:00Z"},
		"Madrid, between the two":                   {day(clock(2, 15), clock(2, 45)), "Europe/Madrid", "2026-10-25T00:50:00Z", false, "2026-10-25T01:15:00Z"},
		"Madrid, the hour that occurs twice, again": {day(clock(2, 15), clock(2, 45)), "Europe/Madrid", "2026-10-25T01:20:00Z", true, "2026-10-25T01:45:00Z"},
		"Madrid, all of the doubled hour":           {day(clock(2, 0), clock(3, 0)), "Europe/Madrid", "2026-10-25T00:00:00Z", true, "2026-10-25T02:00:00Z"},
		"Lord Howe shifts by half an hour, forward": {day(clock(2, 0), clock(2, 30)), "Australia/Lord_Howe", "2026-10-03T15:29:00Z", false, "2026-10-04T15:00:00Z"},
		"Lord Howe shifts by half an hour, back":    {day(clock(1, 30), clock(2, 0)), "Australia/Lord_Howe", "2027-04-03T14:45:00Z", true, "2027-04-03T15:30:00Z"},
	} {
		t.Run(name, func(t *testing.T) {
			at, err := time.Parse(time.RFC3339, c.at)
			if err != nil {
				t.Fatal(err)
			}
			line := compile(&c.s, off...).In(zone(t, c.zone))
			open, until := line.At(at.Unix())
			got := ""
			if until != schedule.Never {
				got = time.Unix(until, 0).UTC().Format(time.RFC3339)
			}
			if open != c.open || got != c.until || line.Open(at.Unix()) != open {
				t.Errorf("open %v until %q, want %v until %q", open, got, c.open, c.until)
			}
		})
	}
}

// slow judges one minute by reading the rules word for word: no merging, no offsets, no memory.
func slow(s *policy.Schedule, calendars []policy.Calendar, zone *time.Location, at time.Time) bool {
	local := at.In(zone)
	minute := policy.Clock(local.Hour()*60 + local.Minute())
	today := time.Date(local.Year(), local.Month(), local.Day(), 0, 0, 0, 0, time.UTC)
	in := func(id policy.CalendarID, day time.Time) bool {
		for _, c := range calendars {
			for _, d := range c.Days {
				first, last := d.Bounds()
				if n := int(day.Unix() / 86400); c.ID == id && first.Days() <= n && n <= last.Days() {
					return true
				}
			}
		}
		return false
	}
	starts := func(day time.Time) []policy.Window {
		if s.Season != nil {
			now, from, to := day.Format("01-02"), fmt.Sprintf("%02d-%02d", s.Season.From.Month, s.Season.From.Day), fmt.Sprintf("%02d-%02d", s.Season.To.Month, s.Season.To.Day)
			if from <= to && (now < from || now > to) || from > to && now < from && now > to {
				return nil
			}
		}
		if s.Dates != nil && (day.Format(time.DateOnly) < s.Dates.From.String() || day.Format(time.DateOnly) > s.Dates.To.String()) {
			return nil
		}
		for _, id := range s.Closed {
			if in(id, day) {
				return nil
			}
		}
		for _, special := range s.Special {
			if in(special.Calendar, day) {
				var out []policy.Window
				for _, w := range special.Windows {
					out = append(out, policy.Window{From: w.From, To: w.To})
				}
				return out
			}
		}
		return slices.DeleteFunc(slices.Clone(s.Windows), func(w policy.Window) bool {
			return len(w.Days) > 0 && !slices.Contains(w.Days, policy.Weekday(day.Weekday()))
		})
	}
	for _, w := range starts(today) {
		if minute >= w.From && (w.To <= w.From || minute < w.To) {
			return true
		}
	}
	for _, w := range starts(today.AddDate(0, 0, -1)) {
		if w.To <= w.From && minute < w.To {
			return true
		}
	}
	return false
}

// FuzzSchedule holds the compiled schedule against the slow reading, minute by minute over some days.
func FuzzSchedule(f *testing.F) {
	f.Add([]byte{1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15, 16})
	f.Add([]byte{0, 88, 24, 127, 0, 96, 3, 200, 1, 255, 60, 7, 9, 1, 1, 1, 30, 2})
	f.Add([]byte{2, 40, 60, 85, 12, 250, 31, 0, 96, 7, 0, 0, 1, 1, 0, 9, 3, 1, 77, 88, 99})
	f.Add([]byte{3, 90, 89, 0, 0, 0, 0, 13, 5, 1, 1, 1, 1, 1, 1})
	zones := []string{"Europe/Lisbon", "Europe/Madrid", "Australia/Lord_Howe", "America/Santiago", "UTC"}
	days := []string{"2026-10-23", "2027-03-26", "2026-10-02", "2027-04-02", "2026-12-30", "2027-02-26", "2026-09-04"}
	f.Fuzz(func(t *testing.T, data []byte) {
		next := func() int {
			if len(data) == 0 {
				return 0
			}
			b := data[0]
			data = data[1:]
			return int(b)
		}
		loc := zone(t, zones[next()%len(zones)])
		start := date(days[next()%len(days)])
		from := time.Date(start.Year, start.Month, start.Day, 0, 0, 0, 0, loc)
		day := func() policy.Date {
			d := from.AddDate(0, 0, next()%6-1)
			return policy.Date{Year: d.Year(), Month: d.Month(), Day: d.Day()}
		}
		quarter := func() policy.Clock { return policy.Clock(next() % 96 * 15) }
		s := policy.Schedule{}
		for range next() % 4 {
			w := policy.Window{From: quarter(), To: quarter() + 15}
			for d, bits := 0, next(); d < 7; d++ {
				if bits&(1<<d) != 0 {
					w.Days = append(w.Days, policy.Weekday(d))
				}
			}
			s.Windows = append(s.Windows, w)
		}
		calendars := []policy.Calendar{{ID: "a", Days: []policy.CalendarDay{{Date: day()}}}, {ID: "b", Days: []policy.CalendarDay{{From: day(), To: day()}}}}
		if next()%2 == 0 {
			s.Closed = []policy.CalendarID{"a"}
		}
		for range next() % 3 {
			s.Special = append(s.Special, policy.Special{Calendar: []policy.CalendarID{"a", "b"}[next()%2], Windows: []policy.SpecialWindow{{From: quarter(), To: quarter() + 15}}})
		}
		if next()%3 == 0 {
			a, b := day(), day()
			s.Season = &policy.Season{From: policy.MonthDay{Month: a.Month, Day: a.Day}, To: policy.MonthDay{Month: b.Month, Day: b.Day}}
		}
		if next()%3 == 0 {
			s.Dates = &policy.Dates{From: day(), To: day()}
		}
		line := compile(&s, calendars...).In(loc)
		changes := []int64{}
		before := slow(&s, calendars, loc, from)
		for m := range 5 * 24 * 60 {
			at := from.Add(time.Duration(m) * time.Minute)
			open := slow(&s, calendars, loc, at)
			if line.Open(at.Unix()) != open {
				t.Fatalf("%s: the schedule is open %v, by the rules %v\n%+v", at, !open, open, s)
			}
			if open != before {
				changes = append(changes, at.Unix())
			}
			before = open
		}
		for at := from.Unix(); len(changes) > 0; changes = changes[1:] {
			if _, until := line.At(at); until != changes[0] {
				t.Fatalf("after %s the next change is %s, by the rules %s\n%+v", time.Unix(at, 0).In(loc), time.Unix(until, 0).In(loc), time.Unix(changes[0], 0).In(loc), s)
			}
			at = changes[0]
		}
	})
}

// TestATimelineRemembersNothingWrong asks one timeline at instants in no order, and a fresh one at each.
func TestATimelineRemembersNothingWrong(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 4))
	lisbon := zone(t, "Europe/Lisbon")
	begin := time.Date(2026, 10, 20, 0, 0, 0, 0, lisbon).Unix()
	for range 60 {
		s := policy.Schedule{}
		for range random.IntN(4) {
			w := policy.Window{From: policy.Clock(30 * random.IntN(48)), To: policy.Clock(30 * (1 + random.IntN(48)))}
			for d := range policy.Weekday(7) {
				if random.IntN(2) == 0 {
					w.Days = append(w.Days, d)
				}
			}
			s.Windows = append(s.Windows, w)
		}
		if random.IntN(4) == 0 {
			s.Dates = &policy.Dates{From: date("2026-10-22"), To: date("2026-10-27")}
		}
		compiled := compile(&s)
		line := compiled.In(lisbon)
		for range 200 {
			at := begin + int64(random.IntN(20*24*60))*60
			back := time.Duration(1+random.IntN(8)) * 24 * time.Hour
			fresh := compiled.In(lisbon)
			if got, want := line.Open(at), fresh.Open(at); got != want {
				t.Fatalf("%+v at %d: open %v, a fresh one says %v", s, at, got, want)
			}
			open, until := line.At(at)
			if wantOpen, want := fresh.At(at); open != wantOpen || until != want {
				t.Fatalf("%+v at %d: %v until %d, a fresh one says %v until %d", s, at, open, until, wantOpen, want)
			}
			since, ok := line.Since(at, back)
			wantSince, wantOK := fresh.Since(at, back)
			if since != wantSince || ok != wantOK {
				t.Fatalf("%+v at %d: since %d (%v), a fresh one says %d (%v)", s, at, since, ok, wantSince, wantOK)
			}
			if ok && (fresh.Open(since) != open || fresh.Open(since-60) == open) {
				t.Fatalf("%+v at %d: nothing began at %d", s, at, since)
			}
		}
	}
}
