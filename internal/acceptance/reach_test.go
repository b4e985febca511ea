package acceptance

import (
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"sentier/internal/wire"
)

// get asks and reads a good answer.
func get[T any](w *world, method, path, body string) (out T) {
	w.t.Helper()
	status, _, text := w.ask(method, path, w.token, body)
	if status != 200 && status != 201 {
		w.t.Fatalf("%s %s %s: %d %s", method, path, body, status, text)
	}
	if err := json.Unmarshal([]byte(text), &out); err != nil {
		w.t.Fatalf("%s %s: %v: %s", method, path, err, text)
	}
	return out
}

const tuesday = "2026-11-24T10:00:00Z"

// TestSearchesAndReachAgreeWithEvaluations asks the demo who may what in every way there is over HTTP.
func TestSearchesAndReachAgreeWithEvaluations(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	users := get[wire.List[wire.Named]](w, "GET", "/api/v1/users?limit=1000", "").Items
	for _, device := range []string{"twin-bridge-north", "alder-gate-1", "reservoir-pump-1"} {
		var parts []string
		for _, u := range users {
			parts = append(parts, fmt.Sprintf(`{"subject":{"type":"user","id":%q}}`, u.ID))
		}
		many := get[wire.Decisions](w, "POST", "/access/v1/evaluations", fmt.Sprintf(
			`{"action":{"name":"control"},"resource":{"type":"device","id":%q},"context":{"time":%q},"evaluations":[%s]}`, device, tuesday, strings.Join(parts, ",")))
		var deciding []string
		for i, u := range users {
			if many.Evaluations[i].Decision {
				deciding = append(deciding, u.ID)
			}
		}
		if len(deciding) == 0 || len(deciding) == len(users) {
			t.Fatalf("%d of %d may control %s: the test tells nothing", len(deciding), len(users), device)
		}

		var searched []string
		token := ""
		for {
			page := get[wire.SearchResult](w, "POST", "/access/v1/search/subject", fmt.Sprintf(
				`{"subject":{"type":"user"},"action":{"name":"control"},"resource":{"type":"device","id":%q},"context":{"time":%q},"page":{"limit":3,"token":%q}}`, device, tuesday, token))
			for _, r := range page.Results {
				searched = append(searched, r["id"].(string))
			}
			if page.Page.Total != len(deciding) {
				t.Errorf("%s: the search tells a total of %d, deciding finds %d", device, page.Page.Total, len(deciding))
			}
			if token = page.Page.Next; token == "" {
				break
			}
		}
		if !slices.Equal(searched, deciding) {
			t.Errorf("%s: the search finds %v, deciding %v", device, searched, deciding)
		}

		reach := get[wire.Reach](w, "GET", "/api/v1/reach/devices/"+device+"?right=control&degree=now&limit=1000&at="+tuesday, "")
		var reached []string
		for _, r := range reach.Items {
			reached = append(reached, r.ID)
			if len(r.Through) == 0 || r.Through[len(r.Through)-1].Type != "grants" {
				t.Errorf("%s reaches %s through %v", r.ID, device, r.Through)
			}
		}
		if !slices.Equal(reached, deciding) {
			t.Errorf("%s: the reach tells %v, deciding %v", device, reached, deciding)
		}
	}
	for _, user := range []string{"tomas.field", "elin.berg"} {
		reach := get[wire.Reach](w, "GET", "/api/v1/reach/users/"+user+"?right=view&degree=now&limit=1000&at="+tuesday, "")
		found := get[wire.SearchResult](w, "POST", "/access/v1/search/resource", fmt.Sprintf(
			`{"subject":{"type":"user","id":%q},"action":{"name":"view"},"resource":{"type":"device"},"context":{"time":%q},"page":{"limit":1000}}`, user, tuesday))
		var a, b []string
		for _, r := range reach.Items {
			if !strings.Contains(r.ID, "/") {
				a = append(a, r.ID)
			}
		}
		for _, r := range found.Results {
			b = append(b, r["id"].(string))
		}
		if len(a) == 0 || !slices.Equal(a, b) {
			t.Errorf("%s: the reach tells %v, the search %v", user, a, b)
		}
	}
	actions := get[wire.SearchResult](w, "POST", "/access/v1/search/action", fmt.Sprintf(
		`{"subject":{"type":"user","id":"tomas.field"},"resource":{"type":"device","id":"twin-bridge-north"},"context":{"time":%q}}`, tuesday))
	if got := fmt.Sprint(actions.Results); got != "[map[name:acknowledge] map[name:control] map[name:view]]" {
		t.Errorf("the actions of tomas.field on twin-bridge-north are %s", got)
	}
	points := get[wire.SearchResult](w, "POST", "/access/v1/search/resource", fmt.Sprintf(
		`{"subject":{"type":"user","id":"tomas.field"},"action":{"name":"control"},"resource":{"type":"point"},"context":{"time":%q}}`, tuesday))
	if points.Page.Total != len(points.Results) || points.Page.Total == 0 {
		t.Errorf("the points of tomas.field: %+v", points.Page)
	}
}

func TestManyEvaluationsEndAsTheirSemanticsSay(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	part := func(user string) string { return fmt.Sprintf(`{"subject":{"type":"user","id":%q}}`, user) }
	top := `"action":{"name":"control"},"resource":{"type":"device","id":"twin-bridge-north"},"context":{"time":"` + tuesday + `"}`
	ask := func(semantic string, parts ...string) string {
		body := fmt.Sprintf(`{%s,"evaluations":[%s],"options":{"evaluations_semantic":%q},"unknown":1}`, top, strings.Join(parts, ","), semantic)
		var out []string
		for _, d := range get[wire.Decisions](w, "POST", "/access/v1/evaluations", body).Evaluations {
			text := fmt.Sprint(d.Decision)
			if d.Context.Error != nil {
				text = fmt.Sprint(d.Context.Error.Status)
			}
			out = append(out, text)
		}
		return strings.Join(out, " ")
	}
	yes, no, bad := part("tomas.field"), part("noor.haddad"), `{"subject":{"type":"robot","id":"x"}}`
	for _, x := range [][2]string{
		{ask("execute_all", yes, no, bad, yes), "true false 400 true"},
		{ask("deny_on_first_deny", yes, no, yes), "true false"},
		{ask("deny_on_first_deny", yes, bad, yes), "true 400"},
		{ask("permit_on_first_permit", no, yes, no), "false true"},
		{ask("execute_all", `{"subject":{"type":"user","id":"tomas.field"},"context":{"time":"2026-11-24T23:00:00Z"}}`), "false"}, // its own context, not the top's
	} {
		if x[0] != x[1] {
			t.Errorf("came as %s, want %s", x[0], x[1])
		}
	}
	if one := get[wire.Decision](w, "POST", "/access/v1/evaluations", `{"subject":{"type":"user","id":"tomas.field"},`+top+`}`); !one.Decision {
		t.Errorf("a request without evaluations came as %+v", one)
	}
	for body, field := range map[string]string{
		`{` + top + `,"evaluations":[` + yes + `],"options":{"evaluations_semantic":"some"}}`:                            "options.evaluations_semantic",
		`{"evaluations":[` + strings.Repeat(yes+",", 10_000) + yes + `]}`:                                                "evaluations",
		`{"subject":{"type":"user"},"action":{"name":"view"},"resource":{"type":"device","id":"x"},"page":{"limit":-1}}`: "page.limit",
	} {
		path := "/access/v1/evaluations"
		if field == "page.limit" {
			path = "/access/v1/search/subject"
		}
		status, header, text := w.ask("POST", path, w.token, body, "X-Request-ID", "r-1")
		if status != 400 || !strings.Contains(text, `"path":"`+field+`"`) || header.Get("X-Request-ID") != "r-1" {
			t.Errorf("%.80s: %d %.200s", body, status, text)
		}
	}
	meta := get[wire.AuthZEN](w, "GET", "/.well-known/authzen-configuration", "")
	if meta.Point != w.url || meta.SearchAction != w.url+"/access/v1/search/action" {
		t.Errorf("the metadata is %+v", meta)
	}
}

// TestReachInTheTerminal reads what the commands print for the demo.
func TestReachInTheTerminal(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	for _, x := range []struct {
		args []string
		code int
		want []string
	}{
		{[]string{"reach", "user", "noor.haddad", "--at", tuesday}, 0, []string{"Winter contractors → Winter works", "tunnel-pump-1"}},
		{[]string{"reach", "device", "twin-bridge-north", "--right", "control", "--degree", "now,later", "--at", tuesday}, 0, []string{"yusuf.demir", "later  control", "from Tue 24 Nov", "10 in all. Now: 8; later: 2; if: 0."}},
		{[]string{"reach", "device", "control-room-mast", "--right", "control", "--at", tuesday}, 0, []string{"anders.vik", "if the sign-in is strong", "Instrument technicians → Weather masts with strong sign-in", "Now: 0; later: 0; if: 7."}},
		{[]string{"reach", "device", "mill-bridge", "--right", "control", "--place", "mill-basin", "--degree", "now", "--at", "2026-11-24T20:00:00Z"}, 0, []string{"owen.thatcher"}},
		{[]string{"reach", "group", "bridge-crew", "--at", tuesday}, 0, []string{"mill-bridge", "acknowledge control view", "Tue 24 Nov 2026 16:00"}},
		{[]string{"reach", "user", "ben.foster"}, 0, []string{"Nothing", "suspended"}},
		{[]string{"reach", "user", "nobody"}, 2, []string{"There is nothing here"}},
		{[]string{"matrix", "--in-group", "bridge-crew", "--in-site", "twin-bridges", "--at", tuesday}, 0, []string{"Twin bridge north", "Tomas Field   VCa", "C control"}},
		{[]string{"matrix", "--user", "tomas.field", "--device-group", "bridges", "--format", "csv", "--at", tuesday}, 0, []string{"row,bridges", "tomas.field,acknowledge control view"}},
		{[]string{"check", "tomas.field", "control", "twin-bridge-north", "--week", "--at", "2026-10-23"}, 0, []string{"clock +02:00 → +01:00", "allowed Sun 25 Oct 07:00 to Sun 25 Oct 20:00"}},
		{[]string{"check", "noor.haddad", "control", "alder-gate-1", "--advise", "--at", tuesday}, 1, []string{"What would make it a yes, least first", "sentier group add-member lock-keepers-north noor.haddad"}},
		{[]string{"check", "tomas.field", "control", "mill-bridge", "--advise", "--at", tuesday}, 0, []string{"What would take it away", "Drop Tomas Field from Bridge crew"}},
		{[]string{"check", "bridge-crew", "control", "mill-bridge", "--group", "--at", tuesday}, 0, []string{"Yes: somebody in Bridge crew has Control"}},
		{[]string{"check", "bridge-crew", "control", "mill-bridge", "--group", "--week", "--at", "2026-11-24"}, 0, []string{"allowed Tue 24 Nov 08:00 to Tue 24 Nov 16:00"}},
		{[]string{"check", "bridge-crew", "control", "mill-bridge", "--group", "--advise"}, 2, []string{"nothing is advised about a group"}},
		{[]string{"check", "noor.haddad", "control", "alder-gate-1", "--advise", "--at", tuesday, "--language", "fr"}, 1, []string{"✗ REFUSÉ", "groupe Lock keepers, north", "Ce qui en ferait un oui, le moindre d’abord", "Le mar. 24 nov. 2026 11:00 (Europe/Madrid), selon la révision 1"}},
		{[]string{"check", "tomas.field", "control", "twin-bridge-north", "--week", "--at", "2026-10-23", "--language", "fr"}, 0, []string{"dim. 25 oct.", "l’heure passe de +02:00 à +01:00", "permis du ven. 23 oct. 07:00 au ven. 23 oct. 20:00"}},
		{[]string{"role", "uses", "bridge-watch"}, 0, []string{"bridge-watch", "Acknowledge alarms, Control, View", "6", "3"}},
		{[]string{"schedule", "uses", "none"}, 2, []string{"There is nothing here"}},
		{[]string{"user", "as-seen", "noor.haddad", "--at", tuesday}, 0, []string{"Noor Haddad has rights on 13 devices and points now, and none at other times"}},
	} {
		code, out, errOut := w.run(x.args...)
		for _, want := range x.want {
			if code != x.code || !strings.Contains(out+errOut, want) {
				t.Errorf("sentier %v: exit code %d, want %d, and %q:\n%s%s", x.args, code, x.code, want, out, errOut)
			}
		}
	}
	if looks := get[[]wire.Look](w, "GET", "/api/v1/looks", ""); len(looks) != 1 || looks[0].By != "ines.carvalho" || looks[0].User != "noor.haddad" {
		t.Errorf("the looks are %+v", looks)
	}
}

// TestAdviceIsFollowedAndTakenBack makes the first change that is advised, through the door that all changes take.
func TestAdviceIsFollowedAndTakenBack(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	question := `{"user":"noor.haddad","right":"control","device":"alder-gate-1","at":"` + tuesday + `"}`
	for _, allowed := range []bool{false, true} {
		advice := get[wire.Advice](w, "POST", "/api/v1/advice", question)
		if advice.Allowed != allowed || len(advice.Items) == 0 {
			t.Fatalf("allowed %t came as %+v", allowed, advice)
		}
		edits, err := json.Marshal(map[string]any{"changes": advice.Items[0].Edits})
		if err != nil {
			t.Fatal(err)
		}
		look := get[wire.Saved](w, "POST", "/api/v1/changes?dry_run=true&impact=true", string(edits))
		if saved := get[wire.Saved](w, "POST", "/api/v1/changes", string(edits)); !saved.Saved || look.Saved {
			t.Fatalf("looked %+v, saved %+v", look, saved)
		}
		if answer := get[wire.Answer](w, "POST", "/api/v1/check", question); answer.Allowed == allowed {
			t.Errorf("“%s” leaves the answer %t", advice.Items[0].Text, allowed)
		}
	}
	if group := get[wire.Answer](w, "POST", "/api/v1/check", `{"group":"bridge-crew","right":"control","device":"mill-bridge","at":"`+tuesday+`"}`); !group.Allowed || group.User.Name != "somebody in Bridge crew" {
		t.Errorf("somebody in the bridge crew: %+v", group)
	}
}

func TestPreviewsTellWhatIsNotSavedYet(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	fortnight := get[wire.Fortnight](w, "POST", "/api/v1/preview/schedule",
		`{"schedule":{"id":"x","windows":[{"days":["sat"],"from":"22:00","to":"03:00"}]},"zone":"Europe/Madrid","from":"2026-10-19","days":14}`)
	if len(fortnight.Stretches) != 2 || fortnight.Stretches[0].Until.Sub(fortnight.Stretches[0].From) != 6*time.Hour {
		t.Errorf("over the change of the clock the window is open for %+v", fortnight.Stretches)
	}
	change := fortnight.Days[6].Change
	if change == nil || change.Before != "+02:00" || change.After != "+01:00" || fortnight.Days[6].Until.Sub(fortnight.Days[6].From) != 25*time.Hour {
		t.Errorf("the day of the change is %+v", fortnight.Days[6])
	}
	matched := get[wire.Matched](w, "POST", "/api/v1/preview/match", `{"kinds":["lift-bridge"]}`)
	if matched.Total != 3 || matched.Items[0].ID != "mill-bridge" {
		t.Errorf("the bridges are %+v", matched)
	}
	if status, _, text := w.ask("POST", "/api/v1/preview/match", w.token, `{"kinds":["lift-bridges"]}`); status != 422 || !strings.Contains(text, "did you mean") {
		t.Errorf("a kind that is not there: %d %s", status, text)
	}
	uses := get[[]wire.Use](w, "GET", "/api/v1/uses/roles/bridge-watch", "")
	if len(uses) == 0 || uses[0].Grant.ID == "" || uses[0].Devices == 0 {
		t.Errorf("the uses of bridge-watch are %+v", uses)
	}
}

// TestAConnectionLostInAnImport cuts an import before its body is complete, and after it: nothing or everything, and the
// service says which.
func TestAConnectionLostInAnImport(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	var body strings.Builder
	body.WriteString("id,name\n")
	for i := range 3000 {
		fmt.Fprintf(&body, "newcomer.%d,Newcomer %d\n", i, i)
	}
	for _, x := range []struct {
		key   string
		sends int
		state string
		total int
	}{{"half", body.Len() / 2, "nothing", 60}, {"whole", body.Len(), "done", 3060}} {
		at, err := url.Parse(w.url)
		if err != nil {
			t.Fatal(err)
		}
		c, err := net.Dial("tcp", at.Host)
		if err != nil {
			t.Fatal(err)
		}
		fmt.Fprintf(c, "PUT /api/v1/sheets/users HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer %s\r\nIdempotency-Key: %s\r\nContent-Length: %d\r\n\r\n%s",
			w.token, x.key, body.Len(), body.String()[:x.sends])
		if err := c.Close(); err != nil {
			t.Fatal(err)
		}
		var p wire.Progress
		for end := time.Now().Add(20 * time.Second); time.Now().Before(end) && p.State != x.state; time.Sleep(20 * time.Millisecond) {
			p = get[wire.Progress](w, "GET", "/api/v1/progress/"+x.key, "")
			if x.state == "nothing" {
				time.Sleep(300 * time.Millisecond) // time enough to do what must not be done
				p = get[wire.Progress](w, "GET", "/api/v1/progress/"+x.key, "")
			}
		}
		page := get[wire.List[wire.Named]](w, "GET", "/api/v1/users?limit=1", "")
		if p.State != x.state || page.Total != x.total {
			t.Errorf("%s of the body: %+v and %d users, want %s and %d", x.key, p, page.Total, x.state, x.total)
		}
	}
	// Sent again with the same key, it changes nothing more.
	status, _, text := w.ask("PUT", "/api/v1/sheets/users", w.token, body.String(), "Idempotency-Key", "whole")
	if status != http.StatusOK || get[wire.List[wire.Named]](w, "GET", "/api/v1/users?limit=1", "").Total != 3060 {
		t.Errorf("the repetition came as %d %.300s", status, text)
	}
}

func TestAnswersInFrench(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	body := `{"user":"agnes.lindqvist","right":"control","device":"alder-gate-1","at":"2026-11-24 20:00"}`
	status, _, text := w.ask("POST", "/api/v1/check", w.token, body, "Accept-Language", "fr-FR,fr;q=0.9,en;q=0.5")
	for _, want := range []string{"Non : Agnes Lindqvist n’a pas le droit", "« Lock keeping, north » le permettrait, mais", "fermé jusqu’au mer. 25 nov. 2026 08:00 (Europe/Madrid)"} {
		if status != 200 || !strings.Contains(text, want) {
			t.Errorf("%q is not in %d %s", want, status, text)
		}
	}
	if code, out, errOut := w.run("check", "noor.haddad", "control", "alder-gate-1", "--advise", "--language", "fr", "--at", tuesday); code != 1 || !strings.Contains(out, "Ajouter Noor Haddad à Lock keepers, north") {
		t.Errorf("exit code %d\n%s%s", code, out, errOut)
	}
}

// TestWhoGainsAndLosesByADocument compares documents and the running policy on the command line.
func TestWhoGainsAndLosesByADocument(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	_, dump, _ := w.run("policy", "dump")
	old, changed := write(t, t.TempDir()+"/old.yaml", dump), write(t, t.TempDir()+"/new.yaml", strings.Replace(dump, "id: look-around\n    name: Everyone looks at the weather\n    effect: allow\n    enabled: true", "id: look-around\n    name: Everyone looks at the weather\n    effect: allow\n    enabled: false", 1))
	for _, args := range [][]string{{"policy", "compare", changed}, {"policy", "compare", old, changed}} {
		code, out, errOut := w.run(args...)
		if code != 1 || !strings.Contains(out, "enabled true → false") || !strings.Contains(out, "Rights gained: 0; lost: ") || !strings.Contains(out, "Carla Pires on") {
			t.Errorf("sentier %v: exit code %d\n%s%s", args, code, out, errOut)
		}
	}
	if code, out, _ := w.run("policy", "compare", old, old); code != 0 || strings.Contains(out, "gained") {
		t.Errorf("a document compared with itself: exit code %d\n%s", code, out)
	}
}
