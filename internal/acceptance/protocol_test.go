package acceptance

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"sentier/internal/wire"
)

// exchange is a request and what its answer must have. A header that is wanted empty must not be there.
type exchange struct {
	name, method, path, body string
	headers                  []string
	status                   int
	want                     string
	wantHeaders              map[string]string
}

func (w *world) exchange(c exchange) {
	w.t.Helper()
	status, header, body := w.ask(c.method, c.path, w.token, c.body, c.headers...)
	if status != c.status || !strings.Contains(body, c.want) {
		w.t.Errorf("%s: %s %s: %d %s\nwant %d …%s…", c.name, c.method, c.path, status, body, c.status, c.want)
	}
	for name, want := range c.wantHeaders {
		if got := header.Get(name); want == "" && got != "" || !strings.Contains(got, want) {
			w.t.Errorf("%s: %s %s: %s is %q, want …%s…", c.name, c.method, c.path, name, got, want)
		}
	}
}

// TestHTTPAsItsStandardsSay goes through what RFC 9110, 9457, 7396 and 7386 ask of a server that is met for the first time.
func TestHTTPAsItsStandardsSay(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	for _, c := range []exchange{
		{name: "an id that is escaped", method: "PUT", path: "/api/v1/users/al%2Bx%40larkmere.example", body: `{"name":"Al Brook"}`, status: 200},
		{name: "is found so", method: "GET", path: "/api/v1/users/al%2Bx%40larkmere.example", status: 200, want: `"id":"al+x@larkmere.example"`},
		{name: "and by any of its escapes", method: "GET", path: "/api/v1/users/al%2bx@larkmere.example", status: 200, want: `"name":"Al Brook"`},
		{name: "a plus sign is one", method: "GET", path: "/api/v1/users/al+x@larkmere.example/mentions", status: 200},
		{name: "its reach", method: "GET", path: "/api/v1/reach/users/al%2Bx%40larkmere.example", status: 200},
		{name: "HEAD", method: "HEAD", path: "/api/v1/users/tomas.field", status: 200, wantHeaders: map[string]string{"ETag": `"`, "Content-Type": "application/json"}},
		{name: "HEAD of the console", method: "HEAD", path: "/users", status: 200, wantHeaders: map[string]string{"Content-Type": "text/html"}},
		{name: "HEAD of what is not there", method: "HEAD", path: "/api/v1/users/nobody", status: 404},
		{name: "GET where there is only POST", method: "GET", path: "/api/v1/check", status: 405, want: `"status":405`, wantHeaders: map[string]string{"Allow": "POST"}},
		{name: "PATCH of a list", method: "PATCH", path: "/api/v1/users", body: "{}", status: 405, wantHeaders: map[string]string{"Allow": "GET"}},
		{name: "a page is only read", method: "POST", path: "/somewhere", body: "{}", status: 405, wantHeaders: map[string]string{"Allow": "GET"}},
		{name: "a path below api", method: "GET", path: "/api/v1/nothing", status: 404, want: `"type":"/problems/not-found"`, wantHeaders: map[string]string{"Content-Type": "application/problem+json"}},
		{name: "a path below access", method: "POST", path: "/access/v2/evaluation", body: "{}", status: 404, want: `"status":404`},
		{name: "a well-known path", method: "GET", path: "/.well-known/nothing", status: 404, want: `"status":404`},
		{name: "a parameter that is mistyped", method: "DELETE", path: "/api/v1/schedules/night-watch?dryrun=true", status: 400, want: `did you mean \"dry_run\"?`},
		{name: "which changed nothing", method: "GET", path: "/api/v1/schedules/night-watch", status: 200},
		{name: "a parameter given twice", method: "GET", path: "/api/v1/users?limit=1&limit=2", status: 400, want: "is given twice"},
		{name: "POST of what is there", method: "POST", path: "/api/v1/kinds", body: `{"id":"sluice","name":"Another"}`, status: 409, want: "sluice"},
		{name: "a patch without its type", method: "PATCH", path: "/api/v1/users/tomas.field", body: `{"name":"X"}`, headers: []string{"Content-Type", "application/json"}, status: 415, want: "application/merge-patch+json", wantHeaders: map[string]string{"Accept-Patch": "application/merge-patch+json"}},
		{name: "a question as YAML", method: "POST", path: "/api/v1/check", body: "user: tomas.field", headers: []string{"Content-Type", "application/yaml"}, status: 415, want: "application/json"},
		{name: "YAML said to be JSON", method: "POST", path: "/api/v1/check", body: "user: tomas.field", headers: []string{"Content-Type", "application/json"}, status: 400, want: "is no JSON"},
		{name: "a sheet as JSON", method: "PUT", path: "/api/v1/sheets/users", body: "{}", headers: []string{"Content-Type", "application/json"}, status: 415, want: "text/csv"},
		{name: "a type that cannot be read", method: "POST", path: "/api/v1/check", body: "{}", headers: []string{"Content-Type", "/;"}, status: 415},
		{name: "a field given twice in a patch", method: "PATCH", path: "/api/v1/users/tomas.field", body: `{"name":"A","name":"B"}`, status: 422, want: "twice"},
		{name: "a type of another program is not named", method: "POST", path: "/access/v1/search/subject", body: `{"subject":5}`, status: 400, want: "an object belongs here"},
		{name: "a problem in French", method: "GET", path: "/api/v1/users/nobody", headers: []string{"Accept-Language", "fr-CH, fr;q=0.9, en;q=0.1"}, status: 404, wantHeaders: map[string]string{"Content-Language": "fr"}},
		{name: "a fault of a record in French", method: "PUT", path: "/api/v1/users/al.brook", body: `{"name":"Al Brook","valid":{"until":"soon"}}`, headers: []string{"Accept-Language", "fr"}, status: 422, want: "n’est pas un instant : écrivez-le selon la RFC 3339"},
		{name: "a fault of a change in French", method: "PUT", path: "/api/v1/grants/x", body: `{"name":"X","to":{"groups":["bridge-crow"]},"lines":[{"rights":["view"],"on":{"everything":true}}]}`, headers: []string{"Accept-Language", "fr"}, status: 422, want: `groupe d’utilisateurs \"bridge-crow\" n’existe pas : vouliez-vous dire \"bridge-crew\" ?`},
		{name: "a parameter in French", method: "GET", path: "/api/v1/users?limitt=1", headers: []string{"Accept-Language", "fr"}, status: 400, want: `n’est pas un paramètre : vouliez-vous dire \"limit\" ?`},
		{name: "what is taken, in French", method: "POST", path: "/api/v1/kinds", body: `{"id":"sluice","name":"Another"}`, headers: []string{"Accept-Language", "fr"}, status: 409, want: `type d’appareil \"sluice\" existe déjà`},
		{name: "what somebody changed meanwhile, in French", method: "PUT", path: "/api/v1/kinds/sluice", body: `{"name":"Another"}`, headers: []string{"Accept-Language", "fr", "If-Match", `"old"`}, status: 412, want: "a été modifié depuis que vous l’avez lu"},
		{name: "its page", method: "GET", path: "/problems/not-found", status: 200, want: "<h1>", wantHeaders: map[string]string{"Content-Type": "text/html", "Content-Language": "en"}},
		{name: "its page in French", method: "GET", path: "/problems/not-found", headers: []string{"Accept-Language", "fr"}, status: 200, want: `lang="fr"`},
		{name: "a page of no problem", method: "GET", path: "/problems/none", status: 404},
		{name: "answers are not kept", method: "GET", path: "/api/v1/users", status: 200, wantHeaders: map[string]string{"Cache-Control": "no-store", "Vary": "Accept-Encoding, Accept-Language, Authorization, Cookie"}},
		{name: "many changes beside another revision", method: "POST", path: "/api/v1/changes", body: `{"changes":[{"op":"remove","type":"users","id":"al+x@larkmere.example"}]}`, headers: []string{"If-Match", `"1"`}, status: 412},
		{name: "a sheet beside another revision", method: "PUT", path: "/api/v1/sheets/users", body: "id,name\nx.y,X Y\n", headers: []string{"Content-Type", "text/csv", "If-Match", `"1"`}, status: 412},
		{name: "a document beside another revision", method: "PUT", path: "/api/v1/policy?dry_run=true", body: "format: sentier-policy/1\n", headers: []string{"Content-Type", "application/yaml", "If-Match", `"1"`}, status: 412},
		{name: "an undo beside another revision", method: "POST", path: "/api/v1/revisions/2/undo", headers: []string{"If-Match", `"1"`}, status: 412},
		{name: "If-Match that names nothing", method: "DELETE", path: "/api/v1/kinds/sluice", headers: []string{"If-Match", " , "}, status: 400, want: "names no entity tag"},
		{name: "a page token of another search", method: "POST", path: "/access/v1/search/subject", body: `{"subject":{"type":"user"},"action":{"name":"view"},"resource":{"type":"device","id":"mill-bridge"},"page":{"token":"dG9tYXM"}}`, status: 400, want: "page.token"},
		{name: "a cursor of nothing", method: "GET", path: "/api/v1/users?cursor=tomas.field", status: 400, want: "was not given for"},
		{name: "an instant far away", method: "POST", path: "/access/v1/evaluation", body: `{"subject":{"type":"user","id":"tomas.field"},"action":{"name":"view"},"resource":{"type":"device","id":"mill-bridge"},"context":{"time":"9999-12-31T23:59:59Z"}}`, status: 400, want: "context.time"},
	} {
		w.exchange(c)
	}
}

// TestTags: what was read is not sent again, and is written only where it is still as it was read.
func TestTags(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	for _, path := range []string{"/api/v1/users/tomas.field", "/api/v1/users", "/api/v1/policy", "/api/v1/counts", "/api/v1/sheets/users"} {
		_, header, _ := w.ask("GET", path, w.token, "")
		tag := header.Get("ETag")
		w.exchange(exchange{name: "again", method: "GET", path: path, headers: []string{"If-None-Match", tag}, status: 304})
		w.exchange(exchange{name: "in a list", method: "GET", path: path, headers: []string{"If-None-Match", `"other", W/` + tag}, status: 304})
		w.exchange(exchange{name: "another", method: "GET", path: path, headers: []string{"If-None-Match", `"other"`}, status: 200})
	}
	// The document's tag is the one that its PUT takes, also as it was sent compressed.
	req, err := http.NewRequest("GET", w.url+"/api/v1/policy", nil)
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+w.token)
	req.Header.Set("Accept-Encoding", "gzip")
	resp, err := http.DefaultTransport.RoundTrip(req)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	if resp.Header.Get("Content-Encoding") != "gzip" || !strings.Contains(resp.Header.Get("Vary"), "Accept-Encoding") {
		t.Fatalf("a large answer comes as %v", resp.Header)
	}
	unzip, err := gzip.NewReader(resp.Body)
	if err != nil {
		t.Fatal(err)
	}
	text, err := io.ReadAll(unzip)
	if err != nil {
		t.Fatal(err)
	}
	changed := strings.Replace(string(text), "name: Bridge crew", "name: Crew of the bridges", 1)
	put := exchange{name: "the document that was read", method: "PUT", path: "/api/v1/policy", body: changed, headers: []string{"Content-Type", "application/yaml", "If-Match", resp.Header.Get("ETag")}, status: 200, want: `"id":"bridge-crew"`}
	w.exchange(put)
	put.name, put.status, put.want = "the same once more, which is another by now", 412, "changed"
	w.exchange(put)

	// A change answers with the tag of its own version: the next one can be made without reading.
	_, header, _ := w.ask("PATCH", "/api/v1/users/tomas.field", w.token, `{"name":"Tomas A. Field"}`)
	first := header.Get("ETag")
	w.ask("PATCH", "/api/v1/users/noor.haddad", w.token, `{"name":"Noor A. Haddad"}`) // somebody else's, of another record
	w.exchange(exchange{name: "by its own tag", method: "PATCH", path: "/api/v1/users/tomas.field", body: `{"name":"Tomas B. Field"}`, headers: []string{"If-Match", `"none", ` + first}, status: 200})
	w.exchange(exchange{name: "by a tag that is past", method: "PATCH", path: "/api/v1/users/tomas.field", body: `{"name":"Tomas C. Field"}`, headers: []string{"If-Match", first}, status: 412, want: `"current"`})
	w.exchange(exchange{name: "by any", method: "PATCH", path: "/api/v1/users/tomas.field", body: `{"name":"Tomas D. Field"}`, headers: []string{"If-Match", "*"}, status: 200})
	w.exchange(exchange{name: "only if it is new", method: "PUT", path: "/api/v1/users/tomas.field", body: `{"name":"Z"}`, headers: []string{"If-None-Match", "*"}, status: 412})
}

// TestIdempotencyKeys: a key belongs to its caller, method, path, query and body, and gives the very answer again.
func TestIdempotencyKeys(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	key := []string{"Idempotency-Key", "delivery-17"}
	revision := func() string {
		_, header, _ := w.ask("GET", "/api/v1/policy", w.token, "")
		return header.Get("ETag")
	}
	_, headers, body := w.ask("DELETE", "/api/v1/kinds/pump?cascade=true&accept_gains=true", w.token, "", key...)
	before := revision()
	status, again, same := w.ask("DELETE", "/api/v1/kinds/pump?cascade=true&accept_gains=true", w.token, "", key...)
	if status != 200 || same != body || again.Get("ETag") != headers.Get("ETag") || revision() != before {
		t.Errorf("again: %d %s\nfirst %s", status, same, body)
	}
	for name, c := range map[string]exchange{
		"another path":   {method: "DELETE", path: "/api/v1/kinds/sluice?cascade=true&accept_gains=true"},
		"another query":  {method: "DELETE", path: "/api/v1/kinds/pump"},
		"another method": {method: "PUT", path: "/api/v1/kinds/pump", body: `{"name":"Pumps"}`},
	} {
		c.name, c.headers, c.status, c.want = name, key, 422, "Idempotency-Key"
		w.exchange(c)
	}
	w.exchange(exchange{name: "and nothing went", method: "GET", path: "/api/v1/kinds/sluice", status: 200})
	status, _, mine := w.ask("PATCH", "/api/v1/users/tomas.field", w.tokenFor("bram.okafor"), `{"name":"Tomas B. Field"}`, key...)
	if status == 422 {
		t.Errorf("the key of another caller: %d %s", status, mine)
	}
	// A token is made once, and its secret comes again to whoever asked for it.
	var first, second wire.Token
	for i, into := range []*wire.Token{&first, &second} {
		status, _, body := w.ask("POST", "/api/v1/tokens", w.token, `{"user":"night-backup","name":"nightly"}`, "Idempotency-Key", "token-1")
		if err := json.Unmarshal([]byte(body), into); err != nil || status != 201 {
			t.Fatalf("token %d: %d %s", i, status, body)
		}
	}
	if first.ID != second.ID || first.Secret == "" || first.Secret != second.Secret {
		t.Errorf("the same key made %v and %v", first.ID, second.ID)
	}
	for _, bad := range []string{strings.Repeat("k", 300)} {
		if status, _, body := w.ask("PATCH", "/api/v1/users/tomas.field", w.token, `{"name":"Tomas E. Field"}`, "Idempotency-Key", bad); status != 400 {
			t.Errorf("the key %q: %d %s", clipped(bad), status, body)
		}
	}
}

func clipped(s string) string { return s[:min(len(s), 20)] }

// follow opens the stream of events and gives its lines.
func (w *world) follow(ctx context.Context, token, after string) (http.Header, <-chan string) {
	w.t.Helper()
	req, err := http.NewRequestWithContext(ctx, "GET", w.url+"/api/v1/events", nil)
	if err != nil {
		w.t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+token)
	if after != "" {
		req.Header.Set("Last-Event-ID", after)
	}
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		w.t.Fatal(err)
	}
	if resp.StatusCode != 200 {
		w.t.Fatalf("events: %s", resp.Status)
	}
	lines := make(chan string, 100)
	go func() {
		defer close(lines)
		defer resp.Body.Close()
		for s := bufio.NewScanner(resp.Body); s.Scan(); {
			if s.Text() != "" {
				lines <- s.Text()
			}
		}
	}()
	return resp.Header, lines
}

// TestAStreamBeginsWithItsPlace: the first thing sent is where the stream begins, silence is shown to be alive, and a revoked token's stream ends.
func TestAStreamBeginsWithItsPlace(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	line := func(lines <-chan string) string {
		select {
		case text, open := <-lines:
			if !open {
				return "the end"
			}
			return text
		case <-ctx.Done():
			return "nothing in a minute"
		}
	}
	watcher := w.tokenFor("lena.marsh")
	header, lines := w.follow(ctx, watcher, "")
	if header.Get("X-Accel-Buffering") != "no" || !strings.Contains(header.Get("Content-Type"), "text/event-stream") {
		t.Errorf("the stream comes with %v", header)
	}
	if got := line(lines) + " " + line(lines); got != "retry: 1000 id: 1" {
		t.Errorf("the stream begins with %q", got)
	}
	edit(w, "PATCH", "/api/v1/users/tomas.field", `{"name":"Tomas B. Field"}`)
	if got := line(lines) + " " + line(lines) + " " + line(lines); !strings.HasPrefix(got, `id: 2 event: revision data: {"revision":2`) {
		t.Errorf("a revision comes as %q", got)
	}
	// Whoever lost the stream before anything came goes on from the id that came first.
	_, late := w.follow(ctx, watcher, "1")
	if got := line(late) + " " + line(late) + " " + line(late); got != "retry: 1000 id: 1 id: 2" {
		t.Errorf("resumed: %q", got)
	}
	if got := line(lines); got != ": still here" {
		t.Errorf("in silence: %q", got)
	}
	_, _, list := w.ask("GET", "/api/v1/tokens?user=lena.marsh", w.token, "")
	var tokens []wire.Token
	if err := json.Unmarshal([]byte(list), &tokens); err != nil || len(tokens) != 1 {
		t.Fatalf("%v in %s", err, list)
	}
	if status := first(w.ask("DELETE", "/api/v1/tokens/"+tokens[0].ID, w.token, "")); status != 204 {
		t.Fatalf("revoke: %d", status)
	}
	if got := line(lines); got != "the end" {
		t.Errorf("after the token was revoked the stream goes on with %q", got)
	}
	w.exchange(exchange{name: "an id that is none", method: "GET", path: "/api/v1/events", headers: []string{"Last-Event-ID", "x"}, status: 400, want: "is no number of an event"})
}

// TestOneOfMany: what cannot be read of many evaluations denies itself alone.
func TestOneOfMany(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	good := `{"subject":{"type":"user","id":"tomas.field"},"action":{"name":"control"},"resource":{"type":"device","id":"twin-bridge-north"},"context":{"time":"2026-11-24T10:00:00Z"}}`
	for _, bad := range []string{
		`5`, `"x"`, `null`, `[]`, `{"subject":5}`, `{"subject":{"type":"user","id":7}}`, `{"context":5}`, `{"context":{"time":"9999-12-31T00:00:00Z"}}`,
		`{"context":{"time":5}}`, `{"action":{"name":["view"]}}`, `{"resource":{"type":"ship","id":"x"}}`, `{"subject":{"type":"user","id":"tomas.field"},"subject":{}}`,
		`{"context":{"source":"no address"}}`, `{"context":` + strings.Repeat(`{"a":`, 100) + `1` + strings.Repeat(`}`, 100) + `}`,
	} {
		status, _, body := w.ask("POST", "/access/v1/evaluations", w.token, `{"evaluations":[`+good+`,`+bad+`,`+good+`]}`)
		var out wire.Decisions
		if err := json.Unmarshal([]byte(body), &out); err != nil || status != 200 || len(out.Evaluations) != 3 {
			t.Errorf("%s: %d %s", clipped(bad), status, body)
			continue
		}
		if got := fmt.Sprint(out.Evaluations[0].Decision, out.Evaluations[1].Decision, out.Evaluations[2].Decision); got != "true false true" {
			t.Errorf("%s: %s in %s", bad, got, body)
		}
		if bad != "null" && bad != "[]" && out.Evaluations[1].Context.Error == nil {
			t.Errorf("%s: the denial does not say why: %s", bad, body)
		}
	}
}

// TestWhoMayNotIsRefusedUnread: who may not do a thing is refused before anything of the body is read.
func TestWhoMayNotIsRefusedUnread(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	nobody := w.tokenFor("tomas.field")
	for _, c := range []struct {
		token, method, path string
		status              int
	}{
		{"", "PUT", "/api/v1/policy", 401}, {nobody, "PUT", "/api/v1/policy", 403}, {nobody, "PUT", "/api/v1/sheets/users", 403},
		{nobody, "POST", "/api/v1/matrix", 403}, {nobody, "POST", "/api/v1/changes", 403}, {nobody, "POST", "/api/v1/tokens", 403},
		{w.tokenFor("lena.marsh"), "PUT", "/api/v1/policy", 403},
	} {
		body := &endless{}
		req, err := http.NewRequest(c.method, w.url+c.path, body)
		if err != nil {
			t.Fatal(err)
		}
		if c.token != "" {
			req.Header.Set("Authorization", "Bearer "+c.token)
		}
		resp, err := (&http.Client{Timeout: 20 * time.Second, Transport: &http.Transport{}}).Do(req)
		if err != nil {
			t.Errorf("%s %s: %v", c.method, c.path, err)
			continue
		}
		resp.Body.Close()
		if resp.StatusCode != c.status {
			t.Errorf("%s %s with a body without an end: %s, want %d", c.method, c.path, resp.Status, c.status)
		}
	}
	for path, size := range map[string]int{"/api/v1/session": 9 << 10, "/api/v1/welcome": 9 << 10, "/api/v1/check": 1<<20 + 1, "/access/v1/evaluations": 8<<20 + 1} {
		status, _, body := w.ask("POST", path, w.token, `{"user":"`+strings.Repeat("x", size)+`"}`)
		if status != 413 {
			t.Errorf("%d bytes to %s: %d %s", size, path, status, clipped(body))
		}
	}
}

// endless is a body that comes as long as it is read.
type endless struct{ bytes.Buffer }

func (e *endless) Read(into []byte) (int, error) {
	for i := range into {
		into[i] = ' '
	}
	return len(into), nil
}
