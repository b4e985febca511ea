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

	if gone := get[wire.Revisions](w, "GET", "/api/v1/revisions?type=users&id=noor.haddad&limit=1", "").Items[0]; gone.Records[0].Name != "Noor Haddad" {
		t.Errorf("who has gone is called %+v", gone.Records[0])
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

// TestTheLineOfRevisions is read from the newest on, narrowed by who, when and what; each tells who gained and lost what by it, any two are
// compared, and several are taken back as one, or the one that stands in the way is named.
func TestTheLineOfRevisions(t *testing.T) {
	t.Parallel()
	w, forward := shifted(t)
	forward(time.Hour)
	w.must("DELETE", "/api/v1/user_groups/bridge-crew/members/tomas.field?note=with%20the%20instruments", "")
	forward(time.Hour)
	bram := w.as("bram.okafor")
	bram.must("PATCH", "/api/v1/devices/mill-bridge", `{"name":"Mill lift bridge"}`)
	forward(time.Hour)
	noon := get[wire.Session](w, "GET", "/api/v1/session", "").Now.UTC().Format(time.RFC3339)
	forward(time.Hour)
	w.must("PATCH", "/api/v1/devices/mill-bridge", `{"name":"The mill bridge"}`)
	w.must("PATCH", "/api/v1/users/rui.falcao", `{"note":"on leave"}`)

	numbers := func(query string) string {
		t.Helper()
		var out []string
		for _, h := range get[wire.Revisions](w, "GET", "/api/v1/revisions"+query, "").Items {
			out = append(out, fmt.Sprint(h.Revision))
		}
		return strings.Join(out, " ")
	}
	for query, want := range map[string]string{
		"": "5 4 3 2 1", "?by=bram.okafor": "3", "?type=devices&id=mill-bridge": "4 3 1", "?since=" + noon: "5 4", "?until=" + noon: "3 2 1", "?limit=2": "5 4", "?type=users&id=rui.falcao&limit=1": "5", "?by=nobody": "",
	} {
		if got := numbers(query); got != want {
			t.Errorf("%s lists %q, want %q", query, got, want)
		}
	}
	var walked []string
	for next := "?limit=2"; next != ""; {
		page := get[wire.Revisions](w, "GET", "/api/v1/revisions"+next, "")
		for _, h := range page.Items {
			walked = append(walked, fmt.Sprint(h.Revision))
		}
		if next = ""; page.Next != "" {
			next = "?limit=2&cursor=" + page.Next
		}
	}
	if got := strings.Join(walked, " "); got != "5 4 3 2 1" {
		t.Errorf("page by page it is %s", got)
	}
	for query, want := range map[string]string{"?type=gates&id=x": "no type of record", "?type=users": "give both", "?since=soonish": `"path":"since"`, "?limit=none": `"path":"limit"`, "?cursor=x": "first page"} {
		if status, _, body := w.ask("GET", "/api/v1/revisions"+query, w.token, ""); status != 400 || !strings.Contains(body, want) {
			t.Errorf("%s: %d %s", query, status, body)
		}
	}

	shown := get[wire.RevisionShown](w, "GET", "/api/v1/revisions/2?impact=true", "")
	if shown.Impact == nil || shown.Impact.Lost.All == 0 || shown.Impact.Gained.All > 0 || shown.Impact.Items[0].User.ID != "tomas.field" || shown.Note != "with the instruments" {
		t.Errorf("revision 2 is %+v", shown)
	}
	if quiet := get[wire.RevisionShown](w, "GET", "/api/v1/revisions/3?impact=true", ""); quiet.Impact == nil || quiet.Impact.Lost.All+quiet.Impact.Gained.All > 0 {
		t.Errorf("who gained by a name: %+v", quiet.Impact)
	}
	there := get[wire.Compared](w, "GET", "/api/v1/comparison?from=1&to="+noon, "")
	back := get[wire.Compared](w, "GET", "/api/v1/comparison?from="+noon+"&to=1", "")
	if there.All != 2 || there.From.Revision != 1 || there.To.Revision != 3 || there.Impact.Lost.All == 0 || back.Impact.Gained.All == 0 || back.Impact.Lost.All > 0 {
		t.Errorf("from the beginning to noon %+v\nand back %+v", there, back)
	}
	if now := get[wire.Compared](w, "GET", "/api/v1/comparison?from=5", ""); now.All != 0 || now.To.Revision != 5 {
		t.Errorf("from the last until now: %+v", now)
	}
	if status, _, body := w.ask("GET", "/api/v1/comparison", w.token, ""); status != 400 || !strings.Contains(body, `"path":"from"`) {
		t.Errorf("from nothing: %d %s", status, body)
	}

	for body, want := range map[string]string{
		`{"revisions":[3]}`: "revision 4 has changed", `{"revisions":[3,2]}`: "revision 4 has changed", `{"revisions":[]}`: "is missing", `{"revisions":[1]}`: "is the beginning",
	} {
		if status, _, answer := w.ask("POST", "/api/v1/undo", w.token, body); status < 400 || status > 409 || !strings.Contains(answer, want) {
			t.Errorf("%s: %d %s", body, status, answer)
		}
	}
	if status, _, _ := w.ask("POST", "/api/v1/undo", w.token, `{"revisions":[9]}`); status != 404 {
		t.Errorf("what is still to come: %d", status)
	}
	if code, out, errOut := w.run("history", "undo", "3", "2", "4", "--note", "all wrong"); code != 0 || !strings.Contains(out, "The mill bridge → Mill bridge") || !strings.Contains(out, "+control") {
		t.Errorf("three together: %d\n%s%s", code, out, errOut)
	}
	if code, out, _ := w.run("history", "list", "--limit", "1"); code != 0 || !strings.Contains(out, "undo of revisions 2, 3 and 4: all wrong") {
		t.Errorf("the line begins with\n%s", out)
	}
	if code, out, _ := w.run("history", "compare", "1"); code != 1 || !strings.Contains(out, "rui.falcao") || strings.Contains(out, "mill-bridge") {
		t.Errorf("what is left of it all: %d\n%s", code, out)
	}
	if code, _, errOut := w.run("history", "list", "--record", "bridge"); code != 2 || !strings.Contains(errOut, "grant/bridge-watch") {
		t.Errorf("a record that is none: %d %s", code, errOut)
	}
}
