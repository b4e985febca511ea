package acceptance

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"sentier/internal/document"
	"sentier/internal/wire"
)

// TestRandomEditsAreTakenBack makes some dozens of random edits over HTTP, each shown on a dry run first, and takes them back
// one by one: what is dumped after each is what was dumped before the edit, and what is dumped of each revision later on as well.
func TestRandomEditsAreTakenBack(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	random := rand.New(rand.NewPCG(17, 18))
	dump := func() string {
		t.Helper()
		status, _, text := w.ask("GET", "/api/v1/policy", w.token, "")
		if status != 200 {
			t.Fatalf("dump: %d", status)
		}
		return text
	}
	ids := func(typeName string) []string {
		t.Helper()
		var out []string
		for _, item := range get[wire.List[wire.Named]](w, "GET", "/api/v1/"+typeName+"?limit=1000", "").Items {
			out = append(out, item.ID)
		}
		return out
	}
	one := func(list []string) string { return list[random.IntN(len(list))] }
	edits := []func() (method, path, body string){
		func() (string, string, string) {
			return "PUT", "/api/v1/user_groups/" + one(ids("user_groups")) + "/members/" + one(ids("users")), `{"until":"2027-01-15T12:00:00Z"}`
		},
		func() (string, string, string) {
			return "DELETE", "/api/v1/user_groups/" + one(ids("user_groups")) + "/members/" + one(ids("users")), ""
		},
		func() (string, string, string) {
			return "PUT", "/api/v1/device_groups/" + one(ids("device_groups")) + "/devices/" + one(ids("devices")), ""
		},
		func() (string, string, string) {
			return "PUT", "/api/v1/devices/" + one(ids("devices")) + "/tags/" + one([]string{"winter", "old", "north"}), ""
		},
		func() (string, string, string) {
			return "PATCH", "/api/v1/devices/" + one(ids("devices")), fmt.Sprintf(`{"state":%q,"name":"Renamed %d"}`, one([]string{"in-service", "maintenance", "retired"}), random.IntN(1000))
		},
		func() (string, string, string) {
			return "PATCH", "/api/v1/grants/" + one(ids("grants")), fmt.Sprintf(`{"enabled":%v,"note":"as of %d"}`, random.IntN(2) == 0, random.IntN(1000))
		},
		func() (string, string, string) {
			return "DELETE", "/api/v1/" + one([]string{"grants/" + one(ids("grants")), "user_groups/" + one(ids("user_groups")), "sites/" + one(ids("sites")), "devices/" + one(ids("devices"))}) + "?cascade=true", ""
		},
		func() (string, string, string) {
			id := fmt.Sprintf("newcomer.%d", random.IntN(1000))
			return "PUT", "/api/v1/users/" + id, `{"id":"` + id + `","name":"Newcomer ` + id + `"}`
		},
	}
	var before []string
	var revisions []uint64
	for len(revisions) < 40 {
		method, path, body := edits[random.IntN(len(edits))]()
		was := dump()
		mark := "?"
		if strings.Contains(path, "?") {
			mark = "&"
		}
		dry, dryStatus := edit(w, method, path+mark+"dry_run=true", body)
		if now := dump(); now != was {
			t.Fatalf("%s %s changed something on a dry run", method, path)
		}
		saved, status := edit(w, method, path, body)
		if len(dry.Unmet) > 0 && status == 409 {
			if now := dump(); now != was {
				t.Fatalf("%s %s %s breaks an expectation, and yet something changed", method, path, body)
			}
			continue
		}
		if status != dryStatus || len(saved.Changes) != len(dry.Changes) {
			t.Fatalf("%s %s %s: %d with %d changes, on a dry run %d with %d", method, path, body, status, len(saved.Changes), dryStatus, len(dry.Changes))
		}
		now := dump()
		if status >= 300 || len(saved.Changes) == 0 {
			if now != was {
				t.Fatalf("%s %s %s: %d, and yet something changed", method, path, body, status)
			}
			continue
		}
		if _, err := document.ReadPolicy([]byte(now)); err != nil {
			t.Fatalf("after %s %s %s the policy is not sound: %v", method, path, body, err)
		}
		before, revisions = append(before, was), append(revisions, saved.Revision)
	}
	done := dump()
	for i := len(revisions) - 1; i >= 0; i-- {
		if _, status := edit(w, "POST", fmt.Sprintf("/api/v1/revisions/%d/undo", revisions[i]), ""); status >= 300 {
			t.Fatalf("revision %d cannot be taken back: %d", revisions[i], status)
		}
		if now := dump(); now != before[i] {
			t.Fatalf("with revision %d taken back the policy is not what it was before", revisions[i])
		}
	}
	// Several are taken back together: the taking back itself, which is all that was done; and all of it, which is nothing.
	last := get[wire.Session](w, "GET", "/api/v1/session", "").Revision
	together := func(from, to uint64) {
		t.Helper()
		var all []string
		for n := from; n <= to; n++ {
			all = append(all, fmt.Sprint(n))
		}
		random.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
		if status, _, body := w.ask("POST", "/api/v1/undo", w.token, `{"revisions":[`+strings.Join(all, ",")+`]}`); status != 200 {
			t.Fatalf("revisions %d to %d together: %d %s", from, to, status, body)
		}
	}
	together(revisions[len(revisions)-1]+1, last)
	if now := dump(); now != done {
		t.Error("with what took them back taken back the policy is not what the edits made of it")
	}
	together(revisions[0], last+1)
	if now := dump(); now != before[0] {
		t.Error("with everything taken back together the policy is not that of the beginning")
	}
	// Each revision can be asked of still, in any order: it is the document that it was.
	for _, i := range random.Perm(len(revisions)) {
		status, header, was := w.ask("GET", fmt.Sprintf("/api/v1/policy?as_of=%d", revisions[i]-1), w.token, "")
		if status != 200 || was != before[i] || !strings.HasPrefix(header.Get("ETag"), fmt.Sprintf(`"%d`, revisions[i]-1)) {
			t.Errorf("as of revision %d the policy is not what it was (%d, %s)", revisions[i]-1, status, header.Get("ETag"))
		}
	}
	if n, err := w.owner.Store().Verify(t.Context()); err != nil || n.Revisions != uint64(2*len(revisions)+3) {
		t.Errorf("%d revisions in the record (%v), want %d", n.Revisions, err, 2*len(revisions)+3)
	}
}

// TestListsAreTheSameInEveryFormat reads each list that the command line prints as a table, as JSON and as CSV.
func TestListsAreTheSameInEveryFormat(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	for _, line := range []string{
		"user list", "group list", "device list", "device-group list", "site list", "grant list", "role list", "right list", "kind list", "schedule list", "calendar list", "mandate list",
		"device list --where state=maintenance", "user list --where status=suspended", "find bridge", "token list",
		"reach user noor.haddad --at 2026-11-24T10:00:00Z", "reach device twin-bridge-north --degree now,later --at 2026-11-24T10:00:00Z", "reach group bridge-crew --right control --at 2026-11-24T10:00:00Z",
		"matrix --in-group bridge-crew --in-site twin-bridges --at 2026-11-24T10:00:00Z", "grant uses bridge-watch", "right uses control", "site uses border-arm",
		"check tomas.field control mill-bridge --at 2026-11-24T10:00:00Z",
	} {
		args := strings.Fields(line)
		printed := map[string]string{}
		for _, format := range []string{"table", "json", "csv"} {
			code, out, errOut := w.run(append(args, "--format", format)...)
			if code > 1 || strings.TrimSpace(out) == "" {
				t.Errorf("sentier %s --format %s: code %d\n%s%s", line, format, code, out, errOut)
			}
			printed[format] = out
		}
		var value any
		if err := json.Unmarshal([]byte(printed["json"]), &value); err != nil {
			t.Errorf("sentier %s --format json: %v\n%.300s", line, err, printed["json"])
		}
		rows, err := csv.NewReader(strings.NewReader(printed["csv"])).ReadAll()
		if err != nil || len(rows) < 2 {
			t.Errorf("sentier %s --format csv: %d rows (%v)\n%.300s", line, len(rows), err, printed["csv"])
			continue
		}
		if list, ok := value.([]any); ok && len(list) != len(rows)-1 {
			t.Errorf("sentier %s: %d rows of CSV, %d values of JSON", line, len(rows)-1, len(list))
		}
		for _, row := range rows[1:] { // whatever stands first in a row of the one stands in the others
			if !strings.Contains(printed["table"], row[0]) && args[0] != "matrix" && args[0] != "check" || !strings.Contains(printed["json"], row[0]) {
				t.Errorf("sentier %s: %q is in the CSV alone", line, row[0])
			}
		}
	}
}

// TestMetricsCountWhatIsAnswered reads the figures before and after some questions.
func TestMetricsCountWhatIsAnswered(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	figure := func(name string) (sum float64) { // of all lines that begin so
		t.Helper()
		_, _, text := w.ask("GET", "/metrics", w.token, "")
		for line := range strings.Lines(text) {
			if strings.HasPrefix(line, name) {
				var value float64
				if _, err := fmt.Sscan(line[strings.LastIndex(line, " ")+1:], &value); err != nil {
					t.Fatal(err)
				}
				sum += value
			}
		}
		return sum
	}
	question := `{"subject":{"type":"user","id":%q},"action":{"name":"control"},"resource":{"type":"device","id":"mill-bridge"},"context":{"time":"2026-11-24T10:00:00Z"}}`
	yes, no := fmt.Sprintf(question, "tomas.field"), fmt.Sprintf(question, "noor.haddad")
	for _, ask := range []struct{ path, body string }{
		{"/access/v1/evaluation", yes}, {"/access/v1/evaluation", no}, {"/access/v1/evaluation", no}, {"/access/v1/evaluations", `{"evaluations":[` + yes + `,` + no + `,` + yes + `]}`},
		{"/api/v1/check", `{"user":"tomas.field","right":"control","device":"mill-bridge","at":"2026-11-24T10:00:00Z"}`}, {"/access/v1/evaluation", "{"},
	} {
		w.ask("POST", ask.path, w.token, ask.body)
	}
	for name, want := range map[string]float64{
		`sentier_decisions_total{decision="allow"`: 4, `sentier_decisions_total{decision="deny"`: 3, "sentier_revision ": 1,
		`sentier_writes_total{of="policy"}`: 1,
		`sentier_http_request_seconds_count{method="POST",route="/access/v1/evaluation",status="200"}`: 3,
		`sentier_http_request_seconds_count{method="POST",route="/access/v1/evaluation",status="400"}`: 1,
	} {
		if got := figure(name); got != want {
			t.Errorf("%s is %v, want %v", name, got, want)
		}
	}
}
