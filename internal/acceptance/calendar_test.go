package acceptance

import (
	"bufio"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"sentier/internal/wire"
)

// office is a calendar that somebody else keeps, with lines that can be changed.
type office struct {
	*httptest.Server
	mu     sync.Mutex
	status int
	lines  []string
	token  string
}

func newOffice(t *testing.T) *office {
	t.Helper()
	o := &office{status: http.StatusOK}
	o.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		o.mu.Lock()
		defer o.mu.Unlock()
		o.token = r.Header.Get("Authorization")
		w.WriteHeader(o.status)
		_, _ = w.Write([]byte(calendarText(o.lines...)))
	}))
	t.Cleanup(o.Close)
	return o
}

// keeps makes the calendar hold some lines.
func (o *office) keeps(status int, lines ...string) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.status, o.lines = status, lines
}

func calendarText(lines ...string) string {
	return "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Larkmere//Office//EN\r\n" + strings.Join(lines, "\r\n") + "\r\nEND:VCALENDAR\r\n"
}

// closed is an event on a day that closes the navigation.
func closed(name string, day time.Time, more ...string) string {
	return strings.Join(append([]string{"BEGIN:VEVENT", "UID:" + name, "SUMMARY:" + name, "CATEGORIES:Closed", "DTSTART;VALUE=DATE:" + day.Format("20060102")}, append(more, "END:VEVENT")...), "\r\n")
}

// withOffice is a world in which a clerk may control a pump on all days but those of a calendar that has none yet.
func (w *world) withOffice() (noon func(day time.Time) wire.Answer) {
	w.t.Helper()
	for _, made := range [][2]string{
		{"calendars", `{"id":"office-closures","name":"Office closures"}`},
		{"schedules", `{"id":"office-days","name":"Office days","windows":[{"from":"00:00","to":"24:00"}],"closed":["office-closures"]}`},
		{"users", `{"id":"olga.clerk","name":"Olga Clerk"}`},
		{"grants", `{"id":"office-pump","name":"Office pump","to":{"users":["olga.clerk"]},"lines":[{"rights":["control"],"on":{"devices":["yard-pump-1"]},"when":["office-days"]}]}`},
	} {
		if status, _, text := w.ask("POST", "/api/v1/"+made[0], w.token, made[1]); status != 201 {
			w.t.Fatalf("%s: %d %s", made[0], status, text)
		}
	}
	return func(day time.Time) wire.Answer {
		return get[wire.Answer](w, "POST", "/api/v1/check", fmt.Sprintf(`{"user":"olga.clerk","right":"control","device":"yard-pump-1","at":%q}`, day.Format("2006-01-02")+"T11:00:00Z"))
	}
}

// TestTheOfficeCalendarClosesTheDoors: a day that the office closes is closed with the next question after the reading; what the office keeps is changed there; and while
// it says nothing, or what cannot be understood, what it said last holds.
func TestTheOfficeCalendarClosesTheDoors(t *testing.T) {
	t.Parallel()
	o := newOffice(t)
	w, forward := shifted(t)
	w.secret("office", "reads-the-calendar\n")
	noon := w.withOffice()
	day := testNow(t).AddDate(0, 0, 60)
	o.keeps(http.StatusOK, closed("Summit drained", day), closed("Inspection", testNow(t).AddDate(-2, 0, 10), "RRULE:FREQ=WEEKLY;INTERVAL=4"))
	w.does(0, "Set up", "source", "add", "Office calendar", "--calendar", "--url", o.URL, "--secret", "office", "--zone", "Europe/Lisbon", "--days-of", "closd=office-closures", "--every", "60", "--paused")
	w.does(0, `did you mean "Closed"?`, "source", "test", "office-calendar")
	w.does(0, "", "source", "edit", "office-calendar", "--days-of", "closed=office-closures", "--paused=false")
	w.does(0, "+ "+day.Format("2006-01-02"), "source", "look", "office-calendar")
	if a := noon(day); !a.Allowed {
		t.Errorf("what was only looked at counts: %s", a.Reason)
	}
	w.does(0, "days come, 0 go", "source", "sync", "office-calendar")
	if o.token != "Bearer reads-the-calendar" {
		t.Errorf("it is read as %q", o.token)
	}
	if a := noon(day); a.Allowed || a.Reason != "outside_schedule" {
		t.Errorf("on a day that the office closes: %v %s", a.Allowed, a.Reason)
	}
	if a := noon(day.AddDate(0, 0, 1)); !a.Allowed && a.Reason != "outside_schedule" {
		t.Errorf("on the day after: %s", a.Reason)
	}
	kept := `the source "Office calendar" keeps`
	w.does(2, kept+" the days of", "calendar", "edit", "office-closures", "--day", "2027-01-01")
	w.does(0, "", "calendar", "edit", "office-closures", "--name", "When the office is closed")
	if from := get[[]wire.Origin](w, "GET", "/api/v1/origins?type=calendars&ids=office-closures,closures", ""); len(from) != 1 || from[0].Source.ID != "office-calendar" || strings.Join(from[0].Fields, " ") != "days" {
		t.Errorf("origins: %+v", from)
	}

	// The office opens the day again: nobody has to do anything.
	o.keeps(http.StatusOK, closed("Inspection", testNow(t).AddDate(-2, 0, 10), "RRULE:FREQ=WEEKLY;INTERVAL=4"))
	forward(61 * time.Minute)
	w.until("the reading by the clock", func() bool { return noon(day).Allowed })
	if out := w.does(0, "", "history", "list"); strings.Count(out, "Office calendar") != 2 {
		t.Errorf("the record does not have both readings:\n%s", out)
	}

	// Nothing of these counts, and each says why.
	was := get[wire.Source](w, "GET", "/api/v1/sources/office-calendar", "").Last.Number
	for says, keeps := range map[string]func(){
		"answered with 503":              func() { o.keeps(http.StatusServiceUnavailable) },
		"BEGIN:VCALENDAR":                func() { o.keeps(http.StatusOK, "END:VCALENDAR") },
		"is none of the IANA time zone":  func() { o.keeps(http.StatusOK, closed("Draining", day, "DTEND;TZID=Nowhere:20270101T000000")) },
		"recurs too often":               func() { o.keeps(http.StatusOK, closed("Each second", day.AddDate(-20, 0, 0), "RRULE:FREQ=SECONDLY")) },
		"days of \"Office calendar\"":    func() { o.keeps(http.StatusOK, closed("Draining", day)) },
		"there is more than 16384 kB of": func() { o.keeps(http.StatusOK, strings.Repeat("X:"+strings.Repeat("x", 1000)+"\r\n", 17<<10)) },
	} {
		keeps()
		if says == "BEGIN:VCALENDAR" {
			says = "stands after the end"
		}
		w.soon(says, func() bool {
			code, out, errOut := w.run("source", "sync", "office-calendar")
			if strings.Contains(errOut, "is being read already") { // by the clock
				return false
			}
			if code != 2 || !strings.Contains(out+errOut, says) {
				t.Errorf("a reading that says nothing good: %d, want 2 and %q:\n%s%s", code, says, out, errOut)
			}
			return true
		})
		if a := noon(day); !a.Allowed {
			t.Errorf("%s: what it said last does not hold: %s", says, a.Reason)
		}
	}
	last := get[wire.Source](w, "GET", "/api/v1/sources/office-calendar", "")
	if last.Last.Number != was+6 || last.Last.Why == "" || last.Good == nil {
		t.Errorf("the readings that failed: %+v", last.Last)
	}
	o.keeps(http.StatusOK, closed("Broken, but no concern of ours", day, "RRULE:FREQ=NEVER", "CATEGORIES:Party"), closed("Inspection", testNow(t).AddDate(-2, 0, 10), "RRULE:FREQ=WEEKLY;INTERVAL=4"))
	o.lines[0] = strings.Replace(o.lines[0], "CATEGORIES:Closed\r\n", "", 1)
	w.does(0, "Nothing is other than it was", "source", "sync", "office-calendar")

	w.does(0, "", "source", "remove", "office-calendar")
	w.does(0, "", "calendar", "edit", "office-closures", "--day", "2027-01-01")
}

// TestACalendarThatIsBrought: a file that was brought is kept until it is read, over restarts, and nothing else is taken.
func TestACalendarThatIsBrought(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	noon := w.withOffice()
	day := testNow(t).AddDate(0, 0, 90)
	file := write(t, filepath.Join(t.TempDir(), "office.ics"), calendarText(closed("Stocktaking", day, "DTEND;VALUE=DATE:"+day.AddDate(0, 0, 3).Format("20060102"))))
	w.does(0, "brings it a file", "source", "add", "Stocktaking", "--calendar", "--days", "office-closures")
	w.does(2, "nothing was brought to it yet", "source", "sync", "stocktaking")
	w.does(0, "Nothing counts yet", "source", "bring", "stocktaking", file)
	w.does(0, "events: 1", "source", "look", "stocktaking")
	w.does(0, "3 days come", "source", "sync", "stocktaking")
	for after := range 4 {
		if a := noon(day.AddDate(0, 0, after)); a.Allowed != (after == 3) {
			t.Errorf("%d days after: %v %s", after, a.Allowed, a.Reason)
		}
	}
	for _, c := range []struct {
		path, token, media, body string
		want                     int
	}{
		{"stocktaking", "", "text/calendar", "x", 401}, {"stocktaking", w.tokenFor("agnes.lindqvist"), "text/calendar", "x", 403}, {"nowhere", w.token, "text/calendar", "x", 404},
		{"stocktaking", w.token, "text/html", "x", 415}, {"stocktaking", w.token, "text/calendar", "  ", 400}, {"stocktaking", w.token, "text/calendar", strings.Repeat("x", 16<<20+1), 413},
	} {
		if status, _, text := w.ask("PUT", "/api/v1/sources/"+c.path+"/content", c.token, c.body, "Content-Type", c.media); status != c.want {
			t.Errorf("%s as %q, %d bytes: %d, want %d: %.200s", c.path, c.media, len(c.body), status, c.want, text)
		}
	}
	w.does(0, "Nothing is other than it was", "source", "sync", "stocktaking")
	w.does(0, day.Format("2006-01-02")+"–"+day.AddDate(0, 0, 2).Format("2006-01-02")+" Stocktaking", "calendar", "show", "office-closures")
	w.does(0, "2026-12-08 Drill day", "calendar", "show", "closures")
	if status, _, text := w.ask("PUT", "/api/v1/sources/stocktaking/content", w.token, calendarText(), "Content-Type", "text/calendar"); status != http.StatusOK || !strings.Contains(text, `"bytes":`) {
		t.Errorf("brought over HTTP: %d %s", status, text)
	}
	w.does(0, "3 go", "source", "sync", "stocktaking")
}

// chooseFile gives the page's one field for files a file.
func (b *browser) chooseFile(name, text string) {
	b.t.Helper()
	b.do("choose a file", chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`(() => { const i = document.querySelector("input[type=file]");
		const t = new DataTransfer(); t.items.add(new File([%q], %q)); i.files = t.files; i.dispatchEvent(new Event("change", { bubbles: true })); })()`, text, name)))
}

// TestACalendarAndAListInTheConsole sets both up key by key: a category that nearly fits is told and taken, the days are seen before they count, and what a source keeps is
// offered nowhere else.
func TestACalendarAndAListInTheConsole(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	b := w.console()
	day := testNow(t)
	b.open("/people/sources")
	b.click("New source")
	b.fill("Name", "Office calendar")
	b.choose("How it comes", "a calendar gives closed and special days (iCalendar)")
	b.fill("Category there", "Closd")
	b.pick("Calendar here that gets the days", "clos", "Closures")
	b.click("Save")
	b.see("Nothing was brought yet.")
	b.chooseFile("office.ics", calendarText(closed("Summit drained", day.AddDate(0, 0, 40), "DTEND;VALUE=DATE:"+day.AddDate(0, 0, 45).Format("20060102")),
		closed("Inspection of the flight", day.AddDate(0, 0, 9), "RRULE:FREQ=MONTHLY;BYDAY=1TH"), closed("Christmas", time.Date(2020, 12, 25, 0, 0, 0, 0, time.UTC), "RRULE:FREQ=YEARLY")))
	b.see("Brought")
	b.click("Change")
	b.click("Try it")
	b.see(`did you mean "Closed"?`)
	b.accessible("a calendar that is set up")
	b.click("Take Closed")
	b.click("Save")
	b.click("See what it would do")
	b.see("Summit drained")
	b.see("would go at once")
	b.accessible("what a calendar would do")
	b.screenshot("source-calendar")
	b.fill("Why it is meant", "the office keeps them from now on")
	b.click("Make it count all the same")
	b.see("days of Closures")
	b.open("/records/calendars/closures")
	b.see("From Office calendar")
	b.open("/records/calendars/closures/edit")
	b.see("change it there")
	if text := b.text("form"); strings.Contains(text, "last day") {
		t.Errorf("days that the office keeps are asked for: %s", text)
	}

	b.open("/sources/new")
	b.fill("Name", "Plant register")
	b.choose("How it comes", "a list gives devices and sites (CSV, JSON lines)")
	b.press("the columns", `//summary[contains(., "called otherwise there")]`)
	b.fill("Its id there", "asset")
	b.click("Save")
	b.see("Nothing was brought yet.")
	b.chooseFile("plant.csv", "asset,name,kind,site\nLG-900,Weir gauge,level-gauge,summit\nP-77,Weir pump,pump,\n")
	b.see("Brought")
	b.click("See what it would do")
	b.see("2 devices and sites come")
	b.click("Make it count")
	b.see("2 devices")
	b.chooseFile("plant.csv", "asset,name,kind,site\nLG-900,Weir gauge,level-gauge,summit\n")
	b.click("See what it would do")
	b.see("1 device or site is no longer there")
	b.click("Make it count")
	b.see("No longer in the list")
	b.accessible("a list whose device has gone")
	b.open("/today")
	b.see("Devices and sites that are no longer in their list")
	b.open("/records/devices/lg-900/edit")
	b.see("change it there")
	b.open("/devices?q=weir")
	b.until("from where it comes, in the list", `[...document.querySelectorAll(".sr-only")].some(e => e.textContent === "From Plant register")`)
	b.until("that the other is there no more", `[...document.querySelectorAll(".sr-only")].some(e => e.textContent === "From Plant register, where it is no longer")`)
	b.accessible("a list of devices that come from a list")
}

// TestTheDemonstrationHasSourcesToRead: the commands that it prints for the stand-ins of the office and the plant can be carried out as they are, and what they set up can be read.
func TestTheDemonstrationHasSourcesToRead(t *testing.T) {
	t.Parallel()
	cmd := exec.Command(binary(t), "demo", "--feeds", "--listen", "127.0.0.1:0", "--at", testNow(t).Format(time.RFC3339))
	pipe, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = cmd.Process.Signal(syscall.SIGTERM)
		_ = cmd.Wait()
	})
	w, adds := &world{t: t}, [][]string{}
	for lines := bufio.NewScanner(pipe); lines.Scan() && !strings.Contains(lines.Text(), "Ctrl-C"); {
		line := strings.TrimSpace(lines.Text())
		if add, ok := strings.CutPrefix(line, "sentier source "); ok {
			args, _ := words("source " + add)
			adds = append(adds, args)
		}
		if given, ok := strings.CutPrefix(line, "export SENTIER_URL="); ok {
			w.url, w.token, _ = strings.Cut(given, " SENTIER_TOKEN=")
		}
	}
	if w.token == "" || len(adds) != 3 {
		t.Fatalf("the demonstration printed %d sources, and the address %q", len(adds), w.url)
	}
	for _, args := range adds {
		w.does(0, "Set up", args...)
	}
	w.does(0, "events: ", "source", "look", "office-calendar")
	w.does(0, "4 new", "source", "sync", "plant-register")
	w.does(0, "4 devices and sites, in", "source", "test", "plant-register-as-lines")
}
