package acceptance

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"

	"sentier/internal/daemon"
	"sentier/internal/document"
	"sentier/internal/policy"
	"sentier/internal/wire"
)

const openAPIFile = "../../docs/openapi.json"

// consoleRecordsFile is what the console knows of the types of record.
const consoleRecordsFile = "../../web/src/api/records.gen.ts"

// TestTheConsoleKnowsTheRecords: its forms are made from the same descriptors as everything else.
func TestTheConsoleKnowsTheRecords(t *testing.T) {
	t.Parallel()
	fields := map[string][]policy.Field{}
	var types strings.Builder
	for _, typ := range append(policy.Types(), policy.SettingsType) {
		d := policy.Describe(typ)
		fields[typ.String()] = d.Fields
		fmt.Fprintf(&types, "  %s: Schemas[%q];\n", typ, d.Name)
	}
	body, err := json.MarshalIndent(fields, "", "  ")
	if err != nil {
		t.Fatal(err)
	}
	want := fmt.Sprintf("// Generated from internal/policy by TestTheConsoleKnowsTheRecords: see “make types”.\nimport type { components } from \"./schema.gen\";\n\ntype Schemas = components[\"schemas\"];\n\n/** Records are the types of record, each as the service writes it. */\nexport type Records = {\n%s};\n%s\nexport const records: { [T in keyof Records]: RecordField[] } = %s;\n", types.String(), recordFieldType, body)
	kept, err := os.ReadFile(consoleRecordsFile)
	if os.Getenv("SENTIER_UPDATE") != "" {
		err, kept = os.WriteFile(consoleRecordsFile, []byte(want), 0o644), []byte(want)
	}
	if err != nil || string(kept) != want {
		t.Errorf("%s is not what the descriptors say: run “make types” (%v)", consoleRecordsFile, err)
	}
}

const recordFieldType = `
/** RecordField is a field of a record, or of an object within one. */
export type RecordField = {
  name: string;
  path: string;
  kind:
    | "text"
    | "id"
    | "ref"
    | "point"
    | "choice"
    | "switch"
    | "bool"
    | "tri"
    | "number"
    | "instant"
    | "date"
    | "month_day"
    | "clock"
    | "network"
    | "zone"
    | "limits"
    | "object";
  many?: boolean;
  ref?: string;
  choices?: string[];
  required?: boolean;
  long?: boolean;
  own?: boolean;
  fields?: RecordField[];
};
`

// TestOpenAPI holds docs/openapi.json against what is served, and real answers against both.
func TestOpenAPI(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	_, _, served := w.ask("GET", "/api/v1/openapi.json", w.token, "")
	kept, err := os.ReadFile(openAPIFile)
	if os.Getenv("SENTIER_UPDATE") != "" {
		err = os.WriteFile(openAPIFile, []byte(served), 0o644)
		kept = []byte(served)
	}
	if err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(kept, []byte(served)) {
		t.Error("docs/openapi.json is not what is served: run this test with SENTIER_UPDATE=1, then “make types”")
	}
	doc, err := openapi3.NewLoader().LoadFromData([]byte(served))
	if err != nil {
		t.Fatal(err)
	}
	described(t, doc)
	question := `{"user": "tomas.field", "right": "control", "device": "twin-bridge-north", "at": "2026-11-24 10:00"}`
	for _, c := range []struct {
		method, path, body string
		status             int
	}{
		{"GET", "/healthz", "", 200}, {"GET", "/readyz", "", 200}, {"GET", "/api/v1/session", "", 200},
		{"POST", "/api/v1/check", question, 200},
		{"POST", "/api/v1/check", `{"user": "zed", "right": "control", "device": "x"}`, 200},
		{"POST", "/api/v1/check", `{"user": "zed"}`, 400},
		{"POST", "/access/v1/evaluation", `{"subject": {"type": "user", "id": "tomas.field"}, "action": {"name": "control"}, "resource": {"type": "point", "id": "twin-bridge-north/deck"}}`, 200},
		{"GET", "/api/v1/names", "", 200}, {"GET", "/api/v1/counts", "", 200}, {"GET", "/api/v1/tokens", "", 200},
		{"POST", "/api/v1/tokens", `{"user": "night-backup", "name": "nightly"}`, 201},
		{"DELETE", "/api/v1/tokens/nothing", "", 404},
		{"GET", "/api/v1/rights", "", 200}, {"GET", "/api/v1/roles", "", 200}, {"GET", "/api/v1/kinds", "", 200},
		{"GET", "/api/v1/sites?limit=3", "", 200}, {"GET", "/api/v1/devices?limit=1000", "", 200}, {"GET", "/api/v1/device_groups", "", 200},
		{"GET", "/api/v1/users", "", 200}, {"GET", "/api/v1/user_groups", "", 200}, {"GET", "/api/v1/calendars", "", 200},
		{"GET", "/api/v1/schedules", "", 200}, {"GET", "/api/v1/grants", "", 200}, {"GET", "/api/v1/mandates", "", 200},
		{"GET", "/api/v1/grants/bridge-watch", "", 200}, {"GET", "/api/v1/grants/none", "", 404},
		{"GET", "/api/v1/devices/twin-bridge-north/mentions", "", 200},
		{"GET", "/api/v1/find?q=mill&limit=5", "", 200},
		{"POST", "/api/v1/week", `{"user": "tomas.field", "device": "mill-bridge", "right": "control"}`, 200},
		{"POST", "/api/v1/advice", question, 200},
		{"POST", "/api/v1/matrix", `{"rows": {"type": "user_groups"}, "columns": {"type": "sites"}}`, 200},
		{"POST", "/api/v1/matrix", `{"rows": {"type": "grants"}, "columns": {"type": "sites"}}`, 400},
		{"POST", "/api/v1/preview/schedule", `{"schedule": {"id": "s", "name": "S", "windows": [{"from": "08:00", "to": "16:00"}]}}`, 200},
		{"POST", "/api/v1/preview/match", `{"kinds": ["lift-bridge"]}`, 200},
		{"POST", "/api/v1/time", `{"text": "in 2 weeks", "device": "mill-bridge"}`, 200}, {"POST", "/api/v1/time", `{"text": "soonish"}`, 400},
		{"GET", "/api/v1/devices?sort=-site&limit=3", "", 200}, {"GET", "/api/v1/devices?sort=colour", "", 400},
		{"GET", "/api/v1/names?of=devices/mill-bridge&of=sites/border-arm", "", 200}, {"GET", "/api/v1/names?of=bridge", "", 400},
		{"GET", "/api/v1/reach/users/tomas.field?degree=now&degree=if&limit=5", "", 200},
		{"GET", "/api/v1/reach/devices/control-room-mast?right=control", "", 200},
		{"GET", "/api/v1/reach/user_groups/bridge-crew", "", 200}, {"GET", "/api/v1/uses/schedules/night-watch", "", 200},
		{"GET", "/api/v1/seen/tomas.field", "", 200}, {"GET", "/api/v1/sheets", "", 200}, {"GET", "/api/v1/sessions", "", 200},
		{"POST", "/api/v1/users?dry_run=true&impact=true", `{"name": "Ole Bay"}`, 200},
		{"POST", "/api/v1/users", `{"name": "Ole Bay"}`, 201}, {"POST", "/api/v1/users", `{"id": "ole-bay", "name": "Ole Bay"}`, 409},
		{"PUT", "/api/v1/kinds/crane", `{"name": "Crane"}`, 200}, {"PUT", "/api/v1/kinds/Crane", `{"name": "Crane"}`, 422},
		{"PATCH", "/api/v1/kinds/crane", `{"note": "On rails."}`, 200}, {"PATCH", "/api/v1/kinds/crane", `{"nam": "x"}`, 422},
		{"DELETE", "/api/v1/kinds/lift-bridge", "", 422}, {"DELETE", "/api/v1/kinds/crane?cascade=true", "", 200},
		{"POST", "/api/v1/changes?dry_run=true&impact=true", `{"changes": [{"op": "add", "type": "user_groups", "id": "bridge-crew", "list": "members", "value": "noor.haddad"}]}`, 200},
		{"POST", "/access/v1/search/subject", `{"subject": {"type": "user"}, "action": {"name": "control"}, "resource": {"type": "device", "id": "mill-bridge"}}`, 200},
		{"POST", "/access/v1/evaluations", `{"subject": {"type": "user", "id": "tomas.field"}, "action": {"name": "view"}, "evaluations": [{"resource": {"type": "device", "id": "mill-bridge"}}]}`, 200},
		{"GET", "/.well-known/authzen-configuration", "", 200}, {"GET", "/schemas/policy.json", "", 200},
	} {
		// That the request and the answer are as described, is looked at with every answer.
		if status, _, body := w.ask(c.method, c.path, w.token, c.body); status != c.status {
			t.Errorf("%s %s: %d, want %d: %s", c.method, c.path, status, c.status, body)
		}
	}
}

// described holds what common linters ask of a description of an interface.
func described(t *testing.T, doc *openapi3.T) {
	t.Helper()
	ids, operations := map[string]string{}, 0
	if len(doc.Servers) == 0 || doc.Info.License == nil || doc.Info.Contact == nil && doc.Info.Description == "" {
		t.Error("the description has no server, licence or text")
	}
	for path, item := range doc.Paths.Map() {
		for method, o := range item.Operations() {
			at := method + " " + path
			operations++
			if o.OperationID == "" || ids[o.OperationID] != "" {
				t.Errorf("%s: the operation id %q is missing, or that of %s", at, o.OperationID, ids[o.OperationID])
			}
			ids[o.OperationID] = at
			if o.Summary == "" || o.Description == "" || len(o.Tags) != 1 || o.Security == nil {
				t.Errorf("%s: summary %q, description %q, tags %v, security %v", at, o.Summary, o.Description, o.Tags, o.Security)
			}
			for _, tag := range o.Tags {
				if told := doc.Tags.Get(tag); told == nil || told.Description == "" {
					t.Errorf("%s: nothing says what the tag %s stands for", at, tag)
				}
			}
			good, bad := false, false
			for status, r := range o.Responses.Map() {
				good, bad = good || status[0] == '2' || status[0] == '3', bad || status[0] == '4'
				if r.Value.Description == nil || *r.Value.Description == "" {
					t.Errorf("%s: %s has no description", at, status)
				}
			}
			if !good || !bad && method+path != "GET/healthz" {
				t.Errorf("%s: no answer of the two hundreds, or none of the four hundreds", at)
			}
			for _, p := range o.Parameters {
				if p.Value.Description == "" || p.Value.Schema == nil {
					t.Errorf("%s: the parameter %s has no description or no schema", at, p.Value.Name)
				}
			}
		}
	}
	if operations < 80 {
		t.Errorf("only %d operations are described", operations)
	}
}

func TestNothingAnswersWithoutACredential(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	enforcement, self := w.tokenFor("gateway-bridges"), w.tokenFor("night-backup")
	if _, status := edit(w, "PATCH", "/api/v1/users/ben.foster", `{"status":"active"}`); status != 200 {
		t.Fatal(status)
	}
	suspended := w.tokenFor("ben.foster")
	if _, status := edit(w, "PATCH", "/api/v1/users/ben.foster", `{"status":"suspended"}`); status != 200 {
		t.Fatal(status)
	}
	ask := `{"user": "tomas.field", "right": "control", "device": "mill-bridge"}`
	own := `{"user": "night-backup", "right": "control", "device": "mill-bridge"}`
	for _, c := range []struct {
		method, path, token, body string
		status                    int
	}{
		{"GET", "/healthz", "", "", 200}, {"GET", "/readyz", "", "", 200},
		{"GET", "/metrics", "", "", 401}, {"GET", "/api/v1/openapi.json", "", "", 401}, {"GET", "/api/v1/users", "", "", 401},
		{"POST", "/api/v1/check", "", ask, 401}, {"POST", "/access/v1/evaluation", "", "{}", 401}, {"PUT", "/api/v1/policy", "", "", 401},
		{"GET", "/api/v1/users", "sentier_none", "", 401}, {"POST", "/api/v1/check", suspended, ask, 401},
		{"POST", "/api/v1/check", enforcement, ask, 200}, {"GET", "/api/v1/users", enforcement, "", 403},
		{"GET", "/api/v1/users/tomas.field", enforcement, "", 404}, {"GET", "/api/v1/policy", enforcement, "", 403},
		{"PUT", "/api/v1/policy", enforcement, "", 403}, {"GET", "/api/v1/tokens", enforcement, "", 403}, {"GET", "/metrics", enforcement, "", 403},
		{"POST", "/api/v1/check", self, ask, 403}, {"POST", "/api/v1/check", self, own, 200},
		{"GET", "/metrics", w.token, "", 200}, {"GET", "/api/v1/nothing", w.token, "", 404},
	} {
		status, header, body := w.ask(c.method, c.path, c.token, c.body)
		if status != c.status {
			t.Errorf("%s %s: %d, want %d: %s", c.method, c.path, status, c.status, body)
		}
		if status >= 400 && header.Get("Content-Type") != "application/problem+json" {
			t.Errorf("%s %s: the fault comes as %s", c.method, c.path, header.Get("Content-Type"))
		}
		if status == 403 && !strings.Contains(body, "mandate of the role") {
			t.Errorf("%s %s does not say what is missing: %s", c.method, c.path, body)
		}
	}
}

func TestBadRequestsNameTheField(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	for _, c := range []struct {
		method, path, body string
		status             int
		want               string
	}{
		{"POST", "/api/v1/check", "{", 400, "is no JSON"},
		{"POST", "/api/v1/check", `{"user": "a", "right": "b", "device": "c", "evice": "d"}`, 400, `"path":"evice"`},
		{"POST", "/api/v1/check", `{"user": 5, "right": "b"}`, 400, `"path":"device"`},
		{"POST", "/api/v1/check", `{"user": "a", "right": "b", "device": "c", "at": "soon"}`, 400, "tomorrow 06:00"},
		{"POST", "/api/v1/check", `{"user": "a", "right": "b", "device": "c", "context": {"ip": "10.0.0.0/8"}}`, 400, `"path":"context.ip"`},
		{"POST", "/api/v1/check", strings.Repeat(" ", 1<<20+1), 413, "1048576 bytes"},
		{"POST", "/access/v1/evaluations", strings.Repeat(" ", 8<<20+1), 413, "8388608 bytes"},
		{"POST", "/api/v1/session", strings.Repeat(" ", 8<<10+1), 413, "8192 bytes"},
		{"PUT", "/api/v1/policy", "format: sentier-policy/1\nusers: [{id: a, nam: b}]", 422, `"line":2`},
		{"POST", "/access/v1/evaluation", `{"subject": {"type": "robot", "id": "a"}}`, 400, `"path":"subject.type"`},
		{"POST", "/access/v1/evaluation", `{"subject": {"type": 5}}`, 400, `"path":"subject.type"`},
		{"POST", "/access/v1/evaluation", `{"subject": {"type": "user", "id": "a"}, "action": {"name": "view"}, "resource": {"type": "point", "id": "x"}}`, 400, "device/point"},
		{"POST", "/access/v1/evaluation", `{"subject": {"type": "user", "id": "a"}, "action": {"name": "view"}, "resource": {"type": "device", "id": "x"}, "context": {"time": "noon"}}`, 400, `"path":"context.time"`},
		{"GET", "/api/v1/users?limit=0", "", 400, `"path":"limit"`}, {"GET", "/api/v1/users?limit=1001", "", 400, `"path":"limit"`},
		{"GET", "/api/v1/users?colour=red", "", 400, `"path":"colour"`}, {"DELETE", "/api/v1/users/tomas.field?dryrun=true", "", 400, "did you mean"},
		{"GET", "/api/v1/users?cursor=bm9uZQ", "", 400, "begin with the first page"}, {"GET", "/api/v1/users?limit=1&limit=2", "", 400, "is given twice"},
		{"POST", "/api/v1/changes", `{"changes": []}`, 400, `"path":"changes"`},
		{"POST", "/api/v1/changes", `{"changes": [{"op": "remove", "type": "grants", "id": "backup"}, {"op": "lend", "type": "grants", "id": "backup"}]}`, 400, `"path":"changes[1].op"`},
		{"POST", "/api/v1/changes", `{"changes": [{"op": "remove", "type": "grants", "id": "backup"}, {"op": "remove", "type": "boats", "id": "backup"}]}`, 400, `"path":"changes[1].type"`},
		{"POST", "/api/v1/changes", `{"changes": [{"op": "remove", "type": "grants", "id": "backup"}, {"op": "put", "type": "users", "id": "al.brook", "record": {"nam": "Al"}}]}`, 422, `"path":"changes[1].record.nam"`},
		{"POST", "/api/v1/changes", `{"changes": [{"op": "remove", "type": "grants", "id": "backup"}, {"op": "put", "type": "users", "id": "al.brook", "record": {"name": "Al", "valid": {"until": "soon"}}}]}`, 422, `"path":"changes[1].record.valid.until"`},
		{"POST", "/api/v1/changes", `{"changes": [{"op": "remove", "type": "grants", "id": "backup"}, {"op": "copy", "type": "users", "id": "nobody", "to": "al.brook"}]}`, 400, `"path":"changes[1]"`},
		{"POST", "/api/v1/changes", `{"changes": [{"op": "add", "type": "user_groups", "id": "bridge-crew", "list": "members", "value": "tomas.field", "until": "soon"}]}`, 400, `"path":"until"`},
		{"GET", "/api/v1/grants/backup", "", 200, `"id":"backup"`}, // all or nothing
		{"POST", "/api/v1/tokens", `{"user": "night-backap", "name": "x"}`, 400, "did you mean night-backup"},
	} {
		status, _, body := w.ask(c.method, c.path, w.token, c.body)
		if status != c.status || !strings.Contains(body, c.want) {
			t.Errorf("%s %s %.60s: %d %s\nwant %d …%s…", c.method, c.path, c.body, status, body, c.status, c.want)
		}
	}
}

func TestListsArePagedSearchedAndNarrowed(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	seen := map[string]bool{}
	pages := 0
	for path := "/api/v1/devices?limit=50&kind=level-gauge"; path != ""; pages++ {
		_, header, body := w.ask("GET", path, w.token, "")
		var page struct {
			Items []struct{ ID, Kind string }
			Total int
		}
		if err := json.Unmarshal([]byte(body), &page); err != nil {
			t.Fatal(err)
		}
		for _, d := range page.Items {
			if d.Kind != "level-gauge" || seen[d.ID] {
				t.Errorf("%s of kind %s came, before: %v", d.ID, d.Kind, seen[d.ID])
			}
			seen[d.ID] = true
		}
		path = ""
		if link := header.Get("Link"); link != "" {
			path = link[1:strings.Index(link, ">")]
		} else if page.Total != len(seen) {
			t.Errorf("%d came, the total says %d", len(seen), page.Total)
		}
	}
	if pages < 1 || len(seen) != 36 {
		t.Errorf("%d gauges on %d pages", len(seen), pages)
	}
	if _, _, body := w.ask("GET", "/api/v1/users?q=LIND", w.token, ""); !strings.Contains(body, `"total":1`) || !strings.Contains(body, "agnes.lindqvist") {
		t.Errorf("the search found %s", body)
	}
}

// TestVectorsOverAuthZEN asks the vectors' questions through the standard interface, of a machine that writes and of one that follows.
func TestVectorsOverAuthZEN(t *testing.T) {
	t.Parallel()
	for _, n := range []string{"0", "1", "2", "places-0", "places-1"} {
		t.Run(n, func(t *testing.T) {
			p, expectations := vector(t, n)
			if strings.HasSuffix(n, "1") {
				start(t, p).asksVector(expectations)
				return
			}
			servers := startLogServers(t, 1)
			w := startWith(t, p, func(o *daemon.Options) { o.Line = daemon.Line{URL: servers.url(), Machine: "control-room"} })
			w.asksVector(expectations)
			follows, _, _ := w.follower(servers, "estuary", t.TempDir(), nil)
			follows.soon("whoever asks is known there", func() bool { status, _, _ := follows.ask("GET", "/api/v1/session", w.token, ""); return status == 200 })
			follows.asksVector(expectations)
		})
	}
}

// asksVector asks the questions of a vector through the standard interface.
func (w *world) asksVector(expectations *document.Expectations) {
	t := w.t
	t.Helper()
	for i, x := range expectations.Checks {
		context := map[string]any{"time": x.At}
		if x.Context.IP.IsValid() {
			context["ip"] = x.Context.IP
		}
		if x.Context.Place != "" {
			context["place"] = x.Context.Place
		}
		if x.Context.StrongSignIn != nil {
			context["strong_sign_in"] = *x.Context.StrongSignIn
		}
		if x.Context.Attended != nil {
			context["attended"] = *x.Context.Attended
		}
		kind := "device"
		if strings.Contains(x.Device, "/") {
			kind = "point"
		}
		body, err := json.Marshal(wire.Evaluation{Subject: wire.Entity{Type: "user", ID: string(x.User)},
			Action: wire.Action{Name: string(x.Right)}, Resource: wire.Entity{Type: kind, ID: x.Device}, Context: context})
		if err != nil {
			t.Fatal(err)
		}
		status, header, text := w.ask("POST", "/access/v1/evaluation", w.token, string(body), "X-Request-ID", fmt.Sprint(i))
		var got wire.Decision
		if err := json.Unmarshal([]byte(text), &got); err != nil || status != 200 || header.Get("X-Request-ID") != fmt.Sprint(i) {
			t.Fatalf("check %d: %d %s %v", i, status, text, err)
		}
		until := document.Never
		if got.Context.Until != nil {
			until = got.Context.Until.Format(time.RFC3339)
		}
		if got.Decision != (x.Expect == "allow") || got.Context.Reason != x.Reason || x.Until != "" && until != x.Until {
			t.Errorf("check %d: %+v came as %s", i, x, text)
		}
	}
}
