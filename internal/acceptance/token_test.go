package acceptance

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"sentier/internal/wire"
)

// TestTokensAreForAsLittleAsIsNeeded: of one mandate, from some networks, to a date; rotated without a gap, and with when they were used.
func TestTokensAreForAsLittleAsIsNeeded(t *testing.T) {
	t.Parallel()
	w, forward := shifted(t)
	create := func(body string) (status int, token wire.Token, text string) {
		status, _, text = w.ask("POST", "/api/v1/tokens", w.token, body)
		if err := json.Unmarshal([]byte(text), &token); err != nil {
			t.Fatal(err)
		}
		return status, token, text
	}
	for body, want := range map[string]string{
		`{"user":"ines.carvalho","name":"x","mandate":"no-such"}`:                 "no mandate",
		`{"user":"tomas.field","name":"x","mandate":"` + w.ownersMandate() + `"}`: "is in force for Tomas Field",
		`{"user":"ines.carvalho","name":"x","networks":["10.20.0.0"]}`:            "is no network",
		`{"user":"ines.carvalho","name":"x","until":"2020-01-01"}`:                "out of range",
		`{"user":"ines.carvalho","name":"x","until":"2027-03-31","days":4}`:       "give one of them",
		`{"user":"ines.carvalho","name":"x","until":"some day"}`:                  "until",
	} {
		if status, _, text := create(body); status != 400 || !strings.Contains(text, want) {
			t.Errorf("%s: %d %s", body, status, text)
		}
	}
	asks := func(token, path string) int { return first(w.ask("GET", path, token, "")) }

	// Of an owner who is an auditor as well, a token for the auditor's mandate reads, and changes nothing.
	w.must("PUT", "/api/v1/mandates/reading", `{"name":"Reading","role":"auditor","to":{"users":["ines.carvalho"]}}`)
	_, reading, _ := create(`{"user":"ines.carvalho","name":"report","mandate":"reading"}`)
	if asks(reading.Secret, "/api/v1/policy") != 200 {
		t.Error("a token for the mandate of an auditor does not read")
	}
	if status, _, text := w.ask("PATCH", "/api/v1/users/tomas.field", reading.Secret, `{"email":"t@larkmere.example"}`); status != 403 {
		t.Errorf("a token for the mandate of an auditor changes: %d %s", status, text)
	}
	if status, _, _ := w.ask("POST", "/api/v1/tokens", reading.Secret, `{"user":"ines.carvalho","name":"more"}`); status != 403 {
		t.Errorf("a token for less makes one for more: %d", status)
	}
	w.must("PATCH", "/api/v1/mandates/reading", `{"enabled":false}`)
	if asks(reading.Secret, "/api/v1/policy") != 403 {
		t.Error("a token outlasts its mandate")
	}

	// From elsewhere it is no credential at all.
	_, elsewhere, _ := create(`{"user":"ines.carvalho","name":"elsewhere","networks":["10.20.0.0/16","2001:db8::/32"]}`)
	_, here, _ := create(`{"user":"ines.carvalho","name":"here","networks":["127.0.0.1/8"]}`)
	if got := asks(elsewhere.Secret, "/api/v1/session"); got != 401 {
		t.Errorf("from elsewhere: %d", got)
	}
	if got := asks(here.Secret, "/api/v1/session"); got != 200 || here.Networks[0] != "127.0.0.0/8" {
		t.Errorf("from here: %d, from %v", got, here.Networks)
	}

	_, lasting, _ := create(`{"user":"ines.carvalho","name":"lasting","until":"in 12 weeks"}`)
	w.token = lasting.Secret

	// To a date, and rotated: both hold for a while, and the new one for as long as the old one was for.
	_, night, _ := create(`{"user":"night-backup","name":"backup","days":30,"networks":["127.0.0.0/8"]}`)
	forward(26 * 24 * time.Hour)
	status, _, text := w.ask("POST", "/api/v1/tokens/"+night.ID+"/rotation", w.token, `{"hours":48}`)
	var next wire.Token
	if err := json.Unmarshal([]byte(text), &next); err != nil || status != 201 || next.Secret == "" || next.User != "night-backup" || next.Networks[0] != "127.0.0.0/8" {
		t.Fatalf("%d %s", status, text)
	}
	if status, _, _ := w.ask("POST", "/api/v1/tokens/none/rotation", w.token, ""); status != 404 {
		t.Errorf("of none: %d", status)
	}
	holds := func(token wire.Token) bool { return asks(token.Secret, "/api/v1/session") == 200 }
	if !holds(night) || !holds(next) {
		t.Error("both do not hold")
	}
	forward(49 * time.Hour)
	if holds(night) || !holds(next) {
		t.Errorf("after two days the old one holds: %v, the new one: %v", holds(night), holds(next))
	}
	for _, x := range get[[]wire.Token](w, "GET", "/api/v1/tokens?user=night-backup", "") {
		if x.ID == next.ID && (x.Used == nil || x.Expires.Sub(x.Created).Round(time.Hour) != 30*24*time.Hour) {
			t.Errorf("the new one: %+v", x)
		}
	}
	if list := w.entries("kind=token&of=night-backup"); len(list) != 2 || !strings.Contains(string(list[1].More), fmt.Sprintf(`"replaces":%q`, night.ID)) {
		t.Errorf("on record:\n%s", texts(list))
	}
}

// ownersMandate is the id of a mandate of the demonstration's owner.
func (w *world) ownersMandate() string {
	w.t.Helper()
	for _, m := range get[struct{ Items []struct{ ID, Role string } }](w, "GET", "/api/v1/mandates", "").Items {
		if m.Role == "owner" {
			return m.ID
		}
	}
	w.t.Fatal("there is no owner")
	return ""
}
