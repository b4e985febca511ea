// Package signon lets people sign in at a provider of OpenID Connect: the code flow with PKCE, tokens that are checked to the letter, log-outs that the provider
// tells, and bearer tokens of the provider's own (RFC 9068). It knows nothing of who they are here.
package signon

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"
	"golang.org/x/sync/singleflight"

	"sentier/internal/outbound"
	"sentier/internal/policy"
	"sentier/internal/source"
	"sentier/internal/strict"
)

// Bounds of what is asked of a provider.
const (
	askTime     = 10 * time.Second
	mostAnswer  = 1 << 20 // bytes
	mostToken   = 16 << 10
	knownFor    = time.Hour // that a provider has said of itself
	mostJTIs    = 10_000
	logoutFresh = 10 * time.Minute // old a log-out may be
)

// algorithms are those by which tokens may be signed: all by keys that the provider publishes, and none by a shared secret or by nothing.
var algorithms = []string{oidc.RS256, oidc.RS384, oidc.RS512, oidc.ES256, oidc.ES384, oidc.ES512, oidc.PS256, oidc.PS384, oidc.PS512, oidc.EdDSA}

// Check finds what is wrong with how a provider is set up, and in which field.
func Check(s *source.SignOn) (field string, problem *policy.Said) {
	wrong := func(field, form string, args ...any) (string, *policy.Said) {
		said := policy.Say(form, args...)
		return field, &said
	}
	at, err := url.Parse(s.Issuer)
	switch {
	case err != nil || at.Host == "" || at.RawQuery != "" || at.Fragment != "" || at.User != nil:
		return wrong("issuer", "%q is no address of a provider: write it as the provider does, to the letter", s.Issuer)
	case at.Scheme != "https" && !(at.Scheme == "http" && outbound.Loopback(at.Hostname())):
		return wrong("issuer", "%q is not reached by https", s.Issuer)
	case s.ClientID == "":
		return wrong("client_id", "is missing: the provider gives it")
	case outbound.CheckAuthority(s.Authority) != nil:
		return "authority", outbound.CheckAuthority(s.Authority)
	case s.Audience != "" && s.Mandate == "":
		return wrong("mandate", "is missing: with an audience goes the one mandate that counts for its tokens")
	case s.Audience != "" && s.Audience == s.ClientID:
		return wrong("audience", "is the client's id: tokens of people who sign in would be taken for those of programs")
	}
	return "", nil
}

func refuse(err error, form string, args ...any) error { return outbound.Fault(err, form, args...) }

// Identity is who has signed in, as the provider says.
type Identity struct {
	Subject  string
	Username string
	Name     string
	Email    string
	Groups   []string // nil: nothing was said of groups
	Strong   bool
}

// Pending is a sign-in that was begun.
type Pending struct {
	State, Nonce, Verifier string
}

// Providers knows the providers that were asked. It may be used from many goroutines at once.
type Providers struct {
	Secret func(name string) (string, error) // finds a secret by its name

	mu     sync.Mutex
	asking singleflight.Group
	byID   map[string]*provider
	failed map[string]failure   // by issuer
	jtis   map[string]time.Time // of log-outs, until they are too old anyway
}

// failure is that a provider did not answer: for a short while it is not asked again, whoever wants to sign in.
type failure struct {
	err error
	at  time.Time
}

// failedFor is for how long.
const failedFor = 15 * time.Second

type provider struct {
	*oidc.Provider
	client *http.Client
	asked  time.Time
	of     source.SignOn
}

// of is what a provider says of itself, asked again when that is old, or it is set up otherwise.
func (p *Providers) of(ctx context.Context, s *source.SignOn) (*provider, error) {
	p.mu.Lock()
	known, failed := p.byID[s.Issuer], p.failed[s.Issuer]
	p.mu.Unlock()
	if known != nil && time.Since(known.asked) < knownFor && known.of.Authority == s.Authority {
		return known, nil
	}
	if failed.err != nil && time.Since(failed.at) < failedFor {
		return nil, failed.err
	}
	found, err, _ := p.asking.Do(s.Issuer, func() (any, error) { return p.ask(ctx, s) })
	if err != nil {
		return nil, err
	}
	return found.(*provider), nil
}

// ask asks a provider what it is, and keeps what it says, or that it says nothing.
func (p *Providers) ask(ctx context.Context, s *source.SignOn) (*provider, error) {
	client := outbound.Client(s.Authority, askTime, mostAnswer)
	// Keys are asked for as long as the provider is known, and not for as long as this request lasts.
	found, err := oidc.NewProvider(oidc.ClientContext(context.WithoutCancel(ctx), client), s.Issuer)
	p.mu.Lock()
	defer p.mu.Unlock()
	if err != nil {
		err = refuse(err, "the provider at %s does not say what it is: look at its address, which is written to the letter", s.Issuer)
		if p.failed == nil || len(p.failed) > mostFailed {
			p.failed = map[string]failure{}
		}
		p.failed[s.Issuer] = failure{err, time.Now()}
		return nil, err
	}
	if p.byID == nil {
		p.byID = map[string]*provider{}
	}
	made := &provider{found, client, time.Now(), *s}
	p.byID[s.Issuer] = made
	return made, nil
}

// mostFailed is of how many providers it is known that they say nothing.
const mostFailed = 100

func random() string {
	var b [24]byte
	rand.Read(b[:]) // never fails
	return base64.RawURLEncoding.EncodeToString(b[:])
}

func (p *Providers) config(found *provider, s *source.SignOn, redirect string) (*oauth2.Config, error) {
	secret := ""
	if s.Secret != "" {
		var err error
		if secret, err = p.Secret(s.Secret); err != nil {
			return nil, err
		}
	}
	scopes := append([]string{oidc.ScopeOpenID}, s.Scopes...)
	if len(s.Scopes) == 0 {
		scopes = append(scopes, "profile", "email")
	}
	return &oauth2.Config{ClientID: s.ClientID, ClientSecret: secret, Endpoint: found.Endpoint(), RedirectURL: redirect, Scopes: scopes}, nil
}

// Begin begins a sign-in: where the browser is sent, and what is kept of it meanwhile. redirect is where it comes back to.
func (p *Providers) Begin(ctx context.Context, s *source.SignOn, redirect string) (to string, pending Pending, err error) {
	found, err := p.of(ctx, s)
	if err != nil {
		return "", pending, err
	}
	config, err := p.config(found, s, redirect)
	if err != nil {
		return "", pending, err
	}
	pending = Pending{random(), random(), oauth2.GenerateVerifier()}
	options := []oauth2.AuthCodeOption{oidc.Nonce(pending.Nonce), oauth2.S256ChallengeOption(pending.Verifier)}
	if len(s.Strong) > 0 {
		options = append(options, oauth2.SetAuthURLParam("acr_values", strings.Join(s.Strong, " ")))
	}
	return config.AuthCodeURL(pending.State, options...), pending, nil
}

// Finish finds who has signed in, by the code that the provider has sent.
func (p *Providers) Finish(ctx context.Context, s *source.SignOn, redirect string, pending Pending, code, issuer string) (Identity, error) {
	if issuer != "" && issuer != s.Issuer { // RFC 9207
		return Identity{}, refuse(nil, "the answer comes from another provider")
	}
	found, err := p.of(ctx, s)
	if err != nil {
		return Identity{}, err
	}
	config, err := p.config(found, s, redirect)
	if err != nil {
		return Identity{}, err
	}
	ctx, cancel := context.WithTimeout(oidc.ClientContext(ctx, found.client), askTime)
	defer cancel()
	tokens, err := config.Exchange(ctx, code, oauth2.VerifierOption(pending.Verifier))
	if err != nil {
		return Identity{}, refuse(err, "the provider does not take the code: it is good once, and for a short time; sign in again")
	}
	raw, _ := tokens.Extra("id_token").(string)
	if err := isType(raw, "JWT"); err != nil {
		return Identity{}, err
	}
	token, err := found.VerifierContext(ctx, &oidc.Config{ClientID: s.ClientID, SupportedSigningAlgs: algorithms}).Verify(ctx, raw)
	if err != nil {
		return Identity{}, refuse(err, "what the provider says cannot be trusted: %s", fault(err))
	}
	if token.Nonce == "" || token.Nonce != pending.Nonce {
		return Identity{}, refuse(nil, "what the provider says belongs to another sign-in")
	}
	if token.AccessTokenHash != "" {
		if err := token.VerifyAccessToken(tokens.AccessToken); err != nil {
			return Identity{}, refuse(err, "what the provider says belongs to another sign-in")
		}
	}
	claims := map[string]any{}
	if err := token.Claims(&claims); err != nil {
		return Identity{}, refuse(err, "what the provider says cannot be read")
	}
	if azp, ok := claims["azp"].(string); ok && azp != s.ClientID || !ok && len(token.Audience) > 1 {
		return Identity{}, refuse(nil, "what the provider says is for another client")
	}
	if found.UserInfoEndpoint() != "" && lacks(claims, s) {
		more, err := found.UserInfo(ctx, oauth2.StaticTokenSource(tokens))
		extra := map[string]any{}
		if err == nil && more.Subject == token.Subject && more.Claims(&extra) == nil {
			for k, v := range extra {
				if _, said := claims[k]; !said {
					claims[k] = v
				}
			}
		}
	}
	return identity(token.Subject, claims, s), nil
}

// lacks tells whether anything that is wanted is not in the token.
func lacks(claims map[string]any, s *source.SignOn) bool {
	return claims["name"] == nil || claims["email"] == nil || claims[groupsClaim(s)] == nil
}

func groupsClaim(s *source.SignOn) string {
	if s.GroupsClaim != "" {
		return s.GroupsClaim
	}
	return "groups"
}

func identity(subject string, claims map[string]any, s *source.SignOn) Identity {
	text := func(name string) string { v, _ := claims[name].(string); return v }
	out := Identity{Subject: subject, Name: text("name"), Username: text("preferred_username")}
	if s.IDClaim != "" {
		out.Username = text(s.IDClaim)
	}
	if verified, said := claims["email_verified"].(bool); verified || !said {
		out.Email = text("email")
	}
	if list, ok := claims[groupsClaim(s)].([]any); ok {
		out.Groups = []string{}
		for _, x := range list {
			if name, ok := x.(string); ok && len(out.Groups) < mostGroups {
				out.Groups = append(out.Groups, name)
			}
		}
	}
	out.Strong = slices.Contains(s.Strong, text("acr"))
	if methods, ok := claims["amr"].([]any); ok {
		for _, m := range methods {
			name, _ := m.(string)
			out.Strong = out.Strong || slices.Contains([]string{"mfa", "hwk", "sc"}, name) // RFC 8176
		}
	}
	return out
}

// mostGroups is how many groups of somebody are read.
const mostGroups = 5000

// isType refuses a token that says it is of another type: an access token or a log-out is none by which somebody signs in.
func isType(raw, want string) error {
	if len(raw) > mostToken {
		return refuse(nil, "what the provider says is too long")
	}
	head, _, _ := strings.Cut(raw, ".")
	text, err := base64.RawURLEncoding.DecodeString(head)
	var header struct {
		Typ string `json:"typ"`
	}
	if err != nil || strict.ReadOpen(text, &header) != nil {
		return refuse(err, "what the provider says cannot be read")
	}
	typ := strings.TrimPrefix(strings.ToLower(header.Typ), "application/")
	if typ != strings.ToLower(want) && !(typ == "" && want == "JWT") {
		return refuse(nil, "what the provider says is of another kind")
	}
	return nil
}

// fault says why a token is not good, in words of ours.
func fault(err error) policy.Said {
	var expired *oidc.TokenExpiredError
	text := err.Error()
	switch {
	case errors.As(err, &expired):
		return policy.Say("it is over")
	case strings.Contains(text, "audience"):
		return policy.Say("it is for another client")
	case strings.Contains(text, "issued by a different provider"):
		return policy.Say("it is of another provider")
	case strings.Contains(text, "signature algorithm"), strings.Contains(text, "unexpected signature"):
		return policy.Say("it is signed in a way that is not taken")
	}
	return policy.Say("its signature does not hold")
}

// Logout finds of whom the provider says that they have logged out there: OpenID Connect Back-Channel Logout 1.0. A log-out is good once.
func (p *Providers) Logout(ctx context.Context, s *source.SignOn, raw string) (subject string, err error) {
	found, err := p.of(ctx, s)
	if err != nil {
		return "", err
	}
	if err := isType(raw, "logout+jwt"); err != nil && isType(raw, "JWT") != nil {
		return "", err
	}
	ctx, cancel := context.WithTimeout(oidc.ClientContext(ctx, found.client), askTime)
	defer cancel()
	token, err := found.VerifierContext(ctx, &oidc.Config{ClientID: s.ClientID, SupportedSigningAlgs: algorithms}).VerifyLogout(ctx, raw)
	if err != nil {
		return "", refuse(err, "the log-out cannot be trusted: %s", fault(err))
	}
	if token.Subject == "" || token.TokenID == "" || time.Since(token.IssuedAt) > logoutFresh {
		return "", refuse(nil, "the log-out does not say of whom it is, or is old")
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	now := time.Now()
	if p.jtis == nil || len(p.jtis) > mostJTIs {
		kept := map[string]time.Time{}
		for id, until := range p.jtis {
			if until.After(now) && len(kept) < mostJTIs/2 {
				kept[id] = until
			}
		}
		p.jtis = kept
	}
	key := s.Issuer + " " + token.TokenID
	if until, ok := p.jtis[key]; ok && until.After(now) {
		return "", refuse(nil, "the log-out was told before")
	}
	p.jtis[key] = now.Add(2 * logoutFresh)
	return token.Subject, nil
}

// IssuerOf is who a bearer token says it is from, before anything of it is believed; empty: it is no token of a provider.
func IssuerOf(raw string) string {
	parts := strings.Split(raw, ".")
	if len(parts) != 3 || len(raw) > mostToken {
		return ""
	}
	text, err := base64.RawURLEncoding.DecodeString(parts[1])
	var claims struct {
		Iss string `json:"iss"`
	}
	if err != nil || strict.ReadOpen(text, &claims) != nil {
		return ""
	}
	return claims.Iss
}

// Bearer finds whose a bearer token of the provider is, and until when it holds: RFC 9068. It has to be for our audience.
func (p *Providers) Bearer(ctx context.Context, s *source.SignOn, raw string) (subject string, until time.Time, err error) {
	if err := isType(raw, "at+jwt"); err != nil {
		return "", until, err
	}
	found, err := p.of(ctx, s)
	if err != nil {
		return "", until, err
	}
	ctx, cancel := context.WithTimeout(oidc.ClientContext(ctx, found.client), askTime)
	defer cancel()
	token, err := found.VerifierContext(ctx, &oidc.Config{ClientID: s.Audience, SupportedSigningAlgs: algorithms}).Verify(ctx, raw)
	if err != nil {
		return "", until, refuse(err, "the token cannot be trusted: %s", fault(err))
	}
	return token.Subject, token.Expiry, nil
}
