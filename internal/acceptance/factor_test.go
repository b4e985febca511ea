package acceptance

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"regexp"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/pquerna/otp/totp"

	"sentier/internal/daemon"
	"sentier/internal/wire"
)

// shifted is a world whose clock can be put forward.
func shifted(t *testing.T) (w *world, forward func(time.Duration)) {
	t.Helper()
	var by atomic.Int64
	w = startWith(t, nil, func(o *daemon.Options) {
		clock := o.Clock
		o.Clock = func() time.Time { return clock().Add(time.Duration(by.Load())) }
	})
	return w, func(d time.Duration) { by.Add(int64(d)) }
}

// code is what a program for codes shows now.
func (w *world) code(secret string) string {
	w.t.Helper()
	var who wire.Session
	_, _, body := w.ask("GET", "/api/v1/session", w.token, "")
	if err := json.Unmarshal([]byte(body), &who); err != nil {
		w.t.Fatal(err)
	}
	code, err := totp.GenerateCode(strings.ReplaceAll(secret, " ", ""), who.Now)
	if err != nil {
		w.t.Fatal(err)
	}
	return code
}

// enter signs somebody in for a terminal.
func (w *world) enter(user, code string) (status int, session wire.Session, problem wire.Problem) {
	w.t.Helper()
	status, _, body := w.ask("POST", "/api/v1/session", "", fmt.Sprintf(`{"user":%q,"password":%q,"code":%q,"terminal":true}`, user, password, code))
	if err := json.Unmarshal([]byte(body), &session); err != nil {
		w.t.Fatal(err)
	}
	if err := json.Unmarshal([]byte(body), &problem); err != nil {
		w.t.Fatal(err)
	}
	return status, session, problem
}

// TestWhatGroupsAskOfASignInIsHeldTo: a second factor that a group requires is set up before anything else, asked for from then on, and taken away
// by an owner alone; a password that is too old is changed before anything else.
func TestWhatGroupsAskOfASignInIsHeldTo(t *testing.T) {
	t.Parallel()
	w, forward := shifted(t)
	ctx := context.Background()
	for _, user := range []string{"irene.castro", "greta.holm"} {
		if err := w.owner.Service.SetPassword(ctx, user, password); err != nil {
			t.Fatal(err)
		}
	}
	_, free, _ := w.enter("greta.holm", "")
	if len(free.Setup) != 0 || free.Strong {
		t.Errorf("somebody of whom nothing is asked has %v to do", free.Setup)
	}
	status, in, _ := w.enter("irene.castro", "")
	if status != 200 || strings.Join(in.Setup, " ") != "second_factor" {
		t.Fatalf("%d, to do: %v", status, in.Setup)
	}
	// Before that, nothing but one's own account answers.
	for path, want := range map[string]int{"/api/v1/reach/users/irene.castro": 403, "/api/v1/session": 200, "/api/v1/sessions": 200, "/api/v1/session/factors": 200, "/api/v1/seen/irene.castro": 403} {
		if status, _, body := w.ask("GET", path, in.Token, ""); status != want || want == 403 && !strings.Contains(body, "a second factor, which a user group of yours requires") {
			t.Errorf("%s before the second factor is set up: %d %s", path, status, body)
		}
	}
	if status, _, _ := w.ask("POST", "/access/v1/evaluation", in.Token, `{"subject":{"type":"user","id":"irene.castro"},"action":{"name":"view"},"resource":{"type":"device","id":"mill-bridge"}}`); status != 403 {
		t.Errorf("a decision before the second factor is set up: %d", status)
	}
	var begun wire.Enrolling
	mine := &world{t: t, url: w.url, token: in.Token}
	begun = get[wire.Enrolling](mine, "POST", "/api/v1/session/factors", `{}`)
	if status, _, body := w.ask("POST", "/api/v1/session/factors/confirm", in.Token, `{"code":"12","name":"Telephone"}`); status != 400 || !strings.Contains(body, "is not the one that is shown now") {
		t.Errorf("a wrong code: %d %s", status, body)
	}
	status, _, body := w.ask("POST", "/api/v1/session/factors/confirm", in.Token, fmt.Sprintf(`{"code":%q,"name":"Telephone"}`, w.code(begun.Secret)))
	var made wire.FactorMade
	if err := json.Unmarshal([]byte(body), &made); err != nil || status != 201 || len(made.Codes) != 10 || len(made.Session.Setup) != 0 || !made.Session.Strong {
		t.Fatalf("%d %s (%v)", status, body, err)
	}
	if status, _, _ := w.ask("GET", "/api/v1/reach/users/irene.castro", in.Token, ""); status != 200 {
		t.Errorf("after it is set up: %d", status)
	}

	// From then on it is asked for, and no code is good twice.
	if status, _, p := w.enter("irene.castro", ""); status != 401 || p.Needs != "second_factor" {
		t.Errorf("without a code: %d, needs %q", status, p.Needs)
	}
	if status, _, p := w.enter("irene.castro", "000000"); status != 401 || p.Needs != "second_factor" {
		t.Errorf("with a wrong one: %d, needs %q", status, p.Needs)
	}
	forward(31 * time.Second)
	now := w.code(begun.Secret)
	status, strong, _ := w.enter("irene.castro", now)
	if status != 200 || !strong.Strong {
		t.Errorf("with a code: %d, strong %v", status, strong.Strong)
	}
	if status, _, _ := w.enter("irene.castro", now); status != 401 {
		t.Errorf("with the same again: %d", status)
	}
	if status, _, _ := w.enter("irene.castro", made.Codes[0]); status != 200 {
		t.Errorf("with a recovery code: %d", status)
	}
	if status, _, _ := w.enter("irene.castro", made.Codes[0]); status != 401 {
		t.Errorf("with the same again: %d", status)
	}

	// The last one is required, others are one's own to take away; each takes the password again.
	id := get[[]wire.SecondFactor](&world{t: t, url: w.url, token: strong.Token}, "GET", "/api/v1/session/factors", "")[0].ID
	removal := "/api/v1/session/factors/" + id + "/removal"
	for body, want := range map[string]int{`{"password":"not the password"}`: 400, `{"password":"` + password + `"}`: 403} {
		if status, _, text := w.ask("POST", removal, strong.Token, body); status != want {
			t.Errorf("taking the last away with %s: %d %s", body, status, text)
		}
	}
	if status, _, _ := w.ask("POST", removal, free.Token, `{"password":"`+password+`"}`); status != 404 {
		t.Errorf("somebody else's: %d", status)
	}
	if status, _, text := w.ask("POST", "/api/v1/session/factors", strong.Token, `{"password":"not the password"}`); status != 400 {
		t.Errorf("another one from a desk that was left open: %d %s", status, text)
	}
	if status, _, text := w.ask("POST", "/api/v1/session/recovery-codes", strong.Token, `{"password":"`+password+`"}`); status != 201 || strings.Contains(text, made.Codes[1]) {
		t.Errorf("new recovery codes: %d %s", status, text)
	}
	if status, _, _ := w.enter("irene.castro", made.Codes[1]); status != 401 {
		t.Errorf("with a recovery code of before: %d", status)
	}
	if status, _, _ := w.ask("POST", "/api/v1/session/factors", w.token, `{"password":"x"}`); status != 403 {
		t.Errorf("a token set up a second factor: %d", status)
	}

	// An owner sees how somebody comes in, and ends it; whoever sees a part does not.
	ins := get[wire.SignIns](w, "GET", "/api/v1/users/irene.castro/sign-ins", "")
	if ins.Password == nil || !ins.Required || len(ins.Factors) != 1 || len(ins.Sessions) != 3 || len(ins.Tokens) != 0 {
		t.Errorf("irene comes in by %+v", ins)
	}
	for _, path := range []string{"GET /api/v1/users/irene.castro/sign-ins", "DELETE /api/v1/users/irene.castro/sessions"} {
		method, at, _ := strings.Cut(path, " ")
		if status, _, _ := w.ask(method, at, free.Token, ""); status != 403 {
			t.Errorf("%s by somebody: %d", path, status)
		}
	}
	w.must("DELETE", "/api/v1/users/greta.holm/sessions", "")
	if status, _, _ := w.ask("GET", "/api/v1/session", free.Token, ""); status != 401 {
		t.Errorf("a session that was ended: %d", status)
	}
	_, free, _ = w.enter("greta.holm", "")

	// Whoever is not required to have one sets it up with the password, and takes it away again.
	hers := &world{t: t, url: w.url, token: free.Token}
	begun = get[wire.Enrolling](hers, "POST", "/api/v1/session/factors", `{"password":"`+password+`"}`)
	if status, _, text := w.ask("POST", "/api/v1/session/factors/confirm", free.Token, fmt.Sprintf(`{"code":%q,"name":"Telephone"}`, w.code(begun.Secret))); status != 201 {
		t.Errorf("%d %s", status, text)
	}
	id = get[[]wire.SecondFactor](hers, "GET", "/api/v1/session/factors", "")[0].ID
	if status, _, text := w.ask("POST", "/api/v1/session/factors/"+id+"/removal", free.Token, `{"password":"`+password+`"}`); status != 204 {
		t.Errorf("taking away one that nobody requires: %d %s", status, text)
	}
	if status, in, _ := w.enter("greta.holm", ""); status != 200 || in.Strong {
		t.Errorf("after it is taken away: %d", status)
	}

	// Whoever has lost theirs is helped by an owner, and by nobody else; their sessions end, and they begin again.
	if status, _, _ := w.ask("DELETE", "/api/v1/users/irene.castro/factors", free.Token, ""); status != 403 {
		t.Errorf("reset by somebody: %d", status)
	}
	w.must("DELETE", "/api/v1/users/irene.castro/factors", "")
	if status, _, _ := w.ask("GET", "/api/v1/session", strong.Token, ""); status != 401 {
		t.Errorf("a session outlives the reset: %d", status)
	}
	if _, again, _ := w.enter("irene.castro", ""); strings.Join(again.Setup, " ") != "second_factor" {
		t.Errorf("after the reset there is to do: %v", again.Setup)
	}
	if status, _, _ := w.ask("DELETE", "/api/v1/users/irene.castro/factors", w.token, ""); status != 404 {
		t.Errorf("reset again: %d", status)
	}

	// A password of a half year and more is changed before anything else.
	forward(181 * 24 * time.Hour)
	_, old, _ := w.enter("irene.castro", "")
	if strings.Join(old.Setup, " ") != "second_factor password" {
		t.Errorf("with an old password there is to do: %v", old.Setup)
	}
	status, _, body = w.ask("PUT", "/api/v1/session/password", old.Token, `{"current":"`+password+`","password":"another long password"}`)
	var fresh wire.Session
	if err := json.Unmarshal([]byte(body), &fresh); err != nil || status != http.StatusOK || strings.Join(fresh.Setup, " ") != "second_factor" {
		t.Errorf("after a new password: %d %s", status, body)
	}
}

// TestASecondFactorInTheTerminal sets one up and signs in with it, line by line.
func TestASecondFactorInTheTerminal(t *testing.T) {
	t.Parallel()
	w, forward := shifted(t)
	if err := w.owner.Service.SetPassword(t.Context(), "irene.castro", password); err != nil {
		t.Fatal(err)
	}
	code, _, errOut := w.runAs("", password+"\n", "sign-in", "--user", "irene.castro")
	if code != 0 || !strings.Contains(errOut, "Before anything else: a group of yours requires a second factor") {
		t.Fatal(errOut)
	}
	// The secret is shown before the code is asked for: whoever answers reads it first.
	answers := &answering{t: t, w: w}
	if code := answers.run("second-factor", "add", "--name", "Telephone"); code != 0 || !strings.Contains(answers.out.String(), "RECOVERY CODE") {
		t.Fatalf("%d %s", code, &answers.out)
	}
	if code, out, _ := w.runAs("", "", "second-factor", "list"); code != 0 || !strings.Contains(out, "Telephone") {
		t.Errorf("the list is %s", out)
	}
	forward(31 * time.Second)
	if code, _, errOut := w.runAs("", password+"\n"+w.code(answers.secret)+"\n", "sign-in", "--user", "irene.castro"); code != 0 || strings.Contains(errOut, "Before anything else") {
		t.Errorf("%d %s", code, errOut)
	}
	if code, _, errOut := w.runAs("", password+"\n", "sign-in", "--user", "irene.castro"); code == 0 || !strings.Contains(errOut, "a code of your second factor belongs with the password") {
		t.Errorf("without a code: %d %s", code, errOut)
	}
	_, list, _ := w.runAs("", "", "second-factor", "list", "--format", "json")
	var own []wire.SecondFactor
	if err := json.Unmarshal([]byte(list), &own); err != nil || len(own) != 1 {
		t.Fatalf("%v: %s", err, list)
	}
	if code, _, errOut := w.runAs("", password+"\n", "second-factor", "remove", own[0].ID); code == 0 || !strings.Contains(errOut, "this is the last") {
		t.Errorf("the last one was taken away: %d %s", code, errOut)
	}
	if code, out, errOut := w.run("user", "sign-ins", "irene.castro"); code != 0 || !strings.Contains(out, "second factor") || !strings.Contains(out, "terminal") {
		t.Errorf("%d %s%s", code, out, errOut)
	}
	if code, _, errOut := w.run("user", "sign-out", "irene.castro"); code != 0 {
		t.Error(errOut)
	}
	if code, out, _ := w.run("user", "sign-ins", "irene.castro"); code != 0 || strings.Contains(out, "terminal") {
		t.Errorf("after it was ended: %s", out)
	}
	if code, _, errOut := w.run("user", "reset-second-factor", "irene.castro"); code != 0 {
		t.Error(errOut)
	}
	if code, _, errOut := w.runAs("", password+"\n", "sign-in", "--user", "irene.castro"); code != 0 || !strings.Contains(errOut, "Before anything else") {
		t.Errorf("after the reset: %d %s", code, errOut)
	}
}

// answering is somebody at the command line, who reads the secret that they are shown before they type a code of it.
type answering struct {
	t      *testing.T
	w      *world
	out    strings.Builder
	asked  int
	secret string
}

var shownSecret = regexp.MustCompile(`secret +([A-Z2-7]+)`)

// Read gives the next line that is asked for.
func (a *answering) Read(into []byte) (int, error) {
	a.asked++
	switch a.asked {
	case 1:
		return copy(into, password+"\n"), nil
	case 2:
		found := shownSecret.FindStringSubmatch(a.out.String())
		if found == nil {
			a.t.Fatalf("no secret was shown: %s", &a.out)
		}
		a.secret = found[1]
		return copy(into, a.w.code(a.secret)+"\n"), nil
	}
	return 0, io.EOF
}

func (a *answering) run(args ...string) int {
	return a.w.program("", a, &a.out, &a.out).Run(args)
}

// TestASecondFactorInTheConsole leads somebody through setting one up, and asks for it from then on.
func TestASecondFactorInTheConsole(t *testing.T) {
	t.Parallel()
	w, forward := shifted(t)
	if err := w.owner.Service.SetPassword(t.Context(), "irene.castro", password); err != nil {
		t.Fatal(err)
	}
	b := w.browse()
	b.signIn("irene.castro", password)
	b.see("First, a second factor")
	b.accessible("the way to a second factor")
	b.click("Begin")
	b.see("Let the program read this")
	b.accessible("a second factor that is being set up")
	b.look("factor-setup")
	secret := b.text("main p.font-mono")
	b.fill("Name of the device", "My telephone")
	b.fill("Code", "000000")
	b.click("Keep it")
	b.see("is not the one that is shown now")
	b.fill("Code", w.code(secret))
	b.click("Keep it")
	b.see("Ten recovery codes")
	codes := strings.Fields(b.text("main ul.font-mono"))
	b.click("I have kept them")
	b.see("What you reach")
	b.open("/account")
	b.see("My telephone")
	b.accessible("one's own second factors")
	b.look("factor-account")
	b.click("Sign out")
	b.see("Password")
	enter := func(code string) {
		t.Helper()
		b.fill("User", "irene.castro")
		b.fill("Password", password)
		b.click("Sign in")
		b.see("Now the code that your second factor shows")
		b.fill("Code", code)
		b.click("Sign in")
	}
	enter("000000")
	b.see("a code of your second factor belongs with the password")
	forward(31 * time.Second)
	b.fill("Code", w.code(secret))
	b.click("Sign in")
	b.see("What you reach")
	b.click("Sign out")
	b.see("Password")
	enter(codes[0])
	b.see("What you reach")
	// An owner helps whoever has lost theirs.
	c := w.consoleAt("/records/users/irene.castro")
	c.see("Second factors: My telephone")
	c.accessible("how somebody signs in")
	c.do("there", chromedp.ScrollIntoView(chromedp.Search(`//h2[contains(., "How they sign in")]`)))
	c.look("sign-ins")
	c.click("Sign out everywhere")
	c.until("no session is left", `!document.body.innerText.includes("Sign out everywhere")`)
	c.click("Reset second factor")
	c.clickLast("Reset second factor")
	c.until("done", `document.querySelector("[role=dialog]") === null`)
	b.open("/account")
	b.see("Password")
	b.signIn("irene.castro", password)
	b.see("First, a second factor")
}
