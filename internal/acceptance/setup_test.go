package acceptance

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"sentier/internal/daemon"
	"sentier/internal/wire"
	"sentier/web"
)

// blank is a service that has no policy yet, with the code that its start has printed.
func blank(t *testing.T) (w *world, code string, forward func(time.Duration)) {
	t.Helper()
	var by atomic.Int64
	clock := daemon.ClockFrom(testNow(t))
	ctx, stop := context.WithCancel(context.Background())
	d, err := daemon.Open(ctx, daemon.Options{
		Dir: t.TempDir(), Listen: "127.0.0.1:0", Clock: func() time.Time { return clock().Add(time.Duration(by.Load())) },
		Console: web.Console(), Log: slog.New(slog.DiscardHandler), Version: "test",
	})
	if err != nil {
		t.Fatal(err)
	}
	code, _ = d.Service.MakeSetUpCode()
	runs(t, d, ctx, stop)
	return &world{t: t, url: d.Address(), owner: d}, code, func(d time.Duration) { by.Add(int64(d)) }
}

// TestTheFirstOwnerComesByTheCode: who has the code that the start has printed becomes the owner, once, and within the hour; nobody else does.
func TestTheFirstOwnerComesByTheCode(t *testing.T) {
	t.Parallel()
	w, code, forward := blank(t)
	setUp := func(code, name, password string) (int, string) {
		t.Helper()
		status, _, body := w.ask("POST", "/api/v1/set-up", "", fmt.Sprintf(`{"code":%q,"name":%q,"password":%q,"terminal":true}`, code, name, password))
		return status, body
	}
	if _, _, body := w.ask("GET", "/api/v1/set-up", "", ""); !strings.Contains(body, `"needed":true`) {
		t.Errorf("a service without an owner says %s", body)
	}
	for _, x := range []struct{ code, name, password, says string }{
		{"AAAAAA-AAAAAA-AAAAAA-AAAAAA", "Ines Carvalho", password, "is not the set-up code"},
		{"", "Ines Carvalho", password, "code"},
		{code, " ", password, "say who you are"},
		{code, "Ines Carvalho", "short", "characters"},
		{code, "Ines Carvalho", "password12345", "commonly made of"},
	} {
		if status, body := setUp(x.code, x.name, x.password); status != 400 || !strings.Contains(body, x.says) {
			t.Errorf("with %q, %q, %q: %d %s", x.code, x.name, x.password, status, body)
		}
	}
	if status, _, _ := w.ask("GET", "/api/v1/users", "", ""); status != 401 {
		t.Errorf("before there is an owner, the users: %d", status)
	}
	forward(61 * time.Minute)
	if status, body := setUp(code, "Ines Carvalho", password); status != 400 || !strings.Contains(body, "good no more") {
		t.Errorf("after an hour: %d %s", status, body)
	}
	code, _ = w.owner.Service.MakeSetUpCode()
	status, body := setUp(strings.ToLower(strings.ReplaceAll(code, "-", " ")), "Ines Carvalho", password)
	var session wire.Session
	if err := json.Unmarshal([]byte(body), &session); err != nil || status != 200 || session.User.ID != "ines-carvalho" || strings.Join(session.Mandates, " ") != "owner" {
		t.Fatalf("%d %s (%v)", status, body, err)
	}
	if status, _, _ := w.ask("PUT", "/api/v1/kinds/gate", session.Token, `{"id":"gate","name":"Gate"}`); status >= 300 {
		t.Errorf("the first change: %d", status)
	}
	if status, _ := setUp(code, "Somebody Else", password); status != 404 {
		t.Errorf("the same code again: %d", status)
	}
	if _, _, body := w.ask("GET", "/api/v1/set-up", "", ""); !strings.Contains(body, `"needed":false`) {
		t.Errorf("a service with an owner says %s", body)
	}
	if status, _, _ := w.ask("POST", "/api/v1/session", "", `{"user":"ines-carvalho","password":"`+password+`"}`); status != 200 {
		t.Errorf("signing in: %d", status)
	}
}

// TestSetUpInTheConsole is the first thing that anybody does with a service of their own.
func TestSetUpInTheConsole(t *testing.T) {
	t.Parallel()
	w, code, _ := blank(t)
	b := w.browse()
	b.open("/")
	b.see("become the first owner")
	b.accessible("the way to the first owner")
	b.fill("Set-up code, which the service has printed", "AAAA")
	b.fill("Your name", "Ines Carvalho")
	b.fill("New password", password)
	b.fill("New password once more", password)
	b.click("Become the owner")
	b.see("is not the set-up code")
	b.fill("Set-up code, which the service has printed", code)
	b.look("set-up")
	b.click("Become the owner")
	b.see("Ines Carvalho")
	b.see("Owner")
}
