package service

import (
	"context"
	"slices"
	"strings"
	"time"

	"sentier/internal/audit"
	"sentier/internal/identity"
	"sentier/internal/policy"
	"sentier/internal/store"
	"sentier/internal/wire"
)

// ErrCode is that a second factor is needed beside the password; see [identity.ErrCode].
var ErrCode = identity.ErrCode

// ErrPasskey is that a passkey does not let in; see [identity.ErrPasskey].
var ErrPasskey = identity.ErrPasskey

// What somebody may have to do before anything else.
const (
	setupFactor   = "second_factor"
	setupPassword = "password"
)

// signInRules are what the user groups of somebody ask of how they sign in: the strictest holds.
func (s *Service) signInRules(user policy.UserID) (second bool, days int) {
	st := s.State()
	for _, id := range st.Compiled.Groups(user, s.borders.Clock()) {
		g, ok := policy.Find[*policy.UserGroup](st.Policy, string(id))
		if !ok || g.SignIn == nil {
			continue
		}
		second = second || g.SignIn.SecondFactor == policy.Required
		if d := g.SignIn.PasswordDays; d > 0 && (days == 0 || d < days) {
			days = d
		}
	}
	return second, days
}

// Setup lists what whoever is signed in has to do before anything else: set up a second factor that is required of them, set a password in
// the place of one that is too old. Tokens are made for programs, which can do neither.
func (s *Service) Setup(c Caller) []string {
	out := []string{}
	if !c.SignedIn() {
		return out
	}
	second, days := s.signInRules(c.User)
	if second && !s.who.HasFactor(c.User) {
		out = append(out, setupFactor)
	}
	if since := s.who.PasswordSince(c.User); s.who.Temporary(c.User) || days > 0 && !since.IsZero() && s.borders.Clock().Sub(since) > time.Duration(days)*24*time.Hour {
		out = append(out, setupPassword)
	}
	return out
}

// Admitted tells whether whoever is signed in may go on to anything but their own account. The error is [ErrCredential] for a session that
// was begun without the second factor that its user has by now: they sign in again, with it.
func (s *Service) Admitted(c Caller) error {
	if !c.SignedIn() {
		return nil
	}
	switch setup := s.Setup(c); {
	case slices.Contains(setup, setupFactor):
		return &ForbiddenError{Missing: policy.Say("a second factor, which a user group of yours requires: set it up under your account first")}
	case slices.Contains(setup, setupPassword):
		return &ForbiddenError{Missing: policy.Say("a new password, as the one that you have was set by somebody else, or is older than a user group of yours lets it be: set it under your account first")}
	}
	if !c.Strong && s.who.HasFactor(c.User) {
		return ErrCredential
	}
	return nil
}

// session refuses a caller who has not signed in: a token stands for a program.
func session(c Caller) error {
	if !c.SignedIn() {
		return &ForbiddenError{Missing: policy.Say("a session that was signed in to, and this is a token")}
	}
	return nil
}

// Factors lists the caller's own second factors.
func (s *Service) Factors(ctx context.Context, c Caller) ([]wire.SecondFactor, error) {
	list, err := s.who.Factors(ctx, c.User)
	out := []wire.SecondFactor{}
	for _, f := range list {
		out = append(out, wire.SecondFactor{ID: f.ID, Kind: f.Kind, Name: f.Name, Created: f.CreatedAt.UTC()})
	}
	return out, err
}

// BeginFactor begins to set up a second factor. Whoever has to set one up has just proved their password; others prove it again, so that
// a desk that was left open gives nobody a factor of their own.
func (s *Service) BeginFactor(ctx context.Context, c Caller, in wire.NewFactor, address string) (wire.Enrolling, error) {
	if err := session(c); err != nil {
		return wire.Enrolling{}, err
	}
	if !slices.Contains(s.Setup(c), setupFactor) {
		if err := s.ownPassword(ctx, c, in.Password, address); err != nil {
			return wire.Enrolling{}, err
		}
	}
	out, err := s.who.BeginFactor(c.User, c.Token)
	return wire.Enrolling(out), err
}

// ownPassword proves again who the caller is.
func (s *Service) ownPassword(ctx context.Context, c Caller, password, address string) error {
	return s.who.ProveAgain(ctx, string(c.User), password, address)
}

// BeginPasskey begins to make a passkey, as [Service.BeginFactor] begins a program for codes.
func (s *Service) BeginPasskey(ctx context.Context, c Caller, in wire.NewFactor, address string) (wire.Ceremony, error) {
	if err := session(c); err != nil {
		return wire.Ceremony{}, err
	}
	if !slices.Contains(s.Setup(c), setupFactor) {
		if err := s.ownPassword(ctx, c, in.Password, address); err != nil {
			return wire.Ceremony{}, err
		}
	}
	out, err := s.who.BeginPasskey(ctx, c.User, c.Token)
	return wire.Ceremony{ID: out.ID, Options: string(out.Options)}, err
}

// ConfirmPasskey keeps the passkey that a browser has made in this session.
func (s *Service) ConfirmPasskey(ctx context.Context, c Caller, in wire.PasskeyMade, expires time.Time) (wire.FactorMade, error) {
	if err := session(c); err != nil {
		return wire.FactorMade{}, err
	}
	name, err := factorName(in.Name)
	if err != nil {
		return wire.FactorMade{}, err
	}
	codes, err := s.who.ConfirmPasskey(ctx, c.User, c.Token, name, in.ID, in.Credential)
	if err != nil {
		return wire.FactorMade{}, err
	}
	s.note(c, audit.SecondFactor, audit.Made, string(c.User), details{"name": name, "kind": store.FactorPasskey})
	c.Strong = true
	return wire.FactorMade{Session: s.Session(c, expires), Codes: codes}, nil
}

// factorName is the name by which somebody knows a device of theirs.
func factorName(text string) (string, error) {
	name := strings.TrimSpace(text)
	if name == "" || len(name) > 100 {
		return "", Wrong("name", "give the device a name of up to 100 characters by which you know it")
	}
	return name, nil
}

// BeginPasskeySignIn begins a sign-in by a passkey.
func (s *Service) BeginPasskeySignIn() (wire.Ceremony, error) {
	out, err := s.who.BeginPasskeySignIn()
	return wire.Ceremony{ID: out.ID, Options: string(out.Options)}, err
}

// SignInByPasskey makes a session of what a passkey has signed: it is two factors by itself.
func (s *Service) SignInByPasskey(ctx context.Context, in wire.PasskeySigned, address string) (wire.Session, error) {
	user, err := s.who.ProvePasskey(ctx, in.ID, in.Credential, address)
	if err != nil {
		s.signInRefused(wire.Credentials{User: string(user)}, address, err)
		return wire.Session{}, err
	}
	return s.begin(ctx, user, address, false, true, "a passkey")
}

// ConfirmFactor keeps the second factor that was begun in this session.
func (s *Service) ConfirmFactor(ctx context.Context, c Caller, in wire.FactorProof, expires time.Time, address string) (wire.FactorMade, error) {
	if err := session(c); err != nil {
		return wire.FactorMade{}, err
	}
	name, err := factorName(in.Name)
	if err != nil {
		return wire.FactorMade{}, err
	}
	codes, err := s.who.ConfirmFactor(ctx, c.User, c.Token, name, in.Code, address)
	if err != nil {
		return wire.FactorMade{}, err
	}
	s.note(c, audit.SecondFactor, audit.Made, string(c.User), details{"name": name})
	c.Strong = true
	return wire.FactorMade{Session: s.Session(c, expires), Codes: codes}, nil
}

// DropFactor takes one of the caller's own second factors away; not the last one where a user group requires one.
func (s *Service) DropFactor(ctx context.Context, c Caller, id string, in wire.OwnProof, address string) error {
	if err := session(c); err != nil {
		return err
	}
	if err := s.ownPassword(ctx, c, in.Password, address); err != nil {
		return err
	}
	list, err := s.who.Factors(ctx, c.User)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(list, func(f store.SecondFactor) bool { return f.ID == id }) {
		return ErrNotFound
	}
	if second, _ := s.signInRules(c.User); second && len(list) == 1 {
		return &ForbiddenError{Missing: policy.Say("another second factor: a user group of yours requires one, and this is the last")}
	}
	if err := s.who.DropFactor(ctx, c.User, id); err != nil {
		return err
	}
	s.note(c, audit.SecondFactor, audit.Ended, string(c.User), nil)
	return nil
}

// NewRecoveryCodes makes new recovery codes for the caller.
func (s *Service) NewRecoveryCodes(ctx context.Context, c Caller, in wire.OwnProof, address string) (wire.RecoveryCodes, error) {
	if err := session(c); err != nil {
		return wire.RecoveryCodes{}, err
	}
	if err := s.ownPassword(ctx, c, in.Password, address); err != nil {
		return wire.RecoveryCodes{}, err
	}
	if !s.who.HasFactor(c.User) {
		return wire.RecoveryCodes{}, Wrong("password", "proves who you are, but you have no second factor: set one up first")
	}
	codes, err := s.who.NewRecoveryCodes(ctx, c.User)
	if err == nil {
		s.note(c, audit.SecondFactor, audit.Made, string(c.User), details{"what": "recovery codes"})
	}
	return wire.RecoveryCodes{Codes: codes}, err
}

// ResetFactors takes all second factors of somebody away, who has lost them; their sessions end.
func (s *Service) ResetFactors(ctx context.Context, c Caller, user string) error {
	if err := s.Permit(s.State(), c, Manage, ""); err != nil {
		return err
	}
	if err := s.handOut(ctx, c, user, "second factor reset"); err != nil {
		return err
	}
	if err := s.who.DropFactor(ctx, policy.UserID(user), ""); err != nil {
		return err
	}
	s.borders.Log.Info("second factors taken away", "user", policy.Clip(user), "by", c.User)
	s.note(c, audit.SecondFactor, audit.Reset, user, nil)
	return nil
}
