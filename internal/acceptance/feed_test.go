package acceptance

import (
	"bytes"
	"encoding/json"
	"net/http"
	"os"
	"os/exec"
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

// readByOthers is when each event of a calendar begins, by its UID, as a library of another language reads it.
func readByOthers(t *testing.T, text string, from, until policy.Date) map[string]int64 {
	t.Helper()
	asked, err := json.Marshal(map[string]any{"text": text, "from": from.String() + "T00:00:00Z", "until": until.String() + "T00:00:00Z", "own": []string{}})
	if err != nil {
		t.Fatal(err)
	}
	node := exec.Command("node", "calendar.mjs")
	node.Dir, node.Stdin = "peers", bytes.NewReader(asked)
	said, err := node.Output()
	if err != nil {
		t.Fatalf("the other library: %v", err)
	}
	var events map[string]struct{ ICal struct{ At []int64 } }
	if err := json.Unmarshal(said, &events); err != nil {
		t.Fatal(err)
	}
	out := map[string]int64{}
	for uid, e := range events {
		if len(e.ICal.At) == 1 {
			out[uid] = e.ICal.At[0]
		}
	}
	return out
}

// TestFeedsByASecretAddress: whoever has the address reads the calendar without any other credential, for as long as whoever made it may see what is in it; nobody else
// finds it, and the secret is nowhere but in the address.
func TestFeedsByASecretAddress(t *testing.T) {
	t.Parallel()
	w := start(t, alive(t))
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
	_, _, text := w.ask("GET", watch.Path, "", "")
	if theirs := readByOthers(t, text, first.Add(-1), first.Add(401)); len(theirs) != len(times) {
		t.Errorf("another library finds %d nights, and we %d", len(theirs), len(times))
	} else {
		for _, x := range times {
			if theirs[x.UID] != x.From.Unix() {
				t.Errorf("%s begins at %d for another library, and at %d for us", x.UID, theirs[x.UID], x.From.Unix())
			}
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
	if times, _ := read(own.Path); !slices.ContainsFunc(times, func(x icalendar.Time) bool {
		return strings.Contains(x.Name, "Control") && strings.Contains(x.Name, ": Mill bridge")
	}) {
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
	if status, _, text := w.ask("DELETE", "/api/v1/feeds/"+own.ID, tomas, ""); status != http.StatusNoContent {
		t.Errorf("he takes his own away: %d %s", status, text)
	}
	w.does(0, "Taken away", "feed", "remove", ends.ID)
	if _, status := read(own.Path); status != 404 {
		t.Errorf("it was taken away: %d", status)
	}
	_, busy := w.makeFeed(tomas, `{"kind":"reach"}`)
	often := 0
	for range 15 {
		if _, status := read(busy.Path); status == http.StatusTooManyRequests {
			often++
		}
	}
	if often < 3 {
		t.Errorf("of 15 reads at once, %d were too many", often)
	}
	for range 25 {
		w.makeFeed(tomas, `{"kind":"reach"}`)
	}
	if status, _ := w.makeFeed(tomas, `{"kind":"reach"}`); status != 400 {
		t.Errorf("one after many: %d", status)
	}
}
