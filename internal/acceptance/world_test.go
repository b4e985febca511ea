package acceptance

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"sentier/internal/cli"
	"sentier/internal/daemon"
	"sentier/internal/demo"
	"sentier/internal/policy"
	"sentier/internal/wire"
	"sentier/web"
)

const password = "a long password"

// world is a service of its own with the Larkmere Navigation.
type world struct {
	t     *testing.T
	url   string
	token string // of the owner
	owner *daemon.Daemon
	home  string // where its command line keeps a sign-in; empty until one is carried out
}

// start runs a service until the test ends. p is its policy; nil: the navigation's.
func start(t *testing.T, p *policy.Policy) *world {
	t.Helper()
	return startWith(t, p, func(*daemon.Options) {})
}

// secret lays a secret of the machine in its place.
func (w *world) secret(name, text string) (path string) {
	w.t.Helper()
	path = filepath.Join(w.owner.Store().Dir(), "secrets", name)
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		w.t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		w.t.Fatal(err)
	}
	return path
}

// startWith is start with options of its own.
func startWith(t *testing.T, p *policy.Policy, change func(*daemon.Options)) *world {
	t.Helper()
	if p == nil {
		var err error
		if p, err = demo.Policy(); err != nil {
			t.Fatal(err)
		}
	}
	ctx, stop := context.WithCancel(context.Background())
	options := daemon.Options{
		Dir: filepath.Join(t.TempDir(), "quay #1? 100%20"), Listen: "127.0.0.1:0", Clock: daemon.ClockFrom(testNow(t)), Console: web.Console(), Log: slog.New(slog.DiscardHandler), Version: "test",
	}
	change(&options)
	d, err := daemon.Open(ctx, options)
	if err != nil {
		t.Fatal(err)
	}
	w := worldOf(ctx, t, d, p)
	runs(t, d, ctx, stop)
	return w
}

// worldOf is a service that is open, as its owner sees it, once it runs. p is the policy that it begins with; nil: it has begun before.
func worldOf(ctx context.Context, t *testing.T, d *daemon.Daemon, p *policy.Policy) *world {
	t.Helper()
	if p != nil {
		if err := d.Prepare(ctx, daemon.Beginning{Owner: demo.Owner, Name: "Ines Carvalho", Password: password, Policy: p}); err != nil {
			t.Fatal(err)
		}
	}
	token, err := d.OwnerToken(ctx, demo.Owner, "test")
	if err != nil {
		t.Fatal(err)
	}
	return &world{t: t, url: d.Address(), token: token, owner: d}
}

// withoutExpectations is a policy where nothing is expected, so that whatever is sound can be made of it; nil: the navigation's.
func withoutExpectations(t *testing.T, p *policy.Policy) *policy.Policy {
	t.Helper()
	var err error
	if p == nil {
		if p, err = demo.Policy(); err != nil {
			t.Fatal(err)
		}
	}
	var changes []policy.Change
	for e := range policy.Each[*policy.Expectation](p) {
		changes = append(changes, policy.Change{Op: policy.Remove, Type: policy.Expectations, ID: e.Key()})
	}
	p, _, err = p.Apply(changes)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// runs lets a service answer until the test ends.
func runs(t *testing.T, d *daemon.Daemon, ctx context.Context, stop context.CancelFunc) {
	t.Helper()
	ended := make(chan error, 1)
	go func() { ended <- d.Run(ctx) }()
	t.Cleanup(func() {
		stop()
		if err := <-ended; err != nil {
			t.Errorf("the service ended with %v", err)
		}
	})
}

// run carries out a command line against the world's service.
func (w *world) run(args ...string) (code int, out, errOut string) {
	return w.runAs(w.token, "", args...)
}

func (w *world) runAs(token, stdin string, args ...string) (code int, out, errOut string) {
	w.t.Helper()
	var o, e bytes.Buffer
	code = w.program(token, strings.NewReader(stdin), &o, &e).Run(args)
	return code, o.String(), e.String()
}

// program is the command line of somebody who sits before the world's service, with a folder and an environment of their own.
func (w *world) program(token string, in io.Reader, out, errOut io.Writer) cli.Program {
	if w.home == "" {
		w.home = w.t.TempDir()
	}
	env := map[string]string{"SENTIER_URL": w.url, "SENTIER_TOKEN": token}
	return cli.Program{
		In: in, Out: out, Err: errOut, Console: web.Console(), Version: "test", Commit: "none", Now: testClock(), Home: w.home,
		LookupEnv: func(name string) (string, bool) { value, set := env[name]; return value, set },
	}
}

// runCLI carries out a command line for which there is no service.
func runCLI(t *testing.T, stdin string, args ...string) (code int, out, errOut string) {
	t.Helper()
	return (&world{t: t, url: "http://127.0.0.1:1"}).runAs("", stdin, args...)
}

// ask sends a request with a bearer token and gives the status, the headers and the body.
func (w *world) ask(method, path, token, body string, headers ...string) (int, http.Header, string) {
	w.t.Helper()
	req, err := http.NewRequest(method, w.url+path, strings.NewReader(body))
	if err != nil {
		w.t.Fatal(err)
	}
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	if method == "PATCH" {
		req.Header.Set("Content-Type", "application/merge-patch+json")
	}
	for i := 0; i+1 < len(headers); i += 2 {
		req.Header.Set(headers[i], headers[i+1])
	}
	resp, err := (&http.Client{Timeout: 30 * time.Second}).Do(req)
	if err != nil {
		w.t.Fatal(err)
	}
	defer resp.Body.Close()
	data, err := io.ReadAll(resp.Body)
	if err != nil {
		w.t.Fatal(err)
	}
	req.Body = io.NopCloser(strings.NewReader(body))
	if req.Header.Get("Content-Type") == "" && body != "" {
		req.Header.Set("Content-Type", meant(path)) // which is what is meant where nothing is said
	}
	description().hold(w.t, req, resp.StatusCode, resp.Header, data)
	return resp.StatusCode, resp.Header, string(data)
}

// meant is what a body is taken for where nothing is said of it.
func meant(path string) string {
	switch {
	case strings.HasPrefix(path, "/api/v1/sheets/"):
		return "text/csv"
	case strings.HasPrefix(path, "/api/v1/policy"):
		return "application/yaml"
	}
	return "application/json"
}

// tokenFor makes a token for a user.
func (w *world) tokenFor(user string) string {
	w.t.Helper()
	status, _, body := w.ask("POST", "/api/v1/tokens", w.token, fmt.Sprintf(`{"user":%q,"name":"test"}`, user))
	var made wire.Token
	if err := json.Unmarshal([]byte(body), &made); err != nil || status != 201 {
		w.t.Fatalf("a token for %s: %d %s", user, status, body)
	}
	return made.Secret
}

// testNow is the instant at which the tests take place: SENTIER_TEST_NOW, or that for which the demonstration is written.
func testNow(t testing.TB) time.Time {
	t.Helper()
	text := os.Getenv("SENTIER_TEST_NOW")
	if text == "" {
		return demo.Written
	}
	at, err := time.Parse(time.RFC3339, text)
	if err != nil {
		t.Fatalf("SENTIER_TEST_NOW: %v", err)
	}
	return at
}

// alive is the navigation as it is at the instant of the tests.
func alive(t *testing.T) *policy.Policy {
	t.Helper()
	p, err := demo.At(testNow(t))
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// testClock is the clock of commands: that of the tests, where they have one of their own.
func testClock() func() time.Time {
	at, err := time.Parse(time.RFC3339, os.Getenv("SENTIER_TEST_NOW"))
	if err != nil {
		at = demo.Written
	}
	return func() time.Time { return at }
}

func write(t *testing.T, path, content string) string {
	t.Helper()
	if err := os.WriteFile(path, []byte(content), 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}
