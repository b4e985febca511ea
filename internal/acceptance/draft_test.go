package acceptance

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"sentier/internal/wire"
)

// drafted is a draft as it is told.
func (w *world) drafted(id string) wire.Draft {
	w.t.Helper()
	return get[wire.Draft](w, "GET", "/api/v1/drafts/"+id, "")
}

// approve agrees to a draft as it is.
func (w *world) approve(id string) (int, string) {
	w.t.Helper()
	status, _, body := w.ask("POST", "/api/v1/drafts/"+id+"/approval", w.token, fmt.Sprintf(`{"digest":%q}`, w.drafted(id).Digest))
	return status, body
}

// TestChangesAreGathered: what is put into a draft, by whichever way, changes nothing until it is applied; it is looked at as a whole, and asked of
// as if it held; what others change meanwhile stays, and where both have changed the same, one of the versions is taken.
func TestChangesAreGathered(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	dump := func(query string) string {
		_, _, text := w.ask("GET", "/api/v1/policy?format=yaml"+query, w.token, "")
		return text
	}
	before := dump("")
	d := get[wire.Draft](w, "POST", "/api/v1/drafts", `{"name":"Tomas moves","reason":"to the instruments","changes":[{"op":"drop","type":"user_groups","id":"bridge-crew","list":"members","value":"tomas.field"}]}`)
	if d.ID != "tomas-moves" || len(d.Changes) != 1 || d.Impact.Lost.All == 0 || !d.May.Apply || d.May.Approve {
		t.Fatalf("the draft is %+v", d)
	}
	into := "draft=" + d.ID
	w.must("PUT", "/api/v1/user_groups/instrument-technicians/members/tomas.field?"+into, "")
	w.must("PATCH", "/api/v1/devices/mill-bridge?"+into, `{"state":"maintenance"}`)
	w.must("POST", "/api/v1/device_groups?"+into, `{"name":"For Tomas"}`)
	w.must("PUT", "/api/v1/sheets/users?"+into, "id,name\nfay.wells,Fay Wells\n")
	if code, _, errOut := w.run("grant", "edit", "yard", "--enabled", "false", "--draft", d.ID); code != 0 || !strings.Contains(errOut, "draft") {
		t.Errorf("from the terminal: %d %s", code, errOut)
	}
	if after := dump(""); after != before {
		t.Fatal("a draft changed the policy")
	}
	if d = w.drafted(d.ID); d.Records != 5 || len(d.Conflicts)+len(d.Faults) != 0 {
		t.Fatalf("the draft is %+v", d)
	}

	// It can be asked as if it held, by those who may know of it.
	asked := `{"user":"tomas.field","right":"control","device":"twin-bridge-north"}`
	if _, _, body := w.ask("POST", "/api/v1/check?as_of=draft:"+d.ID, w.token, asked); !strings.Contains(body, `"allowed":false`) {
		t.Errorf("as the draft has it: %s", body)
	}
	if _, _, body := w.ask("POST", "/api/v1/check", w.token, asked); !strings.Contains(body, `"allowed":true`) {
		t.Errorf("as it is: %s", body)
	}
	if code, out, _ := w.run("device", "show", "mill-bridge", "--as-of", "draft:"+d.ID, "--format", "json"); code != 0 || !strings.Contains(out, "maintenance") {
		t.Errorf("a device as the draft has it: %s", out)
	}
	for user, want := range map[string]int{"marta.solis": 404, "tomas.field": 404, "gateway-bridges": 404, "lena.marsh": 200} {
		if status, _, body := w.ask("GET", "/api/v1/drafts/"+d.ID, w.tokenFor(user), ""); status != want {
			t.Errorf("%s looks at it: %d %s", user, status, body)
		}
	}
	for _, what := range [][2]string{{"PATCH", "/api/v1/devices/twin-bridge-north?" + into}, {"DELETE", "/api/v1/drafts/" + d.ID}} {
		if status, _, _ := w.ask(what[0], what[1], w.tokenFor("marta.solis"), `{"state":"maintenance"}`); status != 404 {
			t.Errorf("a delegate in another's draft: %s %s is %d", what[0], what[1], status)
		}
	}

	// Others change something else of the same record, which stays; and the same, which is a conflict.
	w.must("PATCH", "/api/v1/devices/mill-bridge", `{"name":"Mill lift bridge"}`)
	if d = w.drafted(d.ID); len(d.Conflicts) != 0 {
		t.Fatalf("there are the conflicts %+v", d.Conflicts)
	}
	w.must("PATCH", "/api/v1/devices/mill-bridge", `{"state":"retired"}`)
	d = w.drafted(d.ID)
	if len(d.Conflicts) != 1 || d.Conflicts[0].ID != "mill-bridge" || d.Conflicts[0].Mine.Fields[0].Field != "state" || d.May.Apply {
		t.Fatalf("there are the conflicts %+v", d.Conflicts)
	}
	if theirs := string(encoded(t, d.Conflicts[0].Theirs.Fields)); !strings.Contains(theirs, "retired") || !strings.Contains(theirs, "Mill lift bridge") {
		t.Errorf("theirs is %s", theirs)
	}
	for _, what := range []string{"application", "approval"} {
		if status, _, body := w.ask("POST", "/api/v1/drafts/"+d.ID+"/"+what, w.token, fmt.Sprintf(`{"digest":%q}`, d.Digest)); status != 409 && what == "application" || status < 400 {
			t.Errorf("%s with a conflict: %d %s", what, status, body)
		}
	}
	w.must("POST", "/api/v1/drafts/"+d.ID+"/resolution", `{"type":"devices","id":"mill-bridge","take":"mine"}`)
	w.must("DELETE", "/api/v1/drafts/"+d.ID+"/changes?type=grants&record=yard", "")
	w.must("DELETE", "/api/v1/user_groups/border-arm-staff/members/agnes.lindqvist", "")

	d = w.drafted(d.ID)
	w.must("POST", "/api/v1/drafts/"+d.ID+"/application", fmt.Sprintf(`{"digest":%q}`, d.Digest))
	last := get[wire.Revisions](w, "GET", "/api/v1/revisions?limit=1", "").Items[0]
	if d = w.drafted(d.ID); d.State != "applied" || d.Revision != last.Revision || last.Note != "draft “Tomas moves”: to the instruments" || last.All != 4 {
		t.Errorf("it was applied as %+v: %+v", last, d.DraftHead)
	}
	bridge := third(w.ask("GET", "/api/v1/devices/mill-bridge", w.token, ""))
	if !strings.Contains(bridge, "maintenance") || !strings.Contains(bridge, "Mill lift bridge") {
		t.Errorf("the bridge is %s", bridge)
	}
	w.must("POST", "/api/v1/undo", fmt.Sprintf(`{"revisions":[%d]}`, d.Revision))
	if status, _, body := w.ask("POST", "/api/v1/drafts/"+d.ID+"/application", w.token, `{}`); status != 409 {
		t.Errorf("applied twice: %d %s", status, body)
	}

	// What others take away meanwhile is told as a fault of the draft, and nothing is half applied.
	e := get[wire.Draft](w, "POST", "/api/v1/drafts", `{"name":"Tomas sees the pump","changes":[{"op":"put","type":"grants","id":"pump","record":{"id":"pump","name":"Pump","to":{"users":["tomas.field"]},"lines":[{"rights":["view"],"on":{"devices":["mill-pump-2"]}}]}}]}`)
	w.must("DELETE", "/api/v1/devices/mill-pump-2?cascade=true", "")
	if e = w.drafted(e.ID); len(e.Faults) != 1 || !strings.Contains(e.Faults[0].Problem, "mill-pump-2") || e.May.Apply {
		t.Errorf("the draft is %+v", e)
	}
	if status, _, body := w.ask("POST", "/api/v1/drafts/"+e.ID+"/application", w.token, `{}`); status != 422 {
		t.Errorf("applied with a fault: %d %s", status, body)
	}
	w.must("DELETE", "/api/v1/drafts/"+e.ID, "")
	if list := get[[]wire.DraftHead](w, "GET", "/api/v1/drafts", ""); len(list) != 0 {
		t.Errorf("there still are %+v", list)
	}
}

// TestADraftWaitsForItsHour: it is applied by itself when its hour comes, as whoever has set it may then, and taken back when its time is over; where that
// cannot be, it is told why, and nothing is changed.
func TestADraftWaitsForItsHour(t *testing.T) {
	t.Parallel()
	w, forward := shifted(t)
	now := get[wire.Session](w, "GET", "/api/v1/session", "").Now
	begin := func(name, changes, more string) string {
		d := get[wire.Draft](w, "POST", "/api/v1/drafts", fmt.Sprintf(`{"name":%q,"changes":[%s]}`, name, changes))
		w.must("POST", "/api/v1/drafts/"+d.ID+"/application", more)
		return d.ID
	}
	at := func(d time.Duration) string { return now.Add(d).UTC().Format(time.RFC3339) }
	regatta := begin("Regatta", `{"op":"patch","type":"devices","id":"mill-bridge","record":{"state":"maintenance"}}`, fmt.Sprintf(`{"at":%q,"until":%q}`, at(2*time.Hour), at(10*time.Hour)))
	broken := begin("Too late", `{"op":"patch","type":"devices","id":"mill-pump-1","record":{"state":"maintenance"}}`, fmt.Sprintf(`{"at":%q}`, at(3*time.Hour)))
	for _, wrong := range []string{`{"at":"yesterday 10:00"}`, `{"until":"2020-01-01"}`, fmt.Sprintf(`{"at":%q,"until":%q}`, at(3*time.Hour), at(2*time.Hour)), `{"at":"in 3 years"}`, `{"digest":"00"}`} {
		if status, _, body := w.ask("POST", "/api/v1/drafts/"+regatta+"/application", w.token, wrong); status != 400 && status != 409 {
			t.Errorf("%s: %d %s", wrong, status, body)
		}
	}
	state := func(id, want string) wire.Draft {
		t.Helper()
		for end := time.Now().Add(10 * time.Second); ; time.Sleep(50 * time.Millisecond) {
			if d := w.drafted(id); d.State == want || time.Now().After(end) {
				if d.State != want {
					t.Fatalf("%s is %s, want %s: %+v", id, d.State, want, d.DraftHead)
				}
				return d
			}
		}
	}
	bridge := func() string {
		return get[struct{ State string }](w, "GET", "/api/v1/devices/mill-bridge", "").State
	}
	state(regatta, "waiting")
	if got := bridge(); got != "in-service" {
		t.Errorf("before its hour the bridge is %s", got)
	}
	forward(2*time.Hour + time.Minute)
	state(regatta, "applied")
	if got := bridge(); got != "maintenance" {
		t.Errorf("in its time the bridge is %s", got)
	}
	w.must("PATCH", "/api/v1/devices/mill-pump-1", `{"state":"retired"}`)
	forward(time.Hour)
	if d := state(broken, "failed"); !strings.Contains(d.Problem, "have changed the same") {
		t.Errorf("it failed as %q", d.Problem)
	}
	if entries := w.entries("kind=draft&outcome=refused"); len(entries) != 1 || !strings.Contains(entries[0].Text, "Too late") {
		t.Errorf("the record says %+v", entries)
	}
	// What would break an expectation is told when its hour is set; and at its hour, where the expectation came in between.
	now = get[wire.Session](w, "GET", "/api/v1/session", "").Now
	open := `{"op":"patch","type":"grants","id":"apprentices-no-release","record":{"enabled":false}}`
	d := get[wire.Draft](w, "POST", "/api/v1/drafts", `{"name":"Apprentices","changes":[`+open+`]}`)
	if status, _, body := w.ask("POST", "/api/v1/drafts/"+d.ID+"/application", w.token, fmt.Sprintf(`{"at":%q}`, at(time.Hour))); status != 409 || !strings.Contains(body, "never") {
		t.Errorf("an hour is set for what breaks an expectation: %d %s", status, body)
	}
	later := begin("Look", `{"op":"add","type":"user_groups","id":"duty-officers","list":"members","value":"tomas.field"}`, fmt.Sprintf(`{"at":%q}`, at(time.Hour)))
	w.must("POST", "/api/v1/expectations", `{"name":"Tomas never opens the tunnel","who":{"users":["tomas.field"]},"rights":["control"],"on":{"devices":["tunnel-pump-1"]},"expect":"never"}`)
	forward(2 * time.Hour)
	if d := state(later, "failed"); !strings.Contains(d.Problem, "Tomas never opens the tunnel") {
		t.Errorf("at its hour it failed as %q", d.Problem)
	}

	forward(6 * time.Hour)
	state(regatta, "ended")
	if got := bridge(); got != "in-service" {
		t.Errorf("when its time is over the bridge is %s", got)
	}
	if last := get[wire.Revisions](w, "GET", "/api/v1/revisions?limit=1", "").Items[0]; !strings.Contains(last.Note, "the time of the draft “Regatta” is over") {
		t.Errorf("the record says %+v", last)
	}
}

// TestASecondPersonApproves: where the settings ask for it, a change of a certain reach is made only as a draft that somebody else has agreed to, as it is to
// the byte; who takes away needs nobody.
func TestASecondPersonApproves(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	bram := w.session("bram.okafor")
	w.must("PATCH", "/api/v1/service", `{"approval":{"control":true,"everyone":true,"everything":true,"mandates":true,"more_than":0}}`)
	gives := `{"op":"put","type":"grants","id":"new","record":{"id":"new","name":"New","to":{"users":["noor.haddad"]},"lines":[{"rights":["control"],"on":{"devices":["mill-bridge"]}}]}}`
	for body, want := range map[string]string{
		gives: "control",
		`{"op":"put","type":"grants","id":"all","record":{"id":"all","name":"All","to":{"everyone":true},"lines":[{"rights":["view"],"on":{"devices":["mill-bridge"]}}]}}`: "everyone",
		`{"op":"put","type":"mandates","id":"m","record":{"id":"m","name":"M","role":"auditor","to":{"users":["noor.haddad"]}}}`:                                           "mandates",
		`{"op":"add","type":"user_groups","id":"bridge-crew","list":"members","value":"noor.haddad"}`:                                                                      "control",
	} {
		status, _, text := w.ask("POST", "/api/v1/changes", w.token, `{"changes":[`+body+`]}`)
		var p wire.Problem
		if err := json.Unmarshal([]byte(text), &p); err != nil || status != 409 || !strings.Contains(strings.Join(p.Approval, " "), want) {
			t.Errorf("%s: %d %s", body, status, text)
		}
	}
	w.must("PATCH", "/api/v1/users/tomas.field", `{"status":"suspended"}`)
	d := get[wire.Draft](w, "POST", "/api/v1/drafts", `{"name":"Noor on the bridge","changes":[`+gives+`]}`)
	path := "/api/v1/drafts/" + d.ID
	if status, _, body := w.ask("POST", path+"/application", w.token, `{}`); status != 409 || !strings.Contains(body, "second person") {
		t.Errorf("applied alone: %d %s", status, body)
	}
	if status, body := w.session("ines.carvalho").approve(d.ID); status != 403 {
		t.Errorf("approved by who made it: %d %s", status, body)
	}
	if status, body := bram.approve(d.ID); status != 200 {
		t.Fatalf("approved by another: %d %s", status, body)
	}
	// It is another one from then on, and what was agreed to is no more.
	w.must("PATCH", "/api/v1/devices/mill-bridge?draft="+d.ID, `{"name":"Mill lift bridge"}`)
	if status, _, body := w.ask("POST", path+"/application", w.token, `{}`); status != 409 || !strings.Contains(body, "second person") {
		t.Errorf("applied as another than was approved: %d %s", status, body)
	}
	if status, _, body := bram.ask("POST", path+"/approval", bram.token, fmt.Sprintf(`{"digest":%q}`, d.Digest)); status != 409 {
		t.Errorf("what was looked at is approved in the place of what is there: %d %s", status, body)
	}
	if status, body := bram.approve(d.ID); status != 200 {
		t.Fatalf("approved again: %d %s", status, body)
	}
	w.must("POST", path+"/application", `{}`)
	if got := w.drafted(d.ID); got.Approval.By == nil || got.Approval.By.ID != "bram.okafor" || got.State != "applied" {
		t.Errorf("it is %+v", got)
	}
	if entries := w.entries("kind=draft&outcome=done"); len(entries) != 2 || entries[0].By.ID != "bram.okafor" {
		t.Errorf("the record says %+v", entries)
	}
}
