package icalendar

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os/exec"
	"slices"
	"strings"
	"testing"
	"time"

	"sentier/internal/policy"
)

// everyKind is a calendar with each kind of recurrence, by the rules of RFC 5545, 3.3.10, and more: by UID.
var everyKind = map[string]string{}

func init() {
	event := func(uid, begin string, more ...string) {
		everyKind[uid] = "BEGIN:VEVENT\r\nUID:" + uid + "\r\nDTSTAMP:20260101T000000Z\r\nDTSTART" + begin + "\r\n" + strings.Join(more, "\r\n") + "\r\nEND:VEVENT\r\n"
	}
	starts := map[string]string{"day": ";VALUE=DATE:20250131", "lisbon": ";TZID=Europe/Lisbon:20250131T093000", "madrid": ";TZID=Europe/Madrid:20250302T023000", "utc": ":20250529T220000Z"}
	for start, begin := range starts {
		for i, rule := range []string{
			"FREQ=DAILY", "FREQ=DAILY;INTERVAL=10", "FREQ=DAILY;COUNT=500", "FREQ=DAILY;BYMONTH=1,7", "FREQ=DAILY;BYDAY=MO,FR;INTERVAL=3", "FREQ=DAILY;BYMONTHDAY=31,-1",
			"FREQ=WEEKLY", "FREQ=WEEKLY;INTERVAL=2", "FREQ=WEEKLY;BYDAY=TU,TH;COUNT=120", "FREQ=WEEKLY;INTERVAL=2;WKST=SU;BYDAY=SU,MO", "FREQ=WEEKLY;INTERVAL=2;WKST=MO;BYDAY=SU,MO",
			"FREQ=WEEKLY;BYDAY=SU;BYMONTH=3,10",
			"FREQ=MONTHLY", "FREQ=MONTHLY;BYMONTHDAY=31", "FREQ=MONTHLY;BYMONTHDAY=-1", "FREQ=MONTHLY;BYMONTHDAY=2,15,30", "FREQ=MONTHLY;BYDAY=1FR", "FREQ=MONTHLY;BYDAY=-1SU", "FREQ=MONTHLY;BYDAY=1SU,-1SU;INTERVAL=2",
			"FREQ=MONTHLY;BYDAY=FR;BYMONTHDAY=13", "FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-1", "FREQ=MONTHLY;BYDAY=TU,WE,TH;BYSETPOS=3", "FREQ=MONTHLY;INTERVAL=18;BYMONTHDAY=10,11,12,13,14,15",
			"FREQ=MONTHLY;BYDAY=SA;BYMONTHDAY=7,8,9,10,11,12,13", "FREQ=MONTHLY;COUNT=14", "FREQ=MONTHLY;BYDAY=5SU",
			"FREQ=YEARLY", "FREQ=YEARLY;INTERVAL=2", "FREQ=YEARLY;BYMONTH=6,7", "FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=29", "FREQ=YEARLY;BYDAY=20MO", "FREQ=YEARLY;BYWEEKNO=20;BYDAY=MO", "FREQ=YEARLY;BYWEEKNO=1,53;BYDAY=WE",
			"FREQ=YEARLY;BYMONTH=3;BYDAY=TH", "FREQ=YEARLY;BYDAY=TH;BYMONTH=6,7,8", "FREQ=YEARLY;BYYEARDAY=1,100,200,-1", "FREQ=YEARLY;BYMONTH=11;BYDAY=TU;BYMONTHDAY=2,3,4,5,6,7,8;INTERVAL=4",
			"FREQ=YEARLY;BYMONTH=3,10;BYDAY=-1SU", "FREQ=YEARLY;BYMONTH=1;BYDAY=SU,MO,TU,WE,TH,FR,SA;BYSETPOS=-2", "FREQ=YEARLY;COUNT=2",
		} {
			event(fmt.Sprintf("%s-%02d %s", start, i, rule), begin, "RRULE:"+rule)
		}
	}
	event("until-utc", ";TZID=Europe/Madrid:20250310T230000", "RRULE:FREQ=DAILY;UNTIL=20260720T210000Z")
	event("until-utc-not", ";TZID=Europe/Madrid:20250310T230000", "RRULE:FREQ=DAILY;UNTIL=20260720T205959Z")
	event("until-day", ";VALUE=DATE:20250310", "RRULE:FREQ=WEEKLY;UNTIL=20260831")
	event("until-floating", ":20250310T080000", "RRULE:FREQ=WEEKLY;UNTIL=20260831T080000")
	event("within-a-day", ":20260320T000000Z", "RRULE:FREQ=HOURLY;INTERVAL=6;COUNT=40")
	event("minutes", ":20260320T080000Z", "RRULE:FREQ=MINUTELY;INTERVAL=90;BYHOUR=8,9,10,11;COUNT=30")
	event("seconds", ":20260320T080000Z", "RRULE:FREQ=SECONDLY;INTERVAL=45;COUNT=100")
	event("hours-with-minutes", ":20260320T080000Z", "RRULE:FREQ=HOURLY;INTERVAL=5;BYMINUTE=0,30;BYDAY=MO,TU;COUNT=30")
	event("once", ";VALUE=DATE:20260402")
	event("exceptions", ";TZID=Europe/Madrid:20260105T070000", "RRULE:FREQ=WEEKLY;BYDAY=MO", "EXDATE;TZID=Europe/Madrid:20260112T070000,20260119T070000", "EXDATE:20260706T050000Z")
	event("exceptions-of-days", ";VALUE=DATE:20260101", "RRULE:FREQ=MONTHLY", "EXDATE;VALUE=DATE:20260301,20260501")
	event("added", ";VALUE=DATE:20260105", "RRULE:FREQ=YEARLY", "RDATE;VALUE=DATE:20260220,20260221", "RDATE;VALUE=DATE:20260909")
	event("added-alone", ";TZID=Europe/Madrid:20260105T070000", "RDATE;TZID=Europe/Madrid:20260220T070000,20260221T083000")
	event("moved", ";TZID=Europe/Lisbon:20260106T180000", "RRULE:FREQ=WEEKLY;COUNT=30")
	everyKind["moved"] += "BEGIN:VEVENT\r\nUID:moved\r\nDTSTART;TZID=Europe/Lisbon:20260116T193000\r\nRECURRENCE-ID;TZID=Europe/Lisbon:20260113T180000\r\nEND:VEVENT\r\n" +
		"BEGIN:VEVENT\r\nUID:moved\r\nDTSTART;TZID=Europe/Lisbon:20260210T180000\r\nRECURRENCE-ID:20260210T180000Z\r\nSTATUS:CANCELLED\r\nEND:VEVENT\r\n"
	event("moved-days", ";VALUE=DATE:20260106", "RRULE:FREQ=WEEKLY;COUNT=30")
	everyKind["moved-days"] += "BEGIN:VEVENT\r\nUID:moved-days\r\nDTSTART;VALUE=DATE:20260318\r\nRECURRENCE-ID;VALUE=DATE:20260310\r\nEND:VEVENT\r\n"
	event("from-then-on", ";TZID=Europe/Lisbon:20260106T180000", "RRULE:FREQ=WEEKLY;COUNT=30")
	everyKind["from-then-on"] += "BEGIN:VEVENT\r\nUID:from-then-on\r\nDTSTART;TZID=Europe/Lisbon:20260304T190000\r\nRECURRENCE-ID;RANGE=THISANDFUTURE;TZID=Europe/Lisbon:20260303T180000\r\nEND:VEVENT\r\n"
	event("zone-of-its-own", ";TZID=Navigation:20260105T070000", "RRULE:FREQ=DAILY")
}

// zoneText describes a zone whose clock changes as those of Europe do.
func zoneText(name string, ahead int) string {
	offset := func(hours int) string { return fmt.Sprintf("+%02d00", hours) }
	return "BEGIN:VTIMEZONE\r\nTZID:" + name + "\r\n" +
		fmt.Sprintf("BEGIN:STANDARD\r\nDTSTART:20001029T%02d0000\r\nTZOFFSETFROM:%s\r\nTZOFFSETTO:%s\r\nRRULE:FREQ=YEARLY;BYMONTH=10;BYDAY=-1SU\r\nEND:STANDARD\r\n", ahead+2, offset(ahead+1), offset(ahead)) +
		fmt.Sprintf("BEGIN:DAYLIGHT\r\nDTSTART:20000326T%02d0000\r\nTZOFFSETFROM:%s\r\nTZOFFSETTO:%s\r\nRRULE:FREQ=YEARLY;BYMONTH=3;BYDAY=-1SU\r\nEND:DAYLIGHT\r\nEND:VTIMEZONE\r\n", ahead+1, offset(ahead), offset(ahead+1))
}

// TestEveryKindOfRecurrenceIsAsOthersFindIt holds the times of 400 days against two libraries of another language: one that expands rules by the letter, the clock's
// changes among them, and one that reads whole calendars, with exceptions, overrides and zones of their own.
func TestEveryKindOfRecurrenceIsAsOthersFindIt(t *testing.T) {
	var text strings.Builder
	text.WriteString("BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Larkmere//Office//EN\r\n" + zoneText("Europe/Lisbon", 0) + zoneText("Europe/Madrid", 1) + zoneText("Navigation", 1))
	for _, uid := range slices.Sorted(func(yield func(string) bool) {
		for uid := range everyKind {
			if !yield(uid) {
				return
			}
		}
	}) {
		text.WriteString(everyKind[uid])
	}
	text.WriteString("END:VCALENDAR\r\n")
	first := policy.Date{Year: 2026, Month: time.January, Day: 1}
	last := first.Add(399)
	asked, err := json.Marshal(map[string]any{"own": []string{"zone-of-its-own"}, "text": text.String(), "from": first.String() + "T00:00:00Z", "until": last.Add(1).String() + "T00:00:00Z"})
	if err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command("node", "../acceptance/peers/calendar.mjs")
	cmd.Stdin = bytes.NewReader(asked)
	var said bytes.Buffer
	cmd.Stderr = &said
	answer, err := cmd.Output()
	if err != nil {
		t.Fatalf("the other libraries: %v\n%s", err, said.String())
	}
	type found struct {
		At    []int64
		Error string
	}
	var theirs map[string]struct {
		ICal found
		Rule *found
	}
	if err := json.Unmarshal(answer, &theirs); err != nil {
		t.Fatal(err)
	}
	times, err := Times([]byte(text.String()), time.UTC, first, last)
	if err != nil {
		t.Fatal(err)
	}
	ours := map[string][]int64{}
	for _, at := range times {
		if at.Broken != nil {
			t.Errorf("%s: %s", at.UID, at.Broken)
		}
		if !at.From.Before(time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)) {
			ours[at.UID] = append(ours[at.UID], at.From.Unix())
		}
	}
	for uid := range everyKind {
		by, other := theirs[uid].ICal, "ical.js"
		if theirs[uid].Rule != nil {
			by, other = *theirs[uid].Rule, "rrule-temporal"
		}
		if by.Error != "" || !slices.Equal(by.At, ours[uid]) {
			t.Errorf("%s: %s %s\n theirs %s\n ours   %s", uid, other, by.Error, shown(by.At), shown(ours[uid]))
		}
	}
}

func shown(list []int64) string {
	var out []string
	for i, at := range list {
		if i == 6 {
			out = append(out, fmt.Sprintf("… %d", len(list)))
			break
		}
		out = append(out, time.Unix(at, 0).UTC().Format("2006-01-02T15:04"))
	}
	return strings.Join(out, " ")
}
