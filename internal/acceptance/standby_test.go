package acceptance

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"sentier/internal/daemon"
	"sentier/internal/database"
	"sentier/internal/logserver"
	"sentier/internal/specimen"
	"sentier/internal/store"
	"sentier/internal/wire"
)

// peers are machines that may write, each a process of its own.
type peers struct {
	t     *testing.T
	nats  string
	count int // of servers of the log
	seal  string
	token string
	of    []*peer
	halt  func()                                 // ends the servers of the log
	wrap  func(p *peer, cmd *exec.Cmd) *exec.Cmd // where a machine runs; nil: here
}

type peer struct {
	name, dir, at, key string
	listens            string // empty: at
	now                *process
	down               atomic.Bool
}

// startPeers starts machines as the drill has it: the first, and the others from a backup of it.
func startPeers(t *testing.T, servers *logServers, names ...string) *peers {
	t.Helper()
	p := &peers{t: t, nats: servers.url(), count: len(servers.of), halt: servers.stop, seal: filepath.Join(t.TempDir(), "sealing.key")}
	free, err := logserver.FreeAddresses(len(names))
	if err != nil {
		t.Fatal(err)
	}
	for i, name := range names {
		p.of = append(p.of, &peer{name: name, dir: filepath.Join(t.TempDir(), name), at: free[i]})
	}
	p.seed(p.of[0].dir)
	for _, x := range p.of {
		p.start(x)
	}
	p.tellOfFailure()
	if status, _, text := p.world(p.of[0]).ask("POST", "/api/v1/machines/"+names[1]+"/promote", p.token, ""); status != 400 {
		t.Errorf("a machine that nobody has admitted is promoted: %d %s", status, text)
	}
	p.admit()
	return p
}

// tellOfFailure has what each machine says, has logged and waits for printed where the test fails.
func (p *peers) tellOfFailure() {
	p.t.Cleanup(func() {
		if !p.t.Failed() {
			return
		}
		for _, x := range p.of {
			_, stands := p.get(x, "/api/v1/machines")
			_ = x.now.end(syscall.SIGQUIT) // which tells what it waits for
			p.t.Logf("%s says %s and has told:\n%s", x.name, stands, x.now.log)
		}
	})
}

// seed makes the first folder, a copy of it for each of the others, and the keys of all.
func (p *peers) seed(first string) {
	p.t.Helper()
	p.token = begin(p.t, binary(p.t), first)
	alone := launch(p.t, binary(p.t), "serve", "--data", first, "--listen", "127.0.0.1:0")
	w := &world{t: p.t, url: alone.url, token: p.token}
	file := filepath.Join(p.t.TempDir(), "backup.db")
	if code, _, errOut := w.run("backup", file); code != 0 {
		p.t.Fatalf("backup: %s", errOut)
	}
	if err := alone.end(syscall.SIGTERM); err != nil {
		p.t.Fatal(err)
	}
	for _, x := range p.of {
		if x.dir != first {
			if code, _, errOut := runCLI(p.t, "", "restore", file, "--data", x.dir); code != 0 {
				p.t.Fatalf("restore: %s", errOut)
			}
		}
		var err error
		if _, x.key, err = daemon.Machine(daemon.Options{Dir: x.dir, Line: daemon.Line{Machine: x.name}}); err != nil {
			p.t.Fatal(err)
		}
	}
}

// start starts a machine, and waits until it answers.
func (p *peers) start(x *peer) {
	p.t.Helper()
	args := []string{"serve", "--data", x.dir, "--listen", cmp.Or(x.listens, x.at), "--machine", x.name, "--nats", p.nats, "--nats-replicas", strconv.Itoa(p.count), "--sealing-key", p.seal}
	for _, other := range p.of {
		if other != x {
			args = append(args, "--writer-key", other.key)
		}
	}
	cmd := exec.Command(binary(p.t), args...)
	if p.wrap != nil {
		cmd = p.wrap(x, cmd)
	}
	x.now = launchedLate(p.t, cmd, answersAt)
	x.down.Store(false)
}

// world is the service as one sees it from a machine.
func (p *peers) world(x *peer) *world { return &world{t: p.t, url: "http://" + x.at, token: p.token} }

// admit has what the machines record come into the records of all.
func (p *peers) admit() {
	p.t.Helper()
	for _, x := range p.of[1:] {
		if status, _, text := p.world(p.of[0]).ask("PUT", "/api/v1/machines/"+x.name, p.token, `{"key":"`+x.key+`"}`); status != 204 {
			p.t.Fatalf("%s is not admitted: %d %s", x.name, status, text)
		}
	}
}

// writer is the machine that writes, as some machine that runs knows it.
func (p *peers) writer() *peer {
	p.t.Helper()
	var found *peer
	p.world(p.of[0]).soon("some machine writes", func() bool {
		for _, x := range p.of {
			if x.down.Load() {
				continue
			}
			status, text := p.get(x, "/api/v1/machines")
			var out wire.Machines
			if status != 200 || json.Unmarshal([]byte(text), &out) != nil {
				continue
			}
			for _, m := range out.List {
				if i := slices.IndexFunc(p.of, func(x *peer) bool { return x.name == m.Name }); m.Role == "writer" && !p.of[i].down.Load() {
					found = p.of[i]
					return true
				}
			}
		}
		return false
	})
	return found
}

// get asks a machine that may be killed meanwhile.
func (p *peers) get(x *peer, path string) (int, string) {
	return asked(x.at, p.token, "GET", path, "")
}

func asked(at, token, method, path, body string) (int, string) {
	req, err := http.NewRequest(method, "http://"+at+path, strings.NewReader(body))
	if err != nil {
		return 0, err.Error()
	}
	req.Header.Set("Authorization", "Bearer "+token)
	resp, err := (&http.Client{Timeout: 15 * time.Second}).Do(req)
	if err != nil {
		return 0, err.Error()
	}
	defer resp.Body.Close()
	var text bytes.Buffer
	if _, err := text.ReadFrom(resp.Body); err != nil {
		return 0, err.Error()
	}
	return resp.StatusCode, text.String()
}

// editors make edits at any machine until they are told to end: each goes on to the next edit when one is acknowledged. They keep what was.
type editors struct {
	p     *peers
	ended atomic.Bool
	all   sync.WaitGroup

	mu   sync.Mutex
	made map[uint64]string // path of what was added, by revision
	has  []string          // users that are there
	last time.Time         // that something was acknowledged
	gap  time.Duration     // the longest without
}

func (p *peers) edits(count int) *editors {
	e := &editors{p: p, made: map[uint64]string{}, last: time.Now()}
	for i := range count {
		e.all.Go(func() {
			for n := 0; !e.ended.Load(); n++ {
				time.Sleep(50 * time.Millisecond) // what they ask leaves room for the machines
				e.edit(fmt.Sprintf("/api/v1/users/keeper-%d-%d", i, n))
			}
		})
	}
	return e
}

// edit makes one edit, until some machine says that it is made.
func (e *editors) edit(path string) {
	for !e.ended.Load() {
		x := e.p.of[rand.IntN(len(e.p.of))]
		id := path[strings.LastIndexByte(path, '/')+1:]
		status, text := asked(x.at, e.p.token, "PUT", path, `{"id":"`+id+`","name":"Keeper"}`)
		var saved wire.Saved
		if status != 200 && status != 201 || json.Unmarshal([]byte(text), &saved) != nil {
			time.Sleep(300 * time.Millisecond)
			continue
		}
		e.mu.Lock()
		defer e.mu.Unlock()
		now := time.Now()
		e.gap, e.last = max(e.gap, now.Sub(e.last)), now
		if other, ok := e.made[uint64(saved.Revision)]; ok && len(saved.Changes) > 0 {
			e.p.t.Errorf("revision %d was acknowledged twice: %s and %s", saved.Revision, other, path)
		}
		if len(saved.Changes) > 0 { // else an earlier try had made it, and was not heard of
			e.made[uint64(saved.Revision)] = path
		}
		e.has = append(e.has, id)
		return
	}
}

// more waits until so many more edits were acknowledged.
func (e *editors) more(count int) {
	e.p.t.Helper()
	number := func() int { e.mu.Lock(); defer e.mu.Unlock(); return len(e.has) }
	until := number() + count
	e.p.world(e.p.of[0]).soon("edits are made", func() bool { return number() >= until })
}

func (e *editors) end() {
	e.ended.Store(true)
	e.all.Wait()
}

// questioners ask every machine that runs, and each must answer.
func (p *peers) questions() (end func()) {
	var over atomic.Bool
	var all sync.WaitGroup
	for _, x := range p.of {
		all.Go(func() {
			for !over.Load() {
				before := x.down.Load()
				status, text := asked(x.at, p.token, "POST", "/access/v1/evaluation", askTomas)
				if status != 200 && !before && !x.down.Load() {
					p.t.Errorf("%s answers a question with %d %s", x.name, status, text)
				}
				time.Sleep(50 * time.Millisecond)
			}
		})
	}
	return func() { over.Store(true); all.Wait() }
}

// kills is how many rounds there are: in two of three the machine that writes is killed, and in the third it is held for a while.
func kills() int {
	if n, err := strconv.Atoi(os.Getenv("SENTIER_KILLS")); err == nil {
		return n
	}
	return 2
}

// TestTheWriterIsKilled, again and again under sixteen editors: another machine takes over by itself, nothing that was acknowledged is lost, no two write, what
// is asked is answered all the time, and all come to have the same, to the byte.
func TestTheWriterIsKilled(t *testing.T) {
	t.Parallel()
	p := startPeers(t, startLogServers(t, 3), "control-room", "estuary", "twin-bridges")
	e, answered := p.edits(16), p.questions()
	for n := range kills() {
		e.more(20)
		w := p.writer()
		w.down.Store(true)
		if n%3 == 1 { // it is only held, and believes for a while that it writes
			if err := w.now.cmd.Process.Signal(syscall.SIGSTOP); err != nil {
				t.Fatal(err)
			}
			p.writer()
			if err := w.now.cmd.Process.Signal(syscall.SIGCONT); err != nil {
				t.Fatal(err)
			}
			w.down.Store(false)
			continue
		}
		_ = w.now.end(syscall.SIGKILL) // which is how it ended
		p.writer()
		p.start(w)
	}
	e.more(20)
	e.end()
	answered()
	t.Logf("%d edits, the longest time without one %s", len(e.made), e.gap.Round(time.Millisecond))
	// And handed over, with nobody killed.
	next := p.of[(slices.Index(p.of, p.writer())+1)%3]
	w := p.world(p.of[0])
	w.soon("the others have all that there is", func() bool {
		return sameStates(w.machines(), map[string]string{"control-room": "fine", "estuary": "fine", "twin-bridges": "fine"})
	})
	if code, out, errOut := w.run("promote", next.name); code != 0 || p.writer() != next {
		t.Errorf("promoted: %d %s%s", code, out, errOut)
	}
	for _, x := range p.of {
		if _, text := p.get(x, "/metrics"); strings.Contains(text, "\nsentier_writer 1\n") != (x == next) {
			t.Errorf("by its figures, whether %s writes is otherwise than it is", x.name)
		}
		said := ""
		w.soon("an edit is taken at "+x.name, func() bool { // the one that wrote says for a moment that it has not heard which one does
			var code int
			code, _, said = p.world(x).run("user", "add", "after-"+x.name, "--name", "After")
			if code != 0 && !strings.Contains(said, "has not heard from the servers of the log which one does") {
				t.Fatalf("an edit at %s after that: %s", x.name, said)
			}
			return code == 0
		})
	}
	p.haveAll(e)
}

// haveAll ends the machines and looks at what they have: each edit that was acknowledged, and each the same.
func (p *peers) haveAll(e *editors) {
	t := p.t
	t.Helper()
	w := p.world(p.of[0])
	last := w.revision(p.token)
	w.soon("every machine has what the last revision did", func() bool {
		for _, x := range p.of {
			_, text := p.get(x, "/api/v1/machines")
			if strings.Count(text, fmt.Sprintf(`"revision":%d,`, last)) != len(p.of) {
				return false
			}
		}
		return true
	})
	w.soon("every record has what all have recorded", func() bool {
		return !strings.Contains(third(w.ask("GET", "/api/v1/machines", p.token, "")), `"waiting"`)
	})
	p.halt() // or whoever is ended last keeps by itself when tokens were used
	for _, x := range p.of {
		if err := x.now.end(syscall.SIGTERM); err != nil {
			t.Errorf("%s ended with %v", x.name, err)
		}
	}
	var first string
	for i, x := range p.of {
		found, err := daemon.Verify(t.Context(), x.dir)
		if err != nil || !found.Whole {
			t.Errorf("%s: %+v %v", x.name, found, err)
		}
		text := p.kept(x, e)
		if i == 0 {
			first = text
		} else if text != first {
			t.Errorf("%s has something else than %s:\n%s", x.name, p.of[0].name, firstDifference(first, text))
		}
	}
}

// kept is all that a machine has of what each has to have; every edit that was acknowledged is among it.
func (p *peers) kept(x *peer, e *editors) string {
	t := p.t
	t.Helper()
	db, err := database.Open(filepath.Join(x.dir, store.FileName), database.ToWrite, 1)
	if err != nil {
		t.Fatal(err)
	}
	defer func() {
		if err := database.Close(db); err != nil {
			t.Error(err)
		}
	}()
	for revision, path := range e.made {
		var ids []string
		if err := db.Raw("SELECT id FROM changes WHERE revision = ? AND type = 'users'", revision).Scan(&ids).Error; err != nil {
			t.Fatal(err)
		}
		if !strings.HasSuffix(path, "/"+strings.Join(ids, "+")) {
			t.Errorf("at %s revision %d added %v, and was acknowledged as %s", x.name, revision, ids, path)
		}
	}
	var users []string
	if err := db.Raw("SELECT id FROM records WHERE type = 'users'").Scan(&users).Error; err != nil {
		t.Fatal(err)
	}
	there := map[string]bool{}
	for _, id := range users {
		there[id] = true
	}
	for _, id := range e.has {
		if !there[id] {
			t.Errorf("%s has not got %s, which was acknowledged", x.name, id)
		}
	}
	return specimen.Kept(t, x.dir)
}

// firstDifference are the first lines of two texts that differ.
func firstDifference(a, b string) string {
	one, other := strings.Split(a, "\n"), strings.Split(b, "\n")
	for i := range min(len(one), len(other)) {
		if one[i] != other[i] {
			return one[i] + "\n" + other[i]
		}
	}
	return fmt.Sprintf("%d and %d lines", len(one), len(other))
}
