package acceptance

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"sentier/internal/policy"
	"sentier/internal/wire"
)

// TestEveryTypeThroughEveryRoute makes a record of each type by its name alone, asks what refers to it, changes and removes it; and so with
// the entries of lists. That each answer is as described, is looked at with every answer.
func TestEveryTypeThroughEveryRoute(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	does := func(method, path, body string, status int) string {
		t.Helper()
		got, _, text := w.ask(method, "/api/v1/"+path, w.token, body)
		if got != status {
			t.Errorf("%s %s %s: %d, want %d: %.300s", method, path, body, got, status, text)
		}
		return text
	}
	for _, typ := range policy.Types() {
		name := "Made by its route, " + typ.Noun()
		body := fmt.Sprintf(`{"name":%q}`, name)
		switch typ {
		case policy.Mandates:
			body = fmt.Sprintf(`{"name":%q,"role":"auditor"}`, name)
		case policy.Expectations:
			body = fmt.Sprintf(`{"name":%q,"who":{"users":["night-backup"]},"rights":["release"],"on":{"everything":true},"expect":"never"}`, name)
		}
		text := does("POST", typ.String(), body, 201)
		id := "made-by-its-route-" + strings.ReplaceAll(typ.Noun(), " ", "-")
		if !strings.Contains(text, id) {
			t.Fatalf("%s: its id is not %s: %s", typ, id, text)
		}
		at := typ.String() + "/" + id
		does("GET", at, "", 200)
		if list := get[[]wire.Mention](w, "GET", "/api/v1/"+at+"/mentions", ""); len(list) > 0 {
			t.Errorf("%s is mentioned: %v", at, list)
		}
		does("PATCH", at, `{"note":"looked at"}`, 200)
		does("PATCH", at, `{"colour":"red"}`, 422)
		does("DELETE", at+"?dry_run=true", "", 200)
		does("GET", at, "", 200)
		does("DELETE", at, "", 200)
		does("GET", at, "", 404)
		does("DELETE", at, "", 422) // what is not there is told, with what is called like it
	}
	for _, entry := range []string{"device_groups/winter-list/devices/mill-bridge", "devices/mill-bridge/tags/painted", "devices/mill-bridge/points/winch", "user_groups/bridge-crew/members/noor.haddad"} {
		does("PUT", entry, "", 200)
		does("DELETE", entry, "", 200)
	}
	does("PUT", "devices/no-such/tags/painted", "", 422)

	// An invitation, its link, and a password of one's own.
	does("POST", "users", `{"name":"Pia Rask","status":"invited"}`, 201)
	var invited wire.Invitation
	if err := json.Unmarshal([]byte(does("POST", "users/pia-rask/invitation", "", 201)), &invited); err != nil {
		t.Fatal(err)
	}
	_, link, _ := strings.Cut(invited.Link, "#")
	status, _, text := w.ask("POST", "/api/v1/welcome", "", fmt.Sprintf(`{"link":%q,"password":"towpath and heron"}`, link))
	if status != 200 {
		t.Fatalf("the link: %d %s", status, text)
	}
	var session wire.Session
	if err := json.Unmarshal([]byte(text), &session); err != nil {
		t.Fatal(err)
	}
	_, header, _ := w.ask("POST", "/api/v1/session", "", `{"user":"pia-rask","password":"towpath and heron"}`)
	cookie, _, _ := strings.Cut(header.Get("Set-Cookie"), ";")
	status, _, text = w.ask("PUT", "/api/v1/session/password", "", `{"current":"towpath and heron","password":"heron and towpath"}`, "Cookie", cookie, "Origin", w.url, "Sec-Fetch-Site", "same-origin")
	if status != 200 {
		t.Errorf("a new password: %d %s", status, text)
	}
	if status, _, text = w.ask("GET", "/schemas/expectations.json", "", ""); status != 200 || !strings.Contains(text, "json-schema.org") {
		t.Errorf("the schema of expectations: %d %.100s", status, text)
	}
	if status, _, text = w.ask("GET", "/api/v1/backup", w.token, ""); status != 200 || !strings.HasPrefix(text, "SQLite format 3") {
		t.Errorf("the copy: %d %.20q", status, text)
	}
}
