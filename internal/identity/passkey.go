package identity

import (
	"context"
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/url"
	"sync"
	"time"

	"github.com/go-webauthn/webauthn/protocol"
	"github.com/go-webauthn/webauthn/webauthn"
	"github.com/google/uuid"

	"sentier/internal/policy"
	"sentier/internal/store"
	"sentier/internal/translate"
)

// ceremonyTime is for how long a browser can take to make a passkey, or to sign in by one.
const ceremonyTime = 5 * time.Minute

// mostCredential bounds what a browser sends of a passkey, in bytes.
const mostCredential = 16 << 10

// ErrPasskey is that a passkey does not let in.
var ErrPasskey = told("the passkey is not known here, or did not sign what it was asked to: try again, or sign in with your password")

// passkeys are passkeys and security keys by WebAuthn. What a ceremony has begun with is sealed and goes with whoever has begun it, so that
// beginning many costs nothing that is kept.
type passkeys struct {
	web  *webauthn.WebAuthn
	seal cipher.AEAD

	mu   sync.Mutex
	used map[string]time.Time // challenges that were signed, until they are too old anyway
}

// newPasskeys are the passkeys of a site; nil where it has no name of its own. On a loopback address that name is localhost.
func newPasskeys(site *url.URL) (*passkeys, error) {
	if site == nil {
		return nil, nil
	}
	host, origin := site.Hostname(), site.Scheme+"://"+site.Host
	if ip := net.ParseIP(host); ip != nil {
		if !ip.IsLoopback() {
			return nil, nil
		}
		host, origin = "localhost", site.Scheme+"://"+net.JoinHostPort("localhost", site.Port())
	}
	limit := webauthn.TimeoutConfig{Enforce: true, Timeout: ceremonyTime, TimeoutUVD: ceremonyTime}
	web, err := webauthn.New(&webauthn.Config{
		RPID: host, RPDisplayName: "Sentier", RPOrigins: []string{origin}, AttestationPreference: protocol.PreferNoAttestation,
		Timeouts: webauthn.TimeoutsConfig{Login: limit, Registration: limit},
	})
	if err != nil {
		return nil, fmt.Errorf("passkeys at %s: %w", origin, err)
	}
	key := make([]byte, 32)
	rand.Read(key) // never fails
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	seal, err := cipher.NewGCMWithRandomNonce(block)
	return &passkeys{web: web, seal: seal, used: map[string]time.Time{}}, err
}

// Ceremony is what a browser is asked to do with a passkey.
type Ceremony struct {
	ID      string // comes back with what the browser gives
	Options []byte // JSON, for navigator.credentials
}

// begun is what a ceremony has begun with.
type begun struct {
	Session string               // in which a passkey is made; empty: somebody signs in
	Data    webauthn.SessionData // with the challenge, and its end
	Until   time.Time
}

func (p *passkeys) begin(b begun, options any) (Ceremony, error) {
	text, err := json.Marshal(b)
	if err != nil {
		return Ceremony{}, err
	}
	out := Ceremony{ID: base64.RawURLEncoding.EncodeToString(p.seal.Seal(nil, nil, text, nil))}
	out.Options, err = json.Marshal(options)
	return out, err
}

// finish opens what a ceremony has begun with, and calls what proves that it ended well: once for each.
func (p *passkeys) finish(id, session string, now time.Time, prove func(begun) error) error {
	sealed, err := base64.RawURLEncoding.DecodeString(id)
	if err != nil {
		return ErrPasskey
	}
	text, err := p.seal.Open(nil, nil, sealed, nil)
	if err != nil {
		return ErrPasskey
	}
	var b begun
	if err := json.Unmarshal(text, &b); err != nil || b.Session != session || now.After(b.Until) {
		return ErrPasskey
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	for challenge, until := range p.used {
		if now.After(until) {
			delete(p.used, challenge)
		}
	}
	if _, again := p.used[b.Data.Challenge]; again {
		return ErrPasskey
	}
	if err := prove(b); err != nil {
		return err
	}
	p.used[b.Data.Challenge] = b.Until
	return nil
}

// holder is somebody with their passkeys, as the library asks for them.
type holder struct {
	user string
	keys []webauthn.Credential
}

// WebAuthnID is by what an authenticator knows the account: of that, it tells nothing.
func (h *holder) WebAuthnID() []byte {
	sum := sha256.Sum256([]byte("sentier account " + h.user))
	return sum[:]
}

// WebAuthnName is what the authenticator shows.
func (h *holder) WebAuthnName() string { return h.user }

// WebAuthnDisplayName is what the authenticator shows as well.
func (h *holder) WebAuthnDisplayName() string { return h.user }

// WebAuthnCredentials are those that are known.
func (h *holder) WebAuthnCredentials() []webauthn.Credential { return h.keys }

func (r *Registry) holder(ctx context.Context, user string) (*holder, error) {
	list, err := r.Kept.SecondFactors(ctx, user)
	out := &holder{user: user}
	for _, f := range list {
		if f.Kind != store.FactorPasskey {
			continue
		}
		var c webauthn.Credential
		if err := json.Unmarshal(f.Secret, &c); err != nil {
			return nil, fmt.Errorf("read a passkey: %w", err)
		}
		out.keys = append(out.keys, c)
	}
	return out, err
}

// HasPasskeys tells whether passkeys can be used at all.
func (r *Registry) HasPasskeys() bool { return r.passkeys != nil }

var errNoPasskeys = translate.Wrong("passkey", "cannot be used here: they belong to a name, and the service is reached by an address; give it one with --public-url")

// BeginPasskey begins to make a passkey for a user, in a session.
func (r *Registry) BeginPasskey(ctx context.Context, user policy.UserID, session string) (Ceremony, error) {
	if r.passkeys == nil {
		return Ceremony{}, errNoPasskeys
	}
	h, err := r.holder(ctx, string(user))
	if err != nil {
		return Ceremony{}, err
	}
	if len(h.keys) >= mostFactors {
		return Ceremony{}, translate.Wrong("factors", "are many: take one away first, or come again later")
	}
	creation, data, err := r.passkeys.web.BeginRegistration(h,
		webauthn.WithAuthenticatorSelection(protocol.AuthenticatorSelection{ResidentKey: protocol.ResidentKeyRequirementRequired, RequireResidentKey: new(true), UserVerification: protocol.VerificationRequired}),
		webauthn.WithExclusions(webauthn.Credentials(h.keys).CredentialDescriptors()))
	if err != nil {
		return Ceremony{}, fmt.Errorf("begin to make a passkey: %w", err)
	}
	return r.passkeys.begin(begun{session, *data, r.Clock().Add(ceremonyTime)}, creation.Response)
}

// ConfirmPasskey keeps the passkey that a browser has made in a session, which is a strong one from then on; with the first second factor of a
// user come recovery codes.
func (r *Registry) ConfirmPasskey(ctx context.Context, user policy.UserID, session, name, id, credential string) (codes []string, err error) {
	if r.passkeys == nil {
		return nil, errNoPasskeys
	}
	if len(credential) > mostCredential {
		return nil, translate.Wrong("credential", "is longer than any passkey")
	}
	h, err := r.holder(ctx, string(user))
	if err != nil {
		return nil, err
	}
	err = r.passkeys.finish(id, session, r.Clock(), func(b begun) error {
		parsed, err := protocol.ParseCredentialCreationResponseBytes([]byte(credential))
		if err != nil {
			return ErrPasskey
		}
		made, err := r.passkeys.web.CreateCredential(h, b.Data, parsed)
		if err != nil || !parsed.Response.AttestationObject.AuthData.Flags.UserVerified() {
			r.Log.Warn("a passkey was not taken", "user", user, "error", err)
			return ErrPasskey
		}
		f := store.SecondFactor{UserID: string(user), Name: name, Kind: store.FactorPasskey, Credential: made.ID, Step: int64(made.Authenticator.SignCount), CreatedAt: r.Clock()}
		key, err1 := uuid.NewV7()
		text, err2 := json.Marshal(made)
		if err := errors.Join(err1, err2); err != nil {
			return err
		}
		f.ID, f.Secret = key.String(), text
		codes, err = r.addFactor(ctx, f, session, !r.HasFactor(user))
		return err
	})
	return codes, err
}

// BeginPasskeySignIn begins a sign-in by a passkey, of whomever it belongs to.
func (r *Registry) BeginPasskeySignIn() (Ceremony, error) {
	if r.passkeys == nil {
		return Ceremony{}, errNoPasskeys
	}
	assertion, data, err := r.passkeys.web.BeginDiscoverableLogin(webauthn.WithUserVerification(protocol.VerificationRequired))
	if err != nil {
		return Ceremony{}, fmt.Errorf("begin to sign in by a passkey: %w", err)
	}
	return r.passkeys.begin(begun{"", *data, r.Clock().Add(ceremonyTime)}, assertion.Response)
}

// ProvePasskey finds whose passkey has signed, from an address. The error is [ErrPasskey] where none of somebody who may come in has.
func (r *Registry) ProvePasskey(ctx context.Context, id, credential, address string) (user policy.UserID, err error) {
	if r.passkeys == nil {
		return "", errNoPasskeys
	}
	try, err := r.Try("a passkey", address, true)
	if err != nil {
		return "", err
	}
	if len(credential) > mostCredential {
		return "", ErrPasskey
	}
	err = r.passkeys.finish(id, "", r.Clock(), func(b begun) error {
		user, err = r.provePasskey(ctx, b, credential)
		return err
	})
	if err != nil {
		return user, err
	}
	try.Good()
	if err := r.MayEnter(user); err != nil {
		return user, err
	}
	r.Remember(ctx, string(user), address)
	return user, nil
}

func (r *Registry) provePasskey(ctx context.Context, b begun, credential string) (policy.UserID, error) {
	// The flags of this answer are read: those that are kept with the credential stay as they once were.
	parsed, err := protocol.ParseCredentialRequestResponseBytes([]byte(credential))
	if err != nil {
		return "", ErrPasskey
	}
	var kept store.SecondFactor
	_, used, err := r.passkeys.web.ValidatePasskeyLogin(func(rawID, handle []byte) (webauthn.User, error) {
		if kept, err = r.Kept.PasskeyOf(ctx, rawID); err != nil {
			return nil, err
		}
		h, err := r.holder(ctx, kept.UserID)
		if err == nil && string(h.WebAuthnID()) != string(handle) {
			err = ErrPasskey
		}
		return h, err
	}, b.Data, parsed)
	if err != nil || !parsed.Response.AuthenticatorData.Flags.UserVerified() {
		r.Log.Warn("sign-in refused: the passkey is not known, or did not sign", "error", err)
		return policy.UserID(kept.UserID), ErrPasskey
	}
	if used.Authenticator.CloneWarning {
		r.Log.Warn("sign-in refused: the passkey has signed less often than before, as a copy of it would", "user", kept.UserID)
		return policy.UserID(kept.UserID), ErrPasskey
	}
	text, err := json.Marshal(used)
	if err != nil {
		return "", err
	}
	if err := r.Kept.UsePasskey(ctx, kept.ID, text, int64(used.Authenticator.SignCount)); err != nil && !errors.Is(err, store.ErrFull) {
		return "", err
	}
	return policy.UserID(kept.UserID), nil
}
