package service

import (
	"context"
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"sentier/internal/audit"
	"sentier/internal/outbound"
	"sentier/internal/policy"
	"sentier/internal/signon"
	"sentier/internal/source"
	"sentier/internal/store"
	"sentier/internal/wire"
)

// kindSignOn is the kind of a source at which people sign in.
const kindSignOn = "sign_on"

// SignOns lets people sign in at providers; a [signon.Providers] is one.
type SignOns interface {
	Begin(ctx context.Context, s *source.SignOn, redirect string) (to string, pending signon.Pending, err error)
	Finish(ctx context.Context, s *source.SignOn, redirect string, pending signon.Pending, code, issuer string) (signon.Identity, error)
	Logout(ctx context.Context, s *source.SignOn, raw string) (subject string, err error)
	Bearer(ctx context.Context, s *source.SignOn, raw string) (subject string, until time.Time, err error)
}

// signOnTime is for how long a sign-in at a provider may take.
const signOnTime = 10 * time.Minute

// pendingSignOn is a sign-in that was begun, as the browser keeps it, sealed.
type pendingSignOn struct {
	Source  string
	Pending signon.Pending
	Until   time.Time
}

// newSeal seals what browsers keep of sign-ins; a start makes another.
func newSeal() (cipher.AEAD, error) {
	var key [32]byte
	rand.Read(key[:]) // never fails
	block, err := aes.NewCipher(key[:])
	if err != nil {
		return nil, fmt.Errorf("make a key: %w", err)
	}
	return cipher.NewGCMWithRandomNonce(block)
}

// SignOnError is that somebody who has signed in at a provider does not come in; Code tells the console which words to say.
type SignOnError struct {
	Code string // provider, refused, unknown, taken or account
	Why  error
}

func (e *SignOnError) Error() string { return e.Why.Error() }

// Unwrap is why.
func (e *SignOnError) Unwrap() error { return e.Why }

// SignOnProviders lists the providers at which anybody may sign in.
func (s *Service) SignOnProviders() []wire.SignOnProvider {
	out := []wire.SignOnProvider{}
	for _, k := range *s.signOns.Load() {
		out = append(out, wire.SignOnProvider{ID: k.ID, Name: k.Name})
	}
	return out
}

// signOnOf is a provider, where people may sign in at it.
func (s *Service) signOnOf(id string) (*keptSource, error) {
	for _, k := range *s.signOns.Load() {
		if k.ID == id {
			return k, nil
		}
	}
	return nil, ErrNotFound
}

// BeginSignOn begins to sign somebody in: where their browser goes, and what it keeps meanwhile. redirect is where it comes back to.
func (s *Service) BeginSignOn(ctx context.Context, id, redirect string) (to, kept string, err error) {
	k, err := s.signOnOf(id)
	if err != nil {
		return "", "", err
	}
	to, pending, err := s.borders.SignOns.Begin(ctx, k.set.SignOn, redirect)
	if err != nil {
		s.borders.Log.Warn("a provider of sign-on cannot be asked", "source", k.ID, "error", err, "behind", outbound.Behind(err))
		return "", "", &SignOnError{"provider", err}
	}
	text, err := json.Marshal(pendingSignOn{k.ID, pending, s.borders.Clock().Add(signOnTime)})
	if err != nil {
		return "", "", fmt.Errorf("write a sign-in: %w", err)
	}
	return to, base64.RawURLEncoding.EncodeToString(s.seal.Seal(nil, nil, text, nil)), nil
}

// FinishSignOn signs somebody in who comes back from a provider with a state and a code, in the browser that keeps what was begun.
func (s *Service) FinishSignOn(ctx context.Context, id, redirect, kept, state, code, issuer, address string) (wire.Session, error) {
	k, err := s.signOnOf(id)
	if err != nil {
		return wire.Session{}, err
	}
	try, err := s.who.Try(tryCode, address, true)
	if err != nil {
		return wire.Session{}, &SignOnError{"refused", err}
	}
	who, err := s.identified(ctx, k, redirect, kept, state, code, issuer)
	if err == nil {
		try.Good()
	} else {
		s.signOnRefused(k, "", address, err)
		return wire.Session{}, &SignOnError{"refused", err}
	}
	user, err := s.broughtIn(ctx, k, who)
	if err == nil {
		if err = s.mayEnter(policy.UserID(user)); err != nil {
			err = &SignOnError{"account", err}
		}
	}
	if err != nil {
		s.signOnRefused(k, user, address, err)
		return wire.Session{}, err
	}
	return s.begin(ctx, policy.UserID(user), address, false, who.Strong, "the provider "+k.Name)
}

func (s *Service) identified(ctx context.Context, k *keptSource, redirect, kept, state, code, issuer string) (who signon.Identity, err error) {
	sealed, err := base64.RawURLEncoding.DecodeString(kept)
	var begun pendingSignOn
	if err == nil {
		var text []byte
		if text, err = s.seal.Open(nil, nil, sealed, nil); err == nil {
			err = json.Unmarshal(text, &begun)
		}
	}
	if err != nil || begun.Source != k.ID || subtle.ConstantTimeCompare([]byte(begun.Pending.State), []byte(state)) != 1 || state == "" {
		return who, Wrong("state", "is not that of a sign-in which was begun in this browser: begin again")
	}
	if !s.borders.Clock().Before(begun.Until) {
		return who, Wrong("state", "is of a sign-in that took too long: begin again")
	}
	if code == "" {
		return who, Wrong("code", "is missing: the provider did not sign you in")
	}
	return s.borders.SignOns.Finish(ctx, k.set.SignOn, redirect, begun.Pending, code, issuer)
}

// signOnRefused keeps that a sign-in was refused.
func (s *Service) signOnRefused(k *keptSource, user, address string, why error) {
	s.borders.Log.Warn("sign-in refused", "source", k.ID, "user", user, "from", policy.Clip(address), "why", why, "behind", outbound.Behind(why))
	c := Caller{User: policy.UserID(user), Via: string(store.KindConsole), From: address}
	e := s.entry(c, audit.SignIn, audit.Refused)
	if s.folds.first(folding{e.Kind, e.By, "", e.From, "", k.ID}, e.At) {
		e.More = details{"missing": why.Error(), "source": k.Name}.json()
		s.borders.Record.Note(e)
	}
}

// broughtIn is the user who somebody is that a provider has signed in: with the name, the address and the groups that it says, and made where a group of theirs is mapped.
func (s *Service) broughtIn(ctx context.Context, k *keptSource, who signon.Identity) (user string, err error) {
	c := Caller{User: policy.UserID(k.Author), Via: viaSource, Mandate: policy.MandateID(k.Mandate)}
	o := EditOptions{way: WaySignOn, about: k.ID, Note: "signed in at “" + k.Name + "”"}
	saved, err := answerOf(s.change(ctx, c, &o, func(now *State) (step, error) {
		var plan source.Plan
		var err error
		if user, plan, err = signedOn(now.Policy, s.known.Load(), k, who); err != nil {
			return step{}, err
		}
		o.plan = &plan
		next, done, err := now.Policy.Apply(plan.Changes)
		return step{policy: next, done: done}, err
	}))
	var refused *SignOnError
	if err != nil && !errors.As(err, &refused) {
		err = &SignOnError{"unknown", err}
	}
	if err != nil {
		return user, err
	}
	return user, s.learn(ctx, saved, o.plan)
}

// signedOn works out what comes of a sign-in.
func signedOn(p *policy.Policy, known *source.Known, k *keptSource, who signon.Identity) (user string, plan source.Plan, err error) {
	groups := map[string]bool{}
	for _, name := range who.Groups {
		id := k.set.Bring.Feeds(name)
		if _, there := policy.Find[*policy.UserGroup](p, id); there {
			groups[id] = true
		}
	}
	user, here := known.Stands(k.ID, policy.Users, who.Subject)
	before, there := policy.Find[*policy.User](p, user)
	if !here || !there {
		if user, before, err = newAtSignOn(p, known, k, who, len(groups) > 0); err != nil {
			return user, plan, err
		}
	}
	u := &policy.User{ID: policy.UserID(user), Kind: policy.Person, Status: policy.Active}
	if before != nil {
		copied := *before
		u = &copied
	}
	if who.Name != "" {
		u.Name = source.Plain(who.Name)
	}
	if mail := source.Plain(who.Email); mail != "" && !strings.EqualFold(mail, u.Email) {
		u.Email = mail
		if _, _, err := p.Apply([]policy.Change{{Op: policy.Put, Type: policy.Users, ID: user, Record: u}}); err != nil { // somebody else has it: one person has one account
			u.Email = ""
			if before != nil {
				u.Email = before.Email
			}
		}
	}
	if before == nil || before.Name != u.Name || before.Email != u.Email {
		plan.Changes = append(plan.Changes, policy.Change{Op: policy.Put, Type: policy.Users, ID: user, Record: u})
	}
	if o, ok := known.Origin(policy.Users, user); !ok || o.Outside != who.Subject {
		plan.Origins = []source.Origin{{Source: k.ID, Type: policy.Users, Outside: who.Subject, Record: user, Place: who.Subject}}
	}
	if who.Groups != nil {
		atSignOn(p, known, k.ID, user, groups, &plan)
	}
	return user, plan, nil
}

// atSignOn makes the memberships of somebody those that the provider says.
func atSignOn(p *policy.Policy, known *source.Known, from, user string, groups map[string]bool, plan *source.Plan) {
	entry := func(op policy.Op, group string) {
		plan.Changes = append(plan.Changes, policy.Change{Op: op, Type: policy.UserGroups, ID: group, List: "members", Entry: policy.Entry{Value: user}, Beside: true})
	}
	for _, group := range known.Memberships(from, user) {
		g, there := policy.Find[*policy.UserGroup](p, group)
		switch {
		case groups[group] && there && source.Has(g, user):
			delete(groups, group)
		case groups[group]:
		default:
			plan.Left = append(plan.Left, source.Member{Source: from, Group: group, User: user})
			if there && source.Has(g, user) {
				entry(policy.Drop, group)
			}
		}
	}
	var fresh []string
	for group := range groups {
		fresh = append(fresh, group)
	}
	slices.Sort(fresh)
	for _, group := range fresh {
		if g, _ := policy.Find[*policy.UserGroup](p, group); source.Has(g, user) {
			continue // by hand, or by another source
		}
		plan.Joined = append(plan.Joined, source.Member{Source: from, Group: group, User: user})
		entry(policy.Add, group)
	}
}

// newAtSignOn is who somebody is that the provider has not signed in before.
func newAtSignOn(p *policy.Policy, known *source.Known, k *keptSource, who signon.Identity, mapped bool) (user string, before *policy.User, err error) {
	if linked := k.set.Bring.Links[who.Subject]; linked != "" {
		u, ok := policy.Find[*policy.User](p, linked)
		if o, other := known.Origin(policy.Users, linked); !ok || other && o.Outside != who.Subject {
			return "", nil, &SignOnError{"unknown", &ForbiddenError{Missing: policy.Say("a link to somebody who is here, and comes from nowhere else")}}
		}
		return linked, u, nil
	}
	if !mapped && !k.set.Bring.Everybody {
		return "", nil, &SignOnError{"unknown", &ForbiddenError{Missing: policy.Say("an account that is linked to this sign-in, or a group there that is mapped to one here")}}
	}
	id := source.UserID(who.Username)
	if id == "" {
		return "", nil, &SignOnError{"unknown", &ForbiddenError{Missing: policy.Say("a name there of which an id here can be made, and this one is %q", policy.Clip(who.Username))}}
	}
	if _, taken := policy.Find[*policy.User](p, id); taken { // never by the name, nor by the address
		return "", nil, &SignOnError{"taken", &ForbiddenError{Missing: policy.Say("a link: there is a user %q already, and whoever administers says whether they are the same", id)}}
	}
	return id, nil, nil
}

// SignOnLogout ends the sessions of somebody who has logged out at a provider.
func (s *Service) SignOnLogout(ctx context.Context, id, raw, address string) error {
	k, err := s.signOnOf(id)
	if err != nil {
		return err
	}
	try, err := s.who.Try(tryLogout, address, true)
	if err != nil {
		return err
	}
	subject, err := s.borders.SignOns.Logout(ctx, k.set.SignOn, raw)
	if err == nil {
		try.Good()
	} else {
		s.borders.Log.Warn("a log-out of a provider is not taken", "source", k.ID, "error", err, "behind", outbound.Behind(err))
		return Wrong("logout_token", "%v", policy.SaidBy(err))
	}
	user, ok := s.known.Load().Stands(k.ID, policy.Users, subject)
	if !ok {
		return nil // nobody here is that
	}
	if err := s.endSessions(ctx, policy.UserID(user), ""); err != nil {
		return err
	}
	s.note(Caller{User: policy.UserID(user), Via: viaSource, From: address}, audit.SignOut, audit.Done, user, details{"what": "all sessions", "source": k.Name})
	return nil
}

// bySignOn finds the caller whose bearer token a provider has made: RFC 9068.
func (s *Service) bySignOn(ctx context.Context, raw, issuer, address string) (Caller, time.Time, error) {
	for _, k := range *s.signOns.Load() {
		set := k.set.SignOn
		if set.Issuer != issuer || set.Audience == "" {
			continue
		}
		subject, until, err := s.bearer(ctx, k, raw, address)
		if err != nil {
			return Caller{}, until, err
		}
		user, ok := s.known.Load().Stands(k.ID, policy.Users, subject)
		if linked := k.set.Bring.Links[subject]; !ok && linked != "" {
			user, ok = linked, true
		}
		if !ok {
			return Caller{}, until, ErrCredential
		}
		return Caller{User: policy.UserID(user), Via: string(store.KindToken), Token: "sign-on " + k.ID, Mandate: policy.MandateID(set.Mandate), secret: raw}, until, nil
	}
	return Caller{}, time.Time{}, ErrCredential
}

// What tries from an address are counted by that make us ask a provider for its keys, or for what a code stands for.
const (
	tryCode   = "a code of a provider"
	tryLogout = "a log-out of a provider"
	tryBearer = "a token of a provider"
)

// bearers are tokens of providers that were seen to be good, by their hashes: each is looked at once.
type bearers struct {
	mu   sync.Mutex
	seen map[[sha256.Size]byte]seenBearer
}

type seenBearer struct {
	source, subject string
	version         uint64
	until           time.Time
}

// mostBearers is how many are remembered.
const mostBearers = 10_000

// bearer finds whose a token is, and until when it holds.
func (s *Service) bearer(ctx context.Context, k *keptSource, raw, address string) (subject string, until time.Time, err error) {
	hash := sha256.Sum256([]byte(raw))
	s.bearers.mu.Lock()
	seen, ok := s.bearers.seen[hash]
	s.bearers.mu.Unlock()
	if ok && seen.source == k.ID && seen.version == k.Version && time.Now().Before(seen.until) {
		return seen.subject, seen.until, nil
	}
	try, err := s.who.Try(tryBearer, address, true)
	if err != nil {
		return "", until, err
	}
	if subject, until, err = s.borders.SignOns.Bearer(ctx, k.set.SignOn, raw); err != nil {
		s.borders.Log.Debug("a token of a provider is not taken", "source", k.ID, "error", err, "behind", outbound.Behind(err))
		return "", until, ErrCredential
	}
	try.Good()
	s.bearers.mu.Lock()
	defer s.bearers.mu.Unlock()
	if s.bearers.seen == nil || len(s.bearers.seen) >= mostBearers {
		s.bearers.seen = map[[sha256.Size]byte]seenBearer{}
	}
	s.bearers.seen[hash] = seenBearer{k.ID, subject, k.Version, until}
	return subject, until, nil
}
