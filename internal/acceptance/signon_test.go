package acceptance

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os/exec"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"sentier/internal/wire"
)

// provider is a provider of OpenID Connect of others, on this machine.
type provider struct {
	t      *testing.T
	issuer string
	in     io.WriteCloser
	out    *bufio.Reader
}

type claims map[string]map[string]any

// newProvider starts a provider for a client at an address, where some people can sign in.
func newProvider(t *testing.T, client string, people claims) *provider {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	port := l.Addr().(*net.TCPAddr).Port
	if err := l.Close(); err != nil {
		t.Fatal(err)
	}
	p := &provider{t: t, issuer: fmt.Sprintf("http://localhost:%d", port)}
	node := exec.Command("node", "--no-warnings", "oidc.mjs")
	node.Dir, node.Stderr = "peers", io.Discard
	if p.in, err = node.StdinPipe(); err != nil {
		t.Fatal(err)
	}
	out, err := node.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	p.out = bufio.NewReader(out)
	if err := node.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = node.Process.Kill() // it has done its work
		_ = node.Wait()
	})
	p.tell(map[string]any{"port": port, "client": client, "people": people})
	return p
}

// tell says something to the provider, and waits until it has heard it.
func (p *provider) tell(what any) {
	p.t.Helper()
	text, err := json.Marshal(what)
	if err != nil {
		p.t.Fatal(err)
	}
	if _, err := fmt.Fprintf(p.in, "%s\n", text); err != nil {
		p.t.Fatal(err)
	}
	for {
		line, err := p.out.ReadString('\n')
		if err != nil {
			p.t.Fatalf("the provider says nothing more: %v (make test-tools installs what it needs)", err)
		}
		if line == "ready\n" || line == "done\n" {
			return
		}
	}
}

// withProvider is a service at which people sign in at a provider.
func withProvider(t *testing.T, bring string, people claims) (*world, *provider) {
	t.Helper()
	w := start(t, nil)
	w.secret("provider", "the-provider-knows-it")
	p := newProvider(t, w.url+"/sign-on/larkmere-sign-on", people)
	get[wire.Source](w, "POST", "/api/v1/sources", fmt.Sprintf(`{"name":"Larkmere sign-on","kind":"sign_on","sign_on":{"issuer":%q,"client_id":"sentier","secret":"provider"},"bring":%s}`, p.issuer, bring))
	return w, p
}

// visitor is a browser, as far as signing in takes one.
type visitor struct {
	w    *world
	http *http.Client
}

func (w *world) visitor() *visitor {
	jar, err := cookiejar.New(nil)
	if err != nil {
		w.t.Fatal(err)
	}
	return &visitor{w, &http.Client{Jar: jar, Timeout: 20 * time.Second, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}}
}

// follow goes where it is sent, and fills the forms of the provider in, until it would come back to the service; it gives where to.
func (v *visitor) follow(at string, login string) string {
	v.w.t.Helper()
	form := url.Values(nil)
	for range 20 {
		var resp *http.Response
		var err error
		if form != nil {
			resp, err = v.http.PostForm(at, form)
		} else {
			resp, err = v.http.Get(at)
		}
		if err != nil {
			v.w.t.Fatal(err)
		}
		text, err := io.ReadAll(resp.Body)
		_ = resp.Body.Close()
		if err != nil {
			v.w.t.Fatal(err)
		}
		form = nil
		if next := resp.Header.Get("Location"); next != "" {
			to, err := resp.Request.URL.Parse(next)
			if err != nil {
				v.w.t.Fatal(err)
			}
			if at = to.String(); strings.HasPrefix(at, v.w.url) {
				return at
			}
			continue
		}
		action := regexp.MustCompile(`action="([^"]+)"`).FindSubmatch(text)
		if action == nil {
			v.w.t.Fatalf("%s: %d %s", at, resp.StatusCode, text)
		}
		to, err := resp.Request.URL.Parse(string(action[1]))
		if err != nil {
			v.w.t.Fatal(err)
		}
		at = to.String()
		if form = (url.Values{"prompt": {"consent"}}); strings.Contains(string(text), `name="login"`) {
			form = url.Values{"prompt": {"login"}, "login": {login}, "password": {"any"}}
		}
	}
	v.w.t.Fatal("there is no end of being sent on")
	return ""
}

// signOn signs somebody in at the provider, and gives where the service sends them then.
func (v *visitor) signOn(login string) string {
	v.w.t.Helper()
	return v.back(v.follow(v.begin(), login))
}

func (v *visitor) begin() string {
	v.w.t.Helper()
	resp, err := v.http.Get(v.w.url + "/sign-on/larkmere-sign-on")
	if err != nil {
		v.w.t.Fatal(err)
	}
	_ = resp.Body.Close()
	return resp.Header.Get("Location")
}

func (v *visitor) back(at string) string {
	v.w.t.Helper()
	resp, err := v.http.Get(at)
	if err != nil {
		v.w.t.Fatal(err)
	}
	_ = resp.Body.Close()
	return resp.Header.Get("Location")
}

// who tells who the visitor is signed in as; empty: nobody.
func (v *visitor) who() (user string, strong bool) {
	v.w.t.Helper()
	resp, err := v.http.Get(v.w.url + "/api/v1/session")
	if err != nil {
		v.w.t.Fatal(err)
	}
	defer resp.Body.Close()
	var s struct {
		User struct{ ID string }
	}
	if resp.StatusCode != 200 {
		return "", false
	}
	if err := json.NewDecoder(resp.Body).Decode(&s); err != nil {
		v.w.t.Fatal(err)
	}
	return s.User.ID, false
}

// TestSigningInAtAProvider: people come in by their subject, are made where a group of theirs is mapped, and never by a name or an address; what is not of this very
// sign-in is not taken, and who logs out there is out here.
func TestSigningInAtAProvider(t *testing.T) {
	t.Parallel()
	people := claims{
		"s-ana":   {"name": "Ana Lopes", "preferred_username": "ana.lopes", "email": "ana@larkmere.example", "email_verified": true, "groups": []string{"Bridge Crew"}},
		"s-tomas": {"name": "Tomas Field", "preferred_username": "tomas.field", "email": "tomas.field@larkmere.example", "groups": []string{"bridge crew"}},
		"s-ines":  {"name": "Not Ines", "preferred_username": "somebody", "email": "ines.carvalho@larkmere.example", "email_verified": true, "groups": []string{}},
	}
	w, p := withProvider(t, `{"groups":[{"outside":"bridge crew","group":"bridge-crew"}]}`, people)
	if list := get[[]wire.SignOnProvider](w, "GET", "/api/v1/sign-on", ""); len(list) != 1 || list[0].Name != "Larkmere sign-on" {
		t.Errorf("providers: %v", list)
	}
	ana := w.visitor()
	if to := ana.signOn("s-ana"); to != "/" {
		t.Fatalf("Ana is sent to %s", to)
	}
	if user, _ := ana.who(); user != "ana.lopes" || !w.opens("ana.lopes").Allowed {
		t.Errorf("Ana is %q, and may: %v", user, w.opens("ana.lopes").Allowed)
	}
	// Whoever is here already, or has somebody's address, is not who comes.
	if v := w.visitor(); v.signOn("s-tomas") != "/?sign_on=taken" {
		t.Error("somebody of the same name came in")
	}
	if v := w.visitor(); v.signOn("s-ines") != "/?sign_on=unknown" {
		t.Error("somebody with the owner's address came in")
	}
	get[wire.Source](w, "POST", "/api/v1/sources/larkmere-sign-on/links", `{"outside":"s-tomas","user":"tomas.field"}`)
	if v := w.visitor(); v.signOn("s-tomas") != "/" {
		t.Error("Tomas is linked, and does not come in")
	}

	// What belongs to another sign-in is not taken.
	eve := w.visitor()
	theirs := ana.follow(ana.begin(), "s-ana")
	if to := eve.back(theirs); to != "/?sign_on=refused" {
		t.Errorf("the answer to somebody else's sign-in: %s", to)
	}
	begun := eve.follow(eve.begin(), "s-ana")
	at, err := url.Parse(begun)
	if err != nil {
		t.Fatal(err)
	}
	for name, change := range map[string]func(url.Values){
		"another state": func(q url.Values) { q.Set("state", "x") }, "no state": func(q url.Values) { q.Del("state") }, "no code": func(q url.Values) { q.Del("code") },
		"another issuer": func(q url.Values) { q.Set("iss", "http://localhost:1") }, "a code of nobody": func(q url.Values) { q.Set("code", "x") },
	} {
		other := *at
		q := other.Query()
		change(q)
		other.RawQuery = q.Encode()
		v := w.visitor()
		v.http.Jar = eve.http.Jar
		v.follow(v.begin(), "s-ana") // so that something was begun in this browser
		if to := v.back(other.String()); to != "/?sign_on=refused" {
			t.Errorf("%s: %s", name, to)
		}
	}
	fresh := w.visitor()
	once := fresh.follow(fresh.begin(), "s-ana")
	if to := fresh.back(once); to != "/" {
		t.Errorf("once: %s", to)
	}
	if to := fresh.back(once); to != "/?sign_on=refused" {
		t.Errorf("the same answer once more: %s", to)
	}

	// What the provider says at the next sign-in counts from then on.
	people["s-ana"]["groups"] = []string{}
	p.tell(map[string]any{"people": people})
	if to := w.visitor().signOn("s-ana"); to != "/" || w.opens("ana.lopes").Allowed {
		t.Errorf("out of the group there: %s, may: %v", to, w.opens("ana.lopes").Allowed)
	}
	w.does(0, "", "user", "suspend", "ana.lopes")
	if to := w.visitor().signOn("s-ana"); to != "/?sign_on=account" {
		t.Errorf("suspended here: %s", to)
	}
	w.does(0, "", "user", "reinstate", "ana.lopes")
	for _, body := range []string{"", "logout_token=x", "logout_token=" + strings.Repeat("x", 40_000), "logout_token=eyJhbGciOiJub25lIn0.e30."} {
		resp, err := http.Post(w.url+"/sign-on/larkmere-sign-on/logout", "application/x-www-form-urlencoded", strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		_ = resp.Body.Close()
		if resp.StatusCode != 400 && resp.StatusCode != 429 { // so many wrong ones are not looked at any more
			t.Errorf("the log-out %.30q: %d", body, resp.StatusCode)
		}
	}

	// Who logs out there is out here.
	in := w.visitor()
	in.signOn("s-ana")
	if user, _ := in.who(); user != "ana.lopes" {
		t.Fatalf("Ana is %q", user)
	}
	end, err := in.http.Get(p.issuer + "/session/end")
	if err != nil {
		t.Fatal(err)
	}
	text, err := io.ReadAll(end.Body)
	_ = end.Body.Close()
	if err != nil {
		t.Fatal(err)
	}
	secret := regexp.MustCompile(`name="xsrf" value="([^"]+)"`).FindSubmatch(text)
	if secret == nil {
		t.Fatalf("%d %s", end.StatusCode, text)
	}
	out, err := in.http.PostForm(p.issuer+"/session/end/confirm", url.Values{"xsrf": {string(secret[1])}, "logout": {"yes"}})
	if err != nil {
		t.Fatal(err)
	}
	_ = out.Body.Close()
	w.until("the end of the session", func() bool { user, _ := in.who(); return user == "" })
}

// TestTokensOfAProvider: programs come with bearer tokens of the provider, for our audience and by the one mandate that is set; with no other.
func TestTokensOfAProvider(t *testing.T) {
	t.Parallel()
	w, p := withProvider(t, `{"links":{"gate":"gateway-locks"}}`, claims{})
	token := func(resource string) string {
		resp, err := http.PostForm(p.issuer+"/token", url.Values{"grant_type": {"client_credentials"}, "client_id": {"gate"}, "client_secret": {"of-the-gate"}, "resource": {resource}, "scope": {"decide"}})
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		var out struct {
			AccessToken string `json:"access_token"`
		}
		if err := json.NewDecoder(resp.Body).Decode(&out); err != nil || out.AccessToken == "" {
			t.Fatalf("%d %v", resp.StatusCode, err)
		}
		return out.AccessToken
	}
	question := `{"subject":{"type":"user","id":"tomas.field"},"action":{"name":"view"},"resource":{"type":"device","id":"mill-bridge"}}`
	ours, theirs := token("urn:sentier:larkmere"), token("urn:something:else")
	if status, _, _ := w.ask("POST", "/access/v1/evaluation", ours, question); status != 401 {
		t.Errorf("before an audience is set: %d", status)
	}
	src := get[wire.Source](w, "GET", "/api/v1/sources/larkmere-sign-on", "")
	src.SignOn.Audience, src.SignOn.Mandate = "urn:sentier:larkmere", w.enforcement()
	body, err := json.Marshal(src.NewSource)
	if err != nil {
		t.Fatal(err)
	}
	get[wire.Source](w, "PUT", "/api/v1/sources/larkmere-sign-on", string(body))
	if status, _, text := w.ask("POST", "/access/v1/evaluation", ours, question); status != 200 {
		t.Errorf("for our audience: %d %s", status, text)
	}
	for name, bad := range map[string]string{"for another audience": theirs, "with a letter other": ours[:len(ours)-5] + "AAAAA", "without a signature": ours[:strings.LastIndexByte(ours, '.')+1]} {
		if status, _, _ := w.ask("POST", "/access/v1/evaluation", bad, question); status != 401 {
			t.Errorf("%s: %d", name, status)
		}
	}
	if status, _, _ := w.ask("GET", "/api/v1/policy", ours, ""); status != 403 {
		t.Errorf("more than its mandate: %d", status)
	}
}

// enforcement is the id of a mandate of enforcement that the gateway of the locks holds.
func (w *world) enforcement() string {
	w.t.Helper()
	for _, m := range get[wire.List[struct {
		ID, Role string
		To       struct{ Users []string }
	}]](w, "GET", "/api/v1/mandates", "").Items {
		if m.Role == "enforcement" {
			return m.ID
		}
	}
	w.t.Fatal("there is no mandate of enforcement")
	return ""
}

// TestSigningInElsewhereInABrowser goes through the provider's own pages, and comes back.
func TestSigningInElsewhereInABrowser(t *testing.T) {
	t.Parallel()
	w, _ := withProvider(t, `{"groups":[{"outside":"bridge crew","group":"bridge-crew"}]}`, claims{
		"s-ana": {"name": "Ana Lopes", "preferred_username": "ana.lopes", "groups": []string{"bridge crew"}}, "s-eve": {"name": "Eve", "preferred_username": "eve", "groups": []string{"others"}},
	})
	b := w.browse()
	login := func(as string) {
		b.click("Sign in at Larkmere sign-on")
		b.until("the provider", `document.querySelector('input[name="login"]') !== null`)
		b.do("log in there", chromedp.SendKeys(chromedp.CSS(`input[name="login"]`), as), chromedp.SendKeys(chromedp.CSS(`input[name="password"]`), "any"), chromedp.Click(chromedp.CSS(`button[type="submit"]`)))
		b.until("what is asked for", `document.body.innerText.includes("Continue") || document.body.innerText.includes("Authorize")`)
		b.do("agree", chromedp.Click(chromedp.CSS(`button[type="submit"]`)))
	}
	b.open("/")
	b.see("Sign in at Larkmere sign-on")
	b.accessible("signing in, also elsewhere")
	login("s-eve")
	b.see("Nobody here is known by this sign-in")
	b = w.browse() // who is signed in there still in the other
	b.open("/")
	login("s-ana")
	b.see("Ana Lopes")
	b.see("Mill bridge")
}
