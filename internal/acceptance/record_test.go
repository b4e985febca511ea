package acceptance

import (
	"bufio"
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"sentier/internal/audit"
	"sentier/internal/database"
	"sentier/internal/wire"
)

// entries lists the entries of the record for a query, oldest first.
func (w *world) entries(query string) []wire.AuditEntry {
	w.t.Helper()
	list := get[wire.AuditPage](w, "GET", "/api/v1/audit?limit=1000&"+query, "").Items
	slices.Reverse(list)
	return list
}

// texts are entries in words, each with who did it.
func texts(list []wire.AuditEntry) string {
	var out strings.Builder
	for _, e := range list {
		by := ""
		if e.By != nil {
			by = e.By.ID
		}
		if e.Token != nil && e.Token.By != "" {
			by += " by a token of " + e.Token.By
		}
		fmt.Fprintf(&out, "%s %s: %s\n", e.Kind, by, e.Text)
	}
	return out.String()
}

// TestEverythingIsOnRecord does what people do, and reads what the record says of it: who, whom, what, from where, by what, why.
func TestEverythingIsOnRecord(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	ctx := context.Background()
	if err := w.owner.Service.SetPassword(ctx, "greta.holm", password); err != nil {
		t.Fatal(err)
	}
	begun := w.entries("")[len(w.entries(""))-1].Entry
	since := func() []wire.AuditEntry {
		return slices.DeleteFunc(w.entries(""), func(e wire.AuditEntry) bool { return e.Entry <= begun })
	}

	panel := w.tokenFor("gateway-bridges") // made by the owner for a service
	question := `{"subject":{"type":"user","id":"tomas.field"},"action":{"name":"control"},"resource":{"type":"point","id":"twin-bridge-north/deck"},"context":{"ip":"10.20.3.4","attended":true}}`
	if status, _, body := w.ask("POST", "/access/v1/evaluation", panel, question); status != 200 {
		t.Fatal(body)
	}
	many := `{"subject":{"type":"user","id":"noor.haddad"},"action":{"name":"view"},"evaluations":[{"resource":{"type":"device","id":"mill-bridge"}},{"resource":{"type":"device","id":"no-such"}},{"resource":{"type":"device","id":7}}]}`
	if status, _, body := w.ask("POST", "/access/v1/evaluations", panel, many); status != 200 {
		t.Fatal(body)
	}
	w.must("POST", "/api/v1/check", `{"user":"tomas.field","right":"control","device":"mill-bridge","at":"2026-12-24T10:00:00Z"}`)
	w.must("GET", "/api/v1/reach/users/tomas.field", "")
	w.must("GET", "/api/v1/seen/irene.castro", "")
	w.must("PATCH", "/api/v1/users/tomas.field?note=moved%20to%20instruments", `{"email":"tomas@larkmere.example"}`)
	w.must("DELETE", "/api/v1/user_groups/bridge-crew/members/tomas.field", "")
	_, greta, _ := w.enter("greta.holm", "")
	if status, _, _ := w.ask("POST", "/api/v1/session", "", `{"user":"greta.holm","password":"not the password"}`); status != 401 {
		t.Error("a wrong password is taken")
	}
	if status, _, _ := w.ask("POST", "/api/v1/session", "", `{"user":"my password in the wrong field","password":"greta.holm"}`); status != 401 {
		t.Error("an unknown user is taken")
	}
	for range 5 {
		w.ask("GET", "/api/v1/policy", greta.Token, "")
	}
	w.ask("DELETE", "/api/v1/session", greta.Token, "")
	w.must("POST", "/api/v1/users/irene.castro/invitation", "")
	w.must("DELETE", "/api/v1/users/greta.holm/sessions", "")
	w.must("GET", "/api/v1/audit/export", "")

	got := texts(since())
	for _, want := range []string{
		"token ines.carvalho: Made the token “test” for ", // that of the panel
		"decision gateway-bridges by a token of ines.carvalho: May Tomas Field have Control on Twin bridge north / Deck? ",
		"decision gateway-bridges by a token of ines.carvalho: May Noor Haddad have View on Mill bridge? ",
		"decision gateway-bridges by a token of ines.carvalho: May Noor Haddad have View on no-such? no, there is no such device",
		"question ines.carvalho: Asked: may Tomas Field have Control on Mill bridge? ",
		"question ines.carvalho: Looked up what Tomas Field reaches",
		"look ines.carvalho: Looked at the service as Irene Castro sees it",
		"change ines.carvalho: Revision 2: Tomas Field changed — “moved to instruments”",
		"change ines.carvalho: Revision 3: Bridge crew changed",
		"sign_in greta.holm: Signed in by a password",
		"sign_in greta.holm: Sign-in refused: the password does not go with the user",
		"sign_in : Sign-in refused: the password does not go with the user", // what was typed may be a password
		"refusal greta.holm: Refused: “The whole policy as a document”. It needs a mandate of the role owner or auditor",
		"sign_out greta.holm: Ended one session of Greta Holm",
		"link ines.carvalho: Made a link by which Irene Castro sets a password",
		"sign_out ines.carvalho: Ended all sessions of Greta Holm",
		"export ines.carvalho: Took a copy of the record",
	} {
		if !strings.Contains(got, want) {
			t.Errorf("not on record: %s", want)
		}
	}
	if strings.Contains(got, "wrong field") || strings.Contains(got, password) {
		t.Error("what was typed for a name is on record")
	}
	if n := strings.Count(got, "refusal greta.holm"); n != 1 {
		t.Errorf("five refusals of one thing in a moment are %d entries", n)
	}
	if n := strings.Count(got, "decision "); n != 3 {
		t.Errorf("%d decisions are on record, of three that were made", n)
	}
	if t.Failed() {
		t.Log(got)
	}

	// The circumstances, and where it came from.
	first := w.entries("kind=decision")[0]
	var more struct {
		IP       string
		Attended *bool
	}
	if err := json.Unmarshal(first.More, &more); err != nil || more.IP != "10.20.3.4" || more.Attended == nil || !*more.Attended || first.From != "127.0.0.1" || first.Revision != 1 {
		t.Errorf("a decision says %s from %q by revision %d (%v)", first.More, first.From, first.Revision, err)
	}
	// What is looked for.
	for query, want := range map[string]int{
		"kind=change": 3, "kind=decision&outcome=not_granted": 2, "outcome=not_granted": 2, "of=greta.holm&kind=sign_out": 2, "by=greta.holm&kind=sign_in&outcome=refused": 1,
		"device=twin-bridge-north": 1, "device=twin-bridge-north/deck": 1, "device=twin-bridge-north/signals": 0, "user=noor.haddad": 2, "kind=decision&right=view": 2,
		"until=2020-01-01": 0, "kind=change&since=2020-01-01": 3, "kind=decision&token=" + first.Token.ID: 3, "from=10.9.9.9": 0,
	} {
		if got := len(w.entries(query)); got != want {
			t.Errorf("%s: %d entries, want %d", query, got, want)
		}
	}
	for query, want := range map[string]string{"kind=nothing": "no kind of entry", "since=x": "since", "limit=0": "no number", "limit=5000": "out of range", "cursor=x": "was not given for this question", "format=xml": "is no form"} {
		path := "/api/v1/audit?"
		if strings.HasPrefix(query, "format") {
			path = "/api/v1/audit/export?"
		}
		if status, _, body := w.ask("GET", path+query, w.token, ""); status != 400 || !strings.Contains(body, want) {
			t.Errorf("%s: %d %s", query, status, body)
		}
	}
	// What a revision did, with the way back.
	shown := get[wire.RevisionShown](w, "GET", "/api/v1/revisions/2", "")
	if len(shown.Changes) != 1 || shown.Changes[0].Fields[0].Field != "email" || shown.Note != "moved to instruments" || shown.By.ID != "ines.carvalho" {
		t.Errorf("revision 2: %+v", shown)
	}
	if status, _, _ := w.ask("GET", "/api/v1/revisions/99", w.token, ""); status != 404 {
		t.Errorf("a revision that is not there: %d", status)
	}
	if status, _, body := w.ask("POST", "/api/v1/revisions/2/undo?note=by%20mistake", w.token, ""); status != 200 {
		t.Error(body)
	}
	if list := w.entries("kind=change"); !strings.HasSuffix(list[len(list)-1].Text, "— “undo of revision 2: by mistake”") {
		t.Error(list[len(list)-1].Text)
	}
}

// TestTheRecordIsTakenOut as lines, as a sheet and as it comes; each is the same record, whole.
func TestTheRecordIsTakenOut(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	w.must("PATCH", "/api/v1/users/tomas.field?note="+`=cmd()`, `{"email":"tomas@larkmere.example"}`)
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	req, err := http.NewRequestWithContext(ctx, "GET", w.url+"/api/v1/audit/follow?kind=decision&kind=change", nil)
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+w.token)
	req.Header.Set("Last-Event-ID", "1")
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	follow := bufio.NewScanner(resp.Body)
	next := func() (e wire.AuditEntry) {
		for follow.Scan() {
			if data, ok := strings.CutPrefix(follow.Text(), "data: "); ok {
				if err := json.Unmarshal([]byte(data), &e); err != nil {
					t.Fatal(err)
				}
				return e
			}
		}
		t.Fatalf("the stream ended: %v", follow.Err())
		return e
	}
	if e := next(); e.Kind != "change" || e.Revision != 1 {
		t.Errorf("the first that is followed is %+v", e)
	}
	if e := next(); e.Revision != 2 {
		t.Errorf("the second that is followed is %+v", e)
	}
	w.must("POST", "/access/v1/evaluation", `{"subject":{"type":"user","id":"tomas.field"},"action":{"name":"view"},"resource":{"type":"device","id":"mill-bridge"}}`)
	if e := next(); e.Kind != "decision" || e.User.ID != "tomas.field" {
		t.Errorf("what comes while it is followed is %+v", e)
	}

	_, _, lines := w.ask("GET", "/api/v1/audit/export", w.token, "")
	_, _, sheet := w.ask("GET", "/api/v1/audit/export?format=csv", w.token, "")
	rows, err := csv.NewReader(strings.NewReader(sheet)).ReadAll()
	if err != nil || !slices.Equal(rows[0], audit.Columns) {
		t.Fatalf("%v %v", rows[:1], err)
	}
	listed := w.entries("")
	for i, line := range strings.Split(strings.TrimSpace(lines), "\n") {
		var e struct {
			Entry uint64
			Kind  string
			Chain string
		}
		if err := json.Unmarshal([]byte(line), &e); err != nil {
			t.Fatal(err)
		}
		row := rows[i+1]
		if e.Entry != uint64(i+1) || e.Chain != listed[i].Chain || row[0] != fmt.Sprint(e.Entry) || row[2] != e.Kind || row[14] != e.Chain {
			t.Errorf("entry %d: %s\n%v", i+1, line, row)
		}
		for _, cell := range row {
			if strings.HasPrefix(cell, "=") {
				t.Errorf("a spreadsheet takes %q for a formula", cell)
			}
		}
	}
	if _, _, few := w.ask("GET", "/api/v1/audit/export?kind=decision", w.token, ""); strings.Count(few, "\n") != 1 {
		t.Errorf("of one decision: %s", few)
	}
}

// TestWhatIsKeptIsASetting: decisions by right and site, a reason with every change, sessions that nobody uses; the setting is on record itself.
func TestWhatIsKeptIsASetting(t *testing.T) {
	t.Parallel()
	w, forward := shifted(t)
	ask := func(right, device string) {
		w.must("POST", "/access/v1/evaluation", fmt.Sprintf(`{"subject":{"type":"user","id":"tomas.field"},"action":{"name":%q},"resource":{"type":"device","id":%q}}`, right, device))
	}
	kept := func(settings string, questions ...string) int {
		w.must("PATCH", "/api/v1/service", settings)
		before := len(w.entries("kind=decision"))
		for _, q := range questions {
			right, device, _ := strings.Cut(q, " ")
			ask(right, device)
		}
		return len(w.entries("kind=decision")) - before
	}
	asked := []string{"view mill-bridge", "control mill-bridge", "view estuary-gate-1", "release alder-gate-1"} // of which some are denied
	for settings, want := range map[string]int{
		`{"decisions":"all","decisions_of":[]}`:                                     4,
		`{"decisions":"none","decisions_of":[]}`:                                    0,
		`{"decisions":"control_and_denials","decisions_of":[]}`:                     3,
		`{"decisions":"none","decisions_of":[{"right":"control","keep":"all"}]}`:    1,
		`{"decisions":"all","decisions_of":[{"site":"tidal-reach","keep":"none"}]}`: 3,
		`{"decisions":"all","decisions_of":[{"right":"view","site":"lower-pounds","keep":"none"},{"keep":"none","right":"view"}],"session_hours":12}`: 2,
	} {
		if got := kept(settings, asked...); got != want {
			t.Errorf("with %s, %d of four decisions are kept, want %d", settings, got, want)
		}
	}
	// What an owner asks about somebody is kept whatever is set.
	before := len(w.entries("kind=question"))
	w.must("PATCH", "/api/v1/service", `{"decisions":"none","reason_required":true,"idle_minutes":30,"session_hours":2}`)
	w.must("POST", "/api/v1/check", `{"user":"tomas.field","right":"view","device":"mill-bridge"}`)
	if got := len(w.entries("kind=question")); got != before+1 {
		t.Errorf("%d questions, want %d", got, before+1)
	}
	list := w.entries("kind=setting")
	if last := list[len(list)-1].Text; !strings.Contains(last, "reason_required false → true") || !strings.Contains(last, "session_hours 12 → 2") {
		t.Error(last)
	}
	for body, want := range map[string]string{
		`{"decisions":"some","session_hours":12}`: "is not known", `{"decisions":"all","session_hours":0}`: "out of range", `{"decisions":"all","session_hours":12,"keep_days":-1}`: "out of range",
		`{"decisions":"all","session_hours":12,"decisions_of":[{"keep":"all"}]}`: "neither a right nor a site", `{"decisions":"all","session_hours":12,"decisions_of":[{"right":"no-such","keep":"all"}]}`: "there is no right",
		`{"decisions":"all","session_hours":12,"decisions_of":[{"site":"no-such","keep":"all"}]}`: "there is no site", `{"decisions":"all","session_hours":12,"decisions_of":[{"site":"larkmere","keep":"x"}]}`: "is not known",
	} {
		if status, _, text := w.ask("PATCH", "/api/v1/service", w.token, body); status != 400 || !strings.Contains(text, want) {
			t.Errorf("%s: %d %s", body, status, text)
		}
	}

	// A change needs a reason, whoever makes it and however; a look at what it would do needs none.
	if status, _, text := w.ask("PATCH", "/api/v1/users/tomas.field", w.token, `{"email":"t@larkmere.example"}`); status != 400 || !strings.Contains(text, "asks for a reason with every change") {
		t.Errorf("without a reason: %d %s", status, text)
	}
	w.must("PATCH", "/api/v1/users/tomas.field?dry_run=true", `{"email":"t@larkmere.example"}`)
	w.must("PATCH", "/api/v1/users/tomas.field?note=a%20new%20address", `{"email":"t@larkmere.example"}`)

	// A session that nobody uses ends, one that is used goes on to its end, and a token is no session.
	if err := w.owner.Service.SetPassword(context.Background(), "greta.holm", password); err != nil {
		t.Fatal(err)
	}
	_, used, _ := w.enter("greta.holm", "")
	_, left, _ := w.enter("greta.holm", "")
	holds := func(s wire.Session) bool { return first(w.ask("GET", "/api/v1/session", s.Token, "")) == 200 }
	for range 3 {
		forward(20 * time.Minute)
		if !holds(used) {
			t.Fatal("a session that is used has ended")
		}
	}
	if holds(left) {
		t.Error("a session that nobody used for an hour holds")
	}
	if n := len(get[[]wire.OwnSession](&world{t: t, url: w.url, token: used.Token}, "GET", "/api/v1/sessions", "")); n != 1 {
		t.Errorf("%d sessions are told, one holds", n)
	}
	forward(3 * time.Hour)
	w.must("GET", "/api/v1/session", "")
}

// TestVerifyFindsWhatWasDoneToTheRecord through the service, the terminal and a checkpoint that was kept elsewhere; and a start refuses a record
// whose end is gone.
func TestVerifyFindsWhatWasDoneToTheRecord(t *testing.T) {
	t.Parallel()
	sentier, dir := binary(t), t.TempDir()
	token := begin(t, sentier, dir)
	elsewhere := filepath.Join(t.TempDir(), "checkpoints.jsonl")
	serve := func() (*process, *world) {
		p := launch(t, sentier, "serve", "--data", dir, "--listen", "127.0.0.1:0", "--checkpoints", elsewhere)
		return p, &world{t: t, url: p.url, token: token}
	}
	end := func(p *process) {
		if err := p.end(syscall.SIGTERM); err != nil {
			t.Fatal(err)
		}
	}
	p, w := serve()
	w.must("POST", "/api/v1/users", `{"id":"newcomer","name":"Newcomer"}`)
	key := get[wire.AuditKey](w, "GET", "/api/v1/audit/key", "")
	code, line, errOut := w.run("audit", "checkpoint")
	kept := write(t, filepath.Join(t.TempDir(), "kept.jsonl"), line)
	if code != 0 || !strings.Contains(line, `"format":"sentier-checkpoint/1"`) {
		t.Fatalf("a checkpoint: %d %s%s", code, line, errOut)
	}
	encoded, err := json.Marshal(key.Key)
	if err != nil {
		t.Fatal(err)
	}
	text := strings.Trim(string(encoded), `"`)
	for _, args := range [][]string{{"audit", "verify"}, {"audit", "verify", "--against", kept}, {"audit", "verify", "--against", elsewhere}, {"audit", "verify", "--key", text}, {"verify"}} {
		if code, out, errOut := w.run(args...); code != 0 || !strings.Contains(out, "true") {
			t.Errorf("sentier %v: %d %s%s", args, code, out, errOut)
		}
	}
	if code, _, errOut := w.run("audit", "verify", "--key", strings.Repeat("A", 43)+"="); code != 1 || !strings.Contains(errOut, "signed by another key than the one given") {
		t.Errorf("another key: %d %s", code, errOut)
	}
	end(p)

	// An entry changed while no service runs: the folder, a backup of before, and the service say so.
	change := func(sql string) {
		t.Helper()
		db, err := database.Open(filepath.Join(dir, audit.FileName), database.ToWrite, 1)
		if err != nil {
			t.Fatal(err)
		}
		if err := db.Exec(sql).Error; err != nil {
			t.Fatal(err)
		}
		if err := database.Close(db); err != nil {
			t.Fatal(err)
		}
	}
	change("UPDATE audit_blocks SET body = replace(body, 'made', 'done') WHERE first = 1")
	for _, args := range [][]string{{"audit", "verify", "--data", dir}, {"verify", "--data", dir}} {
		if code, out, errOut := runCLI(t, "", args...); code != 1 || !strings.Contains(errOut, "entry 1 of the record is not as it was written") {
			t.Errorf("sentier %v: %d %s%s", args, code, out, errOut)
		}
	}
	p, w = serve()
	if code, _, errOut := w.run("audit", "verify"); code != 1 || !strings.Contains(errOut, "entry 1 of the record") {
		t.Errorf("the service: %d %s", code, errOut)
	}
	end(p)

	// The end cut: a start says so, and what to do; without the mark only the checkpoint tells.
	change("DELETE FROM audit_blocks WHERE first > 1")
	if code, _, errOut := runCLI(t, "", "serve", "--data", dir, "--listen", "127.0.0.1:0"); code != 2 || !strings.Contains(errOut, "the record ends at entry ") {
		t.Errorf("a start: %d %s", code, errOut)
	}
	if err := os.Remove(filepath.Join(dir, audit.HeadName)); err != nil {
		t.Fatal(err)
	}
	change("UPDATE audit_blocks SET body = replace(body, 'done', 'made') WHERE first = 1") // as it was
	change("DELETE FROM audit_checkpoints WHERE seq > 1")
	if code, _, errOut := runCLI(t, "", "audit", "verify", "--data", dir, "--against", kept); code != 1 || !strings.Contains(errOut, "is missing: a checkpoint of") {
		t.Errorf("with the checkpoint: %d %s", code, errOut)
	}

	// The files moved away: nothing is answered until whoever holds them has said that a new record may begin.
	for _, name := range []string{audit.FileName, audit.FileName + "-wal", audit.FileName + "-shm"} {
		if err := os.Remove(filepath.Join(dir, name)); err != nil && !os.IsNotExist(err) {
			t.Fatal(err)
		}
	}
	if code, _, errOut := runCLI(t, "", "serve", "--data", dir, "--listen", "127.0.0.1:0"); code != 2 || !strings.Contains(errOut, "sentier recover") {
		t.Errorf("a start: %d %s", code, errOut)
	}
	if code, _, errOut := runCLI(t, "", "recover", "--data", dir, "--reason", "the disk is gone"); code != 0 {
		t.Fatalf("accepted: %d %s", code, errOut)
	}
	p, w = serve()
	if list := w.entries("kind=service"); len(list) == 0 || !strings.Contains(string(list[0].More), "the disk is gone") {
		t.Errorf("a new record begins with %s", texts(list))
	}
	end(p)
}

// TestWhatWasAnsweredIsOnRecord: the service is killed while it decides and is edited, and restored from a backup that was made under load.
func TestWhatWasAnsweredIsOnRecord(t *testing.T) {
	t.Parallel()
	sentier, dir := binary(t), t.TempDir()
	token := begin(t, sentier, dir)
	p := launch(t, sentier, "serve", "--data", dir, "--listen", "127.0.0.1:0")
	w := &world{t: t, url: p.url, token: token}
	for round := range 3 {
		type told struct{ decisions, edits int }
		done, stop := make(chan told), make(chan struct{})
		before := len(w.entries("kind=change"))
		decided := countLines(w, "kind=decision")
		for n := range 4 {
			go func() {
				var out told
				defer func() { done <- out }()
				client := &http.Client{}
				for i := 0; ; i++ {
					select {
					case <-stop:
						return
					default:
					}
					path, body := "/access/v1/evaluation", `{"subject":{"type":"user","id":"ines.carvalho"},"action":{"name":"view"},"resource":{"type":"device","id":"none"}}`
					if edit := n == 0; edit {
						path, body = "/api/v1/users", fmt.Sprintf(`{"id":"newcomer.%d.%d","name":"Newcomer"}`, round, i)
					}
					req, err := http.NewRequest("POST", w.url+path, strings.NewReader(body))
					if err != nil {
						return
					}
					req.Header.Set("Authorization", "Bearer "+token)
					req.Header.Set("Content-Type", "application/json")
					resp, err := client.Do(req)
					if err != nil {
						return
					}
					resp.Body.Close()
					switch {
					case n == 0 && resp.StatusCode == 201:
						out.edits++
					case n > 0 && resp.StatusCode == 200:
						out.decisions++
					}
				}
			}()
		}
		time.Sleep(400 * time.Millisecond)
		file := filepath.Join(t.TempDir(), fmt.Sprintf("backup-%d.db", round))
		if round == 2 {
			if code, out, errOut := w.run("backup", file); code != 0 {
				t.Errorf("a backup under load: %d %s%s", code, out, errOut)
			}
		}
		if err := p.end(syscall.SIGKILL); err == nil {
			t.Log("the service ended by itself")
		}
		close(stop)
		var all told
		for range 4 {
			one := <-done
			all.decisions, all.edits = all.decisions+one.decisions, all.edits+one.edits
		}
		p = launch(t, sentier, "serve", "--data", dir, "--listen", "127.0.0.1:0")
		w.url = p.url
		if got := countLines(w, "kind=decision") - decided; got < all.decisions || all.decisions == 0 {
			t.Errorf("%d decisions were answered, %d are on record", all.decisions, got)
		}
		if got := len(w.entries("kind=change")) - before; got < all.edits || all.edits == 0 {
			t.Errorf("%d edits were answered, %d are on record", all.edits, got)
		}
		if code, out, errOut := w.run("verify"); code != 0 {
			t.Errorf("after the kill: %d %s%s", code, out, errOut)
		}
		if round == 2 {
			restoredElsewhere(t, w, sentier, file)
		}
	}
	if err := p.end(syscall.SIGTERM); err != nil {
		t.Error(err)
	}
}

func countLines(w *world, query string) int {
	w.t.Helper()
	_, _, text := w.ask("GET", "/api/v1/audit/export?"+query, w.token, "")
	return strings.Count(text, "\n")
}

// restoredElsewhere puts a backup into another folder: there the record is that of before, entry by entry, and goes on with the revisions that
// were made while the backup was.
func restoredElsewhere(t *testing.T, w *world, sentier, file string) {
	t.Helper()
	into := filepath.Join(t.TempDir(), "restored")
	if code, out, errOut := runCLI(t, "", "restore", file, "--data", into); code != 0 {
		t.Fatalf("restore: %d %s%s", code, out, errOut)
	}
	p := launch(t, sentier, "serve", "--data", into, "--listen", "127.0.0.1:0")
	other := &world{t: t, url: p.url, token: w.token}
	_, _, ours := w.ask("GET", "/api/v1/audit/export", w.token, "")
	_, _, theirs := other.ask("GET", "/api/v1/audit/export", w.token, "")
	here, there := strings.Split(ours, "\n"), strings.Split(theirs, "\n")
	same := 0
	for same < min(len(here), len(there)) && here[same] == there[same] {
		same++
	}
	rest := strings.Join(there[same:], "\n")
	if same < 20 || strings.Contains(rest, `"kind":"decision"`) {
		t.Errorf("%d entries are the same, then come:\n%s", same, rest)
	}
	last := get[wire.AuditPage](other, "GET", "/api/v1/audit?kind=change&limit=1", "").Items[0]
	if who := get[wire.Session](other, "GET", "/api/v1/session", ""); last.Revision != who.Revision {
		t.Errorf("the restored policy is at revision %d, its record at %d", who.Revision, last.Revision)
	}
	if err := p.end(syscall.SIGTERM); err != nil {
		t.Error(err)
	}
}

// TestNoRoomForTheRecord: on a full disk no decision is answered that could not be kept, and what was answered is on record.
func TestNoRoomForTheRecord(t *testing.T) {
	t.Parallel()
	w, p, dir, _, _ := withFullDisk(t, func(*world) {})
	question := `{"subject":{"type":"user","id":"ines.carvalho"},"action":{"name":"view"},"resource":{"type":"device","id":"none"}}`
	answered, refused := 0, 0
	for range 20_000 {
		status, _, body := w.ask("POST", "/access/v1/evaluation", w.token, question)
		if status == 200 {
			answered++
			continue
		}
		if refused++; status != 507 || !strings.Contains(body, "no room") {
			t.Fatalf("%d %s", status, body)
		}
		break
	}
	if refused == 0 {
		t.Skip("the disk is not full for the record")
	}
	if err := p.end(syscall.SIGKILL); err == nil {
		t.Log("the service ended by itself")
	}
	found, err := audit.There(dir, "sentier.db")
	if err != nil {
		t.Fatal(err)
	}
	defer found.Close()
	kept := 0
	if err := found.Each(context.Background(), audit.Filter{Kinds: []audit.Kind{audit.Decision}}, func(*audit.Entry) error { kept++; return nil }); err != nil || kept < answered {
		t.Errorf("%d decisions were answered, %d are on record (%v)", answered, kept, err)
	}
	if _, err := found.Verify(context.Background(), audit.Against{}); err != nil {
		t.Error(err)
	}
}
