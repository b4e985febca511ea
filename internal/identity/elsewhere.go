package identity

import (
	"context"
	"errors"
	"time"

	"sentier/internal/store"
)

// Told is what another machine has to know of a credential that holds, to let in whoever has it. There is no secret in it: the hash is of one of 256 random
// bits.
type Told struct {
	ID       string          `json:"id"`
	User     string          `json:"user"`
	Name     string          `json:"name,omitempty"`
	Hash     []byte          `json:"hash"`
	Kind     store.TokenKind `json:"kind"`
	Created  time.Time       `json:"created"`
	Expires  *time.Time      `json:"expires,omitempty"`
	Strong   bool            `json:"strong,omitempty"`
	Mandate  string          `json:"mandate,omitempty"`
	Networks string          `json:"networks,omitempty"`
	Source   string          `json:"source,omitempty"`
}

// ToldAccount is what another machine has to know of how somebody signs in.
type ToldAccount struct {
	Since     time.Time `json:"since"` // that they have their password; zero: they have none
	Temporary bool      `json:"temporary,omitempty"`
	Factors   int       `json:"factors,omitempty"`
}

// Tell is what other machines have to know: the credentials that hold by their ids, and accounts by their users.
func (r *Registry) Tell() (map[string]Told, map[string]ToldAccount) {
	tokens, accounts := map[string]Told{}, map[string]ToldAccount{}
	for t := range r.All() {
		if t.RevokedAt == nil && !r.Expired(&t) {
			tokens[t.ID] = Told{t.ID, t.UserID, t.Name, t.Hash, t.Kind, t.CreatedAt, t.ExpiresAt, t.Strong, t.Mandate, t.Networks, t.Source}
		}
	}
	r.passwords.mu.RLock()
	for user, p := range r.passwords.ids {
		accounts[user] = ToldAccount{Since: p.ChangedAt, Temporary: p.Temporary}
	}
	r.passwords.mu.RUnlock()
	r.factors.mu.Lock()
	for user, n := range r.factors.of {
		if n > 0 {
			a := accounts[user]
			a.Factors = n
			accounts[user] = a
		}
	}
	r.factors.mu.Unlock()
	return tokens, accounts
}

// Learn takes what another machine tells; nil: the credential ends, the account is known no more.
func (r *Registry) Learn(tokens map[string]*Told, accounts map[string]*ToldAccount) {
	ended := map[string]bool{}
	for id, t := range tokens {
		if t == nil {
			ended[id] = true
			continue
		}
		r.tokens.put(store.Token{ID: t.ID, UserID: t.User, Name: t.Name, Hash: t.Hash, Kind: t.Kind, CreatedAt: t.Created, ExpiresAt: t.Expires, Strong: t.Strong, Mandate: t.Mandate, Networks: t.Networks, Source: t.Source})
	}
	for user, a := range accounts {
		if a == nil || a.Since.IsZero() {
			r.passwords.drop(user)
		}
		if a != nil && !a.Since.IsZero() {
			r.passwords.put(map[string]store.Password{user: {UserID: user, ChangedAt: a.Since, Temporary: a.Temporary}})
		}
		r.factors.mu.Lock()
		delete(r.factors.of, user)
		if a != nil && a.Factors > 0 {
			r.factors.of[user] = a.Factors
		}
		r.factors.mu.Unlock()
	}
	if len(ended) > 0 {
		r.forget(func(t *store.Token) bool { return ended[t.ID] })
	}
}

// forget lets credentials go that hold no more, and the streams of those who came with them.
func (r *Registry) forget(which func(t *store.Token) bool) {
	r.tokens.byHash.Range(func(hash, v any) bool {
		if t := v.(store.Token); which(&t) {
			r.tokens.byHash.Delete(hash)
		}
		return true
	})
	r.Ended()
}

// ErrElsewhere is that credentials are kept on another machine, and changed there.
var ErrElsewhere = errors.New("credentials are kept by the machine that writes")

// Elsewhere is where credentials are kept for a machine that follows another: nowhere here. What they are is told; see [Registry.Learn].
type Elsewhere struct{}

// Tokens tells of none.
func (Elsewhere) Tokens(context.Context, string) ([]store.Token, error) { return nil, nil }

// WithPassword tells of nobody.
func (Elsewhere) WithPassword(context.Context) (map[string]store.Password, error) { return nil, nil }

// SecondFactors tells of none.
func (Elsewhere) SecondFactors(context.Context, string) ([]store.SecondFactor, error) {
	return nil, nil
}

// UseTokens keeps nothing: it is not known elsewhere that they were used here.
func (Elsewhere) UseTokens(context.Context, map[string]time.Time) error { return nil }

// SetPassword is not done here.
func (Elsewhere) SetPassword(context.Context, store.Password) error { return ErrElsewhere }

// Password is not done here.
func (Elsewhere) Password(context.Context, string) (store.Password, error) {
	return store.Password{}, ErrElsewhere
}

// AddSecondFactor is not done here.
func (Elsewhere) AddSecondFactor(context.Context, store.SecondFactor, string, []store.RecoveryCode) error {
	return ErrElsewhere
}

// PasskeyOf is not done here.
func (Elsewhere) PasskeyOf(context.Context, []byte) (store.SecondFactor, error) {
	return store.SecondFactor{}, ErrElsewhere
}

// UsePasskey is not done here.
func (Elsewhere) UsePasskey(context.Context, string, []byte, int64) error { return ErrElsewhere }

// SpendStep is not done here.
func (Elsewhere) SpendStep(context.Context, string, int64) (bool, error) { return false, ErrElsewhere }

// SpendRecoveryCode is not done here.
func (Elsewhere) SpendRecoveryCode(context.Context, string, []byte) (bool, error) {
	return false, ErrElsewhere
}

// SetRecoveryCodes is not done here.
func (Elsewhere) SetRecoveryCodes(context.Context, string, []store.RecoveryCode) error {
	return ErrElsewhere
}

// DropSecondFactor is not done here.
func (Elsewhere) DropSecondFactor(context.Context, string, string, time.Time) error {
	return ErrElsewhere
}

// AddLink is not done here.
func (Elsewhere) AddLink(context.Context, store.Link) error { return ErrElsewhere }

// Link is not done here.
func (Elsewhere) Link(context.Context, []byte) (store.Link, error) { return store.Link{}, ErrElsewhere }

// AddPlace is not done here.
func (Elsewhere) AddPlace(context.Context, store.Place) error { return ErrElsewhere }

// IsPlace is not done here.
func (Elsewhere) IsPlace(context.Context, string, []byte) (bool, error) { return false, ErrElsewhere }

// AddToken is not done here.
func (Elsewhere) AddToken(context.Context, store.Token) error { return ErrElsewhere }

// TokenOf is not done here.
func (Elsewhere) TokenOf(context.Context, string, string) (store.Token, error) {
	return store.Token{}, ErrElsewhere
}

// ShortenToken is not done here.
func (Elsewhere) ShortenToken(context.Context, string, time.Time) error { return ErrElsewhere }

// RevokeToken is not done here.
func (Elsewhere) RevokeToken(context.Context, string, time.Time) error { return ErrElsewhere }

var _ Kept = Elsewhere{}
