package service

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
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
type tokenCache struct{ byHash sync.Map }

func (c *tokenCache) put(t store.Token) { c.byHash.Store([sha256.Size]byte(t.Hash), t) }

// SetPassword gives a user a password.
func (s *Service) SetPassword(ctx context.Context, user, password string) error {
	hash, err := s.guard.hash(password)
	if err != nil {
		return &InputError{Field: "password", Problem: err.Error()}
	}
	return s.store.SetPassword(ctx, store.Password{UserID: user, Hash: hash, ChangedAt: s.now()})
}

// SignIn makes a session of a user and a password. address is where the request came from.
func (s *Service) SignIn(ctx context.Context, in wire.Credentials, address string) (wire.Session, error) {
	if !s.guard.allow(in.User+" "+address) || !s.guard.allow(address) {
		return wire.Session{}, ErrTooMany
	}
	kept, err := s.store.Password(ctx, in.User)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return wire.Session{}, err
	}
	ok, err := s.guard.matches(in.Password, kept.Hash)
	if err != nil {
		return wire.Session{}, err
	}
	if !ok {
		s.log.Warn("sign-in refused", "user", in.User, "from", address)
		return wire.Session{}, ErrSignIn
	}
	if err := s.mayEnter(policy.UserID(in.User)); err != nil {
		return wire.Session{}, err
	}
	kind, lasts := store.KindConsole, consoleHours
	if in.Terminal {
		kind, lasts = store.KindTerminal, terminalDays
	}
	until := s.now().Add(lasts)
	secret, _, err := s.newToken(ctx, store.Token{UserID: in.User, Name: "signed in from " + address, Kind: kind, CreatedBy: in.User, ExpiresAt: &until})
	if err != nil {
		return wire.Session{}, err
	}
	out := s.Session(Caller{User: policy.UserID(in.User)}, until)
	out.Token = secret
	return out, nil
}

// mayEnter: whoever has an account that is in force. Without a mandate they see their own access and nothing else.
func (s *Service) mayEnter(user policy.UserID) error {
	st := s.State()
	if reason, ok := st.Compiled.MaySignIn(user, s.now()); !ok {
		return &ForbiddenError{map[decision.Reason]string{
			decision.UnknownUser:     "an account, and this one was removed",
			decision.UserSuspended:   "an active account, and this one is suspended",
			decision.UserInvited:     "an active account, and this one is only invited",
			decision.UserNotYetValid: "an account that has begun",
			decision.UserExpired:     "an account that has not ended",
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
	return wire.Session{User: wire.Named{ID: string(c.User), Name: name}, Mandates: s.Roles(c), Expires: expires.UTC(), Now: s.now().UTC()}
}

func (s *Service) newToken(ctx context.Context, t store.Token) (string, store.Token, error) {
	random := make([]byte, 32)
	rand.Read(random) // never fails
	secret := tokenPrefix + base64.RawURLEncoding.EncodeToString(random)
	id, err := uuid.NewV7()
	if err != nil {
		return "", t, fmt.Errorf("make a token: %w", err)
	}
	sum := sha256.Sum256([]byte(secret))
	t.ID, t.Hash, t.CreatedAt = id.String(), sum[:], s.now().UTC()
	if err := s.store.AddToken(ctx, t); err != nil {
		return "", t, fmt.Errorf("keep the token: %w", err)
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
	if t.RevokedAt != nil || t.ExpiresAt != nil && !s.now().Before(*t.ExpiresAt) {
		return Caller{}, time.Time{}, ErrCredential
	}
	c := Caller{User: policy.UserID(t.UserID), Via: string(t.Kind), Token: t.ID}
	if _, ok := s.State().Compiled.MaySignIn(c.User, s.now()); !ok {
		return Caller{}, time.Time{}, ErrCredential
	}
	var expires time.Time
	if t.ExpiresAt != nil {
		expires = *t.ExpiresAt
	}
	return c, expires, nil
}

// CreateToken makes a token for a user; its secret is in the answer, and nowhere else.
func (s *Service) CreateToken(ctx context.Context, c Caller, in wire.NewToken) (wire.Token, error) {
	st := s.State()
	if err := s.may(st, c, Manage, ""); err != nil {
		return wire.Token{}, err
	}
	if _, ok := st.Policy.Get(policy.Users, in.User); !ok {
		return wire.Token{}, &InputError{Field: "user", Problem: fmt.Sprintf("there is no user %q%s", in.User, didYouMean(st.Policy.Near(policy.Users, in.User)))}
	}
	if strings.TrimSpace(in.Name) == "" || len(in.Name) > 200 {
		return wire.Token{}, &InputError{Field: "name", Problem: "give the token a name of up to 200 characters that says what it is for"}
	}
	if in.Days < 0 || in.Days > maxTokenDays {
		return wire.Token{}, &InputError{Field: "days", Problem: fmt.Sprintf("%d is out of range: a token holds 1 to %d days", in.Days, maxTokenDays)}
	}
	if in.Days == 0 {
		in.Days = tokenDays
	}
	until := s.now().AddDate(0, 0, in.Days).UTC()
	secret, t, err := s.newToken(ctx, store.Token{UserID: in.User, Name: in.Name, Kind: store.KindToken, CreatedBy: string(c.User), ExpiresAt: &until})
	if err != nil {
		return wire.Token{}, err
	}
	s.log.Info("token made", "id", t.ID, "user", t.UserID, "by", c.User)
	out := wireToken(t)
	out.Secret = secret
	return out, nil
}

func wireToken(t store.Token) wire.Token {
	return wire.Token{
		ID: t.ID, User: t.UserID, Name: t.Name, Kind: string(t.Kind),
		Created: t.CreatedAt, By: t.CreatedBy, Expires: t.ExpiresAt, Revoked: t.RevokedAt,
	}
}

// Tokens lists the tokens of a user, or of everybody.
func (s *Service) Tokens(ctx context.Context, c Caller, user string) ([]wire.Token, error) {
	if err := s.may(s.State(), c, Read, ""); err != nil {
		return nil, err
	}
	list, err := s.store.Tokens(ctx, user)
	if err != nil {
		return nil, err
	}
	out := []wire.Token{}
	for _, t := range list {
		w := wireToken(t)
		w.Expired = t.ExpiresAt != nil && !s.now().Before(*t.ExpiresAt)
		out = append(out, w)
	}
	return out, nil
}

// RevokeToken ends a token. Everybody may end the one they came with.
func (s *Service) RevokeToken(ctx context.Context, c Caller, id string) error {
	if id != c.Token {
		if err := s.may(s.State(), c, Manage, ""); err != nil {
			return err
		}
	}
	at := s.now().UTC()
	if err := s.store.RevokeToken(ctx, id, at); err != nil {
		if errors.Is(err, store.ErrNotFound) {
			return ErrNotFound
		}
		return err
	}
	s.tokens.byHash.Range(func(_, v any) bool {
		t := v.(store.Token)
		if t.ID == id {
			t.RevokedAt = &at
			s.tokens.put(t)
			return false
		}
		return true
	})
	s.log.Info("token revoked", "id", id, "by", c.User)
	return nil
}

func didYouMean(near []string) string {
	if len(near) == 0 {
		return ""
	}
	return ": did you mean " + strings.Join(near, " or ") + "?"
}
