package acceptance

import (
	"encoding/json"
	"net/http"
	"strings"
	"testing"

	"sentier/internal/wire"
)

// signedIn signs in over HTTP and gives the cookie.
func (w *world) signedIn(user, password string) (status int, cookie *http.Cookie, body string) {
	w.t.Helper()
	status, header, body := w.ask("POST", "/api/v1/session", "", `{"user": "`+user+`", "password": "`+password+`"}`)
	for _, c := range (&http.Response{Header: header}).Cookies() {
		cookie = c
	}
	return status, cookie, body
}

func TestSessionCookie(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	status, cookie, body := w.signedIn("ines.carvalho", password)
	if status != 200 || cookie == nil || !cookie.HttpOnly || cookie.SameSite != http.SameSiteStrictMode || cookie.Path != "/" {
		t.Fatalf("%d %+v %s", status, cookie, body)
	}
	var session wire.Session
	if err := json.Unmarshal([]byte(body), &session); err != nil || session.Token != "" || session.User.Name != "Ines Carvalho" || session.Mandates[0] != "owner" {
		t.Errorf("the session is %s (%v)", body, err)
	}
	asCookie := func(method, path, body string, headers ...string) int {
		t.Helper()
		status, _, _ := w.ask(method, path, "", body, append(headers, "Cookie", cookie.Name+"="+cookie.Value)...)
		return status
	}
	for what, c := range map[string]struct {
		status int
		got    int
	}{
		"a page of our own reads":         {200, asCookie("GET", "/api/v1/users", "")},
		"a page of our own writes":        {200, asCookie("PATCH", "/api/v1/devices/mill-bridge", `{"state": "maintenance"}`, "Sec-Fetch-Site", "same-origin")},
		"another site writes":             {403, asCookie("PATCH", "/api/v1/devices/mill-bridge", `{"state": "in-service"}`, "Sec-Fetch-Site", "cross-site")},
		"an old browser on another site":  {403, asCookie("DELETE", "/api/v1/devices/mill-bridge", "", "Origin", "http://larkmere.example")},
		"another site signs somebody in":  {403, first(w.ask("POST", "/api/v1/session", "", `{"user": "a", "password": "b"}`, "Sec-Fetch-Site", "cross-site"))},
		"the cookie's secret is no token": {401, first(w.ask("GET", "/api/v1/users", cookie.Value, ""))},
		"a token is no cookie":            {401, first(w.ask("GET", "/api/v1/users", "", "", "Cookie", cookie.Name+"="+w.token))},
		"another scheme than Bearer":      {401, first(w.ask("GET", "/api/v1/users", "", "", "Authorization", "Basic "+w.token))},
		"a cookie that somebody made up":  {401, first(w.ask("GET", "/api/v1/users", "", "", "Cookie", cookie.Name+"=sentier_guess"))},
	} {
		if c.got != c.status {
			t.Errorf("%s: %d, want %d", what, c.got, c.status)
		}
	}
	if got := asCookie("DELETE", "/api/v1/session", ""); got != 204 {
		t.Errorf("signing out: %d", got)
	}
	if got := asCookie("GET", "/api/v1/users", ""); got != 401 {
		t.Errorf("after signing out: %d", got)
	}
}

func first(status int, _ http.Header, _ string) int { return status }

func TestWhoMaySignIn(t *testing.T) {
	t.Parallel()
	w := start(t, alive(t))
	for _, user := range []string{"lena.marsh", "tomas.field", "ben.foster", "rafael.gil", "freya.dahl", "ivo.santos"} {
		if err := w.owner.Service.SetPassword(t.Context(), user, password); err != nil {
			t.Fatal(err)
		}
	}
	for _, c := range []struct {
		user, password string
		status         int
		want           string
	}{
		{"ines.carvalho", password, 200, `"owner"`}, {"lena.marsh", password, 200, `"auditor"`},
		{"ines.carvalho", password + " ", 401, "the user or the password is wrong"}, {"nobody", password, 401, "the user or the password is wrong"},
		{"bram.okafor", password, 401, "the user or the password is wrong"}, // an owner without a password
		{"tomas.field", password, 200, `"mandates":[]`}, {"ben.foster", password, 403, "suspended"}, {"rafael.gil", password, 403, "only invited"},
		{"freya.dahl", password, 403, "has begun"}, {"ivo.santos", password, 403, "has not ended"},
	} {
		if status, _, body := w.signedIn(c.user, c.password); status != c.status || !strings.Contains(body, c.want) {
			t.Errorf("%s: %d %s, want %d …%s…", c.user, status, body, c.status, c.want)
		}
	}
	for _, short := range []string{"", "123456789", strings.Repeat("x", 201)} {
		if err := w.owner.Service.SetPassword(t.Context(), "lena.marsh", short); err == nil {
			t.Errorf("a password of %d characters was taken", len(short))
		}
	}
}

// TestSuspensionTakesEffectAtOnce: sessions and tokens of whoever is suspended answer nothing, and do again after.
func TestSuspensionTakesEffectAtOnce(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	auditor := w.tokenFor("lena.marsh")
	read := func() int { return first(w.ask("GET", "/api/v1/users", auditor, "")) }
	if got := read(); got != 200 {
		t.Fatalf("before: %d", got)
	}
	for _, c := range []struct {
		patch string
		want  int
	}{
		{`{"status": "suspended"}`, 401}, {`{"status": "active"}`, 200}, {`{"valid": {"until": "2020-01-01T00:00:00Z"}}`, 401}, {`{"valid": null}`, 200},
	} {
		if status, _, body := w.ask("PATCH", "/api/v1/users/lena.marsh", w.token, c.patch); status != 200 {
			t.Fatal(body)
		}
		if got := read(); got != c.want {
			t.Errorf("after %s: %d, want %d", c.patch, got, c.want)
		}
	}
	if status, _, body := w.ask("PATCH", "/api/v1/mandates/audit", w.token, `{"enabled": false}`); status != 200 {
		t.Fatal(body)
	}
	if got := read(); got != 403 {
		t.Errorf("without a mandate: %d", got)
	}
}

func TestTokensAreShownOnceAndRevokedAtOnce(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	_, _, made := w.ask("POST", "/api/v1/tokens", w.token, `{"user": "gateway-water", "name": "panel", "days": 30}`)
	var token wire.Token
	if err := json.Unmarshal([]byte(made), &token); err != nil || !strings.HasPrefix(token.Secret, "sentier_") {
		t.Fatalf("%s: %v", made, err)
	}
	if days := token.Expires.Sub(testNow(t)).Hours() / 24; days < 29 || days > 31 {
		t.Errorf("a token for 30 days holds %v", days)
	}
	if _, _, list := w.ask("GET", "/api/v1/tokens", w.token, ""); strings.Contains(list, token.Secret) || !strings.Contains(list, token.ID) {
		t.Errorf("the list of tokens: %s", list)
	}
	question := `{"subject": {"type": "user", "id": "asha.raman"}, "action": {"name": "setpoint"}, "resource": {"type": "device", "id": "reservoir-pump-1"}}`
	if status, _, body := w.ask("POST", "/access/v1/evaluation", token.Secret, question); status != 200 || !strings.Contains(body, `"decision":true`) {
		t.Errorf("%d %s", status, body)
	}
	if status, _, body := w.ask("DELETE", "/api/v1/tokens/"+token.ID, w.token, ""); status != 204 {
		t.Errorf("%d %s", status, body)
	}
	if got := first(w.ask("POST", "/access/v1/evaluation", token.Secret, question)); got != 401 {
		t.Errorf("a revoked token: %d", got)
	}
	for _, bad := range []string{`{"user": "gateway-water", "name": " "}`, `{"user": "gateway-water", "name": "x", "days": 4000}`, `{"user": "nobody", "name": "x"}`, `{"name": "x"}`} {
		if got := first(w.ask("POST", "/api/v1/tokens", w.token, bad)); got != 400 {
			t.Errorf("%s: %d", bad, got)
		}
	}
}

// TestSignInsAreSlowedDown: guessing runs into a wall, for everybody at the same address.
func TestSignInsAreSlowedDown(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	var last int
	for i := 0; i < 15 && last != http.StatusTooManyRequests; i++ {
		last, _, _ = w.signedIn("ines.carvalho", "a wrong password")
	}
	if last != http.StatusTooManyRequests {
		t.Errorf("fifteen guesses were let through: %d", last)
	}
}

func TestHeadersKeepBrowsersFromMischief(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	for path, want := range map[string]string{"/": "text/html", "/check?user=a": "text/html", "/records/users/x/edit": "text/html", "/mark.svg": "image/svg+xml"} {
		status, h, _ := w.ask("GET", path, "", "")
		if status != 200 || !strings.HasPrefix(h.Get("Content-Type"), want) {
			t.Errorf("%s: %d %s", path, status, h.Get("Content-Type"))
		}
		if !strings.Contains(h.Get("Content-Security-Policy"), "frame-ancestors 'none'") || h.Get("X-Content-Type-Options") != "nosniff" {
			t.Errorf("%s: %v", path, h)
		}
	}
	for _, path := range []string{"/assets/none.js", "/api/v1", "/access/x"} {
		if status, _, body := w.ask("GET", path, "", ""); status != 404 {
			t.Errorf("%s: %d %.80s", path, status, body)
		}
	}
}

// TestOwnSessionsAreSeenAndEnded: everybody sees where they are signed in and ends any of it, or all but the one they ask from; of others' sessions
// they learn nothing.
func TestOwnSessionsAreSeenAndEnded(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	w.must("PATCH", "/api/v1/user_groups/instrument-technicians", `{"sign_in":null}`)
	if err := w.owner.Service.SetPassword(t.Context(), "tomas.field", "towpath and heron"); err != nil {
		t.Fatal(err)
	}
	type session struct{ cookie string }
	signIn := func(user, secret string) session {
		t.Helper()
		status, cookie, body := w.signedIn(user, secret)
		if status != 200 {
			t.Fatalf("%s: %d %s", user, status, body)
		}
		return session{cookie.Name + "=" + cookie.Value}
	}
	ask := func(s session, method, path string) (int, string) {
		t.Helper()
		status, _, body := w.ask(method, path, "", "", "Cookie", s.cookie)
		return status, body
	}
	list := func(s session) (out []wire.OwnSession) {
		t.Helper()
		status, body := ask(s, "GET", "/api/v1/sessions")
		if err := json.Unmarshal([]byte(body), &out); status != 200 || err != nil {
			t.Fatalf("%d %s (%v)", status, body, err)
		}
		return out
	}
	desk, bridge, home := signIn("tomas.field", "towpath and heron"), signIn("tomas.field", "towpath and heron"), signIn("tomas.field", "towpath and heron")
	ines := signIn("ines.carvalho", password)
	seen := list(desk)
	if len(seen) != 3 || seen[0].Kind != "console" || seen[0].From == "" {
		t.Fatalf("three sessions are listed as %+v", seen)
	}
	this := 0
	for _, s := range seen {
		if s.This {
			this++
		}
	}
	if this != 1 {
		t.Errorf("%d of the sessions are this one", this)
	}
	other := func(s session) string {
		t.Helper()
		for _, mine := range list(s) {
			if !mine.This {
				return mine.ID
			}
		}
		t.Fatal("there is no other session")
		return ""
	}
	if status, _ := ask(ines, "DELETE", "/api/v1/sessions/"+seen[0].ID); status != 404 {
		t.Errorf("an owner ends somebody's session as if it were theirs: %d", status)
	}
	if status, _ := ask(desk, "DELETE", "/api/v1/sessions/"+list(ines)[0].ID); status != 404 {
		t.Errorf("a session of somebody else is ended: %d", status)
	}
	if status, _ := ask(desk, "DELETE", "/api/v1/sessions/nothing"); status != 404 {
		t.Errorf("a session that is not there is ended: %d", status)
	}
	if status, _ := ask(desk, "DELETE", "/api/v1/sessions/"+other(desk)); status != 204 {
		t.Errorf("one's own session is not ended: %d", status)
	}
	open := 0
	for _, s := range []session{desk, bridge, home} {
		if status, _ := ask(s, "GET", "/api/v1/session"); status == 200 {
			open++
		}
	}
	if open != 2 {
		t.Errorf("%d of three sessions are open after one was ended", open)
	}
	if status, _ := ask(desk, "DELETE", "/api/v1/sessions"); status != 204 || len(list(desk)) != 1 {
		t.Errorf("the others are not ended: %d, %+v", status, list(desk))
	}
	if status, _ := ask(ines, "GET", "/api/v1/session"); status != 200 {
		t.Errorf("somebody else's session ended with them: %d", status)
	}
}
