package acceptance

import (
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"sentier/internal/wire"
)

// TestWhatMustHold: a change that would break an expectation is stopped whichever way it comes, with the first instant, whom and what; only whoever
// may do all makes it all the same, for a reason and of the expectation that they name; and what breaks nothing is held up by none.
func TestWhatMustHold(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	if p := get[wire.Proof](w, "GET", "/api/v1/proof", ""); len(p.Held) != 4 || len(p.Unmet) != 0 {
		t.Fatalf("at the beginning %+v hold, and not %+v", p.Held, p.Unmet)
	}
	// The apprentices are keepers by their group, and keepers may release: it is this deny that keeps the apprentices from it.
	dump := func() string { _, _, text := w.ask("GET", "/api/v1/policy?format=yaml", w.token, ""); return text }
	before := dump()
	at := strings.Index(before, "  - id: apprentices-no-release\n")
	end := at + strings.Index(before[at+1:], "  - id: ") + 1
	without := filepath.Join(t.TempDir(), "without.yaml")
	if err := os.WriteFile(without, []byte(before[:at]+before[end:]), 0o600); err != nil {
		t.Fatal(err)
	}
	for way, try := range map[string]func() (bool, string){
		"API": func() (bool, string) {
			status, _, body := w.ask("DELETE", "/api/v1/grants/apprentices-no-release", w.token, "")
			return status == 409, body
		},
		"terminal": func() (bool, string) {
			code, out, errOut := w.run("grant", "edit", "apprentices-no-release", "--enabled", "false")
			return code == 2, out + errOut
		},
		"document": func() (bool, string) {
			code, out, errOut := w.run("policy", "load", without, "--yes")
			return code == 2, out + errOut
		},
		"sheet": func() (bool, string) {
			status, _, body := w.ask("PUT", "/api/v1/sheets/members", w.token, "group,user\nduty-officers,night-backup\n", "Content-Type", "text/csv")
			return status == 409, body
		},
	} {
		stopped, told := try()
		if !stopped || !strings.Contains(told, "never") || !strings.Contains(told, "does not hold from") {
			t.Errorf("by %s it is stopped: %t, with\n%s", way, stopped, told)
		}
	}
	if after := dump(); after != before {
		t.Fatal("something was changed")
	}

	// Undo is stopped alike: the expectation came after what it forbids to take back.
	w.must("PATCH", "/api/v1/devices/mill-bridge", `{"name":"Mill lift bridge"}`)
	w.must("PUT", "/api/v1/user_groups/duty-officers/members/tomas.field", "")
	added := get[wire.Session](w, "GET", "/api/v1/session", "").Revision
	w.must("POST", "/api/v1/expectations", `{"name":"Tomas always sees the bridge","who":{"users":["tomas.field"]},"rights":["view"],"on":{"devices":["tunnel-pump-1"]},"expect":"always"}`)
	undo := `{"revisions":[` + number(added) + `]}`
	if status, _, body := w.ask("POST", "/api/v1/undo", w.token, undo); status != 409 || !strings.Contains(body, "Tomas always sees the bridge") {
		t.Errorf("undo: %d %s", status, body)
	}

	// On a dry run it is told, and the whole of it to whoever sees the whole.
	saved := get[wire.Saved](w, "POST", "/api/v1/undo?dry_run=true", undo)
	if len(saved.Unmet) != 1 || saved.Unmet[0].User.ID != "tomas.field" || saved.Unmet[0].Device.ID != "tunnel-pump-1" || saved.Unmet[0].Reason == "" {
		t.Errorf("the look says %+v", saved.Unmet)
	}
	over := func(names ...string) string { return "/api/v1/undo?" + url.Values{"override": names}.Encode() }
	for _, c := range []struct {
		path string
		want int
	}{{over("apprentices-never-release"), 409}, {over("tomas-always-sees-the-bridge"), 400}, {over("tomas-always-sees-the-bridge") + "&note=he%20has%20left", 200}} {
		if status, _, body := w.ask("POST", c.path, w.token, undo); status != c.want {
			t.Errorf("%s: %d %s", c.path, status, body)
		}
	}
	last := get[wire.Revisions](w, "GET", "/api/v1/revisions?limit=1", "").Items[0]
	if !strings.Contains(last.Note, "he has left; expectations overridden: Tomas always sees the bridge") {
		t.Errorf("the record says %q", last.Note)
	}
	// It does not hold now, which is told wherever they are proved, and holds up no other change.
	if code, out, _ := w.run("expect", "prove"); code != 1 || !strings.Contains(out, "tomas-always-sees-the-bridge") || !strings.Contains(out, "4 held, 1 failed") {
		t.Errorf("prove: %d\n%s", code, out)
	}
	w.must("PATCH", "/api/v1/devices/mill-bridge", `{"name":"Mill Bridge"}`)
	if code, out, _ := w.run("expect", "prove", "--as-of", "1"); code != 0 || !strings.Contains(out, "4 held, 0 failed") {
		t.Errorf("prove as of the beginning: %d\n%s", code, out)
	}

	// A delegate is stopped as well, told no more than that, and cannot override.
	w.must("POST", "/api/v1/expectations", `{"name":"A secret of the owners","who":{"users":["tomas.field"]},"rights":["control"],"on":{"sites":["alder-cut"]},"expect":"never"}`)
	marta := w.tokenFor("marta.solis")
	for more, want := range map[string]int{"": 409, "?override=a-secret-of-the-owners&note=because": 403} {
		status, _, body := w.ask("PUT", "/api/v1/user_groups/border-arm-staff/members/tomas.field"+more, marta, "")
		if status != want || strings.Contains(body, "secret of") {
			t.Errorf("a delegate who lets somebody in with %q: %d %s", more, status, body)
		}
	}
	// Where there is danger nothing waits: what does not hold meanwhile is told, and stays in the record.
	w.must("POST", "/api/v1/expectations", `{"name":"Somebody can always work the gates","who":{"everyone":true},"rights":["control"],"on":{"sites":["alder-cut"]},"expect":"someone"}`)
	if status, _, body := w.ask("PATCH", "/api/v1/devices/alder-gate-1", marta, `{"lockout":{"reason":"Divers below"}}`); status != 200 {
		t.Errorf("a delegate locks out: %d %s", status, body)
	}
	last = get[wire.Revisions](w, "GET", "/api/v1/revisions?limit=1", "").Items[0]
	if last.Note != "does not hold meanwhile: Somebody can always work the gates" {
		t.Errorf("the record says %q", last.Note)
	}
	if status, _, body := w.ask("GET", "/api/v1/expectations", marta, ""); status != 200 || !strings.Contains(body, `"items":[]`) {
		t.Errorf("a delegate lists %d %s", status, body)
	}
	if status, _, _ := w.ask("GET", "/api/v1/proof", marta, ""); status != 403 {
		t.Errorf("a delegate has them proved: %d", status)
	}
}

// number writes a number of JSON.
func number(n uint64) string { return strconv.FormatUint(n, 10) }
