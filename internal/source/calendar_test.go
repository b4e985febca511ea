package source_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"sentier/internal/policy"
	"sentier/internal/source"
)

var (
	december = policy.Date{Year: 2026, Month: time.December, Day: 1}
	span     = source.Span{First: december, Last: december.Add(399)}
)

// office is a policy with two calendars: one that has days, before the span, in it and after it, and one that has none.
func office(t *testing.T) *world {
	t.Helper()
	p, err := policy.FromRecords(&policy.Records{Calendars: []policy.Calendar{
		{ID: "closures", Name: "Closures", Days: []policy.CalendarDay{{From: december.Add(-3), To: december.Add(2), Name: "Over the border"}, {Date: december.Add(-40), Name: "Long ago"}, {Date: december.Add(24), Name: "Christmas"}}},
		{ID: "regatta", Name: "Regatta", Common: policy.Common{Note: "by hand"}},
	}})
	if err != nil {
		t.Fatal(err)
	}
	return &world{t, p, source.NewKnown([]source.Of{{ID: "office", Name: "Office"}, {ID: "other", Name: "Other"}}, nil, nil)}
}

func on(name string, from, to int, categories ...string) source.Event {
	return source.Event{Outside: name, Name: name, Categories: categories, Span: source.Span{First: december.Add(from), Last: december.Add(to)}}
}

// days are those of a calendar, as texts.
func (w *world) days(id string) string {
	c, ok := policy.Find[*policy.Calendar](w.policy, id)
	if !ok {
		return "no calendar"
	}
	var out []string
	for _, d := range c.Days {
		first, last := d.Bounds()
		text := first.String()[5:]
		if first != last {
			text += "/" + last.String()[5:]
		}
		out = append(out, strings.TrimSpace(text+" "+d.Name))
	}
	return strings.Join(out, ", ")
}

func TestWhichDaysComeOfACalendar(t *testing.T) {
	closed := source.Intake{Calendars: []source.CalendarRule{{Match: "name", Text: "regatta*", Calendar: "regatta"}, {Match: "category", Text: "CLOSED", Calendar: "closures"}}}
	all := source.Intake{Calendars: []source.CalendarRule{{Match: "all", Calendar: "closures"}}}
	broken := source.Event{Outside: "x", Name: "Drained", Categories: []string{"closed"}, Line: 9, Broken: policy.Complain("it has no end")}
	for name, c := range map[string]struct {
		bring    source.Intake
		events   []source.Event
		closures string
		regatta  string
		told     string
		faults   int
	}{
		"by category and name, the first that fits; what lies before stays": {closed, []source.Event{on("Drained", 10, 12, "Closed"), on("Regatta, day 1", 20, 20, "closed"), on("Party", 3, 3)},
			"11-28/11-30 Over the border, 10-22 Long ago, 12-11/12-13 Drained", "12-21 Regatta, day 1", "", 0},
		"days that follow each other are one range, by their name": {all, []source.Event{on("B", 5, 5), on("A", 4, 4), on("A", 6, 6), on("A", 5, 5), on("B", 7, 8)},
			"11-28/11-30 Over the border, 10-22 Long ago, 12-05/12-07 A, 12-06 B, 12-08/12-09 B", "", "", 0},
		"nothing any more":                         {all, nil, "11-28/11-30 Over the border, 10-22 Long ago", "", "", 0},
		"what cannot be understood, and matters":   {all, []source.Event{broken, on("A", 4, 4)}, "", "", "line 9, Drained: it has no end", 1},
		"what cannot be understood, and is nobody": {closed, []source.Event{{Name: "Party", Broken: policy.Complain("it has no end")}, on("Drained", 10, 10, "closed")}, "11-28/11-30 Over the border, 10-22 Long ago, 12-11 Drained", "", "", 0},
		"a name with letters that nobody sees":     {all, []source.Event{on("\u202eA\u0007", 4, 4)}, "11-28/11-30 Over the border, 10-22 Long ago, 12-05 A", "", "", 0},
	} {
		t.Run(name, func(t *testing.T) {
			w := office(t)
			held := &source.Held{Events: c.events, Span: span}
			if c.faults > 0 {
				plan := source.Make(w.policy, w.known, "office", &c.bring, held)
				if len(plan.Faults) != c.faults || told(plan) != c.told {
					t.Errorf("%d faults, told %q", len(plan.Faults), told(plan))
				}
				return
			}
			plan := w.read("office", c.bring, held)
			if got := w.days("closures"); got != c.closures {
				t.Errorf("closures %s", got)
			}
			if got := w.days("regatta"); got != c.regatta {
				t.Errorf("regatta %s", got)
			}
			if told(plan) != c.told {
				t.Errorf("told %s", told(plan))
			}
		})
	}
}

// TestACalendarIsKeptByOne: its days are changed there, all else of it is ours; another source cannot have it, until the first lets it go.
func TestACalendarIsKeptByOne(t *testing.T) {
	w := office(t)
	bring := source.Intake{Calendars: []source.CalendarRule{{Match: "all", Calendar: "regatta"}}}
	w.read("office", bring, &source.Held{Events: []source.Event{on("Regatta", 5, 6)}, Span: span})
	plan := source.Make(w.policy, w.known, "other", &bring, &source.Held{Events: []source.Event{on("Fair", 9, 9)}, Span: span})
	if len(plan.Changes) > 0 || !strings.Contains(told(plan), "are kept by Office already") {
		t.Errorf("another changes %v and tells %s", plan.Changes, told(plan))
	}
	c, _ := policy.Find[*policy.Calendar](w.policy, "regatta")
	for what, change := range map[string]func(*policy.Calendar){"days": func(c *policy.Calendar) { c.Days = nil }, "": func(c *policy.Calendar) { c.Name, c.Note = "Races", "moved" }} {
		next := *c
		change(&next)
		_, done, err := w.policy.Apply([]policy.Change{{Op: policy.Put, Type: policy.Calendars, ID: "regatta", Record: &next}})
		if err != nil {
			t.Fatal(err)
		}
		if from, said, locked := w.known.Locked(done[0]); locked != (what != "") || locked && (from != "office" || !strings.Contains(said.Error(), what)) {
			t.Errorf("%q: locked %v by %q: %s", what, locked, from, said)
		}
	}
	w.read("office", source.Intake{}, &source.Held{Span: span})
	if _, kept := w.known.Origin(policy.Calendars, "regatta"); kept || w.days("regatta") != "12-06/12-07 Regatta" {
		t.Errorf("let go, it is kept %v, with the days %s", kept, w.days("regatta"))
	}
	w.read("other", bring, &source.Held{Events: []source.Event{on("Regatta", 5, 6), on("Fair", 9, 9)}, Span: span})
	if got := w.days("regatta"); got != "12-06/12-07 Regatta, 12-10 Fair" {
		t.Errorf("then the other has it: %s", got)
	}
}

// TestDaysAreThoseOfTheEvents: whatever comes, in whatever order, a calendar has just the days on which an event takes place, within the span; those outside it stay.
func TestDaysAreThoseOfTheEvents(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 3))
	w := office(t)
	before := policy.CalendarDay{Date: december.Add(-40), Name: "Long ago"}
	bring := source.Intake{Calendars: []source.CalendarRule{{Match: "category", Text: "c0", Calendar: "regatta"}, {Match: "all", Calendar: "closures"}}}
	for range 200 {
		want := map[string]map[policy.Date]bool{"closures": {}, "regatta": {}}
		var events []source.Event
		for range random.IntN(30) {
			first := random.IntN(400)
			e := on(fmt.Sprintf("e%d", random.IntN(4)), first, min(first+random.IntN(6), 399), fmt.Sprintf("c%d", random.IntN(3)))
			events = append(events, e)
			calendar := "closures"
			if e.Categories[0] == "c0" {
				calendar = "regatta"
			}
			for d := e.First; d.Days() <= e.Last.Days(); d = d.Add(1) {
				want[calendar][d] = true
			}
		}
		w.read("office", bring, &source.Held{Events: events, Span: span})
		for id, days := range want {
			c, _ := policy.Find[*policy.Calendar](w.policy, id)
			got := map[policy.Date]bool{}
			for _, d := range c.Days {
				first, last := d.Bounds()
				for at := first; at.Days() <= last.Days(); at = at.Add(1) {
					if at.Days() >= span.First.Days() {
						got[at] = true
					}
				}
			}
			if len(got) != len(days) {
				t.Fatalf("%s has %d days, and there are events on %d", id, len(got), len(days))
			}
			for d := range days {
				if !got[d] {
					t.Fatalf("%s lacks %s", id, d)
				}
			}
		}
		if c, _ := policy.Find[*policy.Calendar](w.policy, "closures"); !slices.Contains(c.Days, before) {
			t.Fatal("a day from before the span has gone")
		}
	}
}

// TestListsOfAllKinds: whatever a list holds, what is in it is here, what was in it before stays and is told, and nothing is taken from anybody else.
func TestListsOfAllKinds(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 5))
	w := works(t)
	ever := map[string]bool{}
	for range 120 {
		var things []source.Thing
		in := map[string]bool{}
		for n := range 12 {
			if random.IntN(2) == 0 {
				continue
			}
			id := fmt.Sprintf("p-%d", n)
			in[id], ever[id] = true, true
			things = append(things, source.Thing{Type: policy.Devices, Outside: strings.ToUpper(id), Line: n, Name: fmt.Sprintf("Pump %d", random.IntN(5)), Site: []string{"", "summit", "Nowhere", "S-1"}[random.IntN(4)], Kind: []string{"", "pump"}[random.IntN(2)]})
		}
		if random.IntN(2) == 0 {
			things = append(things, source.Thing{Type: policy.Sites, Outside: "S-1", Name: "Weir"})
		}
		random.Shuffle(len(things), func(i, j int) { things[i], things[j] = things[j], things[i] })
		w.read("plant", plant, &source.Held{Things: things})
		gone := map[string]bool{}
		for _, o := range w.known.Vanished("plant", policy.Devices) {
			gone[o.Record] = true
		}
		for id := range ever {
			if w.device(id) == "not there" || gone[id] == in[id] {
				t.Fatalf("%s is %s, in the list %v, told as gone %v", id, w.device(id), in[id], gone[id])
			}
		}
		for _, x := range things {
			if d, ok := policy.Find[*policy.Device](w.policy, strings.ToLower(x.Outside)); x.Type == policy.Devices && (!ok || d.Name != x.Name) {
				t.Fatalf("%+v is %+v", x, d)
			}
		}
		if w.device("mast") != "Mast||summit|by hand" {
			t.Fatalf("what no list holds has become %s", w.device("mast"))
		}
	}
}
