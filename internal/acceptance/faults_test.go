package acceptance

import (
	"bufio"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"sentier/internal/demo"
	"sentier/internal/wire"
)

// built is the program, built once for the tests that end it the hard way.
var built = sync.OnceValues(func() (string, error) {
	if path := os.Getenv(builtAlready); path != "" {
		return path, nil
	}
	dir, err := os.MkdirTemp("", "sentier-built-")
	builtIn = dir
	if err != nil {
		return "", err
	}
	path := filepath.Join(dir, "sentier")
	build := exec.Command("go", "build", "-o", path, "sentier/cmd/sentier")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		return path, fmt.Errorf("%w\n%s", err, out)
	}
	return path, nil
})

var builtIn string // the folder of built

func binary(t *testing.T) string {
	t.Helper()
	path, err := built()
	if err != nil {
		t.Fatal(err)
	}
	return path
}

func TestMain(m *testing.M) {
	if text := os.Getenv(asLogServer); text != "" {
		serveLog(text)
	}
	code := m.Run()
	endChromium()
	if builtIn != "" {
		os.RemoveAll(builtIn)
	}
	// Where all tests ran, each operation was answered by one of them.
	if missing := unmet(); code == 0 && flag.Lookup("test.run").Value.String() == "" && len(missing) > 0 {
		fmt.Println("no test was answered well by", missing)
		code = 1
	}
	os.Exit(code)
}

// process is a service as a process of its own.
type process struct {
	cmd *exec.Cmd
	url string
	log *spoken
}

// spoken is what a process has said, the first megabytes of it, whoever looks meanwhile.
type spoken struct {
	mu   sync.Mutex
	text strings.Builder
}

func (s *spoken) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.text.Len() < 4<<20 {
		s.text.Write(p)
	}
	return len(p), nil
}

func (s *spoken) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.text.String()
}

var address = regexp.MustCompile(`http://[0-9.:]+`)

func launch(t *testing.T, name string, args ...string) *process {
	t.Helper()
	return launched(t, exec.Command(name, args...))
}

// launched starts a service, and waits until it answers. It looks for garbage as it does for everybody, whatever was said for the tests.
func launched(t *testing.T, cmd *exec.Cmd) *process {
	t.Helper()
	cmd.Env = slices.DeleteFunc(cmd.Environ(), func(v string) bool { return strings.HasPrefix(v, "GOGC=") || strings.HasPrefix(v, "GOMEMLIMIT=") })
	p := &process{cmd: cmd, log: &spoken{}}
	pipe, err := p.cmd.StderrPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := p.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	lines := bufio.NewScanner(pipe)
	for p.url == "" && lines.Scan() {
		fmt.Fprintln(p.log, lines.Text())
		p.url = address.FindString(lines.Text())
	}
	if p.url == "" {
		t.Fatalf("%s did not start: %v\n%s", cmd, p.cmd.Wait(), p.log)
	}
	go io.Copy(io.Discard, pipe)
	t.Cleanup(func() { p.end(syscall.SIGKILL) })
	return p
}

func (p *process) end(with syscall.Signal) error {
	if err := p.cmd.Process.Signal(with); err != nil {
		return nil // it has ended
	}
	return p.cmd.Wait()
}

// begin makes the first revision in a folder and gives a token of the owner.
func begin(t *testing.T, sentier, dir string) (token string) {
	t.Helper()
	document := write(t, filepath.Join(t.TempDir(), "larkmere.yaml"), string(demo.Document()))
	init := exec.Command(sentier, "init", "--data", dir, "--owner", string(demo.Owner), "--policy", document)
	init.Stdin = strings.NewReader(password + "\n")
	if out, err := init.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	p := launch(t, sentier, "serve", "--data", dir, "--listen", "127.0.0.1:0")
	w := &world{t: t, url: p.url}
	_, _, session := w.ask("POST", "/api/v1/session", "", `{"user": "ines.carvalho", "password": "`+password+`", "terminal": true}`)
	token = regexp.MustCompile(`sentier_[A-Za-z0-9_-]+`).FindString(session)
	if err := p.end(syscall.SIGTERM); err != nil || token == "" {
		t.Fatalf("the service ended with %v, the session is %s", err, session)
	}
	return token
}

// load changes the policy a little and gives the revision that the caller was told of, 0 where it was told of none.
func load(url, token string, n int) (revision int, text string) {
	document := strings.Replace(string(demo.Document()), "name: Bridge crew", fmt.Sprintf("name: Bridge crew %d", n), 1)
	req, err := http.NewRequest("PUT", url+"/api/v1/policy", strings.NewReader(document))
	if err != nil {
		return 0, err.Error()
	}
	req.Header.Set("Authorization", "Bearer "+token)
	resp, err := (&http.Client{Timeout: 20 * time.Second}).Do(req)
	if err != nil {
		return 0, err.Error()
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(resp.Body)
	if err != nil || resp.StatusCode != 200 {
		return 0, fmt.Sprint(resp.Status, string(body), err)
	}
	revision, _ = strconv.Atoi(strings.Trim(resp.Header.Get("ETag"), `"`))
	return revision, string(body)
}

var revisionField = regexp.MustCompile(`"revision":(\d+)`)

// revision is the one that the service answers from.
func (w *world) revision(token string) int {
	w.t.Helper()
	_, _, answer := w.ask("POST", "/api/v1/check", token, `{"user": "tomas.field", "right": "view", "device": "mill-bridge"}`)
	found := revisionField.FindStringSubmatch(answer)
	if found == nil {
		w.t.Fatal(answer)
	}
	now, err := strconv.Atoi(found[1])
	if err != nil {
		w.t.Fatal(err)
	}
	return now
}

// TestKilledWhileWriting kills the service during a stream of changes, again and again: what a caller was told
// of is there when it starts again.
func TestKilledWhileWriting(t *testing.T) {
	t.Parallel()
	sentier, dir := binary(t), t.TempDir()
	token := begin(t, sentier, dir)
	told, n := 1, 0
	for round := range 25 {
		p := launch(t, sentier, "serve", "--data", dir, "--listen", "127.0.0.1:0")
		w := &world{t: t, url: p.url}
		now := w.revision(token)
		// One change may have been written whose answer was on its way.
		if now != told && now != told+1 {
			t.Fatalf("round %d: the service starts at revision %d, a caller was told of %d", round, now, told)
		}
		told = now
		for first := true; ; first = false {
			n++
			revision, text := load(p.url, token, n)
			if revision == 0 && first {
				t.Fatalf("round %d: %s", round, text)
			}
			if revision == 0 {
				break
			}
			told = revision
			if first { // the changes go on while the end comes, at another moment each time
				time.AfterFunc(time.Duration(round*13%60)*time.Millisecond, func() { p.cmd.Process.Kill() })
			}
		}
		p.end(syscall.SIGKILL)
	}
	if told < 25 {
		t.Errorf("only %d revisions came about: the service was killed before it wrote", told)
	}
}

// newcomers are n people as a sheet, all with one name.
func newcomers(n int, name string) string {
	var sheet strings.Builder
	sheet.WriteString("id,name\n")
	for i := range n {
		fmt.Fprintf(&sheet, "newcomer.%04d,%s\n", i, name)
	}
	return sheet.String()
}

// TestKilledInALargeChange kills the service at any moment of a sheet's way in: it is there whole or not at all, whoever was told of it finds it,
// and what was laid ready is gone.
func TestKilledInALargeChange(t *testing.T) {
	t.Parallel()
	sentier, dir := binary(t), t.TempDir()
	token := begin(t, sentier, dir)
	const people = 8000
	told, whole := 1, 0
	for round := range 8 {
		p := launch(t, sentier, "serve", "--data", dir, "--listen", "127.0.0.1:0")
		w := &world{t: t, url: p.url}
		named := 0
		for n := range round {
			_, _, list := w.ask("GET", fmt.Sprintf("/api/v1/users?limit=1&q=Round+%d.", n), token, "")
			var page wire.List[wire.Named]
			if err := json.Unmarshal([]byte(list), &page); err != nil {
				t.Fatalf("round %d: %v\n%s", round, err, list)
			}
			if page.Total != 0 && page.Total != people {
				t.Errorf("round %d: %d of %d rows are there", round, page.Total, people)
			}
			named += page.Total
		}
		if named != 0 && named != people {
			t.Errorf("round %d: %d newcomers have a name of a round, want all or none", round, named)
		}
		now := w.revision(token)
		if now != told && now != told+1 {
			t.Fatalf("round %d: the service starts at revision %d, a caller was told of %d", round, now, told)
		}
		if told = now; now > 1 {
			whole++
		}
		sheet := newcomers(people, fmt.Sprintf("Round %d. newcomer", round))
		after := time.Duration(round*90) * time.Millisecond
		if round == 5 { // this one comes in however busy the machine is
			after = time.Minute
		}
		killed := time.AfterFunc(after, func() { p.cmd.Process.Kill() })
		req, err := http.NewRequest("PUT", p.url+"/api/v1/sheets/users", strings.NewReader(sheet))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+token)
		req.Header.Set("Content-Type", "text/csv")
		if resp, err := http.DefaultClient.Do(req); err == nil {
			var saved wire.Imported
			if json.NewDecoder(resp.Body).Decode(&saved) == nil && saved.Saved {
				told = int(saved.Revision)
			}
			resp.Body.Close()
		}
		killed.Stop()
		p.end(syscall.SIGKILL)
	}
	if whole == 0 {
		t.Error("no sheet came in: the service was always killed before")
	}
	out, err := exec.Command(sentier, "verify", "--data", dir).CombinedOutput()
	if err != nil {
		t.Errorf("verify: %v\n%s", err, out)
	}
}

// withFullDisk runs a service whose files can grow no further once some changes are made: last is the last that was, and refused what
// was said to the next. before is called while there is room.
func withFullDisk(t *testing.T, before func(w *world)) (w *world, p *process, dir string, last int, refused string) {
	t.Helper()
	sentier := binary(t)
	dir = t.TempDir()
	token := begin(t, sentier, dir)
	// Blocks of 1 KiB that a file may have: the database fits, its log does not grow much.
	p = launch(t, "bash", "-c", fmt.Sprintf("ulimit -f 900; exec %s serve --data %s --listen 127.0.0.1:0", sentier, dir))
	w = &world{t: t, url: p.url, token: token}
	before(w)
	last = 1
	for n := 1; n < 400; n++ {
		revision, text := load(p.url, token, n)
		if revision == 0 {
			return w, p, dir, last, text
		}
		last = revision
	}
	t.Fatal("the disk did not fill")
	return
}

// TestFullDisk lets the database grow no further: a change that does not fit changes nothing, and the service goes on.
func TestFullDisk(t *testing.T) {
	t.Parallel()
	w, p, dir, last, refused := withFullDisk(t, func(*world) {})
	if !strings.Contains(refused, "507") || strings.Contains(refused, "panic") {
		t.Fatalf("after %d revisions: %s", last, refused)
	}
	_, _, answer := w.ask("POST", "/api/v1/check", w.token, `{"user": "tomas.field", "right": "view", "device": "mill-bridge"}`)
	if !strings.Contains(answer, fmt.Sprintf(`"revision":%d,`, last)) {
		t.Errorf("after a change that did not fit: %s, want revision %d", answer, last)
	}
	// Nor is there room to lay a large change ready.
	if status, _, text := w.ask("PUT", "/api/v1/sheets/users", w.token, newcomers(20_000, "Newcomer"), "Content-Type", "text/csv"); status != 507 || !strings.Contains(text, dir) {
		t.Errorf("a large change that does not fit: %d %s", status, text)
	}
	p.end(syscall.SIGTERM)
	p = launch(t, binary(t), "serve", "--data", dir, "--listen", "127.0.0.1:0")
	if revision, text := load(p.url, w.token, 1000); revision != last+1 {
		t.Errorf("with room again: revision %d, want %d: %s", revision, last+1, text)
	}
}

func TestServeSaysWhatIsWrong(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	taken := strings.TrimPrefix(w.url, "http://")
	dir := t.TempDir()
	file := write(t, filepath.Join(dir, "file"), "")
	bad := filepath.Join(dir, "bad")
	if err := os.Mkdir(bad, 0o700); err != nil {
		t.Fatal(err)
	}
	write(t, filepath.Join(bad, "sentier.db"), strings.Repeat("bytes that are none ", 1000))
	for name, c := range map[string]struct{ args, want string }{
		"the port is taken":         {"serve --data " + dir + " --listen " + taken, "give another with --listen"},
		"the folder is a file":      {"serve --data " + file, "make the folder"},
		"the database is none":      {"serve --data " + bad, "the database is damaged"},
		"no folder is given":        {"serve", "no folder is given"},
		"a password that is short":  {"init --data " + dir + " --owner ines.carvalho", "a password has 12 to 200"},
		"half of a TLS certificate": {"serve --data " + dir + " --tls-cert x", "go together"},
	} {
		t.Run(name, func(t *testing.T) {
			code, out, errOut := runCLI(t, "short\n", strings.Fields(c.args)...)
			if code != 2 || out != "" || !strings.Contains(errOut, c.want) || strings.Count(strings.TrimSpace(errOut), "\n") > 0 {
				t.Errorf("code %d\n%s%s\nwant one line with …%s…", code, out, errOut, c.want)
			}
		})
	}
}

// TestFirstOwner: a service on an empty folder tells what to do, and takes the first owner up while it runs.
func TestFirstOwner(t *testing.T) {
	t.Parallel()
	sentier, dir := binary(t), t.TempDir()
	p := launch(t, sentier, "serve", "--data", dir, "--listen", "127.0.0.1:0")
	w := &world{t: t, url: p.url}
	if status, _, body := w.ask("GET", "/readyz", "", ""); status != 503 || !strings.Contains(body, "there is no owner yet") {
		t.Errorf("%d %s", status, body)
	}
	init := exec.Command(sentier, "init", "--data", dir, "--owner", "ines.carvalho", "--name", "Ines Carvalho")
	init.Stdin = strings.NewReader(password)
	if out, err := init.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	for end := time.Now().Add(10 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		status, _, body := w.ask("POST", "/api/v1/session", "", `{"user": "ines.carvalho", "password": "`+password+`"}`)
		if status == 200 {
			break
		}
		if time.Now().After(end) {
			t.Fatalf("%d %s", status, body)
		}
	}
}
