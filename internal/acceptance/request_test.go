package acceptance

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"sentier/internal/wire"
)

// as is the world as somebody else sees it.
func (w *world) as(user string) *world {
	w.t.Helper()
	return &world{t: w.t, url: w.url, token: w.tokenFor(user), owner: w.owner}
}

// TestDoingSomethingOneself: one gives back what one has, joins for a time what is laid ready, and asks for the rest; somebody whose mandate covers
// it agrees, never oneself, and it ends by itself.
func TestDoingSomethingOneself(t *testing.T) {
	t.Parallel()
	w, forward := shifted(t)
	agnes, tomas, marta := w.as("agnes.lindqvist"), w.as("tomas.field"), w.as("marta.solis")
	may := func(user, right, device string) bool {
		return get[wire.Answer](w, "POST", "/api/v1/check", fmt.Sprintf(`{"user":%q,"right":%q,"device":%q,"context":{"strong_sign_in":true,"attended":true}}`, user, right, device)).Allowed
	}
	refused := func(who *world, method, path, body string, want int, says string) {
		t.Helper()
		if status, _, text := w.ask(method, path, who.token, body); status != want || !strings.Contains(text, says) {
			t.Errorf("%s %s %s: %d %s, want %d …%s…", method, path, body, status, text, want, says)
		}
	}

	// What is one's own, and goes back at once.
	mine := get[wire.Mine](tomas, "GET", "/api/v1/mine", "")
	if len(mine.Groups) != 2 {
		t.Fatalf("Tomas is in %+v", mine.Groups)
	}
	if !may("tomas.field", "control", "mill-bridge") {
		t.Fatal("Tomas may not control the bridge")
	}
	refused(tomas, "POST", "/api/v1/mine/give-back", `{}`, 400, "either a group or a grant")
	refused(tomas, "POST", "/api/v1/mine/give-back", `{"group":"control-room"}`, 404, "")
	refused(tomas, "POST", "/api/v1/mine/give-back", `{"grant":"backup"}`, 404, "")
	tomas.must("POST", "/api/v1/mine/give-back", `{"group":"bridge-crew","note":"I am with the instruments now"}`)
	if may("tomas.field", "control", "mill-bridge") {
		t.Error("what was given back is there still")
	}
	// Never so that somebody has more by it, as where a group is kept from something.
	w.must("PUT", "/api/v1/user_groups/kept-back", `{"name":"Kept back","members":["elin.berg"]}`)
	w.must("PUT", "/api/v1/grants/kept-from", `{"name":"Kept from the mill bridge","effect":"deny","to":{"groups":["kept-back"]},"lines":[{"rights":["view"],"on":{"devices":["mill-bridge"]}}]}`)
	w.must("PUT", "/api/v1/grants/elin-looks", `{"name":"Elin looks","to":{"users":["elin.berg"]},"lines":[{"rights":["view"],"on":{"devices":["mill-bridge"]}}]}`)
	elin := w.as("elin.berg")
	refused(elin, "POST", "/api/v1/mine/give-back", `{"group":"kept-back"}`, 403, "would give somebody more")
	elin.must("POST", "/api/v1/mine/give-back", `{"grant":"elin-looks"}`)
	if status, _, _ := w.ask("GET", "/api/v1/grants/elin-looks", w.token, ""); status != 404 {
		t.Errorf("a grant that nobody is left in: %d", status)
	}
	refused(w, "POST", "/api/v1/mine/give-back", `{"group":"no-such"}`, 404, "")

	// Laid ready, and nobody has to agree.
	joinable := get[wire.Mine](w.as("maya.winter"), "GET", "/api/v1/mine", "").MayJoin
	if len(joinable) != 1 || joinable[0].ID != "duty-officers" || joinable[0].Approval != "none" {
		t.Fatalf("what may be joined: %+v", joinable)
	}
	maya := w.as("maya.winter")
	for body, says := range map[string]string{
		`{"group":"duty-officers","minutes":60,"reason":" "}`:  "say what it is for",
		`{"group":"duty-officers","minutes":241,"reason":"x"}`: "out of range",
		`{"group":"duty-officers","minutes":0,"reason":"x"}`:   "out of range",
	} {
		refused(maya, "POST", "/api/v1/mine/join", body, 400, says)
	}
	refused(maya, "POST", "/api/v1/mine/join", `{"group":"bridge-crew","minutes":60,"reason":"x"}`, 404, "")
	refused(tomas, "POST", "/api/v1/mine/join", `{"group":"duty-officers","minutes":60,"reason":"x"}`, 404, "")
	joined := get[wire.Request](maya, "POST", "/api/v1/mine/join", `{"group":"duty-officers","minutes":60,"reason":"the estuary gate is stuck"}`)
	if joined.State != "joined" {
		t.Errorf("%+v", joined)
	}
	in := func(user, group string) bool {
		return slices.ContainsFunc(get[wire.Mine](w.as(user), "GET", "/api/v1/mine", "").Groups, func(g wire.OwnGroup) bool { return g.ID == group })
	}
	if !in("maya.winter", "duty-officers") {
		t.Error("what was joined at once is not there")
	}
	refused(maya, "POST", "/api/v1/mine/join", `{"group":"duty-officers","minutes":60,"reason":"x"}`, 400, "already")
	forward(61 * time.Minute)
	if in("maya.winter", "duty-officers") {
		t.Error("what was joined for an hour is there after it")
	}
	if list := get[[]wire.Request](w, "GET", "/api/v1/requests", ""); len(list) != 1 || list[0].State != "joined" || list[0].Reason != "the estuary gate is stuck" {
		t.Errorf("those who must know are told %+v", list)
	}

	// Somebody has to agree: whose mandate covers it, and not who asked.
	asked := get[wire.Request](agnes, "POST", "/api/v1/mine/join", `{"group":"bridge-crew","minutes":120,"reason":"the bridge crew is ill"}`)
	if asked.State != "open" || in("agnes.lindqvist", "bridge-crew") {
		t.Errorf("%+v", asked)
	}
	answer := "/api/v1/requests/" + asked.ID + "/answer"
	refused(agnes, "POST", answer, `{"agree":true}`, 403, "")
	refused(tomas, "POST", answer, `{"agree":true}`, 403, "")
	refused(marta, "POST", answer, `{"agree":true}`, 404, "") // a delegate whose mandate does not cover that group
	if list := get[[]wire.Request](marta, "GET", "/api/v1/requests", ""); len(list) != 0 {
		t.Errorf("a delegate is told of %+v", list)
	}
	granted := get[wire.Request](w, "POST", answer, `{"agree":true,"note":"thank you"}`)
	if granted.State != "granted" || !in("agnes.lindqvist", "bridge-crew") {
		t.Errorf("%+v", granted)
	}
	refused(w, "POST", answer, `{"agree":false}`, 400, "answered already")
	own := get[wire.Mine](agnes, "GET", "/api/v1/mine", "").Requests
	if len(own) != 1 || own[0].Answer != "thank you" || own[0].By.ID != "ines.carvalho" {
		t.Errorf("who asked is told %+v", own)
	}
	forward(121 * time.Minute)
	if in("agnes.lindqvist", "bridge-crew") {
		t.Error("what was agreed to for two hours is there after them")
	}

	// A right, by the name that one knows the device by: nothing changes by asking, and nothing is told of what there is.
	until := get[wire.Session](w, "GET", "/api/v1/session", "").Now.Add(5 * time.Hour).UTC().Format(time.RFC3339)
	for body, says := range map[string]string{
		`{"right":"control","device":"Weir gauge","until":"2020-01-01T00:00:00Z","reason":"x"}`:                "out of range",
		`{"right":"control","device":"Weir gauge","until":"soon","reason":"x"}`:                                "until",
		`{"right":"","device":"Weir gauge","until":"` + until + `","reason":"x"}`:                              "missing",
		`{"right":"control","device":"` + strings.Repeat("x", 300) + `","until":"` + until + `","reason":"x"}`: "longer than any",
	} {
		refused(tomas, "POST", "/api/v1/requests", body, 400, says)
	}
	ask := func(device string) wire.Request {
		return get[wire.Request](tomas, "POST", "/api/v1/requests", fmt.Sprintf(`{"right":"control","device":%q,"until":%q,"reason":"a test of the new motor"}`, device, until))
	}
	there, not := ask("Mill bridge"), ask("No such device")
	there.ID, there.Created, there.Device.Name, not.ID, not.Created, not.Device.Name = "", time.Time{}, "", "", time.Time{}, ""
	a, _ := json.Marshal(there)
	b, _ := json.Marshal(not)
	if string(a) != string(b) {
		t.Errorf("by asking one learns what there is:\n%s\n%s", a, b)
	}
	var open wire.Request
	for _, r := range get[[]wire.Request](w, "GET", "/api/v1/requests", "") {
		if r.Device != nil && r.Device.ID == "mill-bridge" {
			open = r
		}
	}
	if open.ID == "" || !open.May {
		t.Fatal("an owner does not see what was asked for")
	}
	refused(w, "POST", "/api/v1/requests/"+open.ID+"/answer", `{"agree":true}`, 400, "by which change")
	advice := get[wire.Advice](w, "POST", "/api/v1/advice", fmt.Sprintf(`{"user":"tomas.field","right":"control","device":"mill-bridge","until":%q}`, until))
	if len(advice.Items) == 0 {
		t.Fatal("nothing is advised")
	}
	edits, err := json.Marshal(advice.Items[0].Edits)
	if err != nil {
		t.Fatal(err)
	}
	w.must("POST", "/api/v1/requests/"+open.ID+"/answer", fmt.Sprintf(`{"agree":true,"edits":%s}`, edits))
	if list := w.entries("kind=change"); !strings.Contains(list[len(list)-1].Text, "asked for by tomas.field: a test of the new motor") {
		t.Errorf("the change says %s", list[len(list)-1].Text)
	}
	// The other one is taken back; twenty are open at most; what nobody answers ends by itself.
	for _, r := range get[wire.Mine](tomas, "GET", "/api/v1/mine", "").Requests {
		if r.State == "open" {
			refused(agnes, "DELETE", "/api/v1/requests/"+r.ID, "", 404, "")
			tomas.must("DELETE", "/api/v1/requests/"+r.ID, "")
		}
	}
	for range 20 {
		ask("Weir gauge")
	}
	refused(tomas, "POST", "/api/v1/requests", fmt.Sprintf(`{"right":"control","device":"x","until":%q,"reason":"x"}`, until), 400, "too many")
	forward(6 * time.Hour)
	if list := get[[]wire.Request](w, "GET", "/api/v1/requests", ""); len(list) != 1 {
		t.Errorf("after their end %d requests are told", len(list))
	}
	got := texts(w.entries("kind=request"))
	for _, want := range []string{
		"request maya.winter by a token of ines.carvalho: Joined Duty officers for 60 minutes: “the estuary gate is stuck”",
		"request agnes.lindqvist by a token of ines.carvalho: Asked for Bridge crew for 120 minutes: “the bridge crew is ill”",
		"request ines.carvalho: Granted Agnes Lindqvist Bridge crew for 120 minutes",
		"request ines.carvalho: Granted Tomas Field Control on Mill bridge",
	} {
		if !strings.Contains(got, want) {
			t.Errorf("not on record: %s\n%s", want, got)
		}
	}
}

// TestRequestsByTheCommandLine goes the same way in a terminal.
func TestRequestsByTheCommandLine(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	agnes := w.tokenFor("agnes.lindqvist")
	step := func(token string, code int, want string, args ...string) string {
		t.Helper()
		got, out, errOut := w.runAs(token, "", args...)
		if got != code || !strings.Contains(out+errOut, want) {
			t.Errorf("sentier %v: code %d %s%s, want %d …%s…", args, got, out, errOut, code, want)
		}
		return out
	}
	step(agnes, 0, "may join", "mine", "show")
	step(agnes, 0, "somebody has to agree", "mine", "join", "bridge-crew", "--for", "2h", "--reason", "the bridge crew is ill")
	step(agnes, 2, "out of range", "mine", "join", "bridge-crew", "--for", "99h", "--reason", "x")
	step(agnes, 0, "somebody has to agree", "mine", "ask", "control", "Mill bridge", "--until", "in 4 hours", "--reason", "to let the barge through")
	step(agnes, 0, "somebody has to agree", "mine", "ask", "control", "Nowhere", "--until", "in 4 hours", "--reason", "x")
	step(agnes, 2, "may not do this", "request", "list")
	ids := map[string]string{}
	for _, r := range get[[]wire.Request](w, "GET", "/api/v1/requests", "") {
		switch {
		case r.Kind == "join":
			ids["join"] = r.ID
		case r.Device.ID != "":
			ids["access"] = r.ID
		default:
			ids["nowhere"] = r.ID
		}
	}
	step(w.token, 0, "Bridge crew for 2h", "request", "list")
	step(w.token, 2, "there is no open request", "request", "grant", "none")
	step(w.token, 2, "no device is called", "request", "grant", ids["nowhere"])
	step(w.token, 0, "Refused", "request", "refuse", ids["nowhere"], "--note", "which one?")
	step(w.token, 0, "Granted", "request", "grant", ids["join"])
	step(w.token, 0, "Make a new grant", "request", "grant", ids["access"])
	step(w.token, 0, "Granted", "request", "grant", ids["access"], "--by", "1")
	step(agnes, 0, "granted", "mine", "show")
	step(agnes, 0, "Given back", "mine", "give-back", "--group", "bridge-crew")
	open := get[wire.Request](&world{t: t, url: w.url, token: agnes}, "POST", "/api/v1/mine/join", `{"group":"bridge-crew","minutes":5,"reason":"x"}`)
	step(agnes, 0, "Taken back", "mine", "withdraw", open.ID)
	code, out, errOut := w.runAs(w.token, "towpath and heron\n", "user", "give-password", "greta.holm")
	if code != 0 || !strings.Contains(errOut, "sets one of their own first") {
		t.Errorf("a password that is given: %d %s%s", code, out, errOut)
	}
	step(w.token, 0, "reason required", "service", "--reason-required", "--decisions-of", "right=view,keep=none")
	step(w.token, 2, "is not known", "service", "--decisions-of", "colour=red")
	step(w.token, 0, "Greta Holm", "audit", "list", "--of", "greta.holm", "--limit", "5")
	step(w.token, 0, `"kind":"setting"`, "audit", "export", "--kind", "setting")
}
