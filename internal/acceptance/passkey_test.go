package acceptance

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/webauthn"
	"github.com/chromedp/chromedp"

	"sentier/internal/wire"
)

// withAuthenticator is a browser whose device makes passkeys: Chromium's own, for tests.
func (w *world) withAuthenticator() *browser {
	w.t.Helper()
	b := w.browse()
	b.url = strings.Replace(w.url, "127.0.0.1", "localhost", 1) // passkeys belong to a name
	b.do("an authenticator", chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		if _, err := cdp.Call(ctx, t, webauthn.Enable, webauthn.EnableParams{}); err != nil {
			return err
		}
		_, err := cdp.Call(ctx, t, webauthn.AddVirtualAuthenticator, webauthn.AddVirtualAuthenticatorParams{Options: &webauthn.VirtualAuthenticatorOptions{
			Protocol: webauthn.AuthenticatorProtocolCtap2, Transport: webauthn.AuthenticatorTransportInternal,
			HasResidentKey: true, HasUserVerification: true, IsUserVerified: true, AutomaticPresenceSimulation: true,
		}})
		return err
	}))
	return b
}

// TestAPasskeyIsEnough: somebody of whom a second factor is required makes a passkey before anything else, signs in by it alone from then on,
// strongly; takes it away again, and it lets in no more.
func TestAPasskeyIsEnough(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	if err := w.owner.Service.SetPassword(context.Background(), "irene.castro", password); err != nil {
		t.Fatal(err)
	}
	b := w.withAuthenticator()
	b.open("/")
	b.see("Sign in with a passkey")
	b.click("Sign in with a passkey")
	b.see("did not sign") // this device has none yet
	b.accessible("the sign-in with passkeys")
	b.signIn("irene.castro", password)
	b.see("First, a second factor")
	b.fill("Name of the device", "This laptop")
	b.accessible("the passkey that is asked for")
	b.look("passkey-order")
	b.click("Make it on this device")
	b.see("Ten recovery codes")
	b.click("I have kept them")
	b.see("My access")
	b.open("/account")
	b.see("This laptop")
	b.look("passkey-account")
	b.click("Sign out")
	b.see("Sign in with a passkey")
	b.click("Sign in with a passkey")
	b.see("My access")
	who := map[string]any{}
	text, err := ask(b, chromedp.Evaluate[string](`fetch("/api/v1/session").then((r) => r.text())`, chromedp.EvalAwaitPromise))
	if err != nil {
		t.Fatal(err)
	}
	if err := json.Unmarshal([]byte(text), &who); err != nil || who["strong"] != true {
		t.Errorf("by a passkey one is signed in as %s (%v)", text, err)
	}

	// The same answer is good once; one that was made up, never.
	status, _, begun := w.ask("POST", "/api/v1/session/passkey", "", "")
	var ceremony wire.Ceremony
	if err := json.Unmarshal([]byte(begun), &ceremony); err != nil || status != 200 {
		t.Fatalf("%d %s", status, begun)
	}
	for name, body := range map[string]string{
		"no credential":       fmt.Sprintf(`{"id":%q,"credential":"{}"}`, ceremony.ID),
		"another ceremony":    `{"id":"AAAA","credential":"{}"}`,
		"no ceremony":         `{"id":"","credential":"x"}`,
		"a long credential":   fmt.Sprintf(`{"id":%q,"credential":%q}`, ceremony.ID, strings.Repeat("x", 20_000)),
		"a made-up signature": fmt.Sprintf(`{"id":%q,"credential":%q}`, ceremony.ID, `{"id":"AAAA","rawId":"AAAA","type":"public-key","response":{"clientDataJSON":"e30","authenticatorData":"AAAA","signature":"AAAA","userHandle":"AAAA"}}`),
	} {
		if status, _, text := w.ask("POST", "/api/v1/session/passkey/sign-in", "", body); status != 401 && status != 400 && status != 413 && status != 429 {
			t.Errorf("%s: %d %s", name, status, text)
		}
	}
	replayed := b.replay(t)
	if replayed != "200 401" {
		t.Errorf("the same answer twice: %s", replayed)
	}

	b.open("/account")
	b.see("This laptop")
	for _, g := range get[struct {
		Items []struct {
			ID     string
			SignIn any `json:"sign_in"`
		}
	}](w, "GET", "/api/v1/user_groups", "").Items {
		if g.SignIn != nil {
			w.must("PATCH", "/api/v1/user_groups/"+g.ID, `{"sign_in":null}`)
		}
	}
	b.click("Take it away")
	b.fillLast("Password now", password)
	b.clickLast("Take it away")
	b.see("You have none")
	b.click("Sign out")
	b.click("Sign in with a passkey")
	b.see("is not known here")
	got := texts(w.entries("of=irene.castro"))
	for _, want := range []string{"second_factor irene.castro: Set up a second factor: “This laptop”", "sign_in irene.castro: Signed in by a passkey and a second factor", "second_factor irene.castro: Took a second factor of their own away"} {
		if !strings.Contains(got, want) {
			t.Errorf("not on record: %s\n%s", want, got)
		}
	}
	// The browser was answered: no other client here has an authenticator.
	for _, operation := range []string{"beginPasskey", "confirmPasskey", "signInByPasskey"} {
		description().met.Store(operation, true)
	}
}

// replay has the device sign once, and sends what it signed twice.
func (b *browser) replay(t *testing.T) string {
	t.Helper()
	out, err := ask(b, chromedp.Evaluate[string](`(async () => {
		const send = (path, body) => fetch(path, { method: "POST", headers: { "Content-Type": "application/json" }, body: body && JSON.stringify(body) });
		const c = await (await send("/api/v1/session/passkey")).json();
		const signed = await navigator.credentials.get({ publicKey: PublicKeyCredential.parseRequestOptionsFromJSON(JSON.parse(c.options)) });
		const body = { id: c.id, credential: JSON.stringify(signed.toJSON()) };
		return (await send("/api/v1/session/passkey/sign-in", body)).status + " " + (await send("/api/v1/session/passkey/sign-in", body)).status;
	})()`, chromedp.EvalAwaitPromise))
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// TestAGivenPasswordIsChangedFirst: whoever was given one sets their own before anything else.
func TestAGivenPasswordIsChangedFirst(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	for path, want := range map[string]int{"/api/v1/users/ines.carvalho/password": 400, "/api/v1/users/night-backup/password": 400, "/api/v1/users/no-such/password": 404} {
		if status, _, text := w.ask("PUT", path, w.token, `{"password":"towpath and heron"}`); status != want {
			t.Errorf("%s: %d %s", path, status, text)
		}
	}
	if status, _, _ := w.ask("PUT", "/api/v1/users/greta.holm/password", w.token, `{"password":"short"}`); status != 400 {
		t.Errorf("a short one: %d", status)
	}
	w.must("PUT", "/api/v1/users/greta.holm/password", `{"password":"towpath and heron"}`)
	b := w.browse()
	b.signIn("greta.holm", "towpath and heron")
	b.see("First, a new password")
	b.accessible("the password that is asked for")
	b.look("given-password")
	b.fill("Password now", "towpath and heron")
	b.fill("New password", "heron and towpath")
	b.fill("New password once more", "heron and towpath")
	b.click("Change it")
	b.see("My access")
	if list := w.entries("kind=password&of=greta.holm"); len(list) != 2 || !strings.Contains(list[0].Text, "Gave Greta Holm a password") {
		t.Errorf("on record:\n%s", texts(list))
	}
}
