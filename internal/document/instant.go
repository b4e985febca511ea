package document

import (
	"cmp"
	"slices"
	"strconv"
	"strings"
	"time"

	"sentier/internal/policy"
)

// ParseInstant reads a time as people give it, in English or French: an instant of RFC 3339; now; or a local time of zone.
// That is a day, a clock or both: 2026-07-04 21:30, 21:30 (today), tomorrow 06:00, fri 18:00 (the next Friday, which may be
// today), 31 March (the next), 31 March 2027 noon, in 2 weeks (at this time of day), in 90 minutes. A day without a clock is its
// midnight. now says what today is.
func ParseInstant(s string, now time.Time, zone *time.Location) (time.Time, error) {
	s = strings.TrimSpace(s)
	if s == "now" || s == "maintenant" {
		return now, nil
	}
	if _, err := time.Parse(time.RFC3339, strings.ToUpper(s)); err == nil {
		return Moment(strings.ToUpper(s))
	}
	r := timeReader{now: now.In(zone), words: wordsOf(s)}
	t, ok := r.read()
	if !ok || len(r.words) > 0 {
		return time.Time{}, unreadable(s)
	}
	if r.exact {
		return inRange(t.UTC())
	}
	at := time.Date(t.Year(), t.Month(), t.Day(), t.Hour(), t.Minute(), t.Second(), 0, zone)
	if at.Hour() != t.Hour() || at.Minute() != t.Minute() || at.Format(time.DateOnly) != t.Format(time.DateOnly) {
		return time.Time{}, policy.Say("%s does not occur on %s in %s: the clock is put forward then", clockOf(t), t.Format(time.DateOnly), zone)
	}
	return inRange(firstOf(at).UTC())
}

func clockOf(t time.Time) string {
	if t.Second() == 0 {
		return t.Format("15:04")
	}
	return t.Format(time.TimeOnly)
}

// wordsOf splits a time into words in small letters; a date and a clock may be joined by a T.
func wordsOf(s string) []string {
	if date := len(time.DateOnly); len(s) > date && s[date] == 'T' {
		s = s[:date] + " " + s[date+1:]
	}
	s = strings.NewReplacer("\u2019", "'", ",", " ").Replace(strings.ToLower(s))
	words := slices.DeleteFunc(strings.Fields(s), func(w string) bool { return slices.Contains(joining, w) })
	for i, w := range words {
		words[i] = strings.TrimSuffix(w, ".") // janv.
	}
	return words
}

// joining are words that say nothing of their own.
var joining = []string{"at", "on", "à", "le"}

// timeReader takes words off one by one. What it reads is a wall clock, written in UTC.
type timeReader struct {
	now   time.Time
	words []string
	exact bool // an instant rather than a wall clock: so many minutes from now
}

func (r *timeReader) take() string {
	if len(r.words) == 0 {
		return ""
	}
	w := r.words[0]
	r.words = r.words[1:]
	return w
}

func (r *timeReader) today(ahead int) time.Time {
	return time.Date(r.now.Year(), r.now.Month(), r.now.Day()+ahead, 0, 0, 0, 0, time.UTC)
}

// read reads a day, a clock, or both.
func (r *timeReader) read() (time.Time, bool) {
	if len(r.words) == 1 {
		if clock, ok := readClock(r.words[0]); ok {
			r.take()
			return r.today(0).Add(clock), true
		}
	}
	first := r.take()
	if first == "in" || first == "dans" {
		return r.ahead()
	}
	day, ok := r.day(first)
	if !ok {
		return day, false
	}
	return day.Add(r.clock(0)), true
}

// clock reads the clock that may follow a day.
func (r *timeReader) clock(otherwise time.Duration) time.Duration {
	if len(r.words) == 1 {
		if clock, ok := readClock(r.words[0]); ok {
			r.take()
			return clock
		}
	}
	return otherwise
}

// day reads a day that begins with a word: a date, a name, a weekday, a day of a month.
func (r *timeReader) day(word string) (time.Time, bool) {
	if date, err := time.Parse(time.DateOnly, word); err == nil {
		return date, true
	}
	if offset, ok := dayNames[word]; ok {
		return r.today(offset), true
	}
	next := ""
	if len(r.words) > 0 {
		next = r.words[0]
	}
	number, month := word, months[next]
	if month == 0 {
		number, month = next, months[word]
	}
	if n, err := strconv.Atoi(strings.TrimSuffix(number, "er")); err == nil && month != 0 {
		r.take()
		return r.dayOf(month, n)
	}
	d, ok := weekdays[word]
	if ok && len(r.words) > 1 && digit(r.words[0]) { // which is written before a date for those who read it
		return r.day(r.take())
	}
	if ok {
		return r.today((int(d) - int(r.now.Weekday()) + 7) % 7), true
	}
	return time.Time{}, false
}

// digit tells whether a word begins with one, and is no clock.
func digit(word string) bool {
	_, clock := readClock(word)
	return !clock && word[0] >= '0' && word[0] <= '9'
}

// dayOf is a day of a month: of the year that is given, or the next that there is.
func (r *timeReader) dayOf(month time.Month, day int) (time.Time, bool) {
	exists := func(year int) (time.Time, bool) {
		t := time.Date(year, month, day, 0, 0, 0, 0, time.UTC)
		return t, t.Month() == month && t.Day() == day
	}
	if len(r.words) > 0 && len(r.words[0]) == 4 {
		if year, err := strconv.Atoi(r.words[0]); err == nil {
			r.take()
			return exists(year)
		}
	}
	for year := r.now.Year(); year <= r.now.Year()+8; year++ { // 29 February may be eight years away
		if t, ok := exists(year); ok && !t.Before(r.today(0)) {
			return t, true
		}
	}
	return time.Time{}, false
}

// ahead reads how far from now: a number and a unit. Days and what is longer keep the time of day, unless one follows.
func (r *timeReader) ahead() (time.Time, bool) {
	const most = 10_000 // of anything: twenty-seven years in days
	word := r.take()
	n, err := strconv.Atoi(word)
	if word == "a" || word == "an" || word == "un" || word == "une" {
		n, err = 1, nil
	}
	unit, ok := units[r.take()]
	if err != nil || n < 0 || n > most || !ok {
		return time.Time{}, false
	}
	if unit.of > 0 {
		r.exact = true
		return r.now.Add(time.Duration(n) * unit.of).Truncate(time.Second), true
	}
	day := time.Date(r.now.Year()+n*unit.years, r.now.Month()+time.Month(n*unit.months), r.now.Day()+n*unit.days, 0, 0, 0, 0, time.UTC)
	if first := time.Date(r.now.Year()+n*unit.years, r.now.Month()+time.Month(n*unit.months), 1, 0, 0, 0, 0, time.UTC); unit.days == 0 && day.Month() != first.Month() {
		day = first.AddDate(0, 1, -1) // a month after 31 January is the last day of February
	}
	clock := time.Duration(r.now.Hour())*time.Hour + time.Duration(r.now.Minute())*time.Minute
	return day.Add(r.clock(clock)), true
}

// readClock reads a time of day: 18:00, 18:00:30, 18h, 18h30, noon, midi.
func readClock(word string) (time.Duration, bool) {
	if word == "noon" || word == "midi" {
		return 12 * time.Hour, true
	}
	if word == "midnight" || word == "minuit" {
		return 0, true
	}
	if hour, minute, ok := strings.Cut(word, "h"); ok {
		word = hour + ":" + cmp.Or(minute, "00")
	}
	for _, layout := range []string{"15:04", time.TimeOnly} {
		if t, err := time.Parse(layout, word); err == nil {
			return t.Sub(time.Date(0, 1, 1, 0, 0, 0, 0, time.UTC)), true
		}
	}
	return 0, false
}

// unit is a stretch of time: an exact one, or one of the calendar.
type unit struct {
	of                  time.Duration
	years, months, days int
}

var units = map[string]unit{
	"minute": {of: time.Minute}, "minutes": {of: time.Minute}, "min": {of: time.Minute},
	"hour": {of: time.Hour}, "hours": {of: time.Hour}, "h": {of: time.Hour}, "heure": {of: time.Hour}, "heures": {of: time.Hour},
	"day": {days: 1}, "days": {days: 1}, "jour": {days: 1}, "jours": {days: 1},
	"week": {days: 7}, "weeks": {days: 7}, "semaine": {days: 7}, "semaines": {days: 7},
	"month": {months: 1}, "months": {months: 1}, "mois": {months: 1},
	"year": {years: 1}, "years": {years: 1}, "an": {years: 1}, "ans": {years: 1}, "année": {years: 1}, "années": {years: 1},
}

var dayNames = map[string]int{"today": 0, "tomorrow": 1, "yesterday": -1, "aujourd'hui": 0, "demain": 1, "hier": -1, "après-demain": 2, "avant-hier": -2}

var weekdays = numbered(time.Sunday, "sunday sun dimanche dim", "monday mon lundi lun", "tuesday tue mardi mar", "wednesday wed mercredi mer",
	"thursday thu jeudi jeu", "friday fri vendredi ven", "saturday sat samedi sam")

var months = numbered(time.January, "january jan janvier janv", "february feb février fevrier févr", "march mar mars", "april apr avril avr",
	"may mai", "june jun juin", "july jul juillet juil", "august aug août aout", "september sep sept septembre", "october oct octobre",
	"november nov novembre", "december dec décembre decembre déc")

// numbered gives each of some names its number: those of a list have the same, and each list one more than that before it.
func numbered[N ~int](first N, lists ...string) map[string]N {
	out := map[string]N{}
	for i, names := range lists {
		for _, name := range strings.Fields(names) {
			out[name] = first + N(i)
		}
	}
	return out
}

// Moment reads an instant of RFC 3339 that is asked about, and refuses one so far away that its answer could not be
// written.
func Moment(text string) (time.Time, error) {
	t, err := policy.ParseInstant(text)
	if err != nil {
		return t, err
	}
	return inRange(t)
}

// lastYear is the last that can be asked about: answers look 400 days ahead, and years have four digits.
const lastYear = 9997

func inRange(t time.Time) (time.Time, error) {
	if t.Year() < 1 || t.Year() > lastYear {
		return time.Time{}, policy.Say("lies too far away: ask about the years 1 to %d", lastYear)
	}
	return t, nil
}

// firstOf gives the first of two instants that have the same wall clock, where the clock is put back.
func firstOf(t time.Time) time.Time {
	start, _ := t.ZoneBounds()
	if start.IsZero() {
		return t
	}
	_, now := t.Zone()
	_, before := start.Add(-1).Zone()
	earlier := t.Add(time.Duration(now-before) * time.Second)
	if now < before && earlier.Before(start) {
		return earlier
	}
	return t
}

func unreadable(s string) error {
	return policy.Say("%q is no time that can be read: write an instant such as 2026-07-04T21:30:00+01:00, or a local time such as 2026-07-04 21:30, 21:30, tomorrow 06:00, fri 18:00, 31 March or in 2 weeks", s)
}
