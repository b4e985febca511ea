// Package identity knows who one is: passwords, the links by which they are set, sessions and tokens. What somebody may do is for
// others to know.
package identity

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net/url"
	"slices"
	"strconv"
	"sync"
	"time"

	"sentier/internal/policy"
	"sentier/internal/store"
	"sentier/internal/translate"
	"sentier/internal/wording"
)

// Kept is where credentials are kept, as hashes.
type Kept interface {
	SetPassword(ctx context.Context, p store.Password) error
	Password(ctx context.Context, user string) (store.Password, error)
	WithPassword(ctx context.Context) (map[string]store.Password, error)
	AddSecondFactor(ctx context.Context, f store.SecondFactor, session string, codes []store.RecoveryCode) error
	SecondFactors(ctx context.Context, user string) ([]store.SecondFactor, error)
	PasskeyOf(ctx context.Context, credential []byte) (store.SecondFactor, error)
	UsePasskey(ctx context.Context, id string, secret []byte, step int64) error
	SpendStep(ctx context.Context, id string, step int64) (bool, error)
	SpendRecoveryCode(ctx context.Context, user string, hash []byte) (bool, error)
	SetRecoveryCodes(ctx context.Context, user string, codes []store.RecoveryCode) error
	DropSecondFactor(ctx context.Context, user, id string, at time.Time) error
	AddLink(ctx context.Context, l store.Link) error
	Link(ctx context.Context, hash []byte) (store.Link, error)
	AddPlace(ctx context.Context, p store.Place) error
	IsPlace(ctx context.Context, user string, place []byte) (bool, error)
	AddToken(ctx context.Context, t store.Token) error
	Tokens(ctx context.Context, user string) ([]store.Token, error)
	TokenOf(ctx context.Context, user, key string) (store.Token, error)
	ShortenToken(ctx context.Context, id string, end time.Time) error
	UseTokens(ctx context.Context, used map[string]time.Time) error
	RevokeToken(ctx context.Context, id string, at time.Time) error
}

// Around is what a registry stands in.
type Around struct {
	Kept  Kept
	Clock func() time.Time
	Log   *slog.Logger

	Site     *url.URL                       // at which people open the console; nil, or of an address: there are no passkeys
	MayEnter func(user policy.UserID) error // nil where the account is in force
	// Elsewhere tells whether a password is one that a directory keeps for a user; asked is false where none does.
	Elsewhere func(ctx context.Context, user, password string) (is, asked bool, err error)
	Failed    func(err error) error // what becomes of an error of writing: one that says that the disk is full
	Ended     func()                // is called when credentials have ended
	Made      func()                // is called when credentials were made or changed
}

// Registry holds the credentials of everybody. It may be used from many goroutines at once.
type Registry struct {
	Around

	hasher    *passwordHasher
	logins    *loginLimiter
	tokens    tokenCache
	passwords knownUsers // users seen to have a password
	factors   factorCache
	lasting   lasting
	passkeys  *passkeys // nil: there are none
}

// Open reads the tokens that are kept. One that is not as it was written holds no more.
func Open(ctx context.Context, around Around) (*Registry, error) {
	r := &Registry{Around: around, hasher: newHasher(), logins: newLimiter()}
	r.Lasts(0, sessionTime)
	var err error
	if r.passkeys, err = newPasskeys(around.Site); err != nil {
		return nil, err
	}
	tokens, err := r.Kept.Tokens(ctx, "")
	if err != nil {
		return nil, fmt.Errorf("read the tokens: %w", err)
	}
	for _, t := range tokens {
		if !t.Sound() {
			r.Log.Error("a token is not as it was written, and holds no more", "id", t.ID, "user", policy.Clip(t.UserID))
			continue
		}
		r.tokens.put(t)
	}
	if _, err := r.WithPassword(ctx); err != nil {
		return nil, fmt.Errorf("read who has a password: %w", err)
	}
	return r, r.loadFactors(ctx)
}

// The errors that callers tell apart.
var (
	// ErrNotFound is that a credential is not there.
	ErrNotFound = told("there is no such thing")
	// ErrSignIn is that a user and a password do not go together; it does not say which is wrong.
	ErrSignIn = told("the user or the password is wrong")
	// ErrCredential is that a request carries no credential that holds.
	ErrCredential = told("sign in, or send a token that holds, as “Authorization: Bearer …”")
	// ErrLink is that a link holds no more, or was never made.
	ErrLink = translate.Wrong("link", "holds no more: it is good once, and for a week; ask for a new one")
)

// told makes an error that is one of its own, and is told as a sentence.
func told(form string) error { return fmt.Errorf("%w", policy.Say(form)) }

// TooManyError is that sign-ins come too fast; After says when the next is looked at.
type TooManyError struct{ After time.Duration }

func (e *TooManyError) Error() string { return e.In(wording.English) }

// In says it in a language.
func (e *TooManyError) In(words wording.Catalogue) string {
	return words.Say("problem.sign_ins", "seconds", strconv.Itoa(max(1, int(e.After.Seconds()+0.999))))
}

// SetPassword gives a user a password; all their sessions end with it, and so do links that were made for them. A temporary one has to be
// changed before anything else. Who may do that is for the caller to know.
func (r *Registry) SetPassword(ctx context.Context, user, password string, temporary bool) error {
	if !temporary {
		if err := r.mayReplace(ctx, user, password); err != nil {
			return err
		}
	}
	hash, err := r.hasher.hash(ctx, user, password)
	if err != nil {
		return err
	}
	at := r.Clock().UTC()
	p := store.Password{UserID: user, Hash: hash, ChangedAt: at, Temporary: temporary}
	if err := r.Kept.SetPassword(ctx, p); err != nil {
		return r.Failed(err)
	}
	p.Hash = ""
	r.passwords.put(map[string]store.Password{user: p})
	r.Made()
	r.revokeCached(at, func(t *store.Token) bool { return t.UserID == user && t.Kind != store.KindToken })
	return nil
}

// mayReplace tells whether a password may take the place of the one that a user has: one that was given is replaced by another.
func (r *Registry) mayReplace(ctx context.Context, user, password string) error {
	if err := check(user, password); err != nil {
		return err
	}
	old, err := r.Kept.Password(ctx, user)
	if errors.Is(err, store.ErrNotFound) || err == nil && !old.Temporary {
		return nil
	}
	if err != nil {
		return err
	}
	return r.another(ctx, password, old.Hash)
}

// another refuses a password that has a hash.
func (r *Registry) another(ctx context.Context, password, hash string) error {
	same, err := r.hasher.matches(ctx, password, hash)
	if err == nil && same {
		err = translate.Wrong("password", "is the one before: choose another")
	}
	return err
}

// Try is a try to prove who one is, which counts until it is seen to have been a good one.
type Try struct{ counted *attempt }

// Try begins a try of somebody, or of something that many can try, from an address. The error is a [TooManyError] where there were too
// many.
func (r *Registry) Try(who, address string, known bool) (Try, error) {
	counted, err := r.logins.try(who, address, known)
	return Try{counted}, err
}

// Good says that a try was a good one: it does not count.
func (t Try) Good() { t.counted.giveBack() }

// Prove takes a user and a password from an address, and a code where the user has a second factor: strong tells whether they have. The error
// is [ErrSignIn] where user and password do not go together, and [ErrCode] where the code is missing or not good.
func (r *Registry) Prove(ctx context.Context, user, password, code, address string) (strong bool, err error) {
	if len(user) > policy.MaxID || len(password) > 4*maxPassword {
		return false, ErrSignIn // there is no such account
	}
	place := placeOf(user, address)
	known, err := r.Kept.IsPlace(ctx, user, place)
	if err != nil {
		return false, err
	}
	try, err := r.Try(user, address, known)
	if err != nil {
		return false, err
	}
	ok, exists, err := r.isPassword(ctx, user, password)
	if err != nil {
		return false, err
	}
	if !ok {
		// What was typed may be a password in the wrong field: only a name that there is says anything to whoever reads the log.
		if exists {
			r.Log.Warn("sign-in refused", "user", user, "from", policy.Clip(address))
		} else {
			r.Log.Warn("sign-in refused", "from", policy.Clip(address))
		}
		return false, ErrSignIn
	}
	if err := r.MayEnter(policy.UserID(user)); err != nil {
		return false, err
	}
	if strong = r.HasFactor(policy.UserID(user)); strong {
		if code == "" {
			try.Good() // they are asked for it now
			return false, ErrCode
		}
		if ok, err = r.proveSecond(ctx, user, code); err != nil {
			return false, err
		}
		if !ok {
			r.Log.Warn("sign-in refused: the code is not good", "user", user, "from", policy.Clip(address))
			return false, ErrCode
		}
	}
	try.Good()
	r.Remember(ctx, user, address)
	return strong, nil
}

// ProveAgain takes the password of somebody who is signed in.
func (r *Registry) ProveAgain(ctx context.Context, user, password, address string) error {
	try, err := r.Try(user, address, true)
	if err != nil {
		return err
	}
	ok, _, err := r.isPassword(ctx, user, password)
	if err != nil {
		return err
	}
	if !ok {
		return translate.Wrong("current", "is not your password")
	}
	try.Good()
	return nil
}

// isPassword tells whether a user has a password, and whether this is it.
func (r *Registry) isPassword(ctx context.Context, user, password string) (ok, exists bool, err error) {
	kept, err := r.Kept.Password(ctx, user)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return false, false, err
	}
	exists = err == nil
	// For everybody alike, so that the time it takes tells nothing.
	if ok, err = r.hasher.matches(ctx, password, kept.Hash); ok || err != nil {
		return ok, exists, err
	}
	is, asked, err := r.Elsewhere(ctx, user, password)
	return is, exists || asked, err
}

// Remember keeps where a user has signed in from: their tries there are counted by themselves.
func (r *Registry) Remember(ctx context.Context, user, address string) {
	if err := r.Kept.AddPlace(ctx, store.Place{UserID: user, Place: placeOf(user, address), At: r.Clock().UTC()}); err != nil {
		r.Log.Warn("where somebody signed in could not be remembered", "error", err)
	}
}

// HasPassword tells whether a user was seen to have a password; one who was not may have one still, see [Registry.WithPassword].
func (r *Registry) HasPassword(user policy.UserID) bool { return r.passwords.has(string(user)) }

// WithPassword lists the users who have a password.
func (r *Registry) WithPassword(ctx context.Context) ([]string, error) {
	users, err := r.Kept.WithPassword(ctx)
	r.passwords.put(users)
	return slices.Collect(maps.Keys(users)), err
}

// PasswordSince tells since when a user has their password; the zero time where none is known.
func (r *Registry) PasswordSince(user policy.UserID) time.Time {
	r.passwords.mu.RLock()
	defer r.passwords.mu.RUnlock()
	return r.passwords.ids[string(user)].ChangedAt
}

// Temporary tells whether the password of a user was set by somebody else.
func (r *Registry) Temporary(user policy.UserID) bool {
	r.passwords.mu.RLock()
	defer r.passwords.mu.RUnlock()
	return r.passwords.ids[string(user)].Temporary
}

// Forget lets go of the credentials of accounts that are gone, and of the sessions of those that were suspended: what keeps them has
// done the same.
func (r *Registry) Forget(removed, suspended []string) {
	if len(removed)+len(suspended) == 0 {
		return
	}
	r.passwords.drop(removed...)
	r.factors.mu.Lock()
	for _, id := range removed {
		delete(r.factors.of, id)
	}
	r.factors.mu.Unlock()
	r.revokeCached(r.Clock().UTC(), func(t *store.Token) bool {
		return slices.Contains(removed, t.UserID) || t.Kind != store.KindToken && slices.Contains(suspended, t.UserID)
	})
}

// knownUsers is a set of users that many may look at.
type knownUsers struct {
	mu  sync.RWMutex
	ids map[string]store.Password // without their hashes
}

func (k *knownUsers) has(id string) bool {
	k.mu.RLock()
	defer k.mu.RUnlock()
	_, ok := k.ids[id]
	return ok
}

func (k *knownUsers) drop(ids ...string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, id := range ids {
		delete(k.ids, id)
	}
}

func (k *knownUsers) put(ids map[string]store.Password) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.ids == nil {
		k.ids = map[string]store.Password{}
	}
	maps.Copy(k.ids, ids)
}
