package acceptance

import (
	"encoding/json"
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"

	"sentier/internal/wire"
)

// TestAnswersBelongToTheirRevision asks from several sides while somebody is put into a group and taken out again: every
// answer, whichever way it is asked for, is that of the revision it names.
func TestAnswersBelongToTheirRevision(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	const edits = 40
	member := map[uint64]bool{1: false} // by revision
	question := `{"subject":{"type":"user","id":"noor.haddad"},"action":{"name":"control"},"resource":{"type":"device","id":"mill-bridge"},"context":{"time":"2026-11-24T10:00:00Z"}}`
	many := `{"evaluations":[` + strings.TrimSuffix(strings.Repeat(question+",", 300), ",") + `]}`
	type told struct {
		by       string
		revision uint64
		allowed  bool
	}
	var all []told
	var mutex sync.Mutex
	var asking sync.WaitGroup
	over := make(chan struct{})
	ask := func(by, path, body string, read func(text string) []told) {
		asking.Go(func() {
			for {
				select {
				case <-over:
					return
				default:
				}
				status, _, text := w.ask("POST", path, w.token, body)
				if status != 200 {
					t.Errorf("%s: %d %.200s", by, status, text)
					return
				}
				mutex.Lock()
				all = append(all, read(text)...)
				mutex.Unlock()
			}
		})
	}
	decisions := func(by string) func(text string) []told {
		return func(text string) []told {
			var one wire.Decision
			var list wire.Decisions
			if err := json.Unmarshal([]byte(text), &list); err != nil || len(list.Evaluations) == 0 {
				if err := json.Unmarshal([]byte(text), &one); err != nil {
					t.Errorf("%s: %v", by, err)
				}
				list.Evaluations = []wire.Decision{one}
			}
			var out []told
			for _, d := range list.Evaluations {
				out = append(out, told{by, d.Context.Revision, d.Decision})
			}
			return out
		}
	}
	ask("one evaluation", "/access/v1/evaluation", question, decisions("one evaluation"))
	ask("another evaluation", "/access/v1/evaluation", question, decisions("another evaluation"))
	ask("many evaluations", "/access/v1/evaluations", many, decisions("many evaluations"))
	ask("a check", "/api/v1/check", `{"user":"noor.haddad","right":"control","device":"mill-bridge","at":"2026-11-24T10:00:00Z"}`, func(text string) []told {
		var a wire.Answer
		if err := json.Unmarshal([]byte(text), &a); err != nil {
			t.Error(err)
		}
		return []told{{"a check", a.Revision, a.Allowed}}
	})
	for i := range edits {
		method := []string{"PUT", "DELETE"}[i%2]
		saved, status := edit(w, method, "/api/v1/user_groups/bridge-crew/members/noor.haddad", "")
		if status >= 300 {
			t.Fatalf("%s: %d", method, status)
		}
		member[saved.Revision] = method == "PUT"
		// A question that begins after the answer to a change sees it.
		status, _, text := w.ask("POST", "/access/v1/evaluation", w.token, question)
		if got := decisions("after the change")(text)[0]; status != 200 || got.revision != saved.Revision || got.allowed != member[saved.Revision] {
			t.Fatalf("after %s, revision %d: %d %s", method, saved.Revision, status, text)
		}
	}
	close(over)
	asking.Wait()
	seen := map[string][]uint64{}
	for _, x := range all {
		want, known := member[x.revision]
		if !known || want != x.allowed {
			t.Fatalf("%s told %v of revision %d, which has the member: %v", x.by, x.allowed, x.revision, want)
		}
		if !slices.Contains(seen[x.by], x.revision) {
			seen[x.by] = append(seen[x.by], x.revision)
		}
	}
	if len(seen) != 4 {
		t.Errorf("only %d of four ways were answered: %v", len(seen), seen)
	}
}

// TestEveryRouteHoldsBackFromThoseWithLess calls every route there is as people with little or no mandate: none of them
// changes anything, and nobody reads more than is listed here.
func TestEveryRouteHoldsBackFromThoseWithLess(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	var description struct {
		Paths map[string]map[string]json.RawMessage
	}
	if err := json.Unmarshal([]byte(third(w.ask("GET", "/api/v1/openapi.json", w.token, ""))), &description); err != nil {
		t.Fatal(err)
	}
	who := map[string]string{"auditor": w.tokenFor("lena.marsh"), "enforcement": w.tokenFor("gateway-bridges"), "delegate": w.tokenFor("marta.solis"), "nobody": "", "person": w.tokenFor("tomas.field")}
	anybody := []string{"GET /healthz", "GET /readyz", "GET /api/v1/openapi.json", "GET /.well-known/authzen-configuration", "GET /api/v1/session"}
	own := []string{"POST /api/v1/check", "POST /api/v1/week", "POST /access/v1/evaluation", "POST /access/v1/evaluations", "POST /access/v1/search/action",
		"POST /access/v1/search/resource", "GET /api/v1/reach/users/{id}", "GET /api/v1/mine", "GET /api/v1/feeds"}
	allowed := map[string][]string{
		"person":      slices.Concat(anybody, own, []string{"GET /api/v1/seen/{id}"}),
		"enforcement": slices.Concat(anybody, own, []string{"POST /access/v1/search/subject", "GET /api/v1/reach/devices/{id}", "GET /api/v1/reach/user_groups/{id}", "GET /api/v1/snapshot"}),
	}
	bodies := map[string]string{
		"/api/v1/check": `{"user":"tomas.field","right":"view","device":"mill-bridge"}`, "/api/v1/week": `{"user":"tomas.field","device":"mill-bridge"}`,
		"/api/v1/advice": `{"user":"tomas.field","right":"view","device":"mill-bridge"}`, "/api/v1/matrix": `{"rows":{"type":"users"},"columns":{"type":"sites"}}`,
		"/api/v1/tokens": `{"user":"ines.carvalho","name":"mine"}`, "/api/v1/changes": `{"changes":[{"op":"remove","type":"grants","id":"backup"}]}`,
		"/api/v1/drafts": `{"name":"Of many hands"}`, "/api/v1/copy": `{"type":"users","id":"tomas.field","to":"tomas.two"}`,
	}
	evaluation := `{"subject":{"type":"user","id":"tomas.field"},"action":{"name":"view"},"resource":{"type":"device","id":"mill-bridge"}}`
	ids := map[string]string{"users": "tomas.field", "devices": "mill-bridge", "user_groups": "bridge-crew", "sites": "border-arm", "grants": "backup", "device_groups": "winter-list"}
	// What is of the policy as a whole, or of others' credentials, a delegate may not do to anything.
	notDelegates := []string{"GET /api/v1/policy", "PUT /api/v1/policy", "GET /api/v1/verify", "GET /api/v1/backup", "GET /api/v1/looks", "GET /api/v1/tokens", "POST /api/v1/tokens",
		"GET /api/v1/sheets/{id}", "GET /api/v1/users/{id}/sign-ins", "PATCH /api/v1/settings", "GET /api/v1/audit", "GET /api/v1/audit/export", "GET /api/v1/audit/key", "POST /api/v1/audit/verify",
		"POST /api/v1/findings/dismissals", "DELETE /api/v1/findings/dismissals", "POST /api/v1/audit/checkpoints", "GET /api/v1/service", "PATCH /api/v1/service", "GET /api/v1/revisions/{id}", "GET /api/v1/revisions", "GET /api/v1/comparison", "GET /api/v1/proof",
		"GET /api/v1/sources", "GET /api/v1/sources/{id}", "GET /api/v1/sources/{id}/find", "GET /metrics", "GET /api/v1/hooks", "GET /api/v1/machines", "GET /api/v1/snapshot", "GET /api/v1/log/{id}"}
	calls := 0
	for path, methods := range description.Paths {
		for method := range methods {
			method = strings.ToUpper(method)
			route := method + " " + path
			if route == "GET /api/v1/events" || route == "GET /api/v1/audit/follow" || route == "GET /api/v1/log" || strings.HasPrefix(path, "/api/v1/session") || path == "/api/v1/welcome" || path == "/api/v1/set-up" || path == "/api/v1/sign-on" || path == "/problems/{kind}" || strings.HasPrefix(path, "/schemas/") || path == "/feeds/{id}" {
				continue // three never end; the others are about the caller's own sessions, or for everybody
			}
			at := path
			if parts := strings.Split(path, "/"); strings.Contains(path, "{") {
				for _, part := range parts {
					if id := ids[part]; id != "" {
						at = strings.Replace(at, "{id}", id, 1)
					}
				}
				at = strings.NewReplacer("{id}", "tomas.field", "{type}", "users", "{entry}", "noor.haddad", "{key}", "x", "{number}", "1", "{revision}", "1").Replace(at)
			}
			body := bodies[path]
			if strings.HasPrefix(path, "/access/v1") {
				body = evaluation
			}
			if body == "" && (method == "PUT" || method == "PATCH" || method == "POST") {
				body = "{}"
			}
			for role, token := range who {
				calls++
				status, _, text := w.ask(method, at, token, body)
				reads := method == "GET" || strings.HasPrefix(path, "/access/v1") || slices.Contains(own, route) || slices.Contains([]string{"/api/v1/advice", "/api/v1/matrix", "/api/v1/preview/schedule", "/api/v1/preview/match", "/api/v1/time", "/api/v1/audit/verify", "/api/v1/audit/checkpoints"}, path)
				switch {
				case role == "nobody":
					if status != 401 && !slices.Contains(anybody[:4], route) {
						t.Errorf("%s without a credential: %d %.200s", route, status, text)
					}
				case role == "delegate":
					if forbidden := slices.Contains(notDelegates, route); forbidden != (status == 403) && (forbidden || reads) || status >= 500 {
						t.Errorf("%s as a delegate: %d %.200s", route, status, text)
					}
				case status >= 500:
					t.Errorf("%s as %s: %d %.200s", route, role, status, text)
				case role == "auditor" && reads && status == 403 && path != "/api/v1/progress/{id}" && path != "/api/v1/backup" && path != "/api/v1/requests":
					t.Errorf("%s as an auditor, who reads everything: %d %.200s", route, status, text)
				case role == "auditor" && !reads && status < 300, role != "auditor" && status < 300 && !slices.Contains(allowed[role], route):
					t.Errorf("%s as %s: %d %.200s", route, role, status, text)
				}
			}
		}
	}
	if calls < 150 {
		t.Errorf("only %d calls were made: the description is not what it was", calls)
	}
	if code, out, errOut := w.run("policy", "dump"); code != 0 || !strings.Contains(errOut+out, "format: sentier-policy/1") {
		t.Errorf("the policy after all that: %d %s", code, errOut)
	}
	saved, status := edit(w, "PATCH", "/api/v1/devices/mill-bridge", `{"state":"maintenance"}`)
	if status != 200 || saved.Revision != 2 {
		t.Errorf("the first change of the owner is revision %d (%d): somebody changed something before", saved.Revision, status)
	}
}

func third(_ int, _ http.Header, text string) string { return text }
