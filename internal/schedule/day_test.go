package schedule_test

import (
	"testing"
	"time"

	"sentier/internal/policy"
	"sentier/internal/schedule"
)

func TestEveryDayIsGivenOnceByItsOwnDate(t *testing.T) {
	for _, x := range []struct{ zone, date, from, until string }{
		{"Europe/Lisbon", "2026-11-24", "2026-11-24T00:00:00Z", "2026-11-25T00:00:00Z"},
		{"Europe/Madrid", "2026-03-29", "2026-03-28T23:00:00Z", "2026-03-29T22:00:00Z"},
		{"America/Santiago", "2026-09-06", "2026-09-06T04:00:00Z", "2026-09-07T03:00:00Z"}, // begins at 01:00
		{"America/Santiago", "2026-04-04", "2026-04-04T03:00:00Z", "2026-04-05T04:00:00Z"}, // its last hour occurs twice
		{"America/Havana", "2026-03-08", "2026-03-08T05:00:00Z", "2026-03-09T04:00:00Z"},
		{"Atlantic/Azores", "2026-03-29", "2026-03-29T01:00:00Z", "2026-03-30T00:00:00Z"},
		{"Atlantic/Azores", "2026-10-25", "2026-10-25T00:00:00Z", "2026-10-26T01:00:00Z"}, // its first hour occurs twice
		{"Pacific/Apia", "2011-12-29", "2011-12-29T10:00:00Z", "2011-12-30T10:00:00Z"},
		{"Pacific/Apia", "2011-12-30", "", ""}, // never was
		{"Pacific/Apia", "2011-12-31", "2011-12-30T10:00:00Z", "2011-12-31T10:00:00Z"},
		{"Pacific/Kiritimati", "2026-01-01", "2025-12-31T10:00:00Z", "2026-01-01T10:00:00Z"},
	} {
		zone, err := policy.LoadZone(x.zone)
		if err != nil {
			t.Fatal(err)
		}
		var date policy.Date
		if err := date.UnmarshalText([]byte(x.date)); err != nil {
			t.Fatal(err)
		}
		from, until, ok := schedule.Day(date, zone)
		if !ok != (x.from == "") || ok && (from.UTC().Format(time.RFC3339) != x.from || until.UTC().Format(time.RFC3339) != x.until) {
			t.Errorf("%s in %s: %v to %v (%v), want %s to %s", x.date, x.zone, from.UTC(), until.UTC(), ok, x.from, x.until)
		}
	}
}

// TestDaysFollowEachOther walks some years in every zone with odd changes of its clock.
func TestDaysFollowEachOther(t *testing.T) {
	for _, name := range []string{"America/Santiago", "America/Havana", "Atlantic/Azores", "Pacific/Apia", "Africa/Casablanca", "Asia/Tehran", "Antarctica/Troll", "Australia/Lord_Howe"} {
		zone, err := policy.LoadZone(name)
		if err != nil {
			t.Fatal(err)
		}
		var last time.Time
		for n := range 366 * 3 {
			d := time.Date(2011, 1, 1+n, 0, 0, 0, 0, time.UTC)
			from, until, ok := schedule.Day(policy.Date{Year: d.Year(), Month: d.Month(), Day: d.Day()}, zone)
			if !ok {
				continue
			}
			if !last.IsZero() && !from.Equal(last) || from.In(zone).Format(time.DateOnly) != d.Format(time.DateOnly) || until.Add(-1).In(zone).Format(time.DateOnly) != d.Format(time.DateOnly) {
				t.Fatalf("%s: %s runs from %v to %v, and the day before ends at %v", name, d.Format(time.DateOnly), from, until, last)
			}
			last = until
		}
	}
}
