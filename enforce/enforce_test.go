package enforce_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"sentier/enforce"
	"sentier/internal/daemon"
	"sentier/internal/decision"
	"sentier/internal/demo"
)

// service is the Larkmere Navigation, as a service that points follow.
type service struct {
	t        testing.TB
	dir, url string
	token    string
	keys     []string
	d        *daemon.Daemon
	stop     func()
}

const password = "a long password"

func begin(t testing.TB) *service {
	t.Helper()
	s := &service{t: t, dir: t.TempDir()}
	s.start("127.0.0.1:0", true)
	t.Cleanup(func() { s.stop() })
	return s
}

func (s *service) start(listen string, first bool) {
	s.t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	o := daemon.Options{Dir: s.dir, Listen: listen, Log: slog.New(slog.DiscardHandler), Version: "test"}
	d, err := daemon.Open(ctx, o)
	if err != nil {
		s.t.Fatal(err)
	}
	if first {
		p, err := demo.At(time.Now())
		if err == nil {
			err = d.Prepare(ctx, daemon.Beginning{Owner: demo.Owner, Name: "Ines Carvalho", Password: password, Policy: p})
		}
		if err == nil {
			s.token, err = d.OwnerToken(ctx, demo.Owner, "test")
		}
		if err != nil {
			s.t.Fatal(err)
		}
	}
	_, key, err := daemon.Machine(o)
	if err != nil {
		s.t.Fatal(err)
	}
	s.keys, s.url, s.d = []string{key}, d.Address(), d
	ended := make(chan error, 1)
	go func() { ended <- d.Run(ctx) }()
	over := false
	s.stop = func() {
		if over {
			return
		}
		over = true
		cancel()
		if err := <-ended; err != nil {
			s.t.Errorf("the service ended with %v", err)
		}
	}
}

// ask sends a request as the owner, and reads the answer.
func (s *service) ask(method, path, body string, out any) {
	s.t.Helper()
	req, err := http.NewRequest(method, s.url+path, bytes.NewReader([]byte(body)))
	if err != nil {
		s.t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+s.token)
	req.Header.Set("Content-Type", "application/json")
	if method == "PATCH" {
		req.Header.Set("Content-Type", "application/merge-patch+json")
	}
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		s.t.Fatal(err)
	}
	defer resp.Body.Close()
	if resp.StatusCode >= 300 {
		var text bytes.Buffer
		text.ReadFrom(resp.Body)
		s.t.Fatalf("%s %s: %d %s", method, path, resp.StatusCode, text.String())
	}
	if out != nil {
		if err := json.NewDecoder(resp.Body).Decode(out); err != nil {
			s.t.Fatal(err)
		}
	}
}

func (s *service) open(change func(*enforce.Options)) *enforce.Point {
	s.t.Helper()
	o := enforce.Options{Service: s.url, Token: s.token, Keys: s.keys, Dir: s.t.TempDir()}
	if change != nil {
		change(&o)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	p, err := enforce.Open(ctx, o)
	if err != nil {
		s.t.Fatal(err)
	}
	s.t.Cleanup(p.Close)
	return p
}

// until waits for a point to stand as it should.
func until(t testing.TB, p *enforce.Point, what string, so func(enforce.Standing) bool) {
	t.Helper()
	for end := time.Now().Add(20 * time.Second); !so(p.Standing()); {
		changed := p.Changed()
		if so(p.Standing()) {
			return
		}
		select {
		case <-changed:
		case <-time.After(50 * time.Millisecond):
		}
		if time.Now().After(end) {
			t.Fatalf("it never came to be: %s; the point stands so: %+v", what, p.Standing())
		}
	}
}

// mast is something that everybody may look at.
var mast = enforce.Question{User: "tomas.field", Right: "view", Device: "twin-mast"}

// TestAPointAnswersAsTheServiceDoes after each of many edits, which it follows over HTTP.
func TestAPointAnswersAsTheServiceDoes(t *testing.T) {
	t.Parallel()
	s := begin(t)
	p := s.open(nil)
	devices := []string{"twin-bridge-north", "mill-bridge", "twin-mast", "alder-gate-1"}
	for n := range 40 {
		var saved struct{ Revision uint64 }
		switch n % 4 {
		case 0, 2:
			s.ask([]string{"PUT", "", "DELETE"}[n%4], "/api/v1/user_groups/bridge-crew/members/noor.haddad", "", &saved)
		case 1:
			s.ask("PATCH", "/api/v1/devices/twin-mast", fmt.Sprintf(`{"lockout":{"by":"ines.carvalho","reason":"divers, round %d"}}`, n), &saved)
		case 3:
			s.ask("PATCH", "/api/v1/devices/twin-mast", `{"lockout":null}`, &saved)
		}
		until(t, p, fmt.Sprintf("revision %d is here", saved.Revision), func(at enforce.Standing) bool { return at.Revision >= saved.Revision })
		for _, user := range []string{"noor.haddad", "tomas.field", "nobody.known"} {
			for _, device := range devices {
				for _, right := range []string{"view", "control", "release"} {
					var want struct {
						Decision bool
						Context  struct{ Reason string }
					}
					s.ask("POST", "/access/v1/evaluation", fmt.Sprintf(`{"subject":{"type":"user","id":%q},"action":{"name":%q},"resource":{"type":"device","id":%q}}`, user, right, device), &want)
					q := enforce.Question{User: user, Right: right, Device: device}
					if got, full := p.Decide(&q), p.Ask(&q); got.Allowed != want.Decision || string(got.Reason) != want.Context.Reason || full.Verdict != got {
						t.Fatalf("%+v is answered %+v and %+v, by the service %+v", q, got, full, want)
					}
				}
			}
		}
	}
}

// TestAPointWithoutALine goes on from its disk; what is granted ends with its time, what is denied never does; and it follows on when the service is back.
func TestAPointWithoutALine(t *testing.T) {
	t.Parallel()
	s := begin(t)
	dir := t.TempDir()
	p := s.open(func(o *enforce.Options) { o.Dir, o.Lasts = dir, 4*time.Second })
	until(t, p, "it is current", func(at enforce.Standing) bool { return at.Closed == "" && !at.Since.IsZero() })
	if a := p.Ask(&mast); !a.Allowed || a.Until.IsZero() || a.Until.Sub(a.At) > 4*time.Second {
		t.Errorf("while the line stands: %+v", a)
	}
	listen := s.url[len("http://"):]
	s.stop()
	if a := p.Ask(&mast); !a.Allowed {
		t.Errorf("just after the line was cut: %+v", a)
	}
	stranger := enforce.Question{User: "nobody.known", Right: "control", Device: "mill-bridge"}
	until(t, p, "what is granted holds no more", func(at enforce.Standing) bool { return at.Closed == enforce.NotCurrent })
	if v := p.Decide(&mast); v.Allowed || v.Reason != enforce.NotCurrent {
		t.Errorf("long after the line was cut: %+v", v)
	}
	if v := p.Decide(&stranger); v.Allowed || string(v.Reason) != decision.UnknownUser.String() {
		t.Errorf("a denial long after: %+v", v)
	}
	p.Close()
	old := s.open(func(o *enforce.Options) { o.Dir, o.Lasts = dir, time.Hour }) // by what the disk has
	if a := old.Ask(&mast); !a.Allowed {
		t.Errorf("started without a line: %+v, %+v", a, old.Standing())
	}
	s.start(listen, false)
	s.ask("PATCH", "/api/v1/users/tomas.field", `{"status":"suspended"}`, nil)
	until(t, old, "it follows on", func(enforce.Standing) bool { return !old.Decide(&mast).Allowed })
	if v := old.Decide(&mast); string(v.Reason) != decision.UserSuspended.String() {
		t.Errorf("after the service is back: %+v", v)
	}
}

// TestAClockThatJumps opens nothing until the service was heard again; and one that differs from that of the service opens nothing.
func TestAClockThatJumps(t *testing.T) {
	t.Parallel()
	s := begin(t)
	var ahead atomic.Int64
	p := s.open(func(o *enforce.Options) {
		o.Clock = func() time.Time { return time.Now().Add(time.Duration(ahead.Load())) }
	})
	until(t, p, "it is current", func(at enforce.Standing) bool { return at.Closed == "" })
	for _, by := range []time.Duration{10 * time.Second, -20 * time.Second} {
		ahead.Add(int64(by))
		until(t, p, "the jump is seen", func(at enforce.Standing) bool { return at.Closed == enforce.ClockMoved })
		if v := p.Decide(&mast); v.Allowed || v.Reason != enforce.ClockMoved {
			t.Errorf("while the clock has jumped by %s: %+v", by, v)
		}
		until(t, p, "the service was heard again", func(at enforce.Standing) bool { return at.Closed == "" })
	}
	ahead.Store(int64(time.Hour))
	until(t, p, "the jump is seen", func(at enforce.Standing) bool { return at.Closed == enforce.ClockMoved })
	time.Sleep(2500 * time.Millisecond) // two beats
	if v := p.Decide(&mast); v.Allowed {
		t.Errorf("an hour from the service: %+v", v)
	}
	for _, by := range []time.Duration{10 * time.Minute, -10 * time.Minute} { // it never jumps: it was wrong when the point began
		wrong := s.open(func(o *enforce.Options) { o.Clock = func() time.Time { return time.Now().Add(by) } })
		until(t, wrong, "another time is seen", func(at enforce.Standing) bool { return at.Closed == enforce.ClockMoved })
	}
}

// TestWhatAPointDoesNotTake: keys that it was not given, tokens that are none, options that say nothing.
func TestWhatAPointDoesNotTake(t *testing.T) {
	t.Parallel()
	s := begin(t)
	other := begin(t)
	for name, change := range map[string]func(*enforce.Options){
		"another key":     func(o *enforce.Options) { o.Keys = other.keys },
		"a made-up token": func(o *enforce.Options) { o.Token = "sentier_made-up" },
		"no key":          func(o *enforce.Options) { o.Keys = nil },
		"no folder":       func(o *enforce.Options) { o.Dir = "" },
		"two ways":        func(o *enforce.Options) { o.NATS = "nats://127.0.0.1:1" },
		"a missing file":  func(o *enforce.Options) { o.Service, o.Snapshot = "", "/nowhere" },
	} {
		o := enforce.Options{Service: s.url, Token: s.token, Keys: s.keys, Dir: t.TempDir()}
		change(&o)
		ctx, cancel := context.WithTimeout(t.Context(), 1500*time.Millisecond)
		if p, err := enforce.Open(ctx, o); err == nil {
			t.Errorf("a point opens with %s", name)
			p.Close()
		}
		cancel()
	}
}

// TestASnapshotThatIsCarried decides by it, and a newer one takes its place.
func TestASnapshotThatIsCarried(t *testing.T) {
	t.Parallel()
	s := begin(t)
	dir := t.TempDir()
	carry := func(name string) string {
		t.Helper()
		req, err := http.NewRequest("GET", s.url+"/api/v1/snapshot", nil)
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+s.token)
		resp, err := http.DefaultClient.Do(req)
		if err != nil || resp.StatusCode != 200 {
			t.Fatal(resp, err)
		}
		defer resp.Body.Close()
		path := filepath.Join(t.TempDir(), name)
		file, err := os.Create(path)
		if err == nil {
			_, err = file.ReadFrom(resp.Body)
		}
		if err := errors.Join(err, file.Close()); err != nil {
			t.Fatal(err)
		}
		return path
	}
	point := func(path string, lasts time.Duration) *enforce.Point {
		return s.open(func(o *enforce.Options) { o.Service, o.Snapshot, o.Dir, o.Lasts = "", path, dir, lasts })
	}
	first := carry("first")
	p := point(first, time.Hour)
	if a := p.Ask(&mast); !a.Allowed {
		t.Fatalf("by the snapshot: %+v %+v", a, p.Standing())
	}
	p.Close()
	s.ask("PATCH", "/api/v1/users/tomas.field", `{"status":"suspended"}`, nil)
	p = point(carry("second"), time.Hour)
	if v := p.Decide(&mast); v.Allowed {
		t.Errorf("by a newer snapshot: %+v", v)
	}
	p.Close()
	p = point(first, time.Hour) // an older one is none that is taken
	if v := p.Decide(&mast); v.Allowed {
		t.Errorf("by an older snapshot that was carried again: %+v", v)
	}
	p.Close()
	time.Sleep(50 * time.Millisecond)
	p = point(first, time.Millisecond)
	if v := p.Decide(&enforce.Question{User: "lena.marsh", Right: "view", Device: "twin-mast"}); v.Reason != enforce.NotCurrent {
		t.Errorf("by one that is too old: %+v", v)
	}
}

// BenchmarkDecide is a decision in the process, held against the core's own.
func BenchmarkDecide(b *testing.B) {
	s := begin(b)
	p := s.open(nil)
	compiled := decision.Compile(s.d.Service.State().Policy)
	b.Run("core", func(b *testing.B) {
		b.ReportAllocs()
		for b.Loop() {
			q := decision.Question{User: "tomas.field", Right: "view", Device: "twin-mast", At: time.Now()}
			compiled.Decide(&q)
		}
	})
	b.Run("enforce", func(b *testing.B) {
		b.ReportAllocs()
		for b.Loop() {
			q := enforce.Question{User: "tomas.field", Right: "view", Device: "twin-mast"}
			p.Decide(&q)
		}
	})
}

// ExamplePoint_Middleware guards the handler that opens a bridge.
func ExamplePoint_Middleware() {
	t := &testing.T{}
	s := begin(t)
	defer s.stop()
	point := s.open(nil)
	defer point.Close()

	guarded := point.Middleware(func(r *http.Request) (enforce.Question, bool) {
		user := r.Header.Get("Proved-User") // which whoever stands before it has proved
		return enforce.Question{User: user, Right: "view", Device: "twin-mast"}, user != ""
	})(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, "12 m/s") }))
	for _, user := range []string{"tomas.field", "nobody.known", ""} {
		r := httptest.NewRequest("GET", "/wind", nil)
		r.Header.Set("Proved-User", user)
		w := httptest.NewRecorder()
		guarded.ServeHTTP(w, r)
		fmt.Println(w.Code)
	}
	// Output:
	// 200
	// 403
	// 401
}
