package acceptance

import (
	"encoding/json"
	"strings"
	"testing"

	"sentier/internal/wire"
)

// TestQuestionsAboutManyNameWhatIsWrong asks what cannot be answered, and looks at what comes back.
func TestQuestionsAboutManyNameWhatIsWrong(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	for _, x := range []struct {
		method, path, body string
		status             int
		says               string
	}{
		{"GET", "/api/v1/reach/users/nobody", "", 404, "nothing here"},
		{"GET", "/api/v1/reach/users/tomas.field?limit=0", "", 400, `"path":"limit"`},
		{"GET", "/api/v1/reach/users/tomas.field?limit=1001", "", 400, "1 to 1000"},
		{"GET", "/api/v1/reach/users/tomas.field?at=whenever", "", 400, `"path":"at"`},
		{"GET", "/api/v1/reach/users/tomas.field?right=fly", "", 400, `there is no right`},
		{"GET", "/api/v1/reach/users/tomas.field?degree=perhaps", "", 400, `"path":"degree"`},
		{"GET", "/api/v1/reach/devices/twin-bridge-north?point=roof", "", 400, `has no point`},
		{"GET", "/api/v1/reach/devices/twin-bridge-north?ip=home", "", 400, `"path":"context.ip"`},
		{"GET", "/api/v1/reach/grants/bridge-watch", "", 404, ""},
		{"GET", "/api/v1/uses/grants/none", "", 404, "nothing here"},
		{"GET", "/api/v1/uses/things/x", "", 404, "nothing here"},
		{"POST", "/api/v1/matrix", `{"rows":{"type":"users"},"columns":{"type":"users"}}`, 400, `"path":"columns.type"`},
		{"POST", "/api/v1/matrix", `{"rows":{"type":"users","ids":["tomas"]},"columns":{"type":"sites"}}`, 400, `"path":"rows.ids[0]"`},
		{"POST", "/api/v1/matrix", `{"rows":{"type":"users","filter":{"colour":"red"}},"columns":{"type":"sites"}}`, 400, `"path":"colour"`},
		{"POST", "/api/v1/matrix", `{"rows":{"type":"users"},"columns":{"type":"sites"},"at":"soon"}`, 400, `"path":"at"`},
		{"POST", "/api/v1/matrix", `{"rows":{"type":"users"},"cols":{}}`, 400, `cols`},
		{"POST", "/api/v1/week", `{"device":"mill-bridge"}`, 400, "either a user or a group"},
		{"POST", "/api/v1/week", `{"user":"tomas.field","group":"bridge-crew","device":"mill-bridge"}`, 400, "either a user or a group"},
		{"POST", "/api/v1/week", `{"user":"tomas.field","device":"mill-bridge","days":40}`, 400, "1 to 31 days"},
		{"POST", "/api/v1/week", `{"user":"tomas.field","device":"mill-bridge","from":"Monday"}`, 400, "2026-11-23"},
		{"POST", "/api/v1/week", `{"user":"tomas.field","device":"mill-bridge","right":"fly"}`, 400, `"path":"right"`},
		{"POST", "/api/v1/advice", `{"user":"tomas.field","right":"view","device":"mill-bridge","until":"Friday"}`, 400, `"path":"until"`},
		{"POST", "/api/v1/check", `{"right":"view","device":"mill-bridge"}`, 400, "either a user or a group"},
		{"POST", "/api/v1/preview/schedule", `{"schedule":{"id":"x","windows":[{"from":"25:00","to":"03:00"}]}}`, 400, "windows[0].from"},
		{"POST", "/api/v1/preview/schedule", `{"schedule":{"id":"x","closed":["closure"]}}`, 422, "did you mean"},
		{"POST", "/api/v1/preview/schedule", `{"schedule":{"id":"x"},"zone":"Lisbon"}`, 400, `"path":"zone"`},
		{"POST", "/access/v1/search/subject", `{"subject":{"type":"robot"},"action":{"name":"view"},"resource":{"type":"device","id":"x"}}`, 400, "subject.type"},
		{"POST", "/access/v1/search/resource", `{"subject":{"type":"user","id":"x"},"action":{"name":"view"},"resource":{"type":"door"}}`, 400, "resource.type"},
		{"POST", "/access/v1/search/action", `{"subject":{"type":"user","id":"x"},"resource":{"type":"device","id":"x"},"page":{"token":"%%"}}`, 400, "page.token"},
		{"POST", "/access/v1/evaluations", `{"evaluations":{}}`, 400, "evaluations"},
		{"POST", "/access/v1/evaluation", `{"subject":`, 400, "no JSON"},
	} {
		status, _, text := w.ask(x.method, x.path, w.token, x.body)
		if status != x.status || !strings.Contains(text, x.says) {
			t.Errorf("%s %s %s: %d %.300s, want %d with %q", x.method, x.path, x.body, status, text, x.status, x.says)
		}
	}
}

// TestWhoMayAskAboutMany: with no mandate a person sees their own access and nothing else.
func TestWhoMayAskAboutMany(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	tokens := map[string]string{"nobody in particular": w.tokenFor("tomas.field")}
	for id, role := range map[string]string{"greta.holm": "auditor", "nuno.teles": "enforcement"} {
		if _, status := edit(w, "PUT", "/api/v1/mandates/for-"+role, `{"id":"for-`+role+`","name":"For `+role+`","role":"`+role+`","to":{"users":["`+id+`"]}}`); status >= 300 {
			t.Fatalf("a mandate of %s: %d", role, status)
		}
		tokens[role] = w.tokenFor(id)
	}
	matrix := `{"rows":{"type":"users"},"columns":{"type":"sites"}}`
	for _, x := range []struct {
		method, path, body          string
		plain, auditor, enforcement int
	}{
		{"GET", "/api/v1/reach/users/tomas.field", "", 200, 200, 200},
		{"GET", "/api/v1/reach/users/rui.falcao", "", 403, 200, 200},
		{"GET", "/api/v1/reach/devices/mill-bridge", "", 403, 200, 200},
		{"GET", "/api/v1/reach/user_groups/bridge-crew", "", 403, 200, 200},
		{"GET", "/api/v1/reach/devices?id=mill-bridge", "", 403, 200, 200},
		{"GET", "/api/v1/seen/tomas.field", "", 200, 200, 403},
		{"GET", "/api/v1/seen/rui.falcao", "", 403, 200, 403},
		{"GET", "/api/v1/looks", "", 403, 200, 403},
		{"GET", "/api/v1/uses/grants/bridge-watch", "", 404, 200, 404}, // the same as what is not there
		{"POST", "/api/v1/matrix", matrix, 403, 200, 403},
		{"POST", "/api/v1/week", `{"user":"tomas.field","device":"mill-bridge"}`, 200, 200, 200},
		{"POST", "/api/v1/week", `{"group":"bridge-crew","device":"mill-bridge"}`, 403, 200, 200},
		{"POST", "/api/v1/advice", `{"user":"tomas.field","right":"view","device":"mill-bridge"}`, 403, 200, 403},
		{"POST", "/api/v1/preview/match", `{}`, 403, 200, 403},
		{"GET", "/api/v1/progress/x", "", 403, 403, 403},
		{"POST", "/access/v1/evaluations", `{"action":{"name":"view"},"resource":{"type":"device","id":"mill-bridge"},"evaluations":[{"subject":{"type":"user","id":"tomas.field"}}]}`, 200, 200, 200},
		{"POST", "/access/v1/evaluations", `{"action":{"name":"view"},"resource":{"type":"device","id":"mill-bridge"},"evaluations":[{"subject":{"type":"user","id":"tomas.field"}},{"subject":{"type":"user","id":"rui.falcao"}}]}`, 403, 200, 200},
		{"POST", "/access/v1/search/subject", `{"subject":{"type":"user"},"action":{"name":"view"},"resource":{"type":"device","id":"mill-bridge"}}`, 403, 200, 200},
		{"POST", "/access/v1/search/action", `{"subject":{"type":"user","id":"tomas.field"},"resource":{"type":"device","id":"mill-bridge"}}`, 200, 200, 200},
		{"GET", "/.well-known/authzen-configuration", "", 200, 200, 200},
	} {
		for who, want := range map[string]int{"nobody in particular": x.plain, "auditor": x.auditor, "enforcement": x.enforcement} {
			if status, _, text := w.ask(x.method, x.path, tokens[who], x.body); status != want {
				t.Errorf("%s %s %s as %s: %d %.200s, want %d", x.method, x.path, x.body, who, status, text, want)
			}
		}
		if status, _, _ := w.ask(x.method, x.path, "", x.body); status != 401 && x.path != "/.well-known/authzen-configuration" {
			t.Errorf("%s %s without a credential: %d", x.method, x.path, status)
		}
	}
	for _, look := range get[[]wire.Look](w, "GET", "/api/v1/looks", "") {
		if look.By == look.User {
			t.Errorf("%s looked at what is their own, which is nothing to record", look.By)
		}
	}
}

// TestManyEvaluationsEndWhereTheyShould puts what ends a request, has a fault or may not be asked at every edge of what is read and
// found together.
func TestManyEvaluationsEndWhereTheyShould(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	own := w.tokenFor("tomas.field")
	const n = 300
	allowed, denied := `{"resource":{"type":"device","id":"mill-bridge"}}`, `{"resource":{"type":"device","id":"alder-gate-1"}}`
	faulty, others := `{"resource":{"type":"lamp","id":"mill-bridge"}}`, `{"subject":{"type":"user","id":"rui.falcao"},"resource":{"type":"device","id":"mill-bridge"}}`
	body := func(semantic, usual string, other map[int]string) string {
		var list []string
		for i := range n {
			part := usual
			if o, ok := other[i]; ok {
				part = o
			}
			list = append(list, part)
		}
		return `{"subject":{"type":"user","id":"tomas.field"},"action":{"name":"control"},"context":{"time":"2026-11-24T10:00:00Z"},"options":{"evaluations_semantic":"` +
			semantic + `"},"evaluations":[` + strings.Join(list, ",") + `]}`
	}
	ask := func(semantic, usual string, other map[int]string) (int, []wire.Decision) {
		t.Helper()
		status, _, text := w.ask("POST", "/access/v1/evaluations", own, body(semantic, usual, other))
		var out wire.Decisions
		if status == 200 {
			if err := json.Unmarshal([]byte(text), &out); err != nil {
				t.Fatal(err)
			}
		}
		return status, out.Evaluations
	}
	for _, at := range []int{0, 1, 126, 127, 128, 129, 255, 256, 299} {
		status, list := ask("execute_all", allowed, map[int]string{at: denied})
		if status != 200 || len(list) != n {
			t.Fatalf("all, with %d denied: %d, %d answers", at, status, len(list))
		}
		for i, d := range list {
			if d.Decision != (i != at) {
				t.Errorf("all, with %d denied: the answer %d is %v", at, i, d.Decision)
			}
		}
		if _, list := ask("deny_on_first_deny", allowed, map[int]string{at: denied}); len(list) != at+1 || list[at].Decision || list[at].Context.Reason != "no_grant" {
			t.Errorf("until the first deny, which is %d: %d answers", at, len(list))
		}
		if _, list := ask("permit_on_first_permit", denied, map[int]string{at: allowed}); len(list) != at+1 || !list[at].Decision {
			t.Errorf("until the first permit, which is %d: %d answers", at, len(list))
		}
		// What cannot be read is a denial with its error, and ends what ends with one.
		if _, list := ask("execute_all", allowed, map[int]string{at: faulty}); len(list) != n || list[at].Decision || list[at].Context.Error == nil || list[at].Context.Error.Status != 400 {
			t.Errorf("all, with a fault in %d: %+v", at, list)
		}
		if _, list := ask("deny_on_first_deny", allowed, map[int]string{at: faulty}); len(list) != at+1 {
			t.Errorf("until the first deny, with a fault in %d: %d answers", at, len(list))
		}
		// Who asks about somebody else is refused, unless that is not asked any more.
		if status, _ := ask("execute_all", allowed, map[int]string{at: others}); status != 403 {
			t.Errorf("all, with %d about somebody else: %d", at, status)
		}
		if at > 0 {
			if status, list := ask("deny_on_first_deny", allowed, map[int]string{at - 1: denied, at: others}); status != 200 || len(list) != at {
				t.Errorf("until the first deny, which comes just before %d about somebody else: %d, %d answers", at, status, len(list))
			}
		}
	}
	if status, _, text := w.ask("POST", "/access/v1/evaluations", own, strings.Replace(body("execute_all", allowed, nil), "execute_all", "some", 1)); status != 400 || !strings.Contains(text, "deny_on_first_deny") {
		t.Errorf("a semantic that is none: %d %s", status, text)
	}
}
