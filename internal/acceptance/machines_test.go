package acceptance

import (
	"bufio"
	"context"
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"os/exec"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"sentier/enforce"
	"sentier/internal/daemon"
	"sentier/internal/logserver"
	"sentier/internal/replica"
	"sentier/internal/wire"
	"sentier/web"
)

// logServers are the servers of a log of revisions, in this process: they can be stopped and started again.
type logServers struct {
	t   *testing.T
	of  []logserver.Options
	now []*logserver.Server
}

// startLogServers starts one server that is alone, or a cluster of several.
func startLogServers(t *testing.T, count int) *logServers {
	t.Helper()
	l := &logServers{t: t, of: make([]logserver.Options, count), now: make([]*logserver.Server, count)}
	at, err := logserver.FreeAddresses(count)
	if err != nil {
		t.Fatal(err)
	}
	for i := range l.of {
		l.of[i].Dir = t.TempDir()
		if count > 1 {
			l.of[i].Name, l.of[i].Cluster, l.of[i].Routes = fmt.Sprintf("log-%d", i), at[i], at
		}
	}
	l.start()
	t.Cleanup(l.stop)
	return l
}

func (l *logServers) start() {
	l.t.Helper()
	for i, o := range l.of {
		s, err := logserver.Start(o)
		if err != nil {
			l.t.Fatal(err)
		}
		l.now[i], l.of[i].Port = s, s.Port()
	}
}

func (l *logServers) url() string {
	var all []string
	for _, o := range l.of {
		all = append(all, fmt.Sprintf("nats://127.0.0.1:%d", o.Port))
	}
	return strings.Join(all, ",")
}

func (l *logServers) stop() {
	for i, s := range l.now {
		if s != nil {
			s.Stop()
		}
		l.now[i] = nil
	}
}

// machines is a service on several machines.
func startMachines(t *testing.T, servers *logServers) *world {
	t.Helper()
	return startWith(t, alive(t), func(o *daemon.Options) { o.Line = daemon.Line{URL: servers.url(), Machine: "control-room"} })
}

// writerKey is the key by which the machine that writes is known.
func (w *world) writerKey() ed25519.PublicKey {
	w.t.Helper()
	_, _, text := w.ask("GET", "/api/v1/audit/key", w.token, "")
	var out struct{ Key []byte }
	if err := json.Unmarshal([]byte(text), &out); err != nil || len(out.Key) != ed25519.PublicKeySize {
		w.t.Fatalf("the key of the machine that writes: %s", text)
	}
	return out.Key
}

// follower starts a machine that follows. It is the same world from another desk.
func (w *world) follower(servers *logServers, name, dir string, change func(*daemon.Options)) (at *world, key string, stop func()) {
	w.t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	o := daemon.Options{
		Dir: dir, Listen: "127.0.0.1:0", Clock: daemon.ClockFrom(testNow(w.t)), Console: web.Console(), Log: slog.New(slog.DiscardHandler), Version: "test",
		Line: daemon.Line{URL: servers.url(), Machine: name}, Following: &daemon.Following{Keys: []ed25519.PublicKey{w.writerKey()}, Most: 100_000},
	}
	if change != nil {
		change(&o)
	}
	_, key, err := daemon.Machine(o)
	if err != nil {
		w.t.Fatal(err)
	}
	d, err := daemon.Open(ctx, o)
	if err != nil {
		w.t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() { ended <- d.Run(ctx) }()
	over := false
	stop = func() {
		if over {
			return
		}
		over = true
		cancel()
		if err := <-ended; err != nil {
			w.t.Errorf("the machine %s ended with %v", name, err)
		}
	}
	w.t.Cleanup(stop)
	return &world{t: w.t, url: d.Address(), token: w.token, owner: d}, key, stop
}

const askTomas = `{"subject":{"type":"user","id":"tomas.field"},"action":{"name":"view"},"resource":{"type":"device","id":"mill-bridge"}}`

// TestMachinesThatFollow answer as the one that writes does: what is done at one of them is there with its answer, whoever may come in there may here, what they
// record is in the one record once they are admitted, and each is seen to stand as it does.
func TestMachinesThatFollow(t *testing.T) {
	t.Parallel()
	servers := startLogServers(t, 1)
	w := startMachines(t, servers)
	estuary, key, _ := w.follower(servers, "estuary", t.TempDir(), nil)
	bridges, _, _ := w.follower(servers, "twin-bridges", t.TempDir(), nil)

	// An edit at a machine that follows is there when it is answered, and at once at every other.
	for n := range 20 {
		at := []*world{estuary, bridges}[n%2]
		method := []string{"PUT", "DELETE"}[n%2]
		saved, status := edit(at, method, "/api/v1/user_groups/bridge-crew/members/noor.haddad", "")
		if status >= 300 {
			t.Fatalf("%s at %s: %d", method, at.url, status)
		}
		status, header, text := at.ask("POST", "/access/v1/evaluation", w.token, `{"subject":{"type":"user","id":"noor.haddad"},"action":{"name":"view"},"resource":{"type":"device","id":"twin-bridge-north"}}`)
		if got := header.Get("Sentier-Revision"); status != 200 || got != fmt.Sprint(saved.Revision) {
			t.Fatalf("after revision %d it is answered from revision %s: %d %s", saved.Revision, got, status, text)
		}
	}
	// A session and a token hold at the other machine with the answer in which they are told.
	_, _, session := estuary.ask("POST", "/api/v1/session", "", `{"user":"ines.carvalho","password":"`+password+`","terminal":true}`)
	var s wire.Session
	if err := json.Unmarshal([]byte(session), &s); err != nil || s.Token == "" {
		t.Fatalf("signed in by way of a machine that follows: %s", session)
	}
	if status, _, text := estuary.ask("GET", "/api/v1/session", s.Token, ""); status != 200 {
		t.Errorf("a session is not known where it was begun: %d %s", status, text)
	}
	if status, _, _ := estuary.ask("DELETE", "/api/v1/session", s.Token, ""); status != 204 {
		t.Errorf("signed out: %d", status)
	}
	for _, at := range []*world{estuary, w} {
		if status, _, _ := at.ask("GET", "/api/v1/session", s.Token, ""); status != 401 {
			t.Errorf("a session that has ended holds at %s: %d", at.url, status)
		}
	}
	if status, _, _ := estuary.ask("POST", "/access/v1/evaluation", "sentier_made-up", askTomas); status != 401 {
		t.Errorf("a made-up token is answered at a machine that follows: %d", status)
	}
	gate := estuary.tokenFor("gateway-bridges")
	if status, _, text := estuary.ask("POST", "/access/v1/evaluation", gate, askTomas); status != 200 {
		t.Errorf("a new token is not known where it was made: %d %s", status, text)
	}
	if status, _, text := estuary.ask("GET", "/api/v1/machines", gate, ""); status != 403 {
		t.Errorf("an enforcement point reads the machines: %d %s", status, text)
	}

	// What is recorded there comes into the one record, once the machine is admitted; and says where.
	if status, _, text := w.ask("PUT", "/api/v1/machines/estuary", w.token, `{"key":"`+key+`"}`); status != 204 {
		t.Fatalf("the machine is not admitted: %d %s", status, text)
	}
	w.soon("a decision of the machine is in the one record", func() bool {
		return strings.Contains(third(w.ask("GET", "/api/v1/audit?kind=decision&user=tomas.field", w.token, "")), `"machine":"estuary"`)
	})
	if text := third(w.ask("GET", "/api/v1/audit?kind=decision&user=noor.haddad", w.token, "")); strings.Contains(text, `"machine":"twin-bridges"`) {
		t.Error("what a machine has recorded that nobody has admitted is in the record")
	}
	states := map[string]string{"control-room": "fine", "estuary": "fine", "twin-bridges": "unknown"}
	w.soon("every machine is seen as it stands", func() bool { return sameStates(w.machines(), states) })
	code, out, errOut := w.run("machine", "list")
	if code != 0 || !strings.Contains(out, "not admitted") || !strings.Contains(out, "control-room") {
		t.Errorf("machine list: %d %s%s", code, out, errOut)
	}
	if status, _, text := w.ask("PUT", "/api/v1/machines/twin-bridges", w.token, `{"key":"`+key+`"}`); status != 400 || !strings.Contains(text, "estuary") {
		t.Errorf("one key for two machines: %d %s", status, text)
	}
	wrong := base64.StdEncoding.EncodeToString(make([]byte, ed25519.PublicKeySize))
	if status, _, text := w.ask("PUT", "/api/v1/machines/twin-bridges", w.token, `{"key":"`+wrong+`"}`); status != 204 {
		t.Fatalf("another key: %d %s", status, text)
	}
	states["twin-bridges"] = "other_key"
	w.soon("a machine with another key is told", func() bool { return sameStates(w.machines(), states) })
	if status, _, _ := w.ask("DELETE", "/api/v1/machines/twin-bridges", w.token, ""); status != 204 {
		t.Errorf("taken away: %d", status)
	}

	// A point in a program follows over HTTP what is too large for an entry as well.
	point, err := enforce.Open(t.Context(), enforce.Options{Service: w.url, Token: gate, Keys: []string{base64.StdEncoding.EncodeToString(w.writerKey())}, Dir: t.TempDir(), Clock: daemon.ClockFrom(testNow(t))})
	if err != nil {
		t.Fatal(err)
	}
	defer point.Close()
	var imported wire.Saved
	status, _, text := estuary.ask("PUT", "/api/v1/sheets/users", w.token, newcomers(3000, "Keeper"))
	if err := json.Unmarshal([]byte(text), &imported); err != nil || status != 200 {
		t.Fatalf("a large sheet at a machine that follows: %d %.300s", status, text)
	}
	w.soon("the point has the large change", func() bool { return point.Standing().Revision >= imported.Revision })

	// Whoever follows events does so there as well, from now on or from long ago.
	for _, since := range []string{"", "1"} {
		req, err := http.NewRequestWithContext(t.Context(), "GET", bridges.url+"/api/v1/events", nil)
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+w.token)
		if since != "" {
			req.Header.Set("Last-Event-ID", since)
		}
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		if since == "" {
			edit(w, "PUT", "/api/v1/user_groups/bridge-crew/members/noor.haddad", "")
		}
		lines := bufio.NewScanner(resp.Body)
		for lines.Scan() && lines.Text() != "event: revision" {
		}
		if lines.Text() != "event: revision" {
			t.Errorf("no event comes after %q: %v", since, lines.Err())
		}
		resp.Body.Close()
	}
}

func (w *world) machines() wire.Machines {
	w.t.Helper()
	var out wire.Machines
	status, _, text := w.ask("GET", "/api/v1/machines", w.token, "")
	if err := json.Unmarshal([]byte(text), &out); err != nil || status != 200 {
		w.t.Fatalf("the machines: %d %s", status, text)
	}
	return out
}

func sameStates(m wire.Machines, want map[string]string) bool {
	if len(m.List) != len(want) {
		return false
	}
	for _, x := range m.List {
		if want[x.Name] != x.State {
			return false
		}
	}
	return true
}

// patience is how long a test waits for what comes by itself, before it says that it never does: minutes, as a busy machine may need one for what takes a second.
const patience = 4 * time.Minute

// soon waits for something that comes by itself.
func (w *world) soon(what string, so func() bool) {
	w.t.Helper()
	began := time.Now()
	for !so() {
		if time.Since(began) > patience {
			w.t.Fatalf("it never came to be: %s", what)
		}
		time.Sleep(50 * time.Millisecond)
	}
	if took := time.Since(began); took > 20*time.Second {
		w.t.Logf("it took %s: %s", took.Round(time.Millisecond), what)
	}
}

// TestALineThatIsCut: machines answer on, and say how old that may be; nothing is saved that the log has not got, and whoever asked for it is told; and when
// the line is there again, all of it is where it belongs.
func TestALineThatIsCut(t *testing.T) {
	t.Parallel()
	servers := startLogServers(t, 1)
	w := startMachines(t, servers)
	dir := t.TempDir()
	estuary, key, stop := w.follower(servers, "estuary", dir, nil)
	if status, _, text := w.ask("PUT", "/api/v1/machines/estuary", w.token, `{"key":"`+key+`"}`); status != 204 {
		t.Fatalf("the machine is not admitted: %d %s", status, text)
	}
	current := func() bool {
		_, header, _ := estuary.ask("GET", "/api/v1/session", w.token, "")
		return header.Get("Age") == "0"
	}
	w.soon("the machine says that nothing newer is there", current)
	before := w.revision(w.token)
	servers.stop()
	if status, header, text := estuary.ask("POST", "/access/v1/evaluation", w.token, askTomas); status != 200 || header.Get("Sentier-Revision") != fmt.Sprint(before) {
		t.Errorf("with the line cut it is answered %d from revision %s: %s", status, header.Get("Sentier-Revision"), text)
	}
	_, status := edit(w, "PUT", "/api/v1/user_groups/bridge-crew/members/noor.haddad", "")
	if status != 503 {
		t.Errorf("an edit that the log has not got is answered %d", status)
	}
	if _, _, text := w.ask("GET", "/readyz", "", ""); !strings.Contains(text, "cannot save") {
		t.Errorf("ready: %s", text)
	}
	if now := w.revision(w.token); now != before {
		t.Errorf("revision %d counts that the log has not got", now)
	}
	// A machine that starts without a line answers from its disk.
	stop()
	estuary, _, _ = w.follower(servers, "estuary", dir, nil)
	if status, header, text := estuary.ask("POST", "/access/v1/evaluation", w.token, askTomas); status != 200 || header.Get("Sentier-Revision") != fmt.Sprint(before) || header.Get("Age") == "" {
		t.Errorf("started without a line it answers %d from revision %s: %s", status, header.Get("Sentier-Revision"), text)
	}
	servers.start()
	w.soon("changes can be saved again", func() bool {
		_, status := edit(estuary, "PUT", "/api/v1/user_groups/bridge-crew/members/noor.haddad", "")
		return status < 300
	})
	w.soon("what was asked there while the line was cut is in the one record", func() bool {
		text := third(w.ask("GET", "/api/v1/audit?kind=decision&user=tomas.field", w.token, ""))
		return strings.Count(text, `"machine":"estuary"`) == 2
	})
	w.soon("the machine says again that nothing newer is there", current)
	if status, _, text := w.ask("GET", "/api/v1/verify", w.token, ""); status != 200 || !strings.Contains(text, `"whole":true`) {
		t.Errorf("after all of it: %d %s", status, text)
	}
}

// TestAGateAtADevice is a process of its own that follows over HTTP: the estuary gate is locked out while divers are below, with the line there and with it cut;
// what it decides is in the one record; and nobody asks it without its secret.
func TestAGateAtADevice(t *testing.T) {
	t.Parallel()
	w := startWith(t, nil, func(o *daemon.Options) { o.Clock = time.Now })
	if status, _, text := w.ask("PATCH", "/api/v1/devices/estuary-gate-1", w.token, `{"lockout":null}`); status != 200 {
		t.Fatalf("no lockout to begin with: %d %s", status, text)
	}
	give(t, w)
	dir := t.TempDir()
	cmd := exec.Command(binary(t), "gate", "--service", w.url, "--writer-key", base64.StdEncoding.EncodeToString(w.writerKey()), "--data", dir, "--machine", "estuary", "--listen", "127.0.0.1:0")
	cmd.Env = append(os.Environ(), "SENTIER_TOKEN="+w.tokenFor("gateway-bridges"))
	p := launchedLate(t, cmd, answersAt)
	secret := regexp.MustCompile(`sentier_gate_[A-Za-z0-9_-]+`).FindString(p.log.String())
	key := regexp.MustCompile(`--key (\S{44})`).FindStringSubmatch(p.log.String())
	if secret == "" || key == nil {
		t.Fatalf("a gate that starts first says: %s", p.log)
	}
	if status, _, text := w.ask("PUT", "/api/v1/machines/estuary", w.token, `{"key":"`+key[1]+`"}`); status != 204 {
		t.Fatalf("the gate is not admitted: %d %s", status, text)
	}
	asks := func(secret, body string) (int, wire.Decision) {
		t.Helper()
		req, err := http.NewRequest("POST", p.url+"/access/v1/evaluation", strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+secret)
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		var d wire.Decision
		if err := json.NewDecoder(resp.Body).Decode(&d); err != nil {
			t.Fatal(err)
		}
		return resp.StatusCode, d
	}
	control := `{"subject":{"type":"user","id":"keeper.at.hand"},"action":{"name":"control"},"resource":{"type":"device","id":"estuary-gate-1"}}`
	if status, d := asks(secret, control); status != 200 || !d.Decision || d.Context.Until == nil {
		t.Fatalf("before the divers: %d %+v", status, d)
	}
	for name, sent := range map[string]string{"nothing": "", "a made-up secret": "sentier_gate_x", "the token of the service": w.token} {
		if status, _ := asks(sent, control); status != 401 {
			t.Errorf("with %s the gate answers %d", name, status)
		}
	}
	for name, body := range map[string]string{"nothing": "", "noise": "{{{", "half": control[:40], "another type": strings.Replace(control, "user", "robot", 1), "depth": strings.Repeat("[", 100_000)} {
		if status, _ := asks(secret, body); status != 400 {
			t.Errorf("asked %s the gate answers %d", name, status)
		}
	}
	if status, _ := asks(secret, strings.Repeat(" ", 1<<20)+control); status != 413 {
		t.Errorf("asked with a megabyte of nothing the gate answers %d", status)
	}
	if status, _, text := w.ask("PATCH", "/api/v1/devices/estuary-gate-1", w.token, `{"lockout":{"by":"ines.carvalho","reason":"divers below"}}`); status != 200 {
		t.Fatalf("locked out: %d %s", status, text)
	}
	w.soon("the gate knows of the divers", func() bool { _, d := asks(secret, control); return d.Context.Reason == "device_locked_out" })
	w.soon("what it has decided is in the one record", func() bool {
		text := third(w.ask("GET", "/api/v1/audit?kind=decision&user=keeper.at.hand", w.token, ""))
		return strings.Contains(text, `"machine":"estuary"`) && strings.Contains(text, "device_locked_out")
	})
	w.soon("it is seen to stand well", func() bool {
		return slices.ContainsFunc(w.machines().List, func(m wire.Machine) bool { return m.Name == "estuary" && m.Role == "gate" && m.State == "fine" })
	})
	// Killed, and started again without a line: it decides by its disk, and asks for no new secret.
	if err := p.end(syscall.SIGKILL); err == nil {
		t.Fatal("the gate was not killed")
	}
	cut := exec.Command(binary(t), "gate", "--service", "http://127.0.0.1:1", "--writer-key", base64.StdEncoding.EncodeToString(w.writerKey()), "--data", dir, "--machine", "estuary", "--listen", "127.0.0.1:0")
	cut.Env = cmd.Env
	p = launchedLate(t, cut, answersAt)
	if strings.Contains(p.log.String(), "sentier_gate_") {
		t.Error("a gate that has a secret makes another")
	}
	if status, d := asks(secret, control); status != 200 || d.Decision || d.Context.Reason != "device_locked_out" {
		t.Errorf("with the line cut the gate answers %d %+v", status, d)
	}
	if status, d := asks(secret, strings.Replace(control, "control", "view", 1)); status != 200 || !d.Decision {
		t.Errorf("with the line cut it does not give what holds: %d %+v", status, d)
	}
}

// give gives somebody the estuary gate at every hour.
func give(t *testing.T, w *world) {
	t.Helper()
	for _, put := range [][2]string{
		{"/api/v1/users/keeper.at.hand", `{"id":"keeper.at.hand","name":"Keeper at hand"}`},
		{"/api/v1/grants/estuary-at-any-hour", `{"id":"estuary-at-any-hour","name":"Estuary at any hour","to":{"users":["keeper.at.hand"]},"lines":[{"rights":["control"],"on":{"devices":["estuary-gate-1"]}}]}`},
	} {
		if status, _, text := w.ask("PUT", put[0], w.token, put[1]); status >= 300 {
			t.Fatalf("%s: %d %s", put[0], status, text)
		}
	}
}

var answersAt = regexp.MustCompile(`answers at (http://[][0-9.:]+)`)

// launchedLate starts a program, and waits until it says by a pattern where it answers.
func launchedLate(t *testing.T, cmd *exec.Cmd, says *regexp.Regexp) *process {
	t.Helper()
	p := &process{cmd: cmd, log: &spoken{}}
	pipe, err := cmd.StderrPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { p.end(syscall.SIGKILL) })
	for lines := bufio.NewScanner(pipe); p.url == "" && lines.Scan(); {
		fmt.Fprintln(p.log, lines.Text())
		if m := says.FindStringSubmatch(lines.Text()); m != nil {
			p.url = m[1]
		}
	}
	if p.url == "" {
		t.Fatalf("%s did not start: %v\n%s", cmd, cmd.Wait(), p.log)
	}
	go io.Copy(p.log, pipe)
	return p
}

// TestTheLogOverHTTP is for enforcement points, and tells them nothing that they need not know to decide.
func TestTheLogOverHTTP(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	gate := w.tokenFor("gateway-bridges")
	for _, path := range []string{"/api/v1/log", "/api/v1/snapshot", "/api/v1/log/changes-1"} {
		if status, _, text := w.ask("GET", path, w.tokenFor("tomas.field"), ""); status != 403 {
			t.Errorf("%s for somebody without a mandate: %d %s", path, status, text)
		}
	}
	status, _, snapshot := w.ask("GET", "/api/v1/snapshot", gate, "")
	if status != 200 {
		t.Fatalf("a snapshot: %d", status)
	}
	keys, err := replica.Trust(w.writerKey())
	if err != nil {
		t.Fatal(err)
	}
	c, head, err := keys.ReadSnapshot(strings.NewReader(snapshot))
	if err != nil || c.Facts.Len() > 0 || int(c.Revision.Number) != w.revision(w.token) {
		t.Errorf("a snapshot over HTTP: revision %d, %d facts, %v", head.Number, c.Facts.Len(), err)
	}
	_, _, picture := w.ask("GET", fmt.Sprintf("/api/v1/snapshot?picture=%d", replica.PictureForm), gate, "")
	if same, head, err := keys.ReadSnapshot(strings.NewReader(picture)); err != nil || head.Picture == 0 || len(c.Policy.Compare(same.Policy)) > 0 || same.Revision.Number != c.Revision.Number {
		t.Errorf("a snapshot as a picture: %+v, %v", head, err)
	}
	if status, _, text := w.ask("GET", "/api/v1/log?after=x", gate, ""); status != 400 {
		t.Errorf("a place that is none: %d %s", status, text)
	}
	if status, _, _ := w.ask("GET", "/api/v1/log/snapshot-1", gate, ""); status != 404 {
		t.Errorf("an object that is no change: %d", status)
	}
	for path, body := range map[string]string{"status": "{}", "record": `{"signed":"a.b.c"}`} {
		if status, _, text := w.ask("POST", "/api/v1/machines/estuary/"+path, gate, body); status != 400 && status != 403 {
			t.Errorf("a made-up %s: %d %s", path, status, text)
		}
	}
	_, key, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}
	signer, err := replica.NewSigner(key)
	if err != nil {
		t.Fatal(err)
	}
	public := key.Public().(ed25519.PublicKey)
	text, err := signer.SignStatus(&replica.Status{Machine: "estuary", Role: replica.Gates, Key: public, At: testNow(t)})
	if err != nil {
		t.Fatal(err)
	}
	say := func(path string, text []byte) int {
		status, _, _ := w.ask("POST", "/api/v1/machines/estuary/"+path, gate, `{"signed":"`+string(text)+`"}`)
		return status
	}
	report, err := signer.SignReport(&replica.Report{Machine: "estuary", Entries: json.RawMessage(`[{"entry":7,"at":"2026-11-24T10:00:00Z","kind":"decision","outcome":"granted","user":"tomas.field"}]`)})
	if err != nil {
		t.Fatal(err)
	}
	if status := say("status", text); status != 204 {
		t.Errorf("how a machine stands that nobody has admitted: %d", status)
	}
	if status := say("record", report); status != 403 {
		t.Errorf("the record of a machine that nobody has admitted: %d", status)
	}
	if status, _, _ := w.ask("PUT", "/api/v1/machines/estuary", w.token, `{"key":"`+base64.StdEncoding.EncodeToString(public)+`"}`); status != 204 {
		t.Errorf("admitted: %d", status)
	}
	for range 2 { // it counts once
		if status := say("record", report); status != 204 {
			t.Errorf("the record of a machine that was admitted: %d", status)
		}
	}
	if n := strings.Count(third(w.ask("GET", "/api/v1/audit?kind=decision", w.token, "")), `"machine_entry":7`); n != 1 {
		t.Errorf("the same part of a record counts %d times", n)
	}
	if status := say("record", text); status != 400 {
		t.Errorf("a status as a record: %d", status)
	}
}

// TestAMachineOfAnotherTime is told with by how much its clock differs, counted among those that need a look, and was heard of when it was by the clock here.
func TestAMachineOfAnotherTime(t *testing.T) {
	t.Parallel()
	servers := startLogServers(t, 1)
	w := startMachines(t, servers)
	_, key, _ := w.follower(servers, "estuary", t.TempDir(), func(o *daemon.Options) {
		here := o.Clock
		o.Clock = func() time.Time { return here().Add(95 * time.Second) }
	})
	if status, _, text := w.ask("PUT", "/api/v1/machines/estuary", w.token, `{"key":"`+key+`"}`); status != 204 {
		t.Fatalf("the machine is not admitted: %d %s", status, text)
	}
	w.soon("a clock that differs is told", func() bool {
		return sameStates(w.machines(), map[string]string{"control-room": "fine", "estuary": "clock"})
	})
	now := w.machines()
	for _, m := range now.List {
		if m.Name == "estuary" && (m.Ahead < 90 || m.Ahead > 100 || m.Said == nil || m.Said.After(now.Now) || now.Now.Sub(*m.Said) > 30*time.Second) {
			t.Errorf("at %s it is ahead by %.0f s, and was heard of at %v", now.Now, m.Ahead, m.Said)
		}
	}
	if code, out, errOut := w.run("machine", "list"); code != 0 || !strings.Contains(out, "its clock is 1m3") || !strings.Contains(out, "ahead") {
		t.Errorf("machine list: %d %s%s", code, out, errOut)
	}
	if text := third(w.ask("GET", "/api/v1/today", w.token, "")); !strings.Contains(text, `{"kind":"machines","count":1}`) {
		t.Errorf("today: %s", text)
	}
}
