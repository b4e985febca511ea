package acceptance

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"sentier/internal/demo"
	"sentier/internal/document"
	"sentier/internal/policy"
	"sentier/internal/wire"
)

// TestBuiltThroughTheCommandLine runs docs/examples/larkmere.sh, which makes the demo policy record by record.
func TestBuiltThroughTheCommandLine(t *testing.T) {
	t.Parallel()
	sentier, dir := binary(t), t.TempDir()
	init := exec.Command(sentier, "init", "--data", dir, "--owner", string(demo.Owner))
	init.Stdin = strings.NewReader(password + "\n")
	if out, err := init.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	p := launch(t, sentier, "serve", "--data", dir, "--listen", "127.0.0.1:0")
	w := &world{t: t, url: p.url}
	_, _, session := w.ask("POST", "/api/v1/session", "", `{"user": "ines.carvalho", "password": "`+password+`", "terminal": true}`)
	token := regexp.MustCompile(`sentier_[A-Za-z0-9_-]+`).FindString(session)
	script := exec.Command("bash", "../../docs/examples/larkmere.sh")
	script.Env = append(os.Environ(), "PATH="+filepath.Dir(sentier)+":"+os.Getenv("PATH"), "SENTIER_URL="+p.url, "SENTIER_TOKEN="+token)
	if out, err := script.CombinedOutput(); err != nil {
		lines := strings.Split(string(out), "\n")
		t.Fatalf("%v\n%s", err, strings.Join(lines[max(0, len(lines)-5):], "\n"))
	}
	if _, _, dumped := w.ask("GET", "/api/v1/policy", token, ""); dumped != string(demo.Document()) {
		t.Error("the policy that the script built is not the shipped one")
	}
}

// TestBuiltThroughTheAPI puts every record of the demo by itself.
func TestBuiltThroughTheAPI(t *testing.T) {
	t.Parallel()
	w := start(t, policy.Empty())
	p, err := demo.Policy()
	if err != nil {
		t.Fatal(err)
	}
	// Records that lie in others of their type come in when those are there.
	for waiting := p.Records().All(); len(waiting) > 0; {
		var later []policy.Record
		for _, r := range waiting {
			body, err := json.Marshal(r)
			if err != nil {
				t.Fatal(err)
			}
			path, method := "/api/v1/"+r.Type().String()+"/"+r.Key(), "PUT"
			if r.Type() == policy.SettingsType {
				path, method = "/api/v1/settings", "PATCH"
			}
			switch status, _, text := w.ask(method, path, w.token, string(body)); status {
			case 200:
			case 422:
				later = append(later, r)
			default:
				t.Fatalf("%s %s: %d %s", method, path, status, text)
			}
		}
		if len(later) == len(waiting) {
			t.Fatalf("%d records never came in, such as %s", len(later), later[0].Key())
		}
		waiting = later
	}
	if status, _, text := w.ask("DELETE", "/api/v1/mandates/owner-ines.carvalho", w.token, ""); status != 200 {
		t.Fatal(text)
	}
	if _, _, dumped := w.ask("GET", "/api/v1/policy", w.token, ""); dumped != string(demo.Document()) {
		t.Error("the policy that was put together is not the shipped one")
	}
}

// TestNothingIsLostBetweenEditors lets eight clients make two hundred edits to one group and twenty grants.
func TestNothingIsLostBetweenEditors(t *testing.T) {
	t.Parallel()
	w := start(t, withoutExpectations(t, nil))
	const clients, edits = 8, 25
	var wait sync.WaitGroup
	revisions := make(chan uint64, clients*edits)
	for c := range clients {
		wait.Add(1)
		go func() {
			defer wait.Done()
			for i := range edits {
				n := c*edits + i
				path, method, body := fmt.Sprintf("/api/v1/devices/mill-bridge/tags/tag-%d", n), "PUT", ""
				if i%2 == 0 {
					path, method, body = fmt.Sprintf("/api/v1/grants/g%d", n%20), "PATCH", fmt.Sprintf(`{"lines": null, "note": "%d"}`, n)
					if i < 20 && c == 0 {
						path, method, body = "/api/v1/grants/fresh-"+fmt.Sprint(i), "PUT", `{}`
					}
					path = strings.Replace(path, "/g"+fmt.Sprint(n%20), "/"+grants[n%20], 1)
				}
				saved, status := edit(w, method, path, body)
				if status != 200 {
					t.Errorf("%s %s: %d", method, path, status)
				}
				revisions <- saved.Revision
			}
		}()
	}
	wait.Wait()
	close(revisions)
	seen := map[uint64]bool{}
	for r := range revisions {
		if seen[r] {
			t.Errorf("revision %d was told twice", r)
		}
		seen[r] = true
	}
	if len(seen) != clients*edits || w.owner.Service.State().Revision.Number != clients*edits+1 {
		t.Errorf("%d edits made %d revisions, the last is %d", clients*edits, len(seen), w.owner.Service.State().Revision.Number)
	}
	d, _ := policy.Find[*policy.Device](w.owner.Service.State().Policy, "mill-bridge")
	if tags := clients * (edits / 2); len(d.Tags) != tags+2 {
		t.Errorf("%d tags were put and %d are there", tags, len(d.Tags)-2)
	}
	if n, err := w.owner.Store().Verify(t.Context()); err != nil || n.Revisions != clients*edits+1 {
		t.Errorf("%d revisions in the record, %v", n.Revisions, err)
	}
}

var grants = []string{"backup", "border-arm", "border-arm-bridges", "bridge-release", "bridge-watch", "control-room", "control-room-pumps", "duty",
	"duty-release", "instruments", "instruments-strong", "locks-north", "locks-release", "locks-south", "look-around", "night-bridges", "petra-tunnel", "sirens-quiet", "volunteers", "yard"}

func edit(w *world, method, path, body string) (wire.Saved, int) {
	req, err := http.NewRequest(method, w.url+path, strings.NewReader(body))
	if err == nil && method == "PATCH" {
		req.Header.Set("Content-Type", "application/merge-patch+json")
	}
	if err != nil {
		return wire.Saved{}, 0
	}
	req.Header.Set("Authorization", "Bearer "+w.token)
	resp, err := (&http.Client{Timeout: 20 * time.Second}).Do(req)
	if err != nil {
		return wire.Saved{}, 0
	}
	defer resp.Body.Close()
	var saved wire.Saved
	if json.NewDecoder(resp.Body).Decode(&saved) != nil {
		return saved, 0
	}
	return saved, resp.StatusCode
}

// TestEditing goes through what one edit can meet: entity tags, repetitions, references, copies, faults.
func TestEditing(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	_, header, _ := w.ask("GET", "/api/v1/devices/mill-bridge", w.token, "")
	tag := header.Get("ETag")
	for _, c := range []struct {
		what, method, path, body string
		headers                  []string
		status                   int
		want                     string
	}{
		{"a patch with the tag that was read", "PATCH", "/devices/mill-bridge", `{"state": "maintenance"}`, []string{"If-Match", tag}, 200, `"revision":2`},
		{"a second editor with the same tag", "PATCH", "/devices/mill-bridge", `{"state": "in-service"}`, []string{"If-Match", tag}, 412, `"current":{"id":"mill-bridge"`},
		{"a tag of what is not there", "PUT", "/devices/none", `{}`, []string{"If-Match", tag}, 412, "not there any more"},
		{"only where it is not there", "PUT", "/devices/mill-bridge", `{}`, []string{"If-None-Match", "*"}, 412, "has been changed"},
		{"a patch that takes a field away", "PATCH", "/devices/mill-bridge", `{"tags": null}`, nil, 200, `"dropped":["critical","moves"]`},
		{"a dry run", "PATCH", "/devices/mill-bridge?dry_run=true", `{"name": "Mill lift bridge"}`, nil, 200, `"saved":false,"revision":3`},
		{"what changes nothing", "PATCH", "/devices/mill-bridge", `{"state": "maintenance"}`, nil, 200, `"revision":3,"changes":[]`},
		{"a field that is not known", "PATCH", "/devices/mill-bridge", `{"colour": "red"}`, nil, 422, `"path":"colour"`},
		{"another id than the path's", "PUT", "/devices/mill-bridge", `{"id": "x"}`, nil, 400, "but the path says"},
		{"a record that is not there", "PATCH", "/devices/none", `{}`, nil, 404, "nothing here"},
		{"a new record, named", "POST", "/user_groups", `{"name": "Divers, estuary"}`, nil, 201, `"id":"divers-estuary"`},
		{"a name in use", "POST", "/user_groups", `{"name": "divers,  Estuary"}`, nil, 422, "is taken"},
		{"a name that looks like one in use", "POST", "/user_groups", `{"name": "Dіvers, estuary"}`, nil, 422, "looks like"},
		{"an e-mail in use", "POST", "/users", `{"id": "x", "email": "Tomas.Field@larkmere.example"}`, nil, 422, "one person has one account"},
		{"a name of a person that repeats", "POST", "/users", `{"name": "Tomas Field"}`, nil, 201, `"id":"tomas-field"`},
		{"a member for a time", "PUT", "/user_groups/divers-estuary/members/noor.haddad", `{"until": "2026-12-01T00:00:00Z"}`, nil, 200, "2026-12-01"},
		{"a member who is not there", "PUT", "/user_groups/divers-estuary/members/nor.haddad", ``, nil, 422, "did you mean"},
		{"a member goes", "DELETE", "/user_groups/divers-estuary/members/noor.haddad", ``, nil, 200, `"dropped"`},
		{"a point comes", "PUT", "/devices/mill-bridge/points/lamp", `{"name": "Lamp"}`, nil, 200, "Lamp"},
		{"a point that a grant names goes", "DELETE", "/devices/mill-bridge/points/barriers", ``, nil, 422, "grants/bridge-watch.lines[1].on.points[0]"},
		{"a site that is gone", "PATCH", "/devices/mill-bridge", `{"site": "mill-baisn"}`, nil, 422, `did you mean \"mill-basin\"`},
		{"a circle of sites", "PATCH", "/sites/larkmere", `{"parent": "mill-basin"}`, nil, 422, "closes a circle"},
		{"a window that cannot be read", "PATCH", "/schedules/night-watch", `{"windows": [{"from": "22", "to": "06:00"}]}`, nil, 422, `"path":"windows[0].from"`},
		{"a right in use goes", "DELETE", "/rights/release", ``, nil, 422, "remove it along"},
		{"what would go with it", "DELETE", "/rights/release?cascade=true&dry_run=true", ``, nil, 200, `"op":"removed","type":"grants","id":"duty-release"`},
		{"the last owner goes", "DELETE", "/users/ines.carvalho?cascade=true", ``, nil, 409, "ines.carvalho must stay"},
		{"many changes with one fault", "POST", "/changes", `{"changes": [{"op": "put", "type": "kinds", "id": "crane", "record": {}}, {"op": "put", "type": "devices", "id": "c", "record": {"kind": "crone"}}]}`, nil, 422, `did you mean \"crane\"`},
		{"of which none was made", "GET", "/kinds/crane", ``, nil, 404, ""},
		{"many changes", "POST", "/changes", `{"changes": [{"op": "put", "type": "kinds", "id": "crane", "record": {}}, {"op": "put", "type": "devices", "id": "c", "record": {"kind": "crane"}}]}`, []string{"Idempotency-Key", "k"}, 200, `"revision":9`},
		{"the same again", "POST", "/changes", `{"changes": [{"op": "put", "type": "kinds", "id": "crane", "record": {}}, {"op": "put", "type": "devices", "id": "c", "record": {"kind": "crane"}}]}`, []string{"Idempotency-Key", "k"}, 200, `"revision":9`},
		{"another with its key", "POST", "/changes", `{"changes": [{"op": "remove", "type": "devices", "id": "c"}]}`, []string{"Idempotency-Key", "k"}, 422, "stands for another request"},
		{"a copy of a colleague", "POST", "/changes", `{"changes": [{"op": "copy", "type": "users", "id": "tomas.field", "name": "Pia Rask", "with": ["groups"]}]}`, nil, 200, `{"op":"changed","type":"user_groups","id":"instrument-technicians"`},
		{"a copy of a group with all", "POST", "/changes", `{"changes": [{"op": "copy", "type": "user_groups", "id": "bridge-crew", "name": "Bridge crew, night", "with": ["members", "grants"]}]}`, nil, 200, `"id":"bridge-watch"`},
		{"patches one upon the other", "POST", "/changes", `{"changes": [{"op": "patch", "type": "devices", "id": "c", "record": {"name": "Crane"}}, {"op": "patch", "type": "devices", "id": "c", "record": {"site": "works-yard"}}]}`, nil, 200, `"name":"Crane"`},
		{"no change at all", "POST", "/changes", `{"changes": []}`, nil, 400, `"path":"changes"`},
		{"an operation that is none", "POST", "/changes", `{"changes": [{"op": "puff", "type": "kinds", "id": "x"}]}`, nil, 400, "is no operation"},
		{"the undo of what was changed since", "POST", "/revisions/9/undo", ``, nil, 409, "revision 12 has changed the device \\\"Crane\\\" since"},
		{"the undo of that", "POST", "/revisions/12/undo", ``, nil, 200, `"op":"changed","type":"devices","id":"c"`},
		{"the undo of an addition", "POST", "/revisions/9/undo", ``, nil, 200, `"op":"removed","type":"kinds","id":"crane"`},
		{"the undo of what others build on", "POST", "/revisions/10/undo", ``, nil, 422, "still mentions user"},
		{"the undo of an undo", "POST", "/revisions/14/undo", ``, nil, 200, `"op":"added","type":"kinds","id":"crane"`},
		{"the undo of a patch", "POST", "/revisions/3/undo?dry_run=true", ``, nil, 200, `"added":["critical","moves"]`},
		{"the undo of the beginning", "POST", "/revisions/1/undo", ``, nil, 400, "is the beginning"},
		{"a search", "GET", "/find?q=CRANE", ``, nil, 200, `"id":"crane"`},
	} {
		status, _, body := w.ask(c.method, "/api/v1"+c.path, w.token, c.body, c.headers...)
		if status != c.status || !strings.Contains(body, c.want) {
			t.Errorf("%s: %s %s %s: %d, want %d …%s…\n%s", c.what, c.method, c.path, c.body, status, c.status, c.want, body)
		}
	}
	for _, token := range []string{w.tokenFor("gateway-locks"), w.tokenFor("lena.marsh")} {
		if status, _, body := w.ask("PATCH", "/api/v1/devices/mill-bridge", token, `{"state": "retired"}`); status != 403 {
			t.Errorf("whoever is no owner may change records: %d %s", status, body)
		}
	}
}

// TestEvents follows the revisions, breaks off, and takes up where it was.
func TestEvents(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	gateway := w.tokenFor("gateway-locks")
	follow := func(last string, want ...string) {
		t.Helper()
		req, err := http.NewRequest("GET", w.url+"/api/v1/events", nil)
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+gateway)
		req.Header.Set("Last-Event-ID", last)
		resp, err := (&http.Client{Timeout: 10 * time.Second}).Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		got := ""
		buffer := make([]byte, 1<<16)
		for _, text := range want {
			for !strings.Contains(got, text) {
				n, err := resp.Body.Read(buffer)
				if err != nil {
					t.Fatalf("%v: waiting for %s after\n%s", err, text, got)
				}
				got += string(buffer[:n])
			}
		}
	}
	time.AfterFunc(100*time.Millisecond, func() { edit(w, "PATCH", "/api/v1/devices/mill-bridge", `{"state": "maintenance"}`) })
	follow("1", "id: 2\nevent: revision\n", `{"op":"patch","type":"devices","id":"mill-bridge","record":{"state":"maintenance"}}`)
	edit(w, "PUT", "/api/v1/kinds/crane", `{}`)
	edit(w, "DELETE", "/api/v1/kinds/crane", ``)
	follow("2", "id: 3\n", `{"op":"put","type":"kinds","id":"crane","record":{"id":"crane"}}`, "id: 4\n", `{"op":"remove","type":"kinds","id":"crane"}`)
	if status, _, _ := w.ask("GET", "/api/v1/events", w.tokenFor("night-backup"), ""); status != 403 {
		t.Errorf("a service without a mandate follows events: %d", status)
	}
}

func TestNounsOfTheCommandLine(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	for _, c := range []struct {
		stdin, line string
		code        int
		want        string
	}{
		{"", "device list --where state=maintenance", 0, "mill-pump-2"},
		{"", "user list --search lind --format csv", 0, "agnes.lindqvist,Agnes Lindqvist"},
		{"", "grant show bridge-watch", 0, "lines[1]"},
		{"", "group show bridge-crew", 0, "Mentioned by"},
		{"", "kind add --name Crane", 0, "Added kind crane, revision 2"},
		{"", "device add --name Yard-crane --kind crane --site works-yard --points hook=Hook", 0, "yard-crane"},
		{"", "device tag yard-crane mill-bridge --tag heavy,slow", 0, "tags +heavy +slow"},
		{"yard-crane\nmill-bridge\n", "device untag - --tag slow", 0, "−slow"},
		{"", "device lock-out yard-crane --reason Rope --until 2099-01-01T00:00:00Z", 0, "lockout"},
		{"", "device release-lock-out yard-crane --dry-run", 0, "Nothing was changed. This would change 1"},
		{"", "device move found-1 found-2 --site saltmarsh", 0, "site nothing → saltmarsh"},
		{"", "device-group add winter-list yard-crane", 0, "+yard-crane"},
		{"", "device-group drop winter-list yard-crane", 0, "−yard-crane"},
		{"", "user add --name Pia-Rask --email pia.rask@larkmere.example", 0, "pia-rask"},
		{"", "group add-member bridge-crew pia-rask --until 2026-12-31T00:00:00Z", 0, "2026-12-31"},
		{"", "user move pia-rask --to night-watch --from bridge-crew", 0, "−"},
		{"", "user end-date pia-rask --at 2026-12-31T00:00:00Z", 0, "valid"},
		{"", "user suspend pia-rask tomas.field", 0, "status active → suspended"},
		{"", "user reinstate pia-rask tomas.field", 0, "status suspended → active"},
		{"", "user suspend pia-rask nobody", 2, `there is no user "nobody"`},
		{"", "role rename bridge-watch Bridge-keeping", 0, "name Bridge watch → Bridge-keeping"},
		{"", "schedule add --name Spring --window 08:00-12:00 --season 03-01..05-31", 0, "spring"},
		{"", "schedule edit spring --season 03-01", 2, "write FROM..TO"},
		{"", "grant give --name Cranes --group night-watch --right control --device yard-crane --when spring --limit minutes=5", 0, "Added grant cranes"},
		{"", "grant give --grant cranes --user pia-rask --role look-only --site works-yard --if-attended true", 0, "to.users +pia-rask"},
		{"", "grant give --name X --group night-watch --right control", 2, "say where"},
		{"", "grant take cranes --user tomas.field", 2, "it is not given to"},
		{"", "grant take cranes --line 2", 0, "lines"},
		{"", "grant take cranes --group night-watch", 0, "to.groups −night-watch"},
		{"", "kind remove crane", 2, "still mentions kind"},
		{"", "device remove yard-crane --cascade", 0, "removed  grants   cranes"},
		{"", "kind copy crane", 2, "name the copy"},
		{"", "settings --zone Europe/Madrid", 0, "zone Europe/Lisbon → Europe/Madrid"},
		{"", "settings", 0, "Europe/Madrid"},
		{"", "find heavy", 0, "mill-bridge"},
		{"", "calendar show none", 2, "nothing here"},
		{`{"name": "Gantry"}`, "kind edit crane --json -", 0, "Gantry"},
	} {
		code, out, errOut := w.runAs(w.token, c.stdin, strings.Fields(c.line)...)
		if code != c.code || !strings.Contains(out+errOut, c.want) {
			t.Errorf("sentier %s: code %d, want %d …%s…\n%s%s", c.line, code, c.code, c.want, out, errOut)
		}
	}
}

func TestDumpOfEveryStepIsSound(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	for _, change := range []string{"users/tomas.field", "device_groups/water-works", "kinds/sluice", "schedules/navigation-winter", "sites/lower-pounds", "rights/release", "user_groups/apprentices", "calendars/closures"} {
		status, _, body := w.ask("DELETE", "/api/v1/"+change+"?cascade=true&accept_gains=true", w.token, "")
		if status != 200 {
			t.Fatalf("%s: %d %s", change, status, body)
		}
		_, _, dumped := w.ask("GET", "/api/v1/policy", w.token, "")
		if _, err := document.ReadPolicy([]byte(dumped)); err != nil {
			t.Errorf("after %s went along: %v", change, err)
		}
	}
}

// TestSheets brings CSV files in and out: a dry run first, then all or nothing.
func TestSheets(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	dir := t.TempDir()
	good := write(t, dir+"/good.csv", "name;email;groups\nPia Rask;pia.rask@larkmere.example;volunteers\nTomas Field;tomas.field@larkmere.example;\n")
	bad := write(t, dir+"/bad.csv", "name,email,status\nOle Bay,ole,activ\nPia Rask,agnes.lindqvist@larkmere.example,active\nEva Dun,agnes.lindqvist@larkmere.example,active\n")
	for _, c := range []struct {
		line string
		code int
		want string
	}{
		{"import users " + good, 2, "add --yes"},
		{"import users " + good + " --yes", 0, "revision 2"},
		{"import users " + good + " --yes", 0, "it is so already"},
		{"import users " + bad + " --yes", 2, `2    status  "activ" is not known: did you mean "active"?`},
		{"import grants " + good, 2, "is no sheet"},
		{"user show ole-bay", 2, "nothing here"},
		{"export members", 0, "volunteers,pia-rask,,"},
		{"export grants", 2, "nothing here"},
	} {
		code, out, errOut := w.run(strings.Fields(c.line)...)
		if code != c.code || !strings.Contains(out+errOut, c.want) {
			t.Errorf("sentier %s: code %d, want %d …%s…\n%s%s", c.line, code, c.code, c.want, out, errOut)
		}
	}
	if _, header, body := w.ask("GET", "/api/v1/sheets/users", w.token, ""); !strings.HasPrefix(header.Get("Content-Type"), "text/csv") || !strings.HasPrefix(body, "id,name,email") {
		t.Errorf("%v\n%.100s", header, body)
	}
	if status, _, body := w.ask("PUT", "/api/v1/sheets/users", w.tokenFor("lena.marsh"), "name\nx\n"); status != 403 {
		t.Errorf("an auditor brought people in: %d %s", status, body)
	}
}
