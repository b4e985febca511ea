package acceptance

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"sentier/internal/document"
	"sentier/internal/wire"
)

// TestThePolicyAsItWas: every question can be asked of a revision and of a time of before, and is answered as a service would that had the
// document of that revision and no other; and whoever does not read everything now does not read what was.
func TestThePolicyAsItWas(t *testing.T) {
	t.Parallel()
	w, forward := shifted(t)
	forward(time.Hour)
	w.must("DELETE", "/api/v1/user_groups/bridge-crew/members/tomas.field", "")
	forward(time.Hour)
	between := get[wire.Session](w, "GET", "/api/v1/session", "").Now.UTC().Format(time.RFC3339)
	forward(time.Hour)
	w.must("DELETE", "/api/v1/users/noor.haddad?cascade=true", "")
	w.must("DELETE", "/api/v1/sites/alder-cut?cascade=true&accept_gains=true", "")

	for number := 1; number <= 4; number++ {
		_, _, text := w.ask("GET", fmt.Sprintf("/api/v1/policy?as_of=%d", number), w.token, "")
		p, err := document.ReadPolicy([]byte(text))
		if err != nil {
			t.Fatal(err)
		}
		afresh := start(t, p)
		at := get[wire.RevisionShown](w, "GET", fmt.Sprintf("/api/v1/revisions/%d", number), "").At.UTC().Format(time.RFC3339Nano)
		for _, q := range []struct{ method, path, body string }{
			{"POST", "/api/v1/check", `{"user":"tomas.field","right":"control","device":"twin-bridge-north","at":"` + at + `"}`},
			{"POST", "/api/v1/week", `{"user":"rui.falcao","device":"mill-pump-2","right":"control","from":"2026-11-23"}`},
			{"POST", "/api/v1/matrix", `{"rows":{"type":"user_groups"},"columns":{"type":"sites"},"at":"` + at + `"}`},
			{"GET", "/api/v1/reach/users/tomas.field?limit=1000&at=" + at, ""}, {"GET", "/api/v1/reach/devices/twin-bridge-north?limit=1000&at=" + at, ""},
			{"GET", "/api/v1/reach/user_groups/bridge-crew?at=" + at, ""}, {"GET", "/api/v1/reach/devices?id=mill-bridge&at=" + at, ""},
			{"GET", "/api/v1/users?limit=1000", ""}, {"GET", "/api/v1/users/noor.haddad", ""}, {"GET", "/api/v1/sites/alder-cut/mentions", ""}, {"GET", "/api/v1/counts", ""},
			{"GET", "/api/v1/groups/users/tomas.field", ""}, {"GET", "/api/v1/uses/user_groups/bridge-crew?at=" + at, ""}, {"GET", "/api/v1/find?q=alder", ""},
			{"GET", "/api/v1/names?of=users/noor.haddad", ""}, {"GET", "/api/v1/settings", ""},
		} {
			mark := "?"
			if strings.Contains(q.path, "?") {
				mark = "&"
			}
			status, _, was := w.ask(q.method, q.path+mark+fmt.Sprintf("as_of=%d", number), w.token, q.body)
			wantStatus, _, want := afresh.ask(q.method, q.path, afresh.token, q.body)
			was = strings.ReplaceAll(was, fmt.Sprintf(`"revision":%d`, number), `"revision":1`)
			if was != want || status != wantStatus || status == 400 {
				from := 0
				for from < min(len(was), len(want)) && was[from] == want[from] {
					from++
				}
				from = max(0, from-100)
				t.Errorf("%s %s as of revision %d: %d\n…%.400s\nafresh: %d\n…%.400s", q.method, q.path, number, status, was[min(len(was), from):], wantStatus, want[min(len(want), from):])
			}
		}
	}

	// A time is that of the clock as well: nobody has to say twice when.
	asked := `{"user":"tomas.field","right":"control","device":"twin-bridge-north"}`
	_, _, then := w.ask("POST", "/api/v1/check?as_of="+between, w.token, asked)
	if !strings.Contains(then, `"at":"`+between+`"`) || !strings.Contains(then, `"revision":2`) {
		t.Errorf("as of %s: %s", between, then)
	}
	for what, want := range map[string]string{"5": "the last is 4", "0": "there is no revision 0", "2001-01-01": "no policy yet", "2999-01-01": "still to come", "soonish": "is no revision and no time"} {
		if status, _, body := w.ask("POST", "/api/v1/check?as_of="+what, w.token, asked); status != 400 || !strings.Contains(body, want) || !strings.Contains(body, `"path":"as_of"`) {
			t.Errorf("as of %s: %d %s", what, status, body)
		}
	}
	if status, _, body := w.ask("PATCH", "/api/v1/devices/mill-bridge?as_of=1", w.token, `{"state":"retired"}`); status != 400 || !strings.Contains(body, "as it is") {
		t.Errorf("a change as of revision 1: %d %s", status, body)
	}
	for _, user := range []string{"tomas.field", "marta.solis", "gateway-bridges"} {
		if status, _, body := w.ask("POST", "/api/v1/check?as_of=1", w.tokenFor(user), `{"user":"`+user+`","right":"view","device":"mill-bridge"}`); status != 403 {
			t.Errorf("%s asks of the past: %d %s", user, status, body)
		}
	}
	if status, header, _ := w.ask("GET", "/api/v1/users/noor.haddad?as_of=1", w.tokenFor("lena.marsh"), ""); status != 200 || header.Get("Allow") != "GET, HEAD" {
		t.Errorf("an auditor: %d %s", status, header.Get("Allow"))
	}

	// In the terminal it is one flag.
	if _, out, _ := w.run("check", "tomas.field", "control", "twin-bridge-north", "--as-of", "1", "--at", "2026-11-24 10:00"); !strings.Contains(out, "Bridge crew") {
		t.Errorf("the check is\n%s", out)
	}
	if _, out, _ := w.run("user", "show", "noor.haddad", "--as-of", "2"); !strings.Contains(out, "Winter contractors") {
		t.Errorf("who has gone is shown as\n%s", out)
	}
	if code, _, errOut := w.run("check", "tomas.field", "control", "mill-bridge", "--as-of", "1", "--advise"); code != 2 || !strings.Contains(errOut, "nothing changes any more") {
		t.Errorf("advice about the past: %d %s", code, errOut)
	}
}
