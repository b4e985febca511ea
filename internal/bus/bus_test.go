package bus_test

import (
	"context"
	"crypto/ed25519"
	"encoding/base64"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"os"
	"sync"
	"testing"
	"time"

	"sentier/enforce"
	"sentier/internal/bus"
	"sentier/internal/decision"
	"sentier/internal/logserver"
	"sentier/internal/policy"
	"sentier/internal/replica"
	"sentier/internal/specimen"
	"sentier/internal/store"
)

var began = time.Date(2026, 11, 24, 10, 0, 0, 0, time.UTC)

// servers is one server of the log, in this process.
func servers(t *testing.T) string {
	t.Helper()
	s := serve(t, t.TempDir(), 0)
	t.Cleanup(s.Stop)
	return s.URL()
}

// serve starts a server of the log on a folder.
func serve(t *testing.T, dir string, port int) *logserver.Server {
	t.Helper()
	s, err := logserver.Start(logserver.Options{Dir: dir, Port: port})
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func connect(t *testing.T, url, name string) *bus.Bus {
	t.Helper()
	b, err := bus.Connect(bus.Options{URL: url, Name: name, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(b.Close)
	return b
}

// writer is a machine that writes.
type writer struct {
	t         *testing.T
	store     *store.Store
	log       *replica.Log
	revisions replica.Revisions
	policy    *policy.Policy
	number    uint64
	all       map[uint64]*policy.Policy
}

func (w *writer) step(m specimen.Maker) {
	w.t.Helper()
	next, done, err := m.Step(w.policy)
	if err != nil || len(done) == 0 {
		return
	}
	w.save(next, done)
}

func (w *writer) save(next *policy.Policy, done []policy.RecordChange) {
	w.t.Helper()
	r := store.Revision{Number: w.number + 1, At: began.Add(time.Duration(w.number) * time.Second), By: "ines.carvalho", Via: "token", Note: "a “reason” <of> some length & more"}
	if err := w.revisions.Append(w.t.Context(), &r, done, store.Saving{}); err != nil {
		w.t.Fatal(err)
	}
	w.policy, w.number = next, r.Number
	w.all[r.Number] = next
}

// writes opens a machine that writes, on a store of its own.
func writes(t *testing.T, b *bus.Bus, dir string, signer *replica.Signer, keys replica.Keys) (*writer, error) {
	t.Helper()
	st, err := store.Open(dir, true)
	if err != nil {
		t.Fatal(err)
	}
	if err := b.Prepare(t.Context()); err != nil {
		t.Fatal(err)
	}
	w, err := writesFrom(t, st, replica.LogOptions{Bus: b, Signer: signer, Keys: keys})
	if w == nil {
		w = &writer{t: t, store: st}
	}
	t.Cleanup(w.close)
	return w, err
}

// writesFrom has a machine write that has its store open.
func writesFrom(t *testing.T, st *store.Store, o replica.LogOptions) (*writer, error) {
	t.Helper()
	w := &writer{t: t, store: st, all: map[uint64]*policy.Policy{}}
	var err error
	o.Local, o.Me, o.Log = st, replica.Writer{Machine: "control-room", URL: "http://127.0.0.1:7480"}, slog.New(slog.DiscardHandler)
	if o.Clock == nil {
		o.Clock = func() time.Time { return began }
	}
	if w.log, err = replica.OpenLog(t.Context(), o); err != nil {
		return nil, err
	}
	w.revisions = replica.Revisions{Kept: st, Log: w.log}
	p, last, err := st.Load(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	w.policy, w.number = p, last.Number
	return w, nil
}

// keeps has the machine tell how far it goes, and take snapshots, until it is called back.
func (w *writer) keeps() (end func()) {
	ctx, stop := context.WithCancel(w.t.Context())
	kept := make(chan struct{})
	go func() { defer close(kept); w.log.Keep(ctx) }()
	return func() { stop(); <-kept }
}

// close gives the folder up, as the end of a process does.
func (w *writer) close() {
	if st := w.store; st != nil {
		w.store = nil
		if err := st.Close(); err != nil {
			w.t.Error(err)
		}
	}
}

// begin makes the first revision in a folder.
func begin(t *testing.T, dir string, p *policy.Policy) {
	t.Helper()
	st, err := store.Open(dir, true)
	if err == nil {
		err = st.Append(t.Context(), &store.Revision{Number: 1, At: began, By: "ines.carvalho", Via: "terminal"}, (&policy.Policy{}).Compare(p), store.Saving{})
	}
	if err := errors.Join(err, st.Close()); err != nil {
		t.Fatal(err)
	}
}

// follower is a machine that follows, and what it had at each revision.
type follower struct {
	*replica.Follower
	dir string
	mu  sync.Mutex
	had map[uint64]*policy.Policy
	end func()
}

func follows(t *testing.T, b *bus.Bus, dir string, keys replica.Keys) *follower {
	t.Helper()
	f := &follower{dir: dir, had: map[uint64]*policy.Policy{}}
	var err error
	if f.Follower, err = replica.OpenFollower(t.Context(), replica.FollowerOptions{Bus: b, Keys: keys, Dir: dir, Log: slog.New(slog.DiscardHandler)}); err != nil {
		t.Fatal(err)
	}
	f.had[f.Copy().Revision.Number] = f.Copy().Policy
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan error, 1)
	go func() {
		done <- f.Run(ctx, func(s replica.Step) {
			f.mu.Lock()
			defer f.mu.Unlock()
			f.had[s.Copy.Revision.Number] = s.Copy.Policy
		})
	}()
	f.end = sync.OnceFunc(func() {
		cancel()
		if err := <-done; err != nil {
			t.Error(err)
		}
	})
	t.Cleanup(f.end)
	return f
}

// until waits for a follower to have a place in the log.
func (f *follower) until(t *testing.T, seq uint64) {
	t.Helper()
	for end := time.Now().Add(20 * time.Second); f.Copy().Seq < seq; {
		moved := f.Moved()
		if f.Copy().Seq >= seq {
			return
		}
		select {
		case <-moved:
		case <-time.After(time.Until(end)):
			t.Fatalf("the follower stands at place %d of the log, and %d is not reached; refused: %v", f.Copy().Seq, seq, f.Problem())
		}
	}
}

func signing(t *testing.T) (*replica.Signer, replica.Keys, ed25519.PublicKey) {
	t.Helper()
	public, key, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}
	signer, err := replica.NewSigner(key)
	if err != nil {
		t.Fatal(err)
	}
	keys, err := replica.Trust(public)
	if err != nil {
		t.Fatal(err)
	}
	return signer, keys, public
}

// TestFollowersHaveEachRevisionAsItWasWritten, whenever they come, with whatever they have on their disks, and however often the line is cut: over a thousand
// random edits.
func TestFollowersHaveEachRevisionAsItWasWritten(t *testing.T) {
	t.Parallel()
	store := t.TempDir()
	s := serve(t, store, 0)
	t.Cleanup(func() { s.Stop() })
	url, port := s.URL(), s.Port()
	signer, keys, public := signing(t)
	m := specimen.Maker{Rand: rand.New(rand.NewPCG(11, 15))}
	home := t.TempDir()
	begin(t, home, m.Whole(t))
	w, err := writes(t, connect(t, url, "control-room"), home, signer, keys)
	if err != nil {
		t.Fatal(err)
	}
	defer w.keeps()()

	early := follows(t, connect(t, url, "estuary"), t.TempDir(), keys)
	comes, old := t.TempDir(), t.TempDir() // of one that comes and goes, and what another had long ago
	gateDir := t.TempDir()
	gate := decides(t, url, public, gateDir)
	for n := range 1000 {
		w.step(m)
		switch n {
		case 60:
			w.know(map[string]string{"token/1": `{"user":"gate"}`, "token/2": `{"user":"panel"}`})
		case 180:
			w.know(map[string]string{"token/2": `{"user":"panel"}`})
		case 100:
			early.until(t, w.log.Seq())
			if err := os.CopyFS(old, os.DirFS(early.dir)); err != nil {
				t.Fatal(err)
			}
		}
		if n%230 == 120 { // the servers are gone for a moment
			s.Stop()
			s = serve(t, store, port)
		}
		if n%90 == 70 { // a gate, and another on a disk as a kill of the first would leave it
			gate.answersAs(t, w)
			killed := t.TempDir()
			if err := os.CopyFS(killed, os.DirFS(gateDir)); err != nil {
				t.Fatal(err)
			}
			second := decides(t, url, public, killed)
			second.answersAs(t, w)
			second.Close()
			if n%180 == 70 { // and the first comes again
				gate.Close()
				gate = decides(t, url, public, gateDir)
			}
		}
		if n%170 == 20 {
			f := follows(t, connect(t, url, "twin-bridges"), comes, keys)
			f.until(t, w.log.Seq())
			sees(t, f, w)
			f.end()
		}
	}
	gate.answersAs(t, w)
	decides(t, url, public, t.TempDir()).answersAs(t, w)
	late := follows(t, connect(t, url, "summit"), t.TempDir(), keys)
	again := follows(t, connect(t, url, "mill-basin"), old, keys)
	for _, f := range []*follower{early, late, again} {
		f.until(t, w.log.Seq())
		sees(t, f, w)
		if _, ok := f.Copy().Facts.Get("token/1"); ok || f.Copy().Facts.Len() != 1 {
			t.Errorf("%d facts are known, want the one of token 2", f.Copy().Facts.Len())
		}
		if p := f.Problem(); p != nil {
			t.Errorf("it has refused %v", p.Err)
		}
	}
	if len(early.had) != len(w.all) && len(early.had) != len(w.all)+1 {
		t.Errorf("the early follower had %d revisions of %d", len(early.had), len(w.all))
	}
}

// gate is an enforcement point that follows by the servers of the log.
type gate struct {
	*enforce.Point
	clock func() time.Time
}

func decides(t *testing.T, url string, key ed25519.PublicKey, dir string) gate {
	t.Helper()
	since := time.Now()
	clock := func() time.Time { return began.Add(time.Since(since)) }
	p, err := enforce.Open(t.Context(), enforce.Options{NATS: url, Keys: []string{base64.StdEncoding.EncodeToString(key)}, Dir: dir, Name: "estuary", Clock: clock})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(p.Close)
	return gate{p, clock}
}

// answersAs waits for a gate to have the last revision, and makes sure that it decides as the writer does.
func (g gate) answersAs(t *testing.T, w *writer) {
	t.Helper()
	for end := time.Now().Add(20 * time.Second); g.Standing().Revision != w.number; time.Sleep(2 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("the gate stands at revision %d, and %d is not reached: %+v", g.Standing().Revision, w.number, g.Standing())
		}
	}
	there, asked := decision.Compile(w.policy), 0
	specimen.EveryQuestion(w.policy, func(q decision.Question) {
		if q.At = g.clock(); asked > 5000 {
			return
		}
		asked++
		want := there.Decide(&q)
		got := g.Decide(&enforce.Question{User: string(q.User), Right: string(q.Right), Device: string(q.Device), Point: string(q.Point)})
		if got.Allowed != want.Allowed || fmt.Sprint(got.Reason) != fmt.Sprint(want.Reason) {
			t.Fatalf("at revision %d the gate answers %+v with %v %s, and the writer with %v %s", w.number, q, got.Allowed, got.Reason, want.Allowed, want.Reason)
		}
	})
}

func (w *writer) know(facts map[string]string) {
	w.t.Helper()
	if err := w.log.Know(w.t.Context(), facts); err != nil {
		w.t.Fatal(err)
	}
}

// sees makes sure that a follower had the policy of each revision that it had, and answers from the last as the writer does.
func sees(t *testing.T, f *follower, w *writer) {
	t.Helper()
	f.mu.Lock()
	defer f.mu.Unlock()
	for number, p := range f.had {
		if want := w.all[number]; want != nil && len(want.Compare(p)) > 0 {
			t.Fatalf("revision %d is another here: %v", number, specimen.Keys(want.Compare(p)))
		}
	}
	if f.Copy().Revision.Number != w.number {
		t.Fatalf("the follower is at revision %d, the writer at %d", f.Copy().Revision.Number, w.number)
	}
	here, there := decision.Compile(f.Copy().Policy), decision.Compile(w.policy)
	specimen.EveryQuestion(w.policy, func(q decision.Question) {
		if got, want := here.Decide(&q), there.Decide(&q); got.Allowed != want.Allowed || got.Reason != want.Reason {
			t.Fatalf("%+v is answered %v %s, by the writer %v %s", q, got.Allowed, got.Reason, want.Allowed, want.Reason)
		}
	})
}

// TestTwoFoldersAndOneLog: a folder that is behind the log takes over what it lacks, one that is before it tells it, one that has gone another way is
// refused; and whoever began to write first writes no more.
func TestTwoFoldersAndOneLog(t *testing.T) {
	t.Parallel()
	url := servers(t)
	signer, keys, _ := signing(t)
	m := specimen.Maker{Rand: rand.New(rand.NewPCG(7, 15))}
	first, second, third := t.TempDir(), t.TempDir(), t.TempDir()
	p := m.Whole(t)
	for _, dir := range []string{first, second, third} {
		begin(t, dir, p)
	}
	a, err := writes(t, connect(t, url, "control-room"), first, signer, keys)
	if err != nil {
		t.Fatal(err)
	}
	for range 20 {
		a.step(m)
	}
	b, err := writes(t, connect(t, url, "works-yard"), second, signer, keys)
	if err != nil {
		t.Fatal(err)
	}
	if b.number != a.number || len(a.policy.Compare(b.policy)) > 0 {
		t.Fatalf("the second folder is at revision %d, the first at %d", b.number, a.number)
	}
	if v, err := b.store.Verify(t.Context()); err != nil || v.Revisions != a.number {
		t.Errorf("what was taken over is not whole: %+v %v", v, err)
	}
	b.step(m)
	b.step(m)
	_, done, err := a.policy.Apply([]policy.Change{specimen.Put(&policy.User{ID: "noor", Name: "Noor", Kind: policy.Person, Status: policy.Active})})
	if err != nil {
		t.Fatal(err)
	}
	late := store.Revision{Number: a.number + 1, At: began, By: "ines.carvalho"}
	if err := a.revisions.Append(t.Context(), &late, done, store.Saving{}); !errors.Is(err, replica.ErrMoved) {
		t.Errorf("whoever wrote before writes on: %v", err)
	}
	if _, last, err := a.store.Load(t.Context()); err != nil || last.Number != a.number {
		t.Errorf("what the log refused was kept: revision %d, %v", last.Number, err)
	}
	// A folder that was written to on its own has gone another way.
	alone, err := store.Open(third, true)
	if err == nil {
		err = errors.Join(alone.Append(t.Context(), &store.Revision{Number: 2, At: began, By: "ines.carvalho"}, p.Compare(mustApply(t, p)), store.Saving{}), alone.Close())
	}
	if err != nil {
		t.Fatal(err)
	}
	var diverged *replica.DivergedError
	if _, err := writes(t, connect(t, url, "works-yard"), third, signer, keys); !errors.As(err, &diverged) || diverged.Number != 2 {
		t.Errorf("a folder that has gone another way begins to write: %v", err)
	}
	// A folder that is before the log, as after “sentier recover-owner”, tells it.
	b.close()
	ahead, err := store.Open(second, true)
	if err != nil {
		t.Fatal(err)
	}
	r := store.Revision{Number: b.number + 1, At: began, By: "ines.carvalho", Via: "recovery"}
	if err := errors.Join(ahead.Append(t.Context(), &r, b.policy.Compare(mustApply(t, b.policy)), store.Saving{}), ahead.Close()); err != nil {
		t.Fatal(err)
	}
	c, err := writes(t, connect(t, url, "works-yard"), second, signer, keys)
	if err != nil {
		t.Fatal(err)
	}
	defer c.keeps()()
	f := follows(t, connect(t, url, "estuary"), t.TempDir(), keys)
	f.until(t, c.log.Seq())
	sees(t, f, c)
}

func mustApply(t *testing.T, p *policy.Policy) *policy.Policy {
	t.Helper()
	next, _, err := p.Apply([]policy.Change{specimen.Put(&policy.User{ID: "tomas", Name: "Tomas", Kind: policy.Person, Status: policy.Active})})
	if err != nil {
		t.Fatal(err)
	}
	return next
}
