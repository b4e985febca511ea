package identity

import (
	"bytes"
	"context"
	"crypto/aes"
	"crypto/cipher"
	"crypto/hkdf"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"iter"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"sentier/internal/policy"
	"sentier/internal/store"
)

// How long credentials hold.
const (
	sessionTime = 12 * time.Hour // of a session, where nobody says otherwise
	linkDays    = 7
)

// tokenPrefix tells people, and scanners for leaked secrets, what a token is.
const tokenPrefix = "sentier_"

// tokenCache holds the tokens by hash, so that a question needs no query.
type tokenCache struct {
	byHash sync.Map
	making sync.Mutex // held by the one that is made
}

func (c *tokenCache) put(t store.Token) { c.byHash.Store([sha256.Size]byte(t.Hash), t) }

// mostSessions is how many sessions of a user hold at once; with one more the oldest ends.
const mostSessions = 50

// Begin makes a session of a user who has proved who they are, strongly or not: of a console, or of a terminal. The secret is told once.
func (r *Registry) Begin(ctx context.Context, user policy.UserID, address string, terminal, strong bool) (secret string, until time.Time, err error) {
	kind, lasts := store.KindConsole, time.Duration(r.lasting.session.Load())
	if terminal {
		kind = store.KindTerminal
	}
	until = r.Clock().Add(lasts).UTC()
	secret, _, err = r.newToken(ctx, store.Token{UserID: string(user), Name: signedIn + policy.Clip(address), Kind: kind, CreatedBy: string(user), ExpiresAt: &until, Strong: strong}, "")
	if err != nil {
		return "", until, err
	}
	if err := r.endOldest(ctx, user); err != nil {
		r.Log.Warn("old sessions could not be ended", "user", user, "error", err)
	}
	return secret, until, nil
}

// signedIn begins the name of the token of a session.
const signedIn = "signed in from "

// CameFrom is the address from which a session was begun.
func CameFrom(t *store.Token) string { return strings.TrimPrefix(t.Name, signedIn) }

// Sessions lists the sessions of a user that hold, newest first.
func (r *Registry) Sessions(ctx context.Context, user policy.UserID) ([]store.Token, error) {
	list, err := r.Kept.Tokens(ctx, string(user))
	return slices.DeleteFunc(list, func(t store.Token) bool {
		return t.Kind == store.KindToken || t.RevokedAt != nil || r.Expired(&t)
	}), err
}

func (r *Registry) endOldest(ctx context.Context, user policy.UserID) error {
	list, err := r.Sessions(ctx, user)
	for i := mostSessions; i < len(list) && err == nil; i++ {
		_, err = r.End(ctx, list[i].ID)
	}
	return err
}

// NewSecret makes a secret of 256 random bits after a prefix, and its SHA-256.
func NewSecret(prefix string) (secret string, hash []byte) {
	random := make([]byte, 32)
	rand.Read(random) // never fails
	secret = prefix + base64.RawURLEncoding.EncodeToString(random)
	sum := sha256.Sum256([]byte(secret))
	return secret, sum[:]
}

// newToken makes a token of a secret; an empty one is made here.
func (r *Registry) newToken(ctx context.Context, t store.Token, secret string) (string, store.Token, error) {
	id, err := uuid.NewV7()
	if err != nil {
		return "", t, fmt.Errorf("make a token: %w", err)
	}
	if secret == "" {
		secret, t.Hash = NewSecret(tokenPrefix)
	}
	t.ID, t.CreatedAt = id.String(), r.Clock().UTC()
	if err := r.Kept.AddToken(ctx, t); err != nil {
		if full := errors.Is(err, store.ErrFull); t.Kind == store.KindToken || !full {
			return "", t, fmt.Errorf("keep the token: %w", r.Failed(err))
		}
		r.Failed(err)
		r.Log.Warn("a session could not be written, and ends with the service", "user", t.UserID)
	}
	r.tokens.put(t)
	r.Made()
	return secret, t, nil
}

// Holder is who came with a secret.
type Holder struct {
	User    policy.UserID
	Via     string // console, terminal or token
	Token   string // id of the credential
	Expires time.Time
	Strong  bool   // by a second factor
	Mandate string // id of the only mandate that counts; empty: all of the user's
	Source  string // id of the source that is all it is good for; empty: none
}

// Authenticate finds who holds a secret, which comes from an address; empty: it is not known, and not asked for. The error is
// [ErrCredential] where nobody does, or not from there.
func (r *Registry) Authenticate(secret, address string) (Holder, error) {
	if !strings.HasPrefix(secret, tokenPrefix) {
		return Holder{}, ErrCredential
	}
	found, ok := r.tokens.byHash.Load(sha256.Sum256([]byte(secret)))
	if !ok {
		return Holder{}, ErrCredential
	}
	t := found.(store.Token)
	if t.RevokedAt != nil || r.Expired(&t) || r.MayEnter(policy.UserID(t.UserID)) != nil || address != "" && !goodFrom(&t, address) {
		return Holder{}, ErrCredential
	}
	r.use(t.ID, r.Clock())
	h := Holder{User: policy.UserID(t.UserID), Via: string(t.Kind), Token: t.ID, Strong: t.Strong, Mandate: t.Mandate, Source: t.Source}
	if t.ExpiresAt != nil {
		h.Expires = *t.ExpiresAt
	}
	return h, nil
}

// goodFrom tells whether a token is good from an address.
func goodFrom(t *store.Token, address string) bool {
	if t.Networks == "" {
		return true
	}
	from, err := netip.ParseAddr(address)
	return err == nil && slices.ContainsFunc(Networks(t), func(p netip.Prefix) bool { return p.Contains(from.Unmap()) })
}

// Networks are those that a token is good from; none: any.
func Networks(t *store.Token) []netip.Prefix {
	var out []netip.Prefix
	for _, text := range strings.Fields(t.Networks) {
		if p, err := netip.ParsePrefix(text); err == nil {
			out = append(out, p)
		}
	}
	return out
}

// Shorten ends a token at an instant, where it does not end before.
func (r *Registry) Shorten(ctx context.Context, t store.Token, end time.Time) (store.Token, error) {
	if t.ExpiresAt != nil && !end.Before(*t.ExpiresAt) {
		return t, nil
	}
	if err := r.Kept.ShortenToken(ctx, t.ID, end); errors.Is(err, store.ErrNotFound) {
		return t, ErrNotFound
	} else if err != nil {
		return t, r.Failed(err)
	}
	t.ExpiresAt = &end
	r.tokens.put(t)
	r.Made()
	return t, nil
}

// Expired tells whether the end of a token is past, or a session has lasted as long as one may by now, or was left alone for too long.
func (r *Registry) Expired(t *store.Token) bool {
	now := r.Clock()
	return t.ExpiresAt != nil && !now.Before(*t.ExpiresAt) || t.Kind != store.KindToken && !now.Before(t.CreatedAt.Add(time.Duration(r.lasting.session.Load()))) || r.idle(t, now)
}

// Repetition is how a repeated request is known: by the key that its caller gave it, and by the hash of what it asked. Its answer is
// sealed with the caller's own secret.
type Repetition struct {
	Key     string // empty: none was given
	Request [sha256.Size]byte
	Caller  policy.UserID
	Secret  string // that the caller came with
}

// ErrRepeated is that a key was used for another request, or with another credential, or that the token was revoked since.
var ErrRepeated = errors.New("the key was used otherwise")

// CreateToken makes a token that was asked for; its secret is told once. A repetition of a request with a key is answered as the
// request was, to the caller who made it; the error is [ErrRepeated] where that cannot be.
func (r *Registry) CreateToken(ctx context.Context, t store.Token, asked Repetition) (secret string, made store.Token, repeated bool, err error) {
	r.tokens.making.Lock()
	defer r.tokens.making.Unlock()
	t.Kind = store.KindToken
	if asked.Key == "" {
		secret, made, err = r.newToken(ctx, t, "")
		return secret, made, false, err
	}
	if secret, made, repeated, err = r.tokenAgain(ctx, asked); repeated || err != nil {
		return secret, made, repeated, err
	}
	secret, t.Hash = NewSecret(tokenPrefix)
	seal, err := asked.seal()
	if err != nil {
		return "", t, false, err
	}
	t.RequestKey, t.RequestHash, t.Sealed = &asked.Key, asked.Request[:], seal.Seal(nil, nil, []byte(secret), nil)
	secret, made, err = r.newToken(ctx, t, secret)
	return secret, made, false, err
}

// seal is a cipher that only whoever has a caller's secret can open: of that the service keeps the hash alone.
func (a *Repetition) seal() (cipher.AEAD, error) {
	key, err := hkdf.Key(sha256.New, []byte(a.Secret), nil, "sentier answer", 32)
	if err != nil {
		return nil, err
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	return cipher.NewGCMWithRandomNonce(block)
}

// tokenAgain is the answer that an earlier request with the same key had.
func (r *Registry) tokenAgain(ctx context.Context, asked Repetition) (secret string, t store.Token, repeated bool, err error) {
	t, err = r.Kept.TokenOf(ctx, string(asked.Caller), asked.Key)
	if errors.Is(err, store.ErrNotFound) {
		return "", t, false, nil
	}
	if err != nil {
		return "", t, false, err
	}
	seal, err := asked.seal()
	if err != nil {
		return "", t, false, err
	}
	opened, err := seal.Open(nil, nil, t.Sealed, nil)
	if !bytes.Equal(asked.Request[:], t.RequestHash) || err != nil {
		return "", t, false, ErrRepeated
	}
	return string(opened), t, true, nil
}

// End ends a token at once, and tells which it was. Where the disk has no room even for that, it stays ended until the service ends.
func (r *Registry) End(ctx context.Context, id string) (store.Token, error) {
	at := r.Clock().UTC()
	err := r.Kept.RevokeToken(ctx, id, at)
	if errors.Is(err, store.ErrNotFound) {
		return store.Token{}, ErrNotFound
	}
	ended, _ := r.TokenOf(id)
	r.revokeCached(at, func(t *store.Token) bool { return t.ID == id })
	if errors.Is(err, store.ErrFull) {
		r.Failed(err)
		r.Log.Error("a token is revoked, but that could not be written: revoke it again when the disk has room", "id", policy.Clip(id))
		return ended, nil
	}
	return ended, err
}

// All visits all credentials that are known.
func (r *Registry) All() iter.Seq[store.Token] {
	return func(yield func(store.Token) bool) {
		r.tokens.byHash.Range(func(_, v any) bool { return yield(v.(store.Token)) })
	}
}

// TokenOf finds a credential by its id.
func (r *Registry) TokenOf(id string) (t store.Token, ok bool) {
	for found := range r.All() {
		if found.ID == id {
			return found, true
		}
	}
	return t, false
}

// revokeCached ends tokens here, and the streams of those who came with them.
func (r *Registry) revokeCached(at time.Time, which func(t *store.Token) bool) {
	r.tokens.byHash.Range(func(_, v any) bool {
		if t := v.(store.Token); t.RevokedAt == nil && which(&t) {
			t.RevokedAt = &at
			r.tokens.put(t)
		}
		return true
	})
	r.Ended()
}

// MakeLink makes a link, good once and for a week, by which a user sets a password. It takes the place of one made before.
func (r *Registry) MakeLink(ctx context.Context, user string, by policy.UserID) (secret string, until time.Time, err error) {
	secret, hash := NewSecret(tokenPrefix)
	now := r.Clock().UTC()
	until = now.AddDate(0, 0, linkDays)
	err = r.Kept.AddLink(ctx, store.Link{Hash: hash, UserID: user, CreatedAt: now, CreatedBy: string(by), ExpiresAt: until})
	if err != nil {
		return "", until, r.Failed(err)
	}
	return secret, until, nil
}

// UseLink sets the password of the user whom a link was made for, by which the link ends. arrive is called before, with the user and who made the link: its
// error is why it holds no more. The error is [ErrLink] where the link holds no more.
func (r *Registry) UseLink(ctx context.Context, link, password, address string, arrive func(user, by policy.UserID) error) (policy.UserID, error) {
	try, err := r.Try("a link", address, false)
	if err != nil {
		return "", err
	}
	r.tokens.making.Lock() // so that a link is good once, whoever else has it
	defer r.tokens.making.Unlock()
	sum := sha256.Sum256([]byte(link))
	found, err := r.Kept.Link(ctx, sum[:])
	if errors.Is(err, store.ErrNotFound) || err == nil && !r.Clock().Before(found.ExpiresAt) {
		return "", ErrLink
	}
	if err != nil {
		return "", err
	}
	try.Good()
	user := policy.UserID(found.UserID)
	// What is wrong with the password is told before anything is done: who has not set one has not come in.
	if err := r.mayReplace(ctx, found.UserID, password); err != nil {
		return "", err
	}
	if err := arrive(user, policy.UserID(found.CreatedBy)); err != nil {
		return "", err
	}
	if err := r.MayEnter(user); err != nil {
		return "", err
	}
	if err := r.SetPassword(ctx, found.UserID, password, false); err != nil {
		return "", err
	}
	r.Log.Info("password set by a link", "user", user)
	r.Remember(ctx, found.UserID, address)
	return user, nil
}
