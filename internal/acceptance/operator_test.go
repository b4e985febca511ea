package acceptance

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"

	"sentier/internal/wire"
)

// TestBackupVerifyRestore goes the way of an operator: a backup beside the running service, what is wrong with a damaged copy, and a folder
// that is put back.
func TestBackupVerifyRestore(t *testing.T) {
	t.Parallel()
	sentier, dir := binary(t), t.TempDir()
	token := begin(t, sentier, dir)
	p := launch(t, sentier, "serve", "--data", dir, "--listen", "127.0.0.1:0")
	w := &world{t: t, url: p.url, token: token}
	if revision, text := load(p.url, token, 1); revision != 2 {
		t.Fatalf("a change: %s", text)
	}
	out := filepath.Join(t.TempDir(), "copies")
	if err := os.Mkdir(out, 0o700); err != nil {
		t.Fatal(err)
	}
	file, into := filepath.Join(out, "copy.db"), filepath.Join(out, "restored")
	flipped := filepath.Join(out, "flipped.db")
	step := func(line string, code int, want string) {
		t.Helper()
		got, text, errText := w.run(strings.Fields(line)...)
		if got != code || !strings.Contains(text+errText, want) {
			t.Errorf("sentier %s: code %d\n%s%swant %d …%s…", line, got, text, errText, code, want)
		}
	}
	step("verify", 0, "true")
	step("verify --format json", 0, `"whole": true`)
	step("backup "+file, 0, "true")
	step("backup "+file, 2, "is there already")
	if code, _, errText := w.runAs(w.tokenFor("lena.marsh"), "", "backup", filepath.Join(out, "auditor.db")); code == 0 || !strings.Contains(errText, "owner") {
		t.Errorf("an auditor's backup: code %d %s", code, errText)
	}
	if left, err := filepath.Glob(out + "/auditor*"); err != nil || len(left) > 0 {
		t.Errorf("a backup that was refused leaves %v", left)
	}
	if info, err := os.Stat(file); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the backup is open to others: %v %v", info.Mode(), err)
	}
	step("verify "+file, 0, "true")
	step("verify "+file+" --data "+dir, 2, "not both")
	data, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	at := strings.Index(string(data), "Bridge crew 1")
	if at < 0 {
		t.Fatal("the backup has not what was changed")
	}
	data[at] ^= 1
	write(t, flipped, string(data))
	step("verify "+flipped, 1, "Wrong:")
	step("restore "+flipped+" --data "+filepath.Join(out, "not"), 1, "Wrong:")
	step("restore "+file+" --data "+into, 0, "Restored up to revision 2")
	step("restore "+file+" --data "+into, 2, "")
	step("restore "+filepath.Join(out, "none.db")+" --data "+filepath.Join(out, "other"), 2, "none.db")
	step("verify --data "+into, 0, "true")
	if err := p.end(syscall.SIGTERM); err != nil {
		t.Errorf("SIGTERM: %v", err)
	}
	again := launch(t, sentier, "serve", "--data", into, "--listen", "127.0.0.1:0")
	w.url = again.url
	if status, header, _ := w.ask("GET", "/api/v1/policy", token, ""); status != 200 || !strings.HasPrefix(header.Get("ETag"), `"2`) {
		t.Errorf("the restored service: %d, revision %s", status, header.Get("ETag"))
	}
}

// TestTheWayInForWhoHoldsTheFiles: where no owner can come in, whoever holds the files makes one, and it stays in the record.
func TestTheWayInForWhoHoldsTheFiles(t *testing.T) {
	t.Parallel()
	sentier, dir := binary(t), t.TempDir()
	begin(t, sentier, dir)
	p := launch(t, sentier, "serve", "--data", dir, "--listen", "127.0.0.1:0")
	for _, c := range []struct {
		stdin, args string
		code        int
		want        string
	}{
		{"a new password\n", "recover-owner --data " + dir + " --owner tomas.field", 2, "is using"}, // a service runs on it
		{"a new password\n", "recover-owner --data " + t.TempDir() + " --owner tomas.field", 2, "holds no database"},
	} {
		if code, out, errOut := runCLI(t, c.stdin, strings.Fields(c.args)...); code != c.code || !strings.Contains(out+errOut, c.want) {
			t.Errorf("sentier %s: code %d %s%s, want %d …%s…", c.args, code, out, errOut, c.code, c.want)
		}
	}
	if err := p.end(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		stdin, args string
		code        int
		want        string
	}{
		{"short\n", "recover-owner --data " + dir + " --owner tomas.field", 2, "12 to 200"},
		{"towpath and heron\n", "recover-owner --data " + dir + " --owner tomas.field", 0, "tomas.field is the owner, as of revision 2"},
		{"towpath and heron\n", "recover-owner --data " + dir + " --owner new.owner --name Newcomer", 0, "revision 3"},
		{"", "verify --data " + dir, 0, "true"},
		{"", "demo --data " + dir + " --listen 127.0.0.1:0", 2, "demonstration"}, // the folder is somebody's
	} {
		if code, out, errOut := runCLI(t, c.stdin, strings.Fields(c.args)...); code != c.code || !strings.Contains(out+errOut, c.want) {
			t.Errorf("sentier %s: code %d %s%s, want %d …%s…", c.args, code, out, errOut, c.code, c.want)
		}
	}
	p = launch(t, sentier, "serve", "--data", dir, "--listen", "127.0.0.1:0")
	w := &world{t: t, url: p.url}
	for _, user := range []string{"tomas.field", "new.owner"} {
		status, _, session := w.ask("POST", "/api/v1/session", "", `{"user":"`+user+`","password":"towpath and heron","terminal":true}`)
		if status != 200 || !strings.Contains(session, `"owner"`) {
			t.Fatalf("%s: %d %s", user, status, session)
		}
		w.token = regexp.MustCompile(`sentier_[A-Za-z0-9_-]+`).FindString(session)
	}
	if status, _, body := w.ask("GET", "/api/v1/mandates", w.token, ""); status != 200 || !strings.Contains(body, "new.owner") {
		t.Errorf("the record: %d %s", status, body)
	}
	// Whoever has lost the device that makes their codes is helped as well.
	begun := get[wire.Enrolling](w, "POST", "/api/v1/session/factors", `{"password":"towpath and heron"}`)
	if status, _, body := w.ask("POST", "/api/v1/session/factors/confirm", w.token, fmt.Sprintf(`{"code":%q,"name":"Telephone"}`, w.code(begun.Secret))); status != 201 {
		t.Fatalf("a second factor: %d %s", status, body)
	}
	if err := p.end(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	if code, out, errOut := runCLI(t, "heron and towpath\n", "recover-owner", "--data", dir, "--owner", "new.owner"); code != 0 || !strings.Contains(errOut, "second factors are gone") {
		t.Errorf("code %d %s%s", code, out, errOut)
	}
	p = launch(t, sentier, "serve", "--data", dir, "--listen", "127.0.0.1:0")
	w.url = p.url
	if status, _, body := w.ask("POST", "/api/v1/session", "", `{"user":"new.owner","password":"heron and towpath","terminal":true}`); status != 200 {
		t.Errorf("after the device was lost: %d %s", status, body)
	}
}

// TestHandingOverByTheCommandLine: an owner makes a link, a second person comes in by it, changes their password, and sees and ends their own sessions.
func TestHandingOverByTheCommandLine(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	code, out, errOut := w.run("user", "invite", "tomas.field", "--format", "csv")
	link := regexp.MustCompile(`http://\S+/welcome#sentier_[A-Za-z0-9_-]+`).FindString(out)
	if code != 0 || link == "" || !strings.Contains(errOut, "only time") {
		t.Fatalf("invite: code %d\n%s%s", code, out, errOut)
	}
	for _, c := range []struct {
		name, stdin string
		args        []string
		code        int
		want        string
	}{
		{"nobody", "", []string{"user", "invite", "nobody"}, 2, "sign in"},
		{"a link that is none", "towpath and heron\n", []string{"welcome", w.url}, 2, "is no link"},
		{"a short password", "short\n", []string{"welcome", link}, 2, "12"},
		{"the link", "towpath and heron\n", []string{"welcome", link}, 0, "Tomas Field"},
		{"the link once more", "another long one\n", []string{"welcome", link}, 2, "holds no more"},
		{"sessions", "", []string{"session", "list"}, 0, "this one"},
		{"a wrong password", "not it at all\nheron and towpath\n", []string{"password"}, 2, "is not your password"},
		{"a new password", "towpath and heron\nheron and towpath\n", []string{"password"}, 0, "Tomas Field"},
		{"which of them", "", []string{"session", "end"}, 2, "say which"},
		{"the others", "", []string{"session", "end", "--others"}, 0, "Ended"},
	} {
		code, out, errOut := w.runAs("", c.stdin, c.args...)
		if code != c.code || !strings.Contains(out+errOut, c.want) {
			t.Errorf("%s: code %d\n%s%swant %d …%s…", c.name, code, out, errOut, c.code, c.want)
		}
	}
	signIn := func(password string) int {
		status, _, _ := w.signedIn("tomas.field", password)
		return status
	}
	if status := signIn("towpath and heron"); status != 401 {
		t.Errorf("the password of before: %d", status)
	}
	if status := signIn("heron and towpath"); status != 200 {
		t.Errorf("the new password: %d", status)
	}
}

// TestCredentialsBelongToTheAccount: whoever comes later by an id has nothing of whom it was before, and what was suspended comes back without its sessions.
func TestCredentialsBelongToTheAccount(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	if err := w.owner.Service.SetPassword(t.Context(), "tomas.field", password); err != nil {
		t.Fatal(err)
	}
	session := func() string {
		_, _, body := w.ask("POST", "/api/v1/session", "", `{"user":"tomas.field","password":"`+password+`","terminal":true}`)
		return regexp.MustCompile(`sentier_[A-Za-z0-9_-]+`).FindString(body)
	}
	read := func(token string) int { return first(w.ask("GET", "/api/v1/session", token, "")) }
	old, signedIn := w.tokenFor("tomas.field"), session()
	if read(old) != 200 || read(signedIn) != 200 {
		t.Fatal("neither a token nor a session holds")
	}
	change := func(method, path, body string) {
		t.Helper()
		if _, status := edit(w, method, path, body); status >= 300 {
			t.Fatalf("%s %s: %d", method, path, status)
		}
	}
	change("PATCH", "/api/v1/users/tomas.field", `{"status":"suspended"}`)
	if status, _, body := w.ask("POST", "/api/v1/tokens", w.token, `{"user":"tomas.field","name":"x"}`); status < 400 || status >= 500 {
		t.Errorf("a token for somebody suspended: %d %s", status, body)
	}
	if status, _, body := w.ask("POST", "/api/v1/users/rui.falcao/invitation", w.tokenFor("lena.marsh"), ""); status != 403 {
		t.Errorf("a link made by an auditor: %d %s", status, body)
	}
	change("PATCH", "/api/v1/users/tomas.field", `{"status":"active"}`)
	if got := read(signedIn); got != 401 {
		t.Errorf("a session of before the suspension: %d", got)
	}
	if got := read(old); got != 200 {
		t.Errorf("a token of before the suspension: %d", got)
	}
	change("DELETE", "/api/v1/users/tomas.field?cascade=true&accept_gains=true", "")
	change("PUT", "/api/v1/users/tomas.field", `{"name":"Another Tomas"}`)
	if got := read(old); got != 401 {
		t.Errorf("the token of whom the id was before: %d", got)
	}
	if status, _, _ := w.signedIn("tomas.field", password); status != 401 {
		t.Errorf("the password of whom the id was before: %d", status)
	}
	// A token's secret is kept as a hash alone, and listed nowhere.
	secret := w.tokenFor("night-backup")
	for _, path := range []string{"/api/v1/tokens", "/api/v1/policy", "/metrics"} {
		if _, _, body := w.ask("GET", path, w.token, ""); strings.Contains(body, secret) {
			t.Errorf("%s shows a secret", path)
		}
	}
}

// TestAFullDiskKeepsAnswering: what cannot be saved is told so, and everything that saves nothing goes on, revoking and signing in too.
func TestAFullDiskKeepsAnswering(t *testing.T) {
	t.Parallel()
	victim := ""
	w, _, _, _, refused := withFullDisk(t, func(w *world) { victim = w.tokenFor("lena.marsh") })
	if !strings.Contains(refused, "disk") {
		t.Errorf("a full disk is told as %s", refused)
	}
	if status, _, body := w.ask("GET", "/readyz", "", ""); status != 200 || !strings.Contains(body, "cannot save") {
		t.Errorf("readiness: %d %s", status, body)
	}
	for _, c := range []exchange{
		{name: "an edit", method: "PATCH", path: "/api/v1/users/tomas.field", body: `{"name":"` + strings.Repeat("long ", 30) + `"}`, status: 507, want: "/problems/disk-full"},
		{name: "a look", method: "GET", path: "/api/v1/users/tomas.field", status: 200},
		{name: "a dry run", method: "PATCH", path: "/api/v1/users/tomas.field?dry_run=true", body: `{"name":"Tomas A. Field"}`, status: 200},
		{name: "a question", method: "POST", path: "/api/v1/check", body: `{"user":"tomas.field","right":"view","device":"mill-bridge"}`, status: 200},
	} {
		w.exchange(c)
	}
	_, _, list := w.ask("GET", "/api/v1/tokens?user=lena.marsh", w.token, "")
	var tokens []wire.Token
	if err := json.Unmarshal([]byte(list), &tokens); err != nil || len(tokens) != 1 {
		t.Fatalf("%v in %s", err, list)
	}
	if status := first(w.ask("DELETE", "/api/v1/tokens/"+tokens[0].ID, w.token, "")); status != http.StatusNoContent {
		t.Errorf("revoking a token: %d", status)
	}
	if status := first(w.ask("GET", "/api/v1/users", victim, "")); status != 401 {
		t.Errorf("the revoked token: %d", status)
	}
	if status, _, body := w.ask("POST", "/api/v1/session", "", `{"user":"ines.carvalho","password":"`+password+`","terminal":true}`); status != 200 {
		t.Errorf("signing in: %d %s", status, body)
	}
}
