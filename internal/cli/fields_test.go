package cli

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"sentier/internal/document"
	"sentier/internal/wire"
)

// TestValuesOfOptions reads what is typed behind options: what it comes to as JSON, or what is said against it.
func TestValuesOfOptions(t *testing.T) {
	one := func(read func(string) (any, error)) func(string) (any, error) { return read }
	many := func(read func([]string) (any, error)) func(string) (any, error) {
		return func(s string) (any, error) { return read(strings.Split(s, " / ")) }
	}
	at := func(s string) (any, error) {
		return moment(s, func(words string) (time.Time, error) {
			return document.ParseInstant(words, time.Date(2026, 11, 24, 10, 0, 0, 0, time.UTC), time.UTC)
		})
	}
	for name, x := range map[string]struct {
		read  func(string) (any, error)
		text  string
		want  string
		fault string
	}{
		"a text":                        {one(text), "Mill bridge", `"Mill bridge"`, ""},
		"no text":                       {one(text), "", `null`, ""},
		"words":                         {one(words), "old, wet ,north", `["old","wet","north"]`, ""},
		"no words":                      {one(words), " ", `null`, ""},
		"yes":                           {one(yesNo), "true", `true`, ""},
		"neither yes nor no":            {one(yesNo), "perhaps", "", "neither true nor false"},
		"a number":                      {one(whole), "90", `90`, ""},
		"no number":                     {one(whole), "ninety", "", "no whole number"},
		"an instant":                    {one(at), "2026-12-01T17:00:00Z", `"2026-12-01T17:00:00Z"`, ""},
		"no instant":                    {one(at), "", `null`, ""},
		"a time that is none":           {one(at), "some day", "", "tomorrow 06:00"},
		"a range":                       {one(fromTo), "11-01..02-28", `{"from":"11-01","to":"02-28"}`, ""},
		"a range without an end":        {one(fromTo), "2026-12-24..", `{"from":"2026-12-24"}`, ""},
		"a range without a beginning":   {one(fromTo), "..2026-12-24", `{"to":"2026-12-24"}`, ""},
		"no range":                      {one(fromTo), "11-01", "", "FROM..TO"},
		"a window every day":            {many(windows), "22:00-06:00", `[{"from":"22:00","to":"06:00"}]`, ""},
		"a window on some days":         {many(windows), "mon-wed,sat 07:00-16:00", `[{"days":["mon","tue","wed","sat"],"from":"07:00","to":"16:00"}]`, ""},
		"a window over the week's end":  {many(windows), "sat-mon 07:00-16:00", `[{"days":["sat","sun","mon"],"from":"07:00","to":"16:00"}]`, ""},
		"two windows":                   {many(windows), "mon 07:00-08:00 / sun 09:00-10:00", `[{"days":["mon"],"from":"07:00","to":"08:00"},{"days":["sun"],"from":"09:00","to":"10:00"}]`, ""},
		"a window of one clock":         {many(windows), "mon 07:00", "", "mon-fri 07:00-16:00"},
		"days that are none":            {many(windows), "mon-someday 07:00-08:00", "", "write mon-fri"},
		"special days":                  {many(specials), "feasts 05:00-23:00 23:30-24:00", `[{"calendar":"feasts","windows":[{"from":"05:00","to":"23:00"},{"from":"23:30","to":"24:00"}]}]`, ""},
		"special days without a window": {many(specials), "feasts", `[{"calendar":"feasts","windows":[]}]`, ""},
		"special days of no calendar":   {many(specials), " ", "", "names no calendar"},
		"special days with half":        {many(specials), "feasts 05:00", "", "is no window"},
		"a day with a name":             {many(calendarDays), "2026-12-25 Christmas", `[{"date":"2026-12-25","name":"Christmas"}]`, ""},
		"a day without":                 {many(calendarDays), "2026-12-25", `[{"date":"2026-12-25"}]`, ""},
		"days from and to":              {many(calendarDays), "2027-02-08..2027-02-12 Dewatering of the flight", `[{"from":"2027-02-08","to":"2027-02-12","name":"Dewatering of the flight"}]`, ""},
		"points":                        {one(points), "deck=Deck,barriers", `[{"id":"deck","name":"Deck"},{"id":"barriers"}]`, ""},
		"no points":                     {one(points), "", `null`, ""},
	} {
		value, err := x.read(x.text)
		switch {
		case x.fault != "":
			if err == nil || !strings.Contains(err.Error(), x.fault) {
				t.Errorf("%s (%q): %v, want …%s…", name, x.text, err, x.fault)
			}
		case err != nil:
			t.Errorf("%s (%q): %v", name, x.text, err)
		default:
			got, want := canonical(t, value), x.want
			var v any
			if err := json.Unmarshal([]byte(want), &v); err != nil {
				t.Fatal(err)
			}
			if got != canonical(t, v) {
				t.Errorf("%s (%q): %s, want %s", name, x.text, got, want)
			}
		}
	}
}

func canonical(t testing.TB, v any) string {
	t.Helper()
	text, err := json.Marshal(v)
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

// FuzzWindow reads anything as a window: what is taken has both ends as they were typed and days that follow one another.
func FuzzWindow(f *testing.F) {
	f.Add("mon-fri 07:00-16:00")
	f.Add("sat,sun 09:00-17:00")
	f.Add("22:00-06:00")
	f.Add("sun-sun 00:00-24:00")
	f.Add("-,- -")
	f.Fuzz(func(t *testing.T, s string) {
		w, err := window(s)
		if err != nil {
			if !strings.Contains(err.Error(), "write") {
				t.Fatalf("%q: %v names no mend", s, err)
			}
			return
		}
		from, _ := w["from"].(string)
		to, _ := w["to"].(string)
		if !strings.Contains(s, from+"-"+to) {
			t.Fatalf("%q was read as from %q to %q", s, from, to)
		}
		days, given := w["days"].([]any)
		if given && (len(days) == 0 || len(days) > 7*(1+strings.Count(s, ","))) {
			t.Fatalf("%q was read as %d days", s, len(days))
		}
	})
}

func TestTheBarOfAnImport(t *testing.T) {
	for _, x := range []struct {
		p    wire.Progress
		want string
	}{
		{wire.Progress{}, "Reading and checking …"},
		{wire.Progress{Done: 0, Of: 10}, "Writing " + strings.Repeat("░", 40) + "   0 %  0 of 10 rows"},
		{wire.Progress{Done: 5, Of: 10}, "Writing " + strings.Repeat("█", 20) + strings.Repeat("░", 20) + "  50 %  5 of 10 rows"},
		{wire.Progress{Done: 100_000, Of: 100_000}, "Writing " + strings.Repeat("█", 40) + " 100 %  100000 of 100000 rows"},
	} {
		if got := barText(x.p); got != x.want {
			t.Errorf("%+v is drawn as %q, want %q", x.p, got, x.want)
		}
	}
}
