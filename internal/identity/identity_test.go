package identity

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"testing"
	"time"

	"sentier/internal/authority"
	"sentier/internal/policy"
	"sentier/internal/store"
)

// memory keeps credentials as long as a test lasts. With full set there is no room for more.
type memory struct {
	passwords map[string]store.Password
	links     []store.Link
	places    []store.Place
	tokens    []store.Token
	factors   []store.SecondFactor
	codes     []store.RecoveryCode
	full      bool
}

func (m *memory) AddSecondFactor(ctx context.Context, f store.SecondFactor, session string, codes []store.RecoveryCode) error {
	if err := m.room(); err != nil {
		return err
	}
	m.factors = append(m.factors, f)
	for i := range m.tokens {
		m.tokens[i].Strong = m.tokens[i].Strong || m.tokens[i].ID == session
	}
	return m.SetRecoveryCodes(ctx, f.UserID, codes)
}

func (m *memory) SetRecoveryCodes(_ context.Context, user string, codes []store.RecoveryCode) error {
	if len(codes) > 0 {
		m.codes = append(slices.DeleteFunc(m.codes, func(c store.RecoveryCode) bool { return c.UserID == user }), codes...)
	}
	return m.room()
}

func (m *memory) SecondFactors(_ context.Context, user string) (out []store.SecondFactor, err error) {
	for _, f := range m.factors {
		if user == "" || f.UserID == user {
			out = append(out, f)
		}
	}
	return out, nil
}

func (m *memory) SpendStep(_ context.Context, id string, step int64) (bool, error) {
	for i := range m.factors {
		if f := &m.factors[i]; f.ID == id && f.Step < step {
			f.Step = step
			return true, nil
		}
	}
	return false, nil
}

func (m *memory) SpendRecoveryCode(_ context.Context, user string, hash []byte) (bool, error) {
	before := len(m.codes)
	m.codes = slices.DeleteFunc(m.codes, func(c store.RecoveryCode) bool { return c.UserID == user && bytes.Equal(c.Hash, hash) })
	return len(m.codes) < before, nil
}

func (m *memory) DropSecondFactor(_ context.Context, user, id string, _ time.Time) error {
	before := len(m.factors)
	m.factors = slices.DeleteFunc(m.factors, func(f store.SecondFactor) bool { return f.UserID == user && (id == "" || f.ID == id) })
	if len(m.factors) == before {
		return store.ErrNotFound
	}
	return nil
}

func (m *memory) room() error {
	if m.full {
		return store.ErrFull
	}
	return nil
}

func (m *memory) SetPassword(_ context.Context, p store.Password) error {
	if err := m.room(); err != nil {
		return err
	}
	m.passwords[p.UserID] = p
	m.links = slices.DeleteFunc(m.links, func(l store.Link) bool { return l.UserID == p.UserID })
	for i := range m.tokens {
		if t := &m.tokens[i]; t.UserID == p.UserID && t.Kind != store.KindToken && t.RevokedAt == nil {
			t.RevokedAt = &p.ChangedAt
		}
	}
	return nil
}

func (m *memory) Password(_ context.Context, user string) (store.Password, error) {
	p, ok := m.passwords[user]
	if !ok {
		return p, store.ErrNotFound
	}
	return p, nil
}

func (m *memory) WithPassword(context.Context) (map[string]store.Password, error) {
	return maps.Clone(m.passwords), nil
}

func (m *memory) AddLink(_ context.Context, l store.Link) error {
	m.links = append(slices.DeleteFunc(m.links, func(x store.Link) bool { return x.UserID == l.UserID }), l)
	return m.room()
}

func (m *memory) Link(_ context.Context, hash []byte) (store.Link, error) {
	for _, l := range m.links {
		if bytes.Equal(l.Hash, hash) {
			return l, nil
		}
	}
	return store.Link{}, store.ErrNotFound
}

func (m *memory) AddPlace(_ context.Context, p store.Place) error {
	m.places = append(m.places, p)
	return m.room()
}

func (m *memory) IsPlace(_ context.Context, user string, place []byte) (bool, error) {
	return slices.ContainsFunc(m.places, func(p store.Place) bool { return p.UserID == user && bytes.Equal(p.Place, place) }), nil
}

func (m *memory) AddToken(_ context.Context, t store.Token) error {
	if err := m.room(); err != nil {
		return err
	}
	m.tokens = append(m.tokens, t)
	return nil
}

func (m *memory) Tokens(_ context.Context, user string) (out []store.Token, err error) {
	for _, t := range m.tokens {
		if user == "" || t.UserID == user {
			out = append(out, t)
		}
	}
	slices.Reverse(out) // newest first
	return out, nil
}

func (m *memory) TokenOf(_ context.Context, user, key string) (store.Token, error) {
	for _, t := range m.tokens {
		if t.CreatedBy == user && t.RequestKey != nil && *t.RequestKey == key {
			return t, nil
		}
	}
	return store.Token{}, store.ErrNotFound
}

func (m *memory) PasskeyOf(context.Context, []byte) (store.SecondFactor, error) {
	return store.SecondFactor{}, store.ErrNotFound
}

func (m *memory) UsePasskey(context.Context, string, []byte, int64) error { return store.ErrNotFound }

func (m *memory) ShortenToken(_ context.Context, id string, end time.Time) error {
	for i := range m.tokens {
		if m.tokens[i].ID == id {
			m.tokens[i].ExpiresAt = &end
			return m.room()
		}
	}
	return store.ErrNotFound
}

func (m *memory) UseTokens(_ context.Context, used map[string]time.Time) error {
	for i := range m.tokens {
		if at, ok := used[m.tokens[i].ID]; ok {
			m.tokens[i].UsedAt = &at
		}
	}
	return m.room()
}

func (m *memory) RevokeToken(_ context.Context, id string, at time.Time) error {
	for i := range m.tokens {
		if m.tokens[i].ID == id {
			if err := m.room(); err != nil {
				return err
			}
			m.tokens[i].RevokedAt = &at
			return nil
		}
	}
	return store.ErrNotFound
}

var errNoRoom = errors.New("no room")

// registry is one with a clock that the test moves, in which everybody may enter but those in barred.
func registry(t *testing.T) (r *Registry, kept *memory, now *time.Time, barred map[policy.UserID]bool) {
	t.Helper()
	kept, barred = &memory{passwords: map[string]store.Password{}}, map[policy.UserID]bool{}
	at := time.Date(2026, 11, 24, 10, 0, 0, 0, time.UTC)
	now = &at
	r, err := Open(t.Context(), Around{
		Kept: kept, Clock: func() time.Time { return *now }, Log: slog.New(slog.DiscardHandler), Ended: func() {}, Made: func() {},
		MayEnter: func(user policy.UserID) error {
			if barred[user] {
				return &authority.Forbidden{Missing: policy.Say("an active account")}
			}
			return nil
		},
		Elsewhere: func(context.Context, string, string) (bool, bool, error) { return false, false, nil },
		Failed: func(err error) error {
			if errors.Is(err, store.ErrFull) {
				return errNoRoom
			}
			return err
		},
	})
	if err != nil {
		t.Fatal(err)
	}
	return r, kept, now, barred
}

const longPassword = "towpath and heron"

func TestPasswordsSessionsAndTokens(t *testing.T) {
	t.Parallel()
	r, kept, now, barred := registry(t)
	ctx := t.Context()
	if err := r.SetPassword(ctx, "ana", "short", false); err == nil || len(kept.passwords) > 0 {
		t.Fatal("a short password is taken")
	}
	if err := r.SetPassword(ctx, "ana", longPassword, false); err != nil || !r.HasPassword("ana") || strings.Contains(kept.passwords["ana"].Hash, "heron") {
		t.Fatalf("%v; kept as %s", err, kept.passwords["ana"].Hash)
	}
	for _, c := range []struct{ user, password string }{{"ana", "another password"}, {"nobody", longPassword}, {"ana", ""}, {strings.Repeat("x", 1000), longPassword}} {
		if _, err := r.Prove(ctx, c.user, c.password, "", "192.0.2.1"); !errors.Is(err, ErrSignIn) {
			t.Errorf("%.20s: %v", c.user, err)
		}
	}
	if _, err := r.Prove(ctx, "ana", longPassword, "", "192.0.2.1"); err != nil || len(kept.places) != 1 {
		t.Fatalf("%v, places %d", err, len(kept.places))
	}
	session, until, err := r.Begin(ctx, "ana", "192.0.2.1", false, false)
	if err != nil {
		t.Fatal(err)
	}
	token, made, _, err := r.CreateToken(ctx, store.Token{UserID: "ana", Name: "gateway", CreatedBy: "ana"}, Repetition{})
	if err != nil || made.Kind != store.KindToken {
		t.Fatal(err)
	}
	holds := func(secret string) bool { _, err := r.Authenticate(secret, ""); return err == nil }
	if h, err := r.Authenticate(session, ""); err != nil || h.User != "ana" || h.Via != "console" || !h.Expires.Equal(until) {
		t.Fatalf("%+v, %v", h, err)
	}
	for _, secret := range []string{"", "sentier_", session + "x", strings.TrimPrefix(session, tokenPrefix)} {
		if holds(secret) {
			t.Errorf("%q lets in", secret)
		}
	}
	barred["ana"] = true
	if holds(session) || holds(token) {
		t.Error("somebody who may not enter comes in")
	}
	barred["ana"] = false

	// A new password ends sessions, and no token; a session ends by itself, and so does what is revoked.
	if err := r.SetPassword(ctx, "ana", longPassword+"!", false); err != nil || holds(session) || !holds(token) {
		t.Fatalf("after a new password: session %t, token %t (%v)", holds(session), holds(token), err)
	}
	session, until, _ = r.Begin(ctx, "ana", "192.0.2.1", false, false)
	*now = until
	if holds(session) || !holds(token) {
		t.Error("a session holds at its end, or a token without one does not")
	}
	if list, err := r.Sessions(ctx, "ana"); err != nil || len(list) != 0 {
		t.Errorf("%d sessions hold (%v)", len(list), err)
	}
	if _, err := r.End(ctx, made.ID); err != nil || holds(token) {
		t.Errorf("a revoked token holds: %v", err)
	}
	if _, err := r.End(ctx, "none"); !errors.Is(err, ErrNotFound) {
		t.Errorf("what is not there: %v", err)
	}
	for range mostSessions + 5 {
		if session, _, err = r.Begin(ctx, "ana", "192.0.2.1", true, false); err != nil {
			t.Fatal(err)
		}
	}
	if list, err := r.Sessions(ctx, "ana"); err != nil || len(list) != mostSessions || !holds(session) {
		t.Errorf("%d sessions at once (%v)", len(list), err)
	}
	r.Forget(nil, []string{"ana"})
	if holds(session) {
		t.Error("a session outlives the suspension of its user")
	}
}

func TestALinkIsGoodOnceAndForAWeek(t *testing.T) {
	t.Parallel()
	r, _, now, _ := registry(t)
	ctx := t.Context()
	came := 0
	use := func(link, password string) error {
		_, err := r.UseLink(ctx, link, password, "192.0.2.1", func(_, _ policy.UserID) error { came++; return nil })
		return err
	}
	first, _, err := r.MakeLink(ctx, "ana", "ines")
	if err != nil {
		t.Fatal(err)
	}
	second, until, _ := r.MakeLink(ctx, "ana", "ines")
	if err := use(first, longPassword); !errors.Is(err, ErrLink) || came != 0 {
		t.Errorf("a link whose place another has taken: %v", err)
	}
	if err := use(second, "short"); err == nil {
		t.Error("a short password is taken")
	}
	if err := use(second, longPassword); err != nil || !r.HasPassword("ana") {
		t.Fatalf("%v", err)
	}
	if err := use(second, longPassword); !errors.Is(err, ErrLink) {
		t.Errorf("a second time: %v", err)
	}
	third, _, _ := r.MakeLink(ctx, "ana", "ines")
	*now = until
	if err := use(third, longPassword); !errors.Is(err, ErrLink) {
		t.Errorf("after a week: %v", err)
	}
}

func TestARepeatedRequestIsToldTheSameSecretToItsCallerAlone(t *testing.T) {
	t.Parallel()
	r, kept, _, _ := registry(t)
	ctx := t.Context()
	asked := Repetition{Key: "k", Request: sha256.Sum256([]byte("a token")), Caller: "ines", Secret: "sentier_of_ines"}
	first, t1, repeated, err := r.CreateToken(ctx, store.Token{UserID: "ana", CreatedBy: "ines"}, asked)
	if err != nil || repeated {
		t.Fatal(err)
	}
	again, t2, repeated, err := r.CreateToken(ctx, store.Token{UserID: "ana", CreatedBy: "ines"}, asked)
	if err != nil || !repeated || again != first || t1.ID != t2.ID || len(kept.tokens) != 1 {
		t.Fatalf("a repetition made %d tokens (%v)", len(kept.tokens), err)
	}
	other, thief := asked, asked
	other.Request, thief.Secret = sha256.Sum256([]byte("another")), "sentier_of_somebody"
	for name, x := range map[string]Repetition{"another request": other, "another credential": thief} {
		if secret, _, _, err := r.CreateToken(ctx, store.Token{UserID: "ana", CreatedBy: "ines"}, x); !errors.Is(err, ErrRepeated) || secret != "" {
			t.Errorf("%s with the key: %q, %v", name, secret, err)
		}
	}
	for _, k := range kept.tokens {
		if bytes.Contains(k.Sealed, []byte(first)) || bytes.Contains(k.Hash, []byte(first)) {
			t.Error("the secret is kept")
		}
	}
}

// TestOnAFullDisk: sessions begin and end all the same, for as long as the service runs; tokens and passwords are refused.
func TestOnAFullDisk(t *testing.T) {
	t.Parallel()
	r, kept, _, _ := registry(t)
	ctx := t.Context()
	if err := r.SetPassword(ctx, "ana", longPassword, false); err != nil {
		t.Fatal(err)
	}
	token, made, _, err := r.CreateToken(ctx, store.Token{UserID: "ana", CreatedBy: "ines"}, Repetition{})
	if err != nil {
		t.Fatal(err)
	}
	kept.full = true
	session, _, err := r.Begin(ctx, "ana", "192.0.2.1", false, false)
	if err != nil {
		t.Fatalf("nobody can sign in: %v", err)
	}
	if _, err := r.Authenticate(session, ""); err != nil {
		t.Error("the session that was begun does not hold")
	}
	if err := r.SetPassword(ctx, "ana", longPassword+"!", false); !errors.Is(err, errNoRoom) {
		t.Errorf("a password that could not be written: %v", err)
	}
	if _, _, _, err := r.CreateToken(ctx, store.Token{UserID: "ana", CreatedBy: "ines"}, Repetition{}); !errors.Is(err, errNoRoom) {
		t.Errorf("a token that could not be written: %v", err)
	}
	if _, err := r.End(ctx, made.ID); err != nil {
		t.Fatal(err)
	}
	if _, err := r.Authenticate(token, ""); err == nil {
		t.Error("a token that is revoked holds, for want of room")
	}
}
