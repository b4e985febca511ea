package service

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
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"sentier/internal/decision"
	"sentier/internal/policy"
	"sentier/internal/store"
	"sentier/internal/wire"
)

// How long credentials hold.
const (
	consoleHours = 12 * time.Hour
	terminalDays = 7 * 24 * time.Hour
	tokenDays    = 90
	maxTokenDays = 3650
)

// tokenPrefix tells people, and scanners for leaked secrets, what a token is.
const tokenPrefix = "sentier_"

// tokenCache holds the tokens by hash, so that a question needs no query.
type tokenCache struct {
	byHash sync.Map
	making sync.Mutex // held by the one that is made
}

func (c *tokenCache) put(t store.Token) { c.byHash.Store([sha256.Size]byte(t.Hash), t) }

// SetPassword gives a user a password; all their sessions end with it, and so do links that were made for them. Who may do that is
// for the caller to know.
func (s *Service) SetPassword(ctx context.Context, user, password string) error {
	hash, err := s.hasher.hash(ctx, password)
	if err != nil {
		return err
	}
	at := s.borders.Clock().UTC()
	if err := s.borders.Credentials.SetPassword(ctx, store.Password{UserID: user, Hash: hash, ChangedAt: at}); err != nil {
		return s.kept(err)
	}
	s.passwords.put(user)
	s.revokeCached(at, func(t *store.Token) bool { return t.UserID == user && t.Kind != store.KindToken })
	return nil
}

// kept turns the error of a credential that could not be written into one that says so.
func (s *Service) kept(err error) error {
	if errors.Is(err, store.ErrFull) {
		s.full.Store(true)
		return &FullError{s.borders.Files.Dir()}
	}
	return err
}

// SignIn makes a session of a user and a password. address is where the request came from.
func (s *Service) SignIn(ctx context.Context, in wire.Credentials, address string) (wire.Session, error) {
	if len(in.User) > policy.MaxID || len(in.Password) > 4*maxPassword {
		return wire.Session{}, ErrSignIn // there is no such account
	}
	place := placeOf(in.User, address)
	known, err := s.borders.Credentials.IsPlace(ctx, in.User, place)
	if err != nil {
		return wire.Session{}, err
	}
	try, err := s.logins.try(in.User, address, known)
	if err != nil {
		return wire.Session{}, err
	}
	ok, exists, err := s.isPassword(ctx, in.User, in.Password)
	if err != nil {
		return wire.Session{}, err
	}
	if !ok {
		// What was typed may be a password in the wrong field: only a name that there is says anything to whoever reads the log.
		if exists {
			s.borders.Log.Warn("sign-in refused", "user", in.User, "from", Clip(address))
		} else {
			s.borders.Log.Warn("sign-in refused", "from", Clip(address))
		}
		return wire.Session{}, ErrSignIn
	}
	if err := s.mayEnter(policy.UserID(in.User)); err != nil {
		return wire.Session{}, err
	}
	try.giveBack()
	s.remember(ctx, in.User, place)
	return s.begin(ctx, policy.UserID(in.User), address, in.Terminal)
}

// isPassword tells whether a user has a password, and whether this is it.
func (s *Service) isPassword(ctx context.Context, user, password string) (ok, exists bool, err error) {
	kept, err := s.borders.Credentials.Password(ctx, user)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return false, false, err
	}
	exists = err == nil
	ok, err = s.hasher.matches(ctx, password, kept.Hash)
	return ok, exists, err
}

// remember keeps where a user has signed in from: their tries there are counted by themselves.
func (s *Service) remember(ctx context.Context, user string, place []byte) {
	if err := s.borders.Credentials.AddPlace(ctx, store.Place{UserID: user, Place: place, At: s.borders.Clock().UTC()}); err != nil {
		s.borders.Log.Warn("where somebody signed in could not be remembered", "error", err)
	}
}

// mostSessions is how many sessions of a user hold at once; with one more the oldest ends.
const mostSessions = 50

// begin makes a session of a user who has proved who they are.
func (s *Service) begin(ctx context.Context, user policy.UserID, address string, terminal bool) (wire.Session, error) {
	kind, lasts := store.KindConsole, consoleHours
	if terminal {
		kind, lasts = store.KindTerminal, terminalDays
	}
	until := s.borders.Clock().Add(lasts).UTC()
	secret, _, err := s.newToken(ctx, store.Token{UserID: string(user), Name: "signed in from " + Clip(address), Kind: kind, CreatedBy: string(user), ExpiresAt: &until}, "")
	if err != nil {
		return wire.Session{}, err
	}
	if err := s.endOldest(ctx, user); err != nil {
		s.borders.Log.Warn("old sessions could not be ended", "user", user, "error", err)
	}
	out := s.Session(Caller{User: user}, until)
	out.Token, out.Terminal = secret, terminal
	return out, nil
}

// sessions lists the sessions of a user that hold, newest first.
func (s *Service) sessions(ctx context.Context, user policy.UserID) ([]store.Token, error) {
	list, err := s.borders.Credentials.Tokens(ctx, string(user))
	return slices.DeleteFunc(list, func(t store.Token) bool {
		return t.Kind == store.KindToken || t.RevokedAt != nil || s.expired(&t)
	}), err
}

func (s *Service) endOldest(ctx context.Context, user policy.UserID) error {
	list, err := s.sessions(ctx, user)
	for i := mostSessions; i < len(list) && err == nil; i++ {
		err = s.endToken(ctx, list[i].ID)
	}
	return err
}

// mayEnter: whoever has an account that is in force. Without a mandate they see their own access and nothing else.
func (s *Service) mayEnter(user policy.UserID) error {
	st := s.State()
	if reason, ok := st.Compiled.MaySignIn(user, s.borders.Clock()); !ok {
		return &ForbiddenError{Missing: map[decision.Reason]policy.Said{
			decision.UnknownUser:     policy.Say("an account, and this one was removed"),
			decision.UserSuspended:   policy.Say("an active account, and this one is suspended"),
			decision.UserInvited:     policy.Say("an active account, and this one is only invited"),
			decision.UserNotYetValid: policy.Say("an account that has begun"),
			decision.UserExpired:     policy.Say("an account that has not ended"),
		}[reason]}
	}
	return nil
}

// Session describes who a caller is.
func (s *Service) Session(c Caller, expires time.Time) wire.Session {
	u, ok := policy.Find[*policy.User](s.State().Policy, string(c.User))
	name := string(c.User)
	if ok {
		name = u.Title()
	}
	return wire.Session{User: wire.Named{ID: string(c.User), Name: name}, Mandates: s.Roles(c), Expires: expires.UTC(), Now: s.borders.Clock().UTC()}
}

// newSecret makes a random secret and its hash.
func newSecret() (secret string, hash []byte) {
	random := make([]byte, 32)
	rand.Read(random) // never fails
	secret = tokenPrefix + base64.RawURLEncoding.EncodeToString(random)
	sum := sha256.Sum256([]byte(secret))
	return secret, sum[:]
}

// newToken makes a token of a secret; an empty one is made here.
func (s *Service) newToken(ctx context.Context, t store.Token, secret string) (string, store.Token, error) {
	id, err := uuid.NewV7()
	if err != nil {
		return "", t, fmt.Errorf("make a token: %w", err)
	}
	if secret == "" {
		secret, t.Hash = newSecret()
	}
	t.ID, t.CreatedAt = id.String(), s.borders.Clock().UTC()
	if err := s.borders.Credentials.AddToken(ctx, t); err != nil {
		if err = s.kept(err); t.Kind == store.KindToken || !errors.As(err, new(*FullError)) {
			return "", t, fmt.Errorf("keep the token: %w", err)
		}
		s.borders.Log.Warn("a session could not be written, and ends with the service", "user", t.UserID)
	}
	s.tokens.put(t)
	return secret, t, nil
}

// Authenticate finds the caller who holds a secret. The error is [ErrCredential] where nobody does.
func (s *Service) Authenticate(secret string) (Caller, time.Time, error) {
	if !strings.HasPrefix(secret, tokenPrefix) {
		return Caller{}, time.Time{}, ErrCredential
	}
	found, ok := s.tokens.byHash.Load(sha256.Sum256([]byte(secret)))
	if !ok {
		return Caller{}, time.Time{}, ErrCredential
	}
	t := found.(store.Token)
	c := Caller{User: policy.UserID(t.UserID), Via: string(t.Kind), Token: t.ID, secret: secret}
	if !s.holds(&t) {
		return Caller{}, time.Time{}, ErrCredential
	}
	var expires time.Time
	if t.ExpiresAt != nil {
		expires = *t.ExpiresAt
	}
	return c, expires, nil
}

// expired tells whether the end of a token is past.
func (s *Service) expired(t *store.Token) bool {
	return t.ExpiresAt != nil && !s.borders.Clock().Before(*t.ExpiresAt)
}

// holds tells whether a token lets its user in now.
func (s *Service) holds(t *store.Token) bool {
	if t.RevokedAt != nil || s.expired(t) {
		return false
	}
	_, ok := s.State().Compiled.MaySignIn(policy.UserID(t.UserID), s.borders.Clock())
	return ok
}

// still tells whether the credential that a caller came with holds still.
func (s *Service) still(c Caller) bool {
	_, _, err := s.Authenticate(c.secret)
	return c.secret == "" || err == nil // whoever has the machine in hand has none
}

// seal is a cipher that only whoever has a caller's secret can open: of that the service keeps the hash alone.
func (c Caller) seal() (cipher.AEAD, error) {
	key, err := hkdf.Key(sha256.New, []byte(c.secret), nil, "sentier answer", 32)
	if err != nil {
		return nil, err
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	return cipher.NewGCMWithRandomNonce(block)
}

// CreateToken makes a token for a user; its secret is in the answer, and nowhere else. A repetition of a request with a key is
// answered as the request was, to the caller who made it.
func (s *Service) CreateToken(ctx context.Context, c Caller, in wire.NewToken, asked Asked) (wire.Token, error) {
	st := s.State()
	if err := s.Permit(st, c, Manage, ""); err != nil {
		return wire.Token{}, err
	}
	if _, ok := st.Policy.Get(policy.Users, in.User); !ok {
		if near := st.Policy.Near(policy.Users, Clip(in.User)); len(near) > 0 {
			return wire.Token{}, Wrong("user", "there is no user %q: did you mean %s?", Clip(in.User), policy.Names(near))
		}
		return wire.Token{}, Wrong("user", "there is no user %q", Clip(in.User))
	}
	if err := s.mayEnter(policy.UserID(in.User)); err != nil {
		return wire.Token{}, Wrong("user", "%s cannot come in: a token takes %s", st.Policy.Title(policy.Users, in.User), err.(*ForbiddenError).Missing)
	}
	if strings.TrimSpace(in.Name) == "" || len(in.Name) > 200 {
		return wire.Token{}, Wrong("name", "give the token a name of up to 200 characters that says what it is for")
	}
	if in.Days < 0 || in.Days > maxTokenDays {
		return wire.Token{}, Wrong("days", "%d is out of range: a token holds 1 to %d days", in.Days, maxTokenDays)
	}
	if in.Days == 0 {
		in.Days = tokenDays
	}
	s.tokens.making.Lock()
	defer s.tokens.making.Unlock()
	if asked.Key != "" {
		if out, repeated, err := s.tokenAgain(ctx, c, asked); repeated || err != nil {
			return out, err
		}
	}
	until := s.borders.Clock().AddDate(0, 0, in.Days).UTC()
	t := store.Token{UserID: in.User, Name: in.Name, Kind: store.KindToken, CreatedBy: string(c.User), CreatedAt: s.borders.Clock().UTC(), ExpiresAt: &until}
	secret := ""
	if asked.Key != "" {
		secret, t.Hash = newSecret()
		seal, err := c.seal()
		if err != nil {
			return wire.Token{}, err
		}
		t.RequestKey, t.RequestHash, t.Sealed = &asked.Key, asked.Request[:], seal.Seal(nil, nil, []byte(secret), nil)
	}
	secret, t, err := s.newToken(ctx, t, secret)
	if err != nil {
		return wire.Token{}, err
	}
	s.borders.Log.Info("token made", "id", t.ID, "user", t.UserID, "by", c.User)
	out := wireToken(t)
	out.Secret = secret
	return out, nil
}

// tokenAgain is the answer that an earlier request with the same key had.
func (s *Service) tokenAgain(ctx context.Context, c Caller, asked Asked) (out wire.Token, repeated bool, err error) {
	t, err := s.borders.Credentials.TokenOf(ctx, string(c.User), asked.Key)
	if errors.Is(err, store.ErrNotFound) {
		return out, false, nil
	}
	if err != nil {
		return out, false, err
	}
	seal, err := c.seal()
	if err != nil {
		return out, false, err
	}
	secret, err := seal.Open(nil, nil, t.Sealed, nil)
	if !bytes.Equal(asked.Request[:], t.RequestHash) || err != nil {
		return out, false, &KeyError{asked.Key} // another request, or another credential, or the token was revoked since
	}
	out = wireToken(t)
	out.Secret = string(secret)
	return out, true, nil
}

func wireToken(t store.Token) wire.Token {
	return wire.Token{
		ID: t.ID, User: t.UserID, Name: t.Name, Kind: string(t.Kind),
		Created: t.CreatedAt, By: t.CreatedBy, Expires: t.ExpiresAt, Revoked: t.RevokedAt,
	}
}

// Tokens lists the tokens of a user, or of everybody.
func (s *Service) Tokens(ctx context.Context, c Caller, user string) ([]wire.Token, error) {
	if err := s.Permit(s.State(), c, Read, ""); err != nil {
		return nil, err
	}
	list, err := s.borders.Credentials.Tokens(ctx, user)
	if err != nil {
		return nil, err
	}
	out := []wire.Token{}
	for _, t := range list {
		w := wireToken(t)
		w.Expired = s.expired(&t)
		out = append(out, w)
	}
	return out, nil
}

// RevokeToken ends a token. Everybody may end the one they came with.
func (s *Service) RevokeToken(ctx context.Context, c Caller, id string) error {
	if id != c.Token {
		if err := s.Permit(s.State(), c, Manage, ""); err != nil {
			return err
		}
	}
	if err := s.endToken(ctx, id); err != nil {
		return err
	}
	s.borders.Log.Info("token revoked", "id", Clip(id), "by", c.User)
	return nil
}

// endToken ends a token at once. Where the disk has no room even for that, it stays ended until the service ends.
func (s *Service) endToken(ctx context.Context, id string) error {
	at := s.borders.Clock().UTC()
	err := s.borders.Credentials.RevokeToken(ctx, id, at)
	if errors.Is(err, store.ErrNotFound) {
		return ErrNotFound
	}
	s.revokeCached(at, func(t *store.Token) bool { return t.ID == id })
	if err = s.kept(err); errors.As(err, new(*FullError)) {
		s.borders.Log.Error("a token is revoked, but that could not be written: revoke it again when the disk has room", "id", Clip(id))
		return nil
	}
	return err
}

// revokeCached ends tokens here, and the streams of those who came with them.
func (s *Service) revokeCached(at time.Time, which func(t *store.Token) bool) {
	s.tokens.byHash.Range(func(_, v any) bool {
		if t := v.(store.Token); t.RevokedAt == nil && which(&t) {
			t.RevokedAt = &at
			s.tokens.put(t)
		}
		return true
	})
	s.revised.notify()
}

// forget lets go of the credentials of accounts that are gone, and of the sessions of those that were suspended: the store has done
// the same.
func (s *Service) forget(removed, suspended []string) {
	if len(removed)+len(suspended) == 0 {
		return
	}
	s.passwords.drop(removed...)
	s.revokeCached(s.borders.Clock().UTC(), func(t *store.Token) bool {
		return slices.Contains(removed, t.UserID) || t.Kind != store.KindToken && slices.Contains(suspended, t.UserID)
	})
}
