package icalendar

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"sentier/internal/policy"
)

// wrapped is a calendar with some lines in it.
func wrapped(lines ...string) []byte {
	return []byte("BEGIN:VCALENDAR\r\nVERSION:2.0\r\n" + strings.Join(lines, "\r\n") + "\r\nEND:VCALENDAR\r\n")
}

func vevent(lines ...string) string {
	return "BEGIN:VEVENT\r\nUID:one\r\n" + strings.Join(lines, "\r\n") + "\r\nEND:VEVENT"
}

func zoneNamed(t testing.TB, name string) *time.Location {
	loc, err := policy.LoadZone(name)
	if err != nil {
		t.Fatal(err)
	}
	return loc
}

var newYear = policy.Date{Year: 2026, Month: time.January, Day: 1}

// TestOnWhichDays says of single events on which days they take place, by the clock of Lisbon.
func TestOnWhichDays(t *testing.T) {
	for name, c := range map[string]struct {
		lines []string
		want  string
	}{
		"a day":                              {[]string{"DTSTART;VALUE=DATE:20260402"}, "2026-04-02"},
		"days, without that of the end":      {[]string{"DTSTART;VALUE=DATE:20260402", "DTEND;VALUE=DATE:20260406"}, "2026-04-02/2026-04-05"},
		"days by their length":               {[]string{"DTSTART;VALUE=DATE:20260402", "DURATION:P1W"}, "2026-04-02/2026-04-08"},
		"a day that ends as it begins":       {[]string{"DTSTART;VALUE=DATE:20260402", "DTEND;VALUE=DATE:20260402"}, "2026-04-02"},
		"an evening":                         {[]string{"DTSTART:20260402T180000", "DTEND:20260402T230000"}, "2026-04-02"},
		"until midnight":                     {[]string{"DTSTART:20260402T180000", "DTEND:20260403T000000"}, "2026-04-02"},
		"over midnight":                      {[]string{"DTSTART:20260402T180000", "DTEND:20260403T000001"}, "2026-04-02/2026-04-03"},
		"a moment":                           {[]string{"DTSTART:20260402T000000"}, "2026-04-02"},
		"by the clock of Madrid":             {[]string{"DTSTART;TZID=Europe/Madrid:20260402T003000", "DURATION:PT15M"}, "2026-04-01"},
		"by UTC in summer":                   {[]string{"DTSTART:20260701T233000Z", "DURATION:PT15M"}, "2026-07-02"},
		"a length over the clock's change":   {[]string{"DTSTART:20260328T120000", "DURATION:P1D"}, "2026-03-28/2026-03-29"},
		"hours over the clock's change":      {[]string{"DTSTART:20260328T010000", "DURATION:PT24H"}, "2026-03-28/2026-03-29"},
		"a day begun before the span":        {[]string{"DTSTART;VALUE=DATE:20251220", "DTEND;VALUE=DATE:20260104"}, "2026-01-01/2026-01-03"},
		"beyond the span":                    {[]string{"DTSTART;VALUE=DATE:20270501"}, ""},
		"cancelled":                          {[]string{"DTSTART;VALUE=DATE:20260402", "STATUS:CANCELLED"}, ""},
		"an hour that never comes":           {[]string{"DTSTART;TZID=Europe/Lisbon:20260329T013000", "DURATION:PT1H"}, "2026-03-29"},
		"each year":                          {[]string{"DTSTART;VALUE=DATE:19500402", "RRULE:FREQ=YEARLY"}, "2026-04-02"},
		"never, though it says so each year": {[]string{"DTSTART;VALUE=DATE:20260402", "RRULE:FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30"}, "2026-04-02"},
		"folded, with quotation marks":       {[]string{"DTSTART;X-A=\"a;b:c,d\";VALUE=DA", " TE:2026", "\t0402"}, "2026-04-02"},
		"no zone, but a mistake":             {[]string{"DTSTART;TZID=Lisbon Standard Time:20260402T080000"}, "the zone \"Lisbon Standard Time\" is none"},
		"a 30th of February":                 {[]string{"DTSTART;VALUE=DATE:20260230"}, "is no time"},
		"an end before its beginning":        {[]string{"DTSTART:20260402T080000", "DTEND:20260402T070000"}, "ends before it begins"},
		"a day that ends at a time":          {[]string{"DTSTART;VALUE=DATE:20260402", "DTEND:20260402T070000"}, "begins on a day and ends at a time"},
		"no beginning":                       {[]string{"DTEND:20260402T070000"}, "DTSTART is missing"},
		"two beginnings in one":              {[]string{"DTSTART:20260402T070000,20260403T070000"}, "holds 2 times"},
		"a length of nothing":                {[]string{"DTSTART:20260402T070000", "DURATION:PT"}, "no length of time"},
		"each second":                        {[]string{"DTSTART:20200101T000000", "RRULE:FREQ=SECONDLY"}, "too often"},
		"each minute of ever":                {[]string{"DTSTART:19000101T000000", "RRULE:FREQ=MINUTELY;BYSECOND=1"}, "too often"},
		"each hour in which it never is":     {[]string{"DTSTART:19000101T000000", "RRULE:FREQ=HOURLY;INTERVAL=24;BYHOUR=7"}, ""},
		"each second of each day":            {[]string{"DTSTART:20000101T000000", "RRULE:FREQ=DAILY;BYHOUR=" + numbers(24) + ";BYMINUTE=" + numbers(60) + ";BYSECOND=" + numbers(60)}, "too often"},
		"an interval of none":                {[]string{"DTSTART:20260101T000000", "RRULE:FREQ=DAILY;INTERVAL=0"}, "interval \"0\""},
		"a count of none":                    {[]string{"DTSTART:20260101T000000", "RRULE:FREQ=DAILY;COUNT=0"}, "counts to \"0\""},
		"two ends":                           {[]string{"DTSTART:20260101T000000", "RRULE:FREQ=DAILY;COUNT=3;UNTIL=20260201T000000"}, "both COUNT and UNTIL"},
		"a rule of another sort":             {[]string{"DTSTART:20260101T000000", "RRULE:FREQ=DAILY;SKIP=OMIT"}, "cannot be read"},
		"a rule that says a thing twice":     {[]string{"DTSTART:20260101T000000", "RRULE:FREQ=DAILY;FREQ=WEEKLY"}, "FREQ twice"},
		"no rule":                            {[]string{"DTSTART:20260101T000000", "RRULE:often"}, "cannot be read"},
		"a year nobody plans":                {[]string{"DTSTART:99990101T000000"}, "lies in the year 9999"},
		"an exception by a rule":             {[]string{"DTSTART:20260101T000000", "RRULE:FREQ=DAILY", "EXRULE:FREQ=WEEKLY"}, "older standard"},
	} {
		t.Run(name, func(t *testing.T) {
			held, err := Read(wrapped(vevent(c.lines...)), zoneNamed(t, "Europe/Lisbon"), newYear, newYear.Add(399))
			if err != nil {
				t.Fatal(err)
			}
			var got []string
			for _, e := range held.Events {
				switch {
				case e.Broken != nil:
					got = append(got, e.Broken.Error())
				case e.First == e.Last:
					got = append(got, e.First.String())
				default:
					got = append(got, fmt.Sprintf("%s/%s", e.First, e.Last))
				}
			}
			if c.want == "" && len(got) > 0 && !strings.Contains(c.lines[0], "1900") || c.want != "" && (len(got) == 0 || !strings.Contains(got[0], c.want)) {
				t.Errorf("%v, want %q", got, c.want)
			}
		})
	}
}

func numbers(n int) string {
	var out []string
	for i := range n {
		out = append(out, fmt.Sprint(i))
	}
	return strings.Join(out, ",")
}

// TestWhatIsNoCalendar names the line at which a calendar cannot be read.
func TestWhatIsNoCalendar(t *testing.T) {
	for text, want := range map[string]string{
		"":                             "there is nothing in it",
		"<html><body>Sign in</body>":   "is none of a calendar",
		"BEGIN:VCARD\r\nEND:VCARD\r\n": "begins with BEGIN:VCARD",
		"BEGIN:VCALENDAR\r\nBEGIN:VEVENT\r\nUID:1":                                         "VEVENT of line 2 has no end",
		"BEGIN:VCALENDAR\nBEGIN:VEVENT\nEND:VTODO":                                         "line 3 ends VTODO, but VEVENT of line 2 is open",
		"BEGIN:VCALENDAR\nEND:VCALENDAR\nX:1":                                              "line 3 stands after the end",
		"BEGIN:VCALENDAR\nX;A\nEND:VCALENDAR":                                              "line 2 is none",
		"BEGIN:VCALENDAR\nX;A=b\nEND:VCALENDAR":                                            "line 2 is none",
		"BEGIN:VCALENDAR\nX;A=\"b\nEND:VCALENDAR":                                          "line 2 is none",
		strings.Repeat("BEGIN:VCALENDAR\n", 99):                                            "more than is read",
		"BEGIN:VCALENDAR\nX:" + strings.Repeat("x", mostLine) + "\nEND:VCALENDAR":          "longer than",
		"BEGIN:VCALENDAR\nX:" + strings.Repeat("x\n ", 2*mostLine) + "\nEND:VCALENDAR":     "longer than",
		"BEGIN:VCALENDAR\n" + strings.Repeat("BEGIN:X\nEND:X\n", mostComponents) + "\nEND": "more than is read",
		strings.Repeat("x", mostBytes+1):                                                   "there is more than",
	} {
		_, err := Times([]byte(text), time.UTC, newYear, newYear.Add(399))
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%.60q: %v, want %q", text, err, want)
		}
	}
}

// TestOneEventThatIsBrokenLeavesTheOthers: it says why it is, and the others are there.
func TestOneEventThatIsBrokenLeavesTheOthers(t *testing.T) {
	text := wrapped(strings.ReplaceAll(vevent("SUMMARY:Regatta\\, first day", "CATEGORIES:Regatta,Open\\,late", "DTSTART;VALUE=DATE:20260704"), "UID:one", "UID:two"), vevent("SUMMARY:Draining", "DTSTART:soon"))
	held, err := Read(text, time.UTC, newYear, newYear.Add(399))
	if err != nil || len(held.Events) != 2 {
		t.Fatalf("%+v, %v", held, err)
	}
	broken, good := held.Events[0], held.Events[1]
	if good.Name != "Regatta, first day" || !slices.Equal(good.Categories, []string{"Regatta", "Open,late"}) || good.First.String() != "2026-07-04" || good.Line != 3 {
		t.Errorf("the regatta is %+v", good)
	}
	if broken.Broken == nil || broken.Name != "Draining" || !strings.Contains(broken.Broken.Error(), "DTSTART on line 12 holds \"soon\"") {
		t.Errorf("the draining is %+v: %v", broken, broken.Broken)
	}
}

// FuzzTimes: whatever is sent, it is read or refused in a moment, and what is read lies in the span.
func FuzzTimes(f *testing.F) {
	for _, text := range everyKind {
		f.Add([]byte("BEGIN:VCALENDAR\r\n" + text + "END:VCALENDAR\r\n"))
	}
	f.Add(wrapped(zoneText("Navigation", 1), vevent("DTSTART;TZID=Navigation:20260105T070000", "RRULE:FREQ=HOURLY;INTERVAL=5")))
	zone := zoneNamed(f, "Europe/Lisbon")
	f.Fuzz(func(t *testing.T, text []byte) {
		last := newYear.Add(399)
		times, err := Times(text, zone, newYear, last)
		if err != nil {
			return
		}
		for _, at := range times {
			if at.Broken == nil && (at.Until.Before(at.From) || policy.DateOf(at.From.In(zone)).Days() > last.Days() || policy.DateOf(at.Until.In(zone)).Days() < newYear.Days()) {
				t.Fatalf("%s from %s until %s lies outside", at.UID, at.From, at.Until)
			}
		}
	})
}
