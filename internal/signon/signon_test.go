package signon_test

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"encoding/json"
	"errors"
	"maps"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"

	"sentier/internal/outbound"
	"sentier/internal/signon"
	"sentier/internal/source"
)

// liar is a provider that says what it is told to.
type liar struct {
	*httptest.Server
	mu     sync.Mutex
	key    *ecdsa.PrivateKey
	kid    string
	claims map[string]any // of the next token
	typ    string
	raw    string // instead of a token; empty: one is made
	about  func(map[string]any)
}

func newKey(t *testing.T) *ecdsa.PrivateKey {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	return key
}

func newLiar(t *testing.T) *liar {
	t.Helper()
	l := &liar{key: newKey(t), kid: "1"}
	mux := http.NewServeMux()
	answer := func(w http.ResponseWriter, v any) {
		w.Header().Set("Content-Type", "application/json")
		if err := json.NewEncoder(w).Encode(v); err != nil {
			t.Error(err)
		}
	}
	mux.HandleFunc("GET /.well-known/openid-configuration", func(w http.ResponseWriter, _ *http.Request) {
		about := map[string]any{"issuer": l.URL, "authorization_endpoint": l.URL + "/auth", "token_endpoint": l.URL + "/token", "jwks_uri": l.URL + "/keys", "id_token_signing_alg_values_supported": []string{"ES256", "none", "HS256"}}
		if l.about != nil {
			l.about(about)
		}
		answer(w, about)
	})
	mux.HandleFunc("GET /keys", func(w http.ResponseWriter, _ *http.Request) {
		l.mu.Lock()
		defer l.mu.Unlock()
		answer(w, jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: &l.key.PublicKey, KeyID: l.kid, Algorithm: "ES256", Use: "sig"}}})
	})
	mux.HandleFunc("POST /token", func(w http.ResponseWriter, r *http.Request) {
		if r.FormValue("code_verifier") == "" {
			t.Error("the code is asked for without what PKCE keeps")
		}
		raw := l.raw
		if raw == "" {
			raw = l.sign(t, l.claims)
		}
		answer(w, map[string]any{"access_token": "a", "token_type": "Bearer", "id_token": raw})
	})
	l.Server = httptest.NewServer(mux)
	t.Cleanup(l.Close)
	return l
}

func (l *liar) sign(t *testing.T, claims map[string]any) string {
	t.Helper()
	l.mu.Lock()
	defer l.mu.Unlock()
	options := (&jose.SignerOptions{}).WithHeader("kid", l.kid)
	if l.typ != "" {
		options = options.WithType(jose.ContentType(l.typ))
	}
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256, Key: l.key}, options)
	if err != nil {
		t.Fatal(err)
	}
	text, err := json.Marshal(claims)
	if err != nil {
		t.Fatal(err)
	}
	signed, err := signer.Sign(text)
	if err != nil {
		t.Fatal(err)
	}
	out, err := signed.CompactSerialize()
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// TestWhatAProviderCannotMakeUsBelieve: a token counts only where it is of this provider, for us, of this sign-in, in force, of its kind, and signed by a key of the
// provider.
func TestWhatAProviderCannotMakeUsBelieve(t *testing.T) {
	t.Parallel()
	l := newLiar(t)
	p := &signon.Providers{Secret: func(string) (string, error) { return "x", nil }}
	s := &source.SignOn{Issuer: l.URL, ClientID: "sentier", Strong: []string{"gold"}}
	now := time.Now().Unix()
	good := map[string]any{"iss": l.URL, "aud": "sentier", "sub": "s-ana", "exp": now + 60, "iat": now, "name": "Ana", "groups": []string{"a", "b"}, "acr": "gold"}
	for name, c := range map[string]struct {
		change func(c map[string]any)
		typ    string
		raw    string
		says   string
	}{
		"as it should be":             {says: ""},
		"of another issuer":           {change: func(c map[string]any) { c["iss"] = "https://other.example" }, says: "another provider"},
		"for another client":          {change: func(c map[string]any) { c["aud"] = "other" }, says: "another client"},
		"for us and another":          {change: func(c map[string]any) { c["aud"] = []string{"sentier", "other"} }, says: "another client"},
		"made for another by azp":     {change: func(c map[string]any) { c["azp"] = "other" }, says: "another client"},
		"over":                        {change: func(c map[string]any) { c["exp"] = now - 60 }, says: "it is over"},
		"of another sign-in":          {change: func(c map[string]any) { c["nonce"] = "x" }, says: "another sign-in"},
		"of no sign-in":               {change: func(c map[string]any) { delete(c, "nonce") }, says: "another sign-in"},
		"with another access token":   {change: func(c map[string]any) { c["at_hash"] = "AAAAAAAAAAAAAAAAAAAAAA" }, says: "another sign-in"},
		"an access token":             {typ: "at+jwt", says: "of another kind"},
		"a log-out":                   {typ: "logout+jwt", says: "of another kind"},
		"signed by nothing":           {raw: "eyJhbGciOiJub25lIn0.eyJpc3MiOiJ4In0.", says: "not taken"},
		"signed by a shared secret":   {raw: "eyJhbGciOiJIUzI1NiJ9.eyJpc3MiOiJ4In0.AAAA", says: "not taken"},
		"no token at all":             {raw: "nothing", says: "cannot be read"},
		"longer than anybody's token": {raw: strings.Repeat("x", 100_000), says: "too long"},
	} {
		_, pending, err := p.Begin(context.Background(), s, "http://here/callback")
		if err != nil {
			t.Fatal(err)
		}
		l.claims, l.typ, l.raw = maps.Clone(good), c.typ, c.raw
		l.claims["nonce"] = pending.Nonce
		if c.change != nil {
			c.change(l.claims)
		}
		who, err := p.Finish(context.Background(), s, "http://here/callback", pending, "code", "")
		var told *outbound.Error
		switch {
		case c.says == "" && (err != nil || who.Subject != "s-ana" || !who.Strong || len(who.Groups) != 2):
			t.Errorf("%s: %+v %v", name, who, err)
		case c.says != "" && (!errors.As(err, &told) || !strings.Contains(err.Error(), c.says)):
			t.Errorf("%s: %+v %v, want %q", name, who, err, c.says)
		}
	}
	if _, err := p.Finish(context.Background(), s, "http://here/callback", signon.Pending{}, "code", "https://other.example"); err == nil {
		t.Error("the answer of another provider is taken")
	}

	// The provider takes a new key: what is signed by it counts, what is signed by the one before does not.
	_, pending, err := p.Begin(context.Background(), s, "http://here/callback")
	if err != nil {
		t.Fatal(err)
	}
	l.claims, l.typ, l.raw = maps.Clone(good), "", ""
	l.claims["nonce"] = pending.Nonce
	old := l.sign(t, l.claims)
	l.mu.Lock()
	l.key, l.kid = newKey(t), "2"
	l.mu.Unlock()
	if _, err := p.Finish(context.Background(), s, "http://here/callback", pending, "code", ""); err != nil {
		t.Errorf("by the new key: %v", err)
	}
	forged := newLiar(t)
	forged.kid = "2"
	for _, raw := range []string{old, forged.sign(t, l.claims)} {
		l.raw = raw
		if who, err := p.Finish(context.Background(), s, "http://here/callback", pending, "code", ""); err == nil {
			t.Errorf("by a key that the provider does not have: %+v", who)
		}
	}

	// Of log-outs, and tokens of programs.
	l.raw, l.typ = "", "logout+jwt"
	event := map[string]any{"http://schemas.openid.net/event/backchannel-logout": map[string]any{}}
	out := map[string]any{"iss": l.URL, "aud": "sentier", "sub": "s-ana", "iat": now, "exp": now + 60, "jti": "1", "events": event}
	once := l.sign(t, out)
	if sub, err := p.Logout(context.Background(), s, once); sub != "s-ana" || err != nil {
		t.Errorf("a log-out: %q %v", sub, err)
	}
	for name, change := range map[string]func(c map[string]any){
		"told before": nil, "without an event": func(c map[string]any) { delete(c, "events") }, "with a nonce": func(c map[string]any) { c["nonce"] = "x" }, "of nobody": func(c map[string]any) { delete(c, "sub") },
		"old": func(c map[string]any) { c["iat"] = now - 7200 }, "for another": func(c map[string]any) { c["aud"] = "other" },
	} {
		c := maps.Clone(out)
		if change != nil {
			c["jti"] = name
			change(c)
		}
		if sub, err := p.Logout(context.Background(), s, l.sign(t, c)); err == nil {
			t.Errorf("a log-out that is %s: %q", name, sub)
		}
	}
	s.Audience, s.Mandate = "urn:ours", "m"
	for typ, want := range map[string]bool{"at+jwt": true, "JWT": false, "": false, "logout+jwt": false} {
		l.typ = typ
		if _, _, err := p.Bearer(context.Background(), s, l.sign(t, map[string]any{"iss": l.URL, "aud": "urn:ours", "sub": "gate", "iat": now, "exp": now + 60})); (err == nil) != want {
			t.Errorf("a token of the type %q: %v", typ, err)
		}
	}
}

// TestAProviderThatIsAnother: what it says of itself has to be of the very address that it is asked at.
func TestAProviderThatIsAnother(t *testing.T) {
	t.Parallel()
	l := newLiar(t)
	l.about = func(about map[string]any) { about["issuer"] = "https://other.example" }
	p := &signon.Providers{}
	if _, _, err := p.Begin(context.Background(), &source.SignOn{Issuer: l.URL, ClientID: "x"}, "http://here"); err == nil {
		t.Error("it is believed to be another")
	}
	for field, s := range map[string]*source.SignOn{
		"": {Issuer: "https://id.example", ClientID: "x"}, "issuer": {Issuer: "http://id.example", ClientID: "x"}, "client_id": {Issuer: "https://id.example"},
		"authority": {Issuer: "https://id.example", ClientID: "x", Authority: "none"}, "mandate": {Issuer: "https://id.example", ClientID: "x", Audience: "y"}, "audience": {Issuer: "https://id.example", ClientID: "x", Audience: "x", Mandate: "m"},
	} {
		if got, problem := signon.Check(s); got != field {
			t.Errorf("%+v: %q %v, want %q", s, got, problem, field)
		}
	}
	for _, raw := range []string{"", "a.b", "a.b.c", "a.e30.c", strings.Repeat("x", 1<<20)} {
		if iss := signon.IssuerOf(raw); iss != "" {
			t.Errorf("%.20q is of %q", raw, iss)
		}
	}
}
