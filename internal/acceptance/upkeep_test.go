package acceptance

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"sentier/internal/wire"
)

// TestUpkeep: what may not be meant as it is is told with its mend, which is looked at as a draft and ends it; what is right as it is is dismissed until a
// date, on record, and comes back then.
func TestUpkeep(t *testing.T) {
	t.Parallel()
	w, forward := shifted(t)
	find := func(query, key string) (wire.Finding, wire.Findings) {
		t.Helper()
		found := get[wire.Findings](w, "GET", "/api/v1/findings?"+query, "")
		for _, f := range found.Items {
			if f.Key == key {
				return f, found
			}
		}
		return wire.Finding{}, found
	}
	const ended = "past_end users/diogo.matos user_groups/winter-contractors"
	f, all := find("", ended)
	if f.Text != "Diogo Matos was in Winter contractors until Tue 31 Mar 2026 18:00 (Europe/Lisbon)." || f.Why == "" || len(f.Mends) != 1 || all.Counts["past_end"] < 2 {
		t.Fatalf("found is %+v of %+v", f, all.Counts)
	}
	for _, story := range []string{"leftover users/tomas.field user_groups/bridge-crew user_groups/instrument-technicians",
		"never_open grants/telemetry-callum", "everyone grants/look-around", "unsorted devices/found-1"} {
		if f, _ := find("", story); f.Key == "" {
			t.Errorf("the navigation's %s is not found", story)
		}
	}
	if f, _ := find("", "held_twice grants/border-arm-bridges users/luis.ortega"); f.Key != "" {
		t.Error("what Luis has twice is told as too much, though without it thirty minutes would be his limit on the bridges")
	}
	edits, err := json.Marshal(f.Mends[0].Edits)
	if err != nil {
		t.Fatal(err)
	}
	d := get[wire.Draft](w, "POST", "/api/v1/drafts", fmt.Sprintf(`{"name":"Clean","changes":%s}`, edits))
	if d.Impact == nil || d.Impact.Gained.All+d.Impact.Lost.All != 0 {
		t.Errorf("the mend changes %+v", d.Impact)
	}
	w.must("POST", "/api/v1/drafts/"+d.ID+"/application", `{}`)
	if f, now := find("", ended); f.Key != "" || now.Counts["past_end"] != all.Counts["past_end"]-1 {
		t.Errorf("it is still there: %+v", f)
	}

	const meant = "everyone grants/look-around"
	at := get[wire.Session](w, "GET", "/api/v1/session", "").Now.Add(2 * time.Hour).UTC().Format(time.RFC3339)
	for body, want := range map[string]string{
		`{"key":"everyone grants/none","reason":"x","until":"in 1 day"}`: "no finding", fmt.Sprintf(`{"key":%q,"reason":"","until":"in 1 day"}`, meant): "reason",
		fmt.Sprintf(`{"key":%q,"reason":"x","until":""}`, meant): "until", fmt.Sprintf(`{"key":%q,"reason":"x","until":"in 5 years"}`, meant): "400 days",
	} {
		if status, _, text := w.ask("POST", "/api/v1/findings/dismissals", w.token, body); status != 400 || !strings.Contains(text, want) {
			t.Errorf("%s: %d %s", body, status, text)
		}
	}
	w.must("POST", "/api/v1/findings/dismissals", fmt.Sprintf(`{"key":%q,"reason":"the weather is for all","until":%q}`, meant, at))
	if f, found := find("", meant); f.Key != "" || found.Dismissed != 1 || found.Counts["everyone"] != 0 {
		t.Errorf("what was dismissed is told: %+v", found.Counts)
	}
	if f, _ := find("dismissed=true", meant); f.Dismissed == nil || f.Dismissed.Reason != "the weather is for all" || f.Dismissed.By.ID != "ines.carvalho" {
		t.Errorf("what was dismissed is %+v", f)
	}
	if entries := w.entries("kind=setting"); len(entries) == 0 || !strings.Contains(entries[len(entries)-1].Text+entries[0].Text, "dismissed") {
		t.Errorf("the record says %+v", entries)
	}
	forward(3 * time.Hour)
	if f, _ := find("", meant); f.Key == "" {
		t.Error("it does not come back")
	}
	w.must("POST", "/api/v1/findings/dismissals", fmt.Sprintf(`{"key":%q,"reason":"again","until":"in 1 day"}`, meant))
	if code, _, errOut := w.run("upkeep", "reopen", meant); code != 0 {
		t.Errorf("reopened: %d %s", code, errOut)
	}
	w.must("POST", "/api/v1/findings/dismissals", fmt.Sprintf(`{"key":%q,"reason":"once more","until":"in 1 day"}`, meant))
	w.must("DELETE", "/api/v1/findings/dismissals?key="+strings.ReplaceAll(meant, " ", "%20"), "")
	if status, _, _ := w.ask("DELETE", "/api/v1/findings/dismissals?key="+strings.ReplaceAll(meant, " ", "%20"), w.token, ""); status != 404 {
		t.Errorf("reopened twice: %d", status)
	}
	// A delegate is told of what they see all of, and dismisses nothing.
	marta := w.as("marta.solis")
	for _, f := range get[wire.Findings](marta, "GET", "/api/v1/findings", "").Items {
		for _, r := range f.Records {
			if r.Type == "devices" && !strings.Contains(r.ID, "alder") && !strings.Contains(r.ID, "twin") {
				t.Errorf("a delegate is told of %+v", r)
			}
		}
	}
	if status, _, _ := marta.ask("POST", "/api/v1/findings/dismissals", marta.token, fmt.Sprintf(`{"key":%q,"reason":"x","until":"in 1 day"}`, meant)); status != 403 {
		t.Errorf("a delegate dismisses: %d", status)
	}
}
