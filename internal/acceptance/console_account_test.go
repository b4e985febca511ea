package acceptance

import (
	"io"
	"log"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	neturl "net/url"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"sentier/internal/store"

	"github.com/chromedp/chromedp"
)

// look keeps a picture where SENTIER_LOOK names a folder, for whoever wants to see what a test sees.
func (b *browser) look(name string) {
	if dir := os.Getenv("SENTIER_LOOK"); dir != "" {
		time.Sleep(400 * time.Millisecond)
		b.shot(filepath.Join(dir, name+".png"))
	}
}

// TestASecondPersonComesIn hands the service over: a link, a password of one's own, one's sessions, and a new password.
func TestASecondPersonComesIn(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	w.must("PATCH", "/api/v1/user_groups/instrument-technicians", `{"sign_in":null}`)
	b := w.consoleAt("/records/users/tomas.field")
	b.click("Make a link")
	b.see("By the link Tomas Field sets a password")
	b.click("Make the link")
	b.see("Hand this link over to Tomas Field")
	b.accessible("the link")
	b.look("invite")
	link, err := ask(b, chromedp.Evaluate[string](`document.querySelector("[role=dialog] input").value`))
	if err != nil || !strings.HasPrefix(link, w.url+"/welcome#sentier_") {
		t.Fatalf("the link is %q, %v", link, err)
	}
	tomas := w.browse()
	tomas.open(strings.TrimPrefix(link, w.url))
	tomas.see("Set a password of your own")
	if at := tomas.location(); strings.Contains(at, "sentier_") {
		t.Errorf("the secret stays in the address: %s", at)
	}
	tomas.fill("New password", "too short")
	tomas.see("fewer than 12 characters")
	tomas.fill("New password", "towpath and heron")
	tomas.fill("New password once more", "towpath and heron!")
	tomas.see("The two differ")
	tomas.accessible("the welcome")
	tomas.look("welcome")
	tomas.fill("New password once more", "towpath and heron")
	tomas.click("Set it and sign in")
	tomas.see("Tomas Field")
	again := w.browse()
	again.open(strings.TrimPrefix(link, w.url))
	again.fill("New password", "a second password")
	again.fill("New password once more", "a second password")
	again.click("Set it and sign in")
	again.see("holds no more")
	if status, _, body := w.ask("POST", "/api/v1/session", "", `{"user":"tomas.field","password":"towpath and heron","terminal":true}`); status != 200 {
		t.Fatalf("%d %s", status, body)
	}
	tomas.open("/account")
	tomas.see("Terminal")
	tomas.accessible("the account")
	tomas.look("account")
	tomas.fill("Password now", "not this one")
	tomas.fill("New password", "heron and towpath")
	tomas.fill("New password once more", "heron and towpath")
	tomas.click("Change it")
	tomas.see("is not your password")
	tomas.fill("Password now", "towpath and heron")
	tomas.click("Change it")
	tomas.see("your other sessions have ended")
	tomas.until("the terminal's session has ended", `!document.body.innerText.includes("Terminal")`)
	if status, _, _ := w.ask("POST", "/api/v1/session", "", `{"user":"tomas.field","password":"towpath and heron"}`); status != 401 {
		t.Errorf("the old password lets in: %d", status)
	}
}

// TestAForgottenDraftIsOffered: it never comes back unasked, says from when it is, and does not save over a colleague.
func TestAForgottenDraftIsOffered(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	b := w.consoleAt("/records/user_groups/bridge-crew/edit")
	b.fill("Name", "Bridge company")
	b.see("Bridge crew → Bridge company")
	b.do("reload", chromedp.Reload())
	b.see("Bridge crew → Bridge company") // a reload goes on
	b.open("/people")
	b.see("Agnes Lindqvist")
	if _, status := edit(w, "PATCH", "/api/v1/user_groups/bridge-crew", `{"enabled":false}`); status != 200 {
		t.Fatal(status)
	}
	b.open("/records/user_groups/bridge-crew/edit")
	b.see("You began this before")
	b.until("the form is what is there", `document.querySelector("form input").value === "Bridge crew"`)
	b.accessible("a draft that is offered")
	b.look("draft")
	b.click("Go on with it")
	b.click("Save")
	b.see("has changed") // the colleague's change is told, and nothing saved over it
	b.click("Cancel")
	b.until("where one came from", `location.pathname.endsWith("/people")`) // another document, which takes its time

	// A grant to everyone, begun and left, is not what another way to a new grant opens.
	b.open("/records/grants/new")
	b.fill("Name", "To everyone")
	b.do("everyone", chromedp.Click(chromedp.Search(`//label[contains(., "Everyone")]//input`)))
	b.see("To everyone")
	b.open("/records/users/noor.haddad")
	b.click("Give access")
	b.see("or several lines")
	b.click("write a whole grant")
	b.see("Noor Haddad")
	b.until("a form of its own", `document.querySelector("form input").value === "" && !document.body.innerText.includes("You began this before")`)
	b.open("/records/grants/new")
	b.see("You began this before")
	b.click("Drop it")
	b.until("it is gone", `!document.body.innerText.includes("You began this before")`)
	b.open("/records/grants/new?with=%7Bbad")
	b.see("cannot be read")
	b.open("/records/grants/new")
	b.fill("Name", "Left behind")
	b.see("Left behind")
	b.click("Sign out")
	b.fill("User", "ines.carvalho")
	b.fill("Password", password)
	b.click("Sign in")
	b.see("Last changes")
	b.open("/records/grants/new")
	b.see("What this changes")
	b.until("nothing is kept after signing out", `!document.body.innerText.includes("You began this before")`)
}

// TestWhatIsTypedKeyByKeyArrives types limits and networks as a person does, presses Enter on the way, and saves while the service is gone.
func TestWhatIsTypedKeyByKeyArrives(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	var gone atomic.Bool
	w.url = w.between(&gone)
	b := w.consoleAt("/records/grants/bridge-watch/edit")
	b.press("line 1", `(//button[contains(., "Line 1")])[1]`)
	b.click("Add a condition")
	b.fill("Networks", "10.20.0.0/16, 10.30.0.999/16")
	b.key("Enter")
	b.see("“10.30.0.999/16” is no network")
	b.click("Add a limit")
	b.fillLast("Limit", "folders")
	b.fillLast("Number, or words", "a, b")
	b.click("Save") // what cannot be read is not saved
	b.fill("Networks", "10.20.0.0/16, 10.30.0.0/16")
	b.key("Enter")
	b.see("only if the address is in 10.20.0.0/16, 10.30.0.0/16")
	b.see("at most 30 minutes; folders only a, b")
	if at := b.location(); !strings.HasSuffix(at, "/edit") {
		t.Fatalf("Enter saved the form: %s", at)
	}
	gone.Store(true)
	b.click("Save")
	b.see("The service does not answer: nothing was saved")
	b.look("not-saved")
	gone.Store(false)
	b.click("Save")
	b.until("saved", `!location.pathname.endsWith("/edit")`)
	if _, _, body := w.ask("GET", "/api/v1/grants/bridge-watch", w.token, ""); !strings.Contains(body, `"networks":["10.20.0.0/16","10.30.0.0/16"]`) || !strings.Contains(body, `"limits":{"folders":["a","b"],"minutes":30}`) {
		t.Errorf("the grant is %s", body)
	}
}

// TestARemovalThatGivesIsTold shows what somebody would gain before it can be done.
func TestARemovalThatGivesIsTold(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	b := w.consoleAt("/records/user_groups/apprentices")
	b.click("Remove")
	b.see("By this somebody would gain rights: the deny “Apprentices do not release”")
	b.look("gains")
	b.accessible("gains")
	b.do("accept", chromedp.Click(chromedp.Search(`//label[contains(., "I accept")]//input`)))
	b.until("the button can be pressed", `!document.querySelector("[role=dialog] button.primary").disabled`)
	b.clickLast("Remove")
	b.until("it is gone", `document.querySelector("[role=dialog]") === null`)
	revisions, err := w.owner.Store().Revisions(t.Context(), store.Which{}, 1)
	if err != nil || !strings.Contains(revisions[0].Note, "gains accepted: ") {
		t.Errorf("the record says %v (%v)", revisions, err)
	}
}

// between stands between a browser and the world's service, and can be as if the service were gone.
func (w *world) between(gone *atomic.Bool) (url string) {
	w.t.Helper()
	to, err := neturl.Parse(w.url)
	if err != nil {
		w.t.Fatal(err)
	}
	proxy := httputil.NewSingleHostReverseProxy(to)
	proxy.ErrorLog = log.New(io.Discard, "", 0)
	server := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		if gone.Load() {
			panic(http.ErrAbortHandler)
		}
		proxy.ServeHTTP(rw, r)
	}))
	w.t.Cleanup(server.CloseClientConnections)
	return server.URL
}
