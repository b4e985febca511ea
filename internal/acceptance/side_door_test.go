package acceptance

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"sentier/internal/wire"
)

// TestALinkIsNoMoreThanItsMakerMay: a delegate makes links for those alone who have nothing outside the mandate, and a link ends with what let it be made.
func TestALinkIsNoMoreThanItsMakerMay(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	w.must("PUT", "/api/v1/user_groups/crew", `{"name":"Crew"}`)
	w.must("PUT", "/api/v1/mandates/chief", `{"name":"Chief","role":"delegate","to":{"users":["greta.holm"]},"sites":["twin-bridges"],"groups":["crew"],"rights":["control"]}`)
	greta := w.as("greta.holm")
	invite := func(id, more string) string {
		w.must("PUT", "/api/v1/users/"+id, `{"name":"`+id+`","status":"invited"}`)
		if more != "" {
			w.must("POST", "/api/v1/changes", `{"changes":[`+more+`]}`)
		}
		greta.must("POST", "/api/v1/changes", `{"changes":[{"op":"add","type":"user_groups","id":"crew","list":"members","value":"`+id+`"}]}`)
		return "/api/v1/users/" + id + "/invitation"
	}
	for id, c := range map[string][2]string{
		"to-own":       {`{"op":"put","type":"mandates","id":"x","record":{"id":"x","name":"X","role":"owner","to":{"users":["to-own"]}}}`, "holds a mandate"},
		"to-own-later": {`{"op":"put","type":"mandates","id":"y","record":{"id":"y","name":"Y","role":"owner","to":{"users":["to-own-later"]},"valid":{"from":"2036-01-01T00:00:00Z"}}}`, "holds a mandate"},
		"elsewhere":    {`{"op":"add","type":"user_groups","id":"bridge-crew","list":"members","value":"elsewhere","from":"2036-01-01T00:00:00Z"}`, "in a user group that the mandate does not name"},
		"by-name":      {`{"op":"put","type":"grants","id":"z","record":{"id":"z","name":"Z","to":{"users":["by-name"]},"lines":[{"rights":["view"],"on":{"devices":["estuary-gate-1"]}}]}}`, "grant by name"},
	} {
		greta.refused("POST", invite(id, c[0]), "", 403, c[1])
	}
	made := func(id string) string {
		_, secret, _ := strings.Cut(get[wire.Invitation](greta, "POST", invite(id, ""), "").Link, "#")
		return fmt.Sprintf(`{"link":%q,"password":"towpath and heron","terminal":true}`, secret)
	}
	good, gained, ended := made("good"), made("gains"), made("ended")
	w.must("POST", "/api/v1/welcome", good)
	w.must("PUT", "/api/v1/mandates/gains", `{"name":"Gains","role":"auditor","to":{"users":["gains"]}}`)
	w.refused("POST", "/api/v1/welcome", gained, 400, "holds no more")
	w.must("DELETE", "/api/v1/mandates/chief", "")
	w.refused("POST", "/api/v1/welcome", ended, 400, "holds no more")
}

// TestAGivenPasswordIsReplaced: by another one, however its letters are composed.
func TestAGivenPasswordIsReplaced(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	composed, apart := "rivière et péniche", "rivie\u0300re et pe\u0301niche"
	w.must("PUT", "/api/v1/users/noor.haddad/password", fmt.Sprintf(`{"password":%q}`, composed))
	status, _, body := w.ask("POST", "/api/v1/session", "", fmt.Sprintf(`{"user":"noor.haddad","password":%q,"terminal":true}`, apart))
	if status != 200 {
		t.Fatalf("the same password from another keyboard: %d %s", status, body)
	}
	var entered wire.Session
	decode(t, []byte(body), &entered)
	noor := &world{t: t, url: w.url, owner: w.owner, token: entered.Token}
	for _, same := range []string{composed, apart} {
		noor.refused("PUT", "/api/v1/session/password", fmt.Sprintf(`{"current":%q,"password":%q}`, composed, same), 400, "is the one before")
	}
	_, secret, _ := strings.Cut(get[wire.Invitation](w, "POST", "/api/v1/users/noor.haddad/invitation", "").Link, "#")
	w.refused("POST", "/api/v1/welcome", fmt.Sprintf(`{"link":%q,"password":%q}`, secret, composed), 400, "is the one before")
	w.refused("POST", "/api/v1/welcome", fmt.Sprintf(`{"link":%q,"password":"correcthorsebatterystaple"}`, secret), 400, "commonly made of")
	noor.must("PUT", "/api/v1/session/password", fmt.Sprintf(`{"current":%q,"password":"herons of the weir"}`, composed))
}

// TestWhatADelegateMayNotSee: device groups that are empty or lie elsewhere are not there, in whatever is told.
func TestWhatADelegateMayNotSee(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	w.must("PUT", "/api/v1/device_groups/empty", `{"name":"Secret plan"}`)
	w.must("PUT", "/api/v1/device_groups/everywhere", `{"name":"Everywhere","devices":["mill-bridge","twin-bridge-north"]}`)
	w.must("PUT", "/api/v1/calendars/hush", `{"name":"Hush","days":[{"date":"2027-01-01"}]}`)
	w.must("PUT", "/api/v1/schedules/quiet", `{"name":"Quiet","windows":[{"from":"08:00","to":"18:00"}],"closed":["hush"]}`)
	w.must("PUT", "/api/v1/grants/wide", `{"name":"Wide","to":{"users":["elin.berg"]},"lines":[{"rights":["view"],"on":{"device_groups":["everywhere"],"devices":["estuary-gate-1","twin-bridge-north"]}}]}`)
	w.must("PUT", "/api/v1/user_groups/crew", `{"name":"Crew","members":["elin.berg"]}`)
	w.must("PUT", "/api/v1/mandates/chief", `{"name":"Chief","role":"delegate","to":{"users":["greta.holm"]},"sites":["twin-bridges"],"groups":["crew"],"rights":["control"]}`)
	greta := w.as("greta.holm")
	greta.refused("PUT", "/api/v1/grants/mine", `{"name":"Mine","to":{"groups":["crew"]},"lines":[{"rights":["control"],"on":{"device_groups":["empty"]}}]}`, 403, "device group")
	for _, path := range []string{"/api/v1/device_groups", "/api/v1/device_groups/empty", "/api/v1/grants/wide", "/api/v1/schedules/quiet", "/api/v1/search?q=Secret"} {
		if _, _, body := greta.ask("GET", path, greta.token, ""); strings.Contains(body, "ecret plan") || strings.Contains(body, "verywhere") || strings.Contains(body, "estuary") || strings.Contains(body, "hush") {
			t.Errorf("%s tells a delegate %s", path, body)
		}
	}
	_, _, body := greta.ask("POST", "/api/v1/check", greta.token, `{"user":"elin.berg","right":"view","device":"twin-bridge-north"}`)
	if strings.Contains(body, "verywhere") || !strings.Contains(body, `"allowed":true`) {
		t.Errorf("a check tells a delegate %s", body)
	}
	if status, _, _ := greta.ask("GET", "/metrics", greta.token, ""); status != 403 {
		t.Errorf("figures for a delegate: %d", status)
	}
	if status, _, _ := w.as("maya.winter").ask("GET", "/metrics", w.token, ""); status != 200 {
		t.Errorf("figures for an owner: %d", status)
	}
	greta.refused("PATCH", "/api/v1/devices/mill-bridge", `{"name":"Mine"}`, 404, "")
	if list := w.entries("kind=refusal&by=greta.holm"); len(list) == 0 || !strings.Contains(string(list[len(list)-1].More), "mill-bridge") {
		t.Errorf("a try at what is hidden is on record as %+v", list)
	}
}

// TestWhoSetALockoutIsNotTyped: it is whoever set it, by each way in which it is typed.
func TestWhoSetALockoutIsNotTyped(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	bram := w.as("bram.okafor")
	by := func() string {
		return get[struct{ Lockout struct{ By string } }](w, "GET", "/api/v1/devices/mill-bridge", "").Lockout.By
	}
	for _, step := range []struct {
		who            *world
		path, body, by string
	}{
		{w, "/api/v1/devices/mill-bridge", `{"lockout":{"by":"somebody.else","reason":"ice"}}`, "ines.carvalho"},
		{bram, "/api/v1/devices/mill-bridge", `{"note":"looked at"}`, "ines.carvalho"},
		{bram, "/api/v1/devices/mill-bridge", `{"lockout":{"by":"bram.okafor","reason":"ice"}}`, "ines.carvalho"},
		{bram, "/api/v1/devices/mill-bridge", `{"lockout":{"by":"ines.carvalho","reason":"thin ice"}}`, "bram.okafor"},
	} {
		step.who.must("PATCH", step.path, step.body)
		if got := by(); got != step.by {
			t.Errorf("after %s it is by %q, want %q", step.body, got, step.by)
		}
	}
	last := get[wire.Revisions](w, "GET", "/api/v1/revisions?limit=1", "").Items[0].Revision
	w.must("PATCH", "/api/v1/devices/mill-bridge", `{"lockout":null}`)
	w.must("POST", fmt.Sprintf("/api/v1/revisions/%d/undo", last+1), "")
	if got := by(); got != "bram.okafor" {
		t.Errorf("what is put back is by %q", got)
	}
}

// TestWhoComesAfterWithTheSameID has nothing of who was there before.
func TestWhoComesAfterWithTheSameID(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	bram := w.as("bram.okafor")
	bram.must("POST", "/api/v1/drafts", `{"name":"Secret","reason":"a reason","changes":[{"op":"patch","type":"devices","id":"mill-bridge","record":{"note":"x"}}]}`)
	bram.must("PUT", "/api/v1/session/preferences", `{"language":"fr"}`)
	w.must("POST", "/api/v1/changes", `{"changes":[{"op":"remove","type":"users","id":"bram.okafor","cascade":true,"accept_gains":true}]}`)
	w.must("PUT", "/api/v1/users/bram.okafor", `{"name":"Another Bram"}`)
	w.must("PUT", "/api/v1/mandates/other", `{"name":"Other","role":"delegate","to":{"users":["bram.okafor"]},"sites":["twin-bridges"],"groups":["volunteers"],"rights":["view"]}`)
	again := w.as("bram.okafor")
	if list := get[[]wire.DraftHead](again, "GET", "/api/v1/drafts?all=true", ""); len(list) > 0 {
		t.Errorf("they see the drafts %+v", list)
	}
	if p := get[wire.Preferences](again, "GET", "/api/v1/session/preferences", ""); p.Language != "" {
		t.Errorf("they have the preferences %+v", p)
	}
	if list := get[[]wire.DraftHead](w, "GET", "/api/v1/drafts", ""); len(list) == 0 || !strings.Contains(list[0].Author.ID, "(removed)") {
		t.Errorf("others are told of it as %+v", list)
	}
}

// TestJoiningHasItsBound: the minutes are per day and person, and what one joined by another group ends with that.
func TestJoiningHasItsBound(t *testing.T) {
	t.Parallel()
	w, forward := shifted(t)
	w.must("PUT", "/api/v1/user_groups/first", `{"name":"First","join":{"groups":["volunteers"],"minutes":60,"approval":"none"}}`)
	w.must("PUT", "/api/v1/user_groups/second", `{"name":"Second","join":{"groups":["first"],"minutes":400,"approval":"none"}}`)
	w.must("PUT", "/api/v1/user_groups/volunteers", `{"name":"Volunteers","members":["noor.haddad"]}`)
	noor := w.as("noor.haddad")
	join := func(group string, minutes int) (int, string) {
		status, _, body := noor.ask("POST", "/api/v1/mine/join", noor.token, fmt.Sprintf(`{"group":%q,"minutes":%d,"reason":"x"}`, group, minutes))
		return status, body
	}
	in := func() string {
		var out []string
		for _, g := range get[wire.Mine](noor, "GET", "/api/v1/mine", "").Groups {
			out = append(out, g.ID)
		}
		return strings.Join(out, " ")
	}
	if status, body := join("first", 40); status >= 300 {
		t.Fatalf("%d %s", status, body)
	}
	if status, body := join("second", 400); status >= 300 {
		t.Fatalf("%d %s", status, body)
	}
	noor.must("POST", "/api/v1/mine/give-back", `{"group":"first"}`)
	if got := in(); strings.Contains(got, "second") {
		t.Errorf("after the first was given back they are in %s", got)
	}
	if status, body := join("first", 30); status != 400 || !strings.Contains(body, "the 20 that are left of 60") {
		t.Errorf("again: %d %s", status, body)
	}
	if status, body := join("first", 20); status >= 300 {
		t.Errorf("what is left: %d %s", status, body)
	}
	forward(25 * time.Hour)
	w.renew()
	if status, body := join("first", 60); status >= 300 {
		t.Errorf("the day after: %d %s", status, body)
	}
	if status, body := join("second", 400); status >= 300 {
		t.Fatalf("%d %s", status, body)
	}
	forward(61 * time.Minute)
	if got := in(); strings.Contains(got, "second") {
		t.Errorf("after the first has ended they are in %s", got)
	}
}
