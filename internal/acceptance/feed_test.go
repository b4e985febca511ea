package acceptance

import (
	"encoding/json"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"sentier/internal/icalendar"
	"sentier/internal/policy"
	"sentier/internal/wire"
)

// makeFeed makes a feed as somebody, and gives what was answered.
func (w *world) makeFeed(token, body string) (status int, f wire.Feed) {
	w.t.Helper()
	status, _, text := w.ask("POST", "/api/v1/feeds", token, body)
	if status == http.StatusCreated {
		if err := json.Unmarshal([]byte(text), &f); err != nil {
			w.t.Fatal(err)
		}
	}
	return status, f
}

// TestFeedsByASecretAddress: whoever has the address reads the calendar without any other credential, for as long as whoever made it may see what is in it; nobody else
// finds it, and the secret is nowhere but in the address.
func TestFeedsByASecretAddress(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	first := policy.DateOf(testNow(t))
	read := func(path string) ([]icalendar.Time, int) {
		status, header, text := w.ask("GET", path, "", "")
		if status != http.StatusOK {
			return nil, status
		}
		if got := header.Get("Content-Type"); !strings.HasPrefix(got, "text/calendar") {
			t.Errorf("%s is %s", path, got)
		}
		times, err := icalendar.Times([]byte(text), time.UTC, first.Add(-1), first.Add(401))
		if err != nil {
			t.Fatal(err)
		}
		return times, status
	}
	_, watch := w.makeFeed(w.token, `{"kind":"schedule","of":"night-watch","zone":"Europe/Madrid"}`)
	times, _ := read(watch.Path)
	if len(times) < 380 {
		t.Errorf("%d nights are told", len(times))
	}
	madrid, err := policy.LoadZone("Europe/Madrid")
	if err != nil {
		t.Fatal(err)
	}
	for _, x := range times[1 : len(times)-1] { // the first and the last are cut
		if from, until := x.From.In(madrid), x.Until.In(madrid); x.Name != "Night watch" || from.Hour() != 22 || until.Hour() != 6 {
			t.Fatalf("%s from %s until %s", x.Name, from, until)
		}
	}
	_, ends := w.makeFeed(w.token, `{"kind":"ends"}`)
	times, _ = read(ends.Path)
	noor := false
	for _, x := range times {
		noor = noor || x.Name == "Noor Haddad leaves Winter contractors"
	}
	if !noor {
		t.Errorf("the ends do not tell of Noor: %v", times)
	}

	tomas := w.tokenFor("tomas.field")
	_, own := w.makeFeed(tomas, `{"kind":"reach"}`)
	if times, _ := read(own.Path); !slices.ContainsFunc(times, func(x icalendar.Time) bool { return x.Name == "Acknowledge alarms, Control, View: Mill bridge" }) {
		t.Errorf("none of his own %d hours are at the mill bridge", len(times))
	}
	for body, want := range map[string]int{
		`{"kind":"reach","of":"ines.carvalho"}`: 403, `{"kind":"ends"}`: 403, `{"kind":"schedule","of":"night-watch"}`: 403, `{"kind":"other"}`: 400, `{}`: 400,
		`{"kind":"reach","zone":"Nowhere/At all"}`: 400,
	} {
		if status, _ := w.makeFeed(tomas, body); status != want {
			t.Errorf("%s by somebody without a mandate: %d, want %d", body, status, want)
		}
	}
	if status, _ := w.makeFeed(w.token, `{"kind":"schedule","of":"nothing"}`); status != 400 {
		t.Errorf("of no schedule: %d", status)
	}
	if mine := get[[]wire.Feed](w, "GET", "/api/v1/feeds", ""); len(mine) != 3 {
		t.Errorf("an owner sees %d", len(mine))
	}
	if status, _, _ := w.ask("DELETE", "/api/v1/feeds/"+watch.ID, tomas, ""); status != 404 {
		t.Errorf("he takes another's away: %d", status)
	}
	for _, path := range []string{"/feeds/", "/feeds/x.ics", strings.TrimSuffix(own.Path, ".ics"), own.Path + ".ics", "/feeds/" + own.ID + ".ics", strings.ToUpper(own.Path)} {
		if status, header, _ := w.ask("GET", path, "", ""); status == http.StatusOK && !strings.HasPrefix(header.Get("Content-Type"), "text/html") {
			t.Errorf("%s is read", path)
		}
	}
	secret := strings.TrimSuffix(strings.TrimPrefix(own.Path, "/feeds/"), ".ics")
	if status, _, _ := w.ask("GET", "/api/v1/mine", secret, ""); status != http.StatusUnauthorized {
		t.Errorf("the secret of a feed is taken for a token: %d", status)
	}
	files, err := filepath.Glob(filepath.Join(w.owner.Store().Dir(), "*"))
	if err != nil {
		t.Fatal(err)
	}
	for _, file := range files {
		if text, err := os.ReadFile(file); err == nil && strings.Contains(string(text), secret) {
			t.Errorf("%s holds the secret", file)
		}
	}

	// Whoever is out, is out of their feeds; and a feed that is taken away is gone.
	w.does(0, "", "user", "suspend", "tomas.field")
	if _, status := read(own.Path); status != 404 {
		t.Errorf("he is suspended: %d", status)
	}
	w.does(0, "", "user", "reinstate", "tomas.field")
	if _, status := read(own.Path); status != 200 {
		t.Errorf("he is reinstated: %d", status)
	}
	w.does(0, "Taken away", "feed", "remove", own.ID)
	if _, status := read(own.Path); status != 404 {
		t.Errorf("it was taken away: %d", status)
	}
	for range 25 {
		w.makeFeed(tomas, `{"kind":"reach"}`)
	}
	if status, _ := w.makeFeed(tomas, `{"kind":"reach"}`); status != 400 {
		t.Errorf("one after many: %d", status)
	}
}
