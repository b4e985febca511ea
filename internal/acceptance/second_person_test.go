package acceptance

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"sentier/internal/wire"
)

// session is the world as somebody sees it who has signed in by themself.
func (w *world) session(user string) *world {
	w.t.Helper()
	if err := w.owner.Service.SetPassword(context.Background(), user, password); err != nil {
		w.t.Fatal(err)
	}
	status, session, problem := w.enter(user, "")
	if status != 200 {
		w.t.Fatalf("%s signs in: %d %s", user, status, problem.Detail)
	}
	if len(session.Setup) > 0 { // no test of this file is about second factors
		for _, g := range get[struct{ Items []struct{ ID string } }](w, "GET", "/api/v1/user_groups?limit=200", "").Items {
			w.must("PATCH", "/api/v1/user_groups/"+g.ID, `{"sign_in":null}`)
		}
	}
	return &world{t: w.t, url: w.url, token: session.Token, owner: w.owner}
}

// renew gives the owner another token, where the one before is over.
func (w *world) renew() {
	w.t.Helper()
	var err error
	if w.token, err = w.owner.OwnerToken(context.Background(), "ines.carvalho", "test"); err != nil {
		w.t.Fatal(err)
	}
}

// refused makes a request that has to be refused, and be told why.
func (w *world) refused(method, path, body string, want int, says string) {
	w.t.Helper()
	if status, _, text := w.ask(method, path, w.token, body); status != want || !strings.Contains(text, says) {
		w.t.Errorf("%s %s %s: %d %s, want %d …%s…", method, path, body, status, text, want, says)
	}
}

const allRules = `{"approval":{"control":true,"everyone":true,"everything":true,"mandates":true,"more_than":4}}`

const noorOnTheBridge = `{"op":"put","type":"grants","id":"new","record":{"id":"new","name":"New","to":{"users":["noor.haddad"]},"lines":[{"rights":["control"],"on":{"devices":["mill-bridge"]}}]}}`

// TestWhoTheSecondPersonCanBe: a person in a session of their own, through no door that one of those whose change it is has opened.
func TestWhoTheSecondPersonCanBe(t *testing.T) {
	t.Parallel()
	w, forward := shifted(t)
	w.must("PATCH", "/api/v1/service", allRules)
	d := get[wire.Draft](w, "POST", "/api/v1/drafts", `{"name":"Noor","changes":[`+noorOnTheBridge+`]}`)
	if status, body := w.as("bram.okafor").approve(d.ID); status != 403 || !strings.Contains(body, "nobody agrees by a token") {
		t.Errorf("by a token that the first has made: %d %s", status, body)
	}
	bram := w.session("bram.okafor") // whose token Ines has just made
	if status, body := bram.approve(d.ID); status != 403 || !strings.Contains(body, "was given one by Ines Carvalho") {
		t.Errorf("through a door that the first has opened: %d %s", status, body)
	}
	if get[wire.Draft](bram, "GET", "/api/v1/drafts/"+d.ID, "").May.Approve {
		t.Error("what would be refused is offered")
	}
	forward(8 * 24 * time.Hour) // which counts still, as the draft was begun before
	w.renew()
	bram = w.session("bram.okafor")
	if status, _ := bram.approve(d.ID); status != 403 {
		t.Errorf("a week later, of a draft from before: %d", status)
	}
	again := get[wire.Draft](w, "POST", "/api/v1/drafts", `{"name":"Noor again","changes":[`+noorOnTheBridge+`]}`)
	if status, body := bram.approve(again.ID); status != 200 {
		t.Errorf("a week later, of a new draft: %d %s", status, body)
	}
	for what, do := range map[string][3]string{"a password": {"PUT", "/api/v1/users/bram.okafor/password", `{"password":"herons of the weir"}`}, "a link": {"POST", "/api/v1/users/bram.okafor/invitation", ``}} {
		w.must(do[0], do[1], do[2])
		third := get[wire.Draft](w, "POST", "/api/v1/drafts", `{"name":"Noor","changes":[`+noorOnTheBridge+`]}`)
		if status, _ := w.session("bram.okafor").approve(third.ID); status != 403 {
			t.Errorf("who was just given %s: %d", what, status)
		}
		forward(8 * 24 * time.Hour)
		w.renew()
	}
	if list := w.entries("kind=refusal"); len(list) == 0 || !strings.Contains(string(list[0].More), again.ID[:4]) {
		t.Errorf("on record is %+v", list)
	}
}

// TestWhatIsWeighed: whatever can come of a change, however late and whoever has to come in or to join first; what only takes away needs nobody.
func TestWhatIsWeighed(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	w.must("PUT", "/api/v1/user_groups/ready", `{"name":"Laid ready","join":{"groups":["volunteers"],"minutes":60,"approval":"none"}}`)
	w.must("PUT", "/api/v1/users/new.hand", `{"name":"New Hand","status":"invited"}`)
	w.must("PUT", "/api/v1/mandates/auditor-bram", `{"name":"Bram reads","role":"auditor","to":{"users":["greta.holm"]}}`)
	w.must("PATCH", "/api/v1/service", `{"approval":{"control":true,"everyone":false,"everything":false,"mandates":true,"more_than":0}}`)
	grant := func(to, more string) string {
		return `{"op":"put","type":"grants","id":"g","record":{"id":"g","name":"G","to":` + to + more + `,"lines":[{"rights":["control"],"on":{"devices":["mill-bridge"]}}]}}`
	}
	for name, c := range map[string]struct{ change, asks string }{
		"control that begins years from now":        {grant(`{"users":["noor.haddad"]}`, `,"valid":{"from":"2036-01-01T00:00:00Z"}`), "control"},
		"control of somebody who has not come in":   {grant(`{"users":["new.hand"]}`, ``), "control"},
		"control of a group that one may join":      {grant(`{"groups":["ready"]}`, ``), "control"},
		"control that may be joined":                {`{"op":"patch","type":"user_groups","id":"bridge-crew","record":{"join":{"groups":["volunteers"],"minutes":60,"approval":"none"}}}`, "control"},
		"a mandate of a group that one may join":    {`{"op":"put","type":"mandates","id":"m","record":{"id":"m","name":"M","role":"owner","to":{"groups":["ready"]}}}`, "mandates"},
		"a mandate of somebody who has not come in": {`{"op":"put","type":"mandates","id":"m","record":{"id":"m","name":"M","role":"auditor","to":{"users":["new.hand"]}}}`, "mandates"},
		"a mandate that is taken away":              {`{"op":"remove","type":"mandates","id":"auditor-bram"}`, ""},
		"a look":                                    {`{"op":"add","type":"user_groups","id":"ready","list":"members","value":"new.hand"}`, ""},
	} {
		saved := get[wire.Saved](w, "POST", "/api/v1/changes?dry_run=true", `{"changes":[`+c.change+`]}`)
		if got := strings.Join(saved.Approval, " "); got != c.asks {
			t.Errorf("%s needs a second person for %q, want %q", name, got, c.asks)
		}
	}
	// What was laid ready is used without anybody.
	bram := w.session("bram.okafor")
	d := get[wire.Draft](w, "POST", "/api/v1/drafts", `{"name":"Laid ready","changes":[`+grant(`{"groups":["ready"],"users":["new.hand"]}`, ``)+`]}`)
	if status, body := bram.approve(d.ID); status != 200 {
		t.Fatalf("laid ready: %d %s", status, body)
	}
	w.must("POST", "/api/v1/drafts/"+d.ID+"/application", `{}`)
	elin := w.as("elin.berg")
	if may := get[wire.Mine](elin, "GET", "/api/v1/mine", "").MayJoin; len(may) > 0 {
		elin.must("POST", "/api/v1/mine/join", fmt.Sprintf(`{"group":%q,"minutes":30,"reason":"the flood"}`, may[0].ID))
	}
	link := get[struct{ Link string }](w, "POST", "/api/v1/users/new.hand/invitation", "")
	w.must("POST", "/api/v1/welcome", fmt.Sprintf(`{"link":%q,"password":"towpath and heron","terminal":true}`, link.Link[strings.Index(link.Link, "#")+1:]))
}

// TestMoreThanSomePeopleCountsADay: four and four within a minute are eight.
func TestMoreThanSomePeopleCountsADay(t *testing.T) {
	t.Parallel()
	w, forward := shifted(t)
	w.must("PUT", "/api/v1/rights/inspect", `{"name":"Inspect"}`)
	w.must("PATCH", "/api/v1/service", `{"approval":{"control":false,"everyone":false,"everything":false,"mandates":false,"more_than":4}}`)
	give := func(id string, users ...string) (int, string) {
		status, _, text := w.ask("PUT", "/api/v1/grants/"+id, w.token, `{"name":"`+id+`","to":{"users":["`+strings.Join(users, `","`)+`"]},"lines":[{"rights":["inspect"],"on":{"devices":["alder-siren"]}}]}`)
		return status, text
	}
	if status, text := give("first", "noor.haddad", "elin.berg", "greta.holm"); status >= 300 {
		t.Fatalf("three: %d %s", status, text)
	}
	if status, text := give("second", "maya.winter", "irene.castro"); status != 409 || !strings.Contains(text, "people") {
		t.Errorf("two more of the same day: %d %s", status, text)
	}
	if status, text := give("first", "noor.haddad", "elin.berg", "maya.winter"); status >= 300 {
		t.Errorf("one more: %d %s", status, text)
	}
	forward(25 * time.Hour)
	w.renew()
	if status, text := give("second", "irene.castro", "greta.holm"); status >= 300 {
		t.Errorf("the day after: %d %s", status, text)
	}
}

// TestAnApprovalIsOfWhatWasShown: a base that makes a draft give more, and whoever agreed being gone, leave it without one.
func TestAnApprovalIsOfWhatWasShown(t *testing.T) {
	t.Parallel()
	w, forward := shifted(t)
	w.must("PUT", "/api/v1/user_groups/few", `{"name":"Few","members":["noor.haddad"]}`)
	w.must("PATCH", "/api/v1/service", `{"approval":{"control":true,"everyone":true,"everything":true,"mandates":true,"more_than":0}}`)
	bram := w.session("bram.okafor")
	begin := func(name string) string {
		d := get[wire.Draft](w, "POST", "/api/v1/drafts", `{"name":"`+name+`","changes":[{"op":"put","type":"grants","id":"new","record":{"id":"new","name":"New","to":{"groups":["few"]},"lines":[{"rights":["control"],"on":{"devices":["mill-bridge"]}}]}}]}`)
		if status, body := bram.approve(d.ID); status != 200 {
			t.Fatalf("approved: %d %s", status, body)
		}
		return "/api/v1/drafts/" + d.ID
	}
	path := begin("For one")
	w.must("PATCH", "/api/v1/devices/alder-siren", `{"note":"what others do meanwhile"}`)
	if a := get[wire.Draft](w, "GET", path, "").Approval; a.By == nil || a.Void != "" {
		t.Errorf("after a change of something else it is %+v", a)
	}
	w.must("POST", "/api/v1/changes", `{"changes":[{"op":"add","type":"user_groups","id":"few","list":"members","value":"elin.berg"},{"op":"add","type":"user_groups","id":"few","list":"members","value":"greta.holm"}]}`)
	if a := get[wire.Draft](w, "GET", path, "").Approval; a.By != nil || !strings.Contains(a.Void, "Elin Berg") {
		t.Errorf("where it gives three what was agreed to for one it is %+v", a)
	}
	w.refused("POST", path+"/application", `{}`, 409, "is void: it would give Elin Berg")
	if d := get[wire.Draft](w, "GET", path, ""); d.Approval.By != nil || !strings.Contains(d.Problem, "is void") {
		t.Errorf("what is kept of it: %+v", d)
	}
	if status, body := bram.approve(path[len("/api/v1/drafts/"):]); status != 200 {
		t.Errorf("approved again: %d %s", status, body)
	}
	w.must("POST", path+"/application", `{}`)

	w.must("DELETE", "/api/v1/grants/new", "")
	path = begin("And who agreed")
	soon := get[wire.Session](w, "GET", "/api/v1/session", "").Now.Add(time.Hour).UTC().Format(time.RFC3339)
	w.must("POST", path+"/application", fmt.Sprintf(`{"at":%q}`, soon))
	w.must("PATCH", "/api/v1/users/bram.okafor", `{"status":"suspended"}`)
	forward(2 * time.Hour)
	for deadline := time.Now().Add(time.Minute); get[wire.Draft](w, "GET", path, "").State == "waiting" && time.Now().Before(deadline); {
		time.Sleep(50 * time.Millisecond)
	}
	if d := get[wire.Draft](w, "GET", path, ""); d.State != "failed" || !strings.Contains(d.Problem, "may not agree to this any more") {
		t.Errorf("at its hour it is %s: %s", d.State, d.Problem)
	}
}

// TestARequestIsGrantedAsItWasAsked: then who asked and who grants are the two people; whatever goes beyond is a change of the one who answers.
func TestARequestIsGrantedAsItWasAsked(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	w.must("PATCH", "/api/v1/service", `{"approval":{"control":true,"everyone":true,"everything":true,"mandates":true,"more_than":0}}`)
	ines, noor := w.session("ines.carvalho"), w.session("noor.haddad")
	now := get[wire.Session](w, "GET", "/api/v1/session", "").Now.UTC()
	until, later := now.Add(5*time.Hour).Format(time.RFC3339), now.Add(50*time.Hour).Format(time.RFC3339)
	ask := func(who *world) string {
		r := get[wire.Request](who, "POST", "/api/v1/requests", `{"right":"control","device":"mill-bridge","until":"`+until+`","reason":"the motor"}`)
		return "/api/v1/requests/" + r.ID + "/answer"
	}
	grant := func(id, users, on, valid string) string {
		return `{"op":"put","type":"grants","id":"` + id + `","record":{"id":"` + id + `","name":"` + id + `","to":{"users":[` + users + `]},"valid":{` + valid + `},"lines":[{"rights":["control"],"on":{"devices":["` + on + `"]}}]}}`
	}
	path, right := ask(noor), grant("as-asked", `"noor.haddad"`, "mill-bridge", `"until":"`+until+`"`)
	for name, edits := range map[string]string{
		"another device":      grant("x", `"noor.haddad"`, "tunnel-light-1", `"until":"`+until+`"`),
		"somebody else":       grant("x", `"elin.berg"`, "mill-bridge", `"until":"`+until+`"`),
		"somebody beside":     grant("x", `"noor.haddad","elin.berg"`, "mill-bridge", `"until":"`+until+`"`),
		"longer":              grant("x", `"noor.haddad"`, "mill-bridge", `"until":"`+later+`"`),
		"without an end":      grant("x", `"noor.haddad"`, "mill-bridge", ``),
		"and a mandate":       right + `,{"op":"put","type":"mandates","id":"m","record":{"id":"m","name":"M","role":"owner","to":{"users":["noor.haddad"]}}}`,
		"nothing but another": `{"op":"put","type":"mandates","id":"m","record":{"id":"m","name":"M","role":"owner","to":{"users":["elin.berg"]}}}`,
	} {
		if status, _, text := ines.ask("POST", path, ines.token, `{"agree":true,"edits":[`+edits+`]}`); status != 409 && status != 400 {
			t.Errorf("%s: %d %s", name, status, text)
		}
	}
	w.refused("POST", path, `{"agree":true,"edits":[`+right+`]}`, 403, "nobody agrees by a token")
	if got := get[wire.Request](ines, "POST", path, `{"agree":true,"edits":[`+right+`]}`); got.State != "granted" {
		t.Errorf("as it was asked: %+v", got)
	}
	// Who asked by a token may be a program, or whoever made the token.
	elin := w.as("elin.berg")
	if status, _, _ := ines.ask("POST", ask(elin), ines.token, `{"agree":true,"edits":[`+grant("y", `"elin.berg"`, "mill-bridge", `"until":"`+until+`"`)+`]}`); status != 409 {
		t.Errorf("asked by a token: %d", status)
	}
	// And so may who asked through a door that the one who answers has opened.
	elin = w.session("elin.berg")
	if status, _, _ := ines.ask("POST", ask(elin), ines.token, `{"agree":true,"edits":[`+grant("y", `"elin.berg"`, "mill-bridge", `"until":"`+until+`"`)+`]}`); status != 403 {
		t.Errorf("asked through the door of who answers: %d", status)
	}
}
