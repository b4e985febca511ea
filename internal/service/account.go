package service

import (
	"context"
	"errors"
	"time"

	"golang.org/x/text/unicode/norm"

	"sentier/internal/audit"
	"sentier/internal/decision"
	"sentier/internal/identity"
	"sentier/internal/policy"
	"sentier/internal/signon"
	"sentier/internal/store"
	"sentier/internal/wire"
)

// SetPassword gives a user a password; see [identity.Registry.SetPassword].
func (s *Service) SetPassword(ctx context.Context, user, password string) error {
	return s.who.SetPassword(ctx, user, password, false)
}

// GivePassword gives somebody else a password for the first time that they come in: they change it before anything else.
func (s *Service) GivePassword(ctx context.Context, c Caller, user string, in wire.GivenPassword) error {
	st := s.State()
	if err := s.Permit(st, c, Manage, ""); err != nil {
		return err
	}
	u, ok := policy.Find[*policy.User](st.Policy, user)
	if !ok {
		return ErrNotFound
	}
	if user == string(c.User) {
		return Wrong("user", "is yourself: change your own password under your account")
	}
	if u.Kind == policy.Service {
		return Wrong("user", "%s is a service, and sets no password: make a token for it", u.Title())
	}
	if err := s.handOut(ctx, c, user, "password"); err != nil {
		return err
	}
	if err := s.who.SetPassword(ctx, user, in.Password, true); err != nil {
		return err
	}
	s.borders.Log.Info("password given", "user", user, "by", c.User)
	s.note(c, audit.Password, audit.Made, user, nil)
	return nil
}

// SignIn makes a session of a user and a password. address is where the request came from.
func (s *Service) SignIn(ctx context.Context, in wire.Credentials, address string) (wire.Session, error) {
	strong, err := s.who.Prove(ctx, in.User, in.Password, in.Code, address)
	if err != nil {
		s.signInRefused(in, address, err)
		return wire.Session{}, err
	}
	return s.begin(ctx, policy.UserID(in.User), address, in.Terminal, strong, "a password")
}

// signInRefused keeps that a sign-in was refused. What was typed may be a password in the wrong field: only a name that there is is kept.
func (s *Service) signInRefused(in wire.Credentials, address string, why error) {
	c := Caller{Via: viaOf(in.Terminal), From: address}
	if _, ok := s.State().Policy.Get(policy.Users, in.User); ok {
		c.User = policy.UserID(in.User)
	}
	missing := "the password does not go with the user"
	var tooMany *identity.TooManyError
	var forbidden *ForbiddenError
	switch {
	case errors.Is(why, ErrCode) && in.Code == "":
		return // they are asked for it now
	case errors.Is(why, ErrCode):
		missing = "the code of the second factor is not good"
	case errors.Is(why, identity.ErrPasskey):
		missing = "the passkey did not sign, or is not known"
	case errors.As(why, &tooMany):
		missing = "too many tries"
	case errors.As(why, &forbidden):
		missing = forbidden.Missing.Error()
	case !errors.Is(why, identity.ErrSignIn):
		return // it could not be looked at
	}
	e := s.entry(c, audit.SignIn, audit.Refused)
	if s.folds.first(folding{e.Kind, e.By, "", e.From, "", missing}, e.At) {
		e.More = details{"missing": missing}.json()
		s.borders.Record.Note(e)
	}
}

// viaOf is by what way somebody signs in.
func viaOf(terminal bool) string {
	if terminal {
		return string(store.KindTerminal)
	}
	return string(store.KindConsole)
}

// begin makes a session of a user who has proved who they are, by what is told.
func (s *Service) begin(ctx context.Context, user policy.UserID, address string, terminal, strong bool, by string) (wire.Session, error) {
	secret, until, err := s.who.Begin(ctx, user, address, terminal, strong)
	if err != nil {
		return wire.Session{}, err
	}
	c := Caller{User: user, Via: viaOf(terminal), Strong: strong, From: address}
	s.note(c, audit.SignIn, audit.Done, "", details{"by": by, "strong": strong})
	out := s.Session(c, until)
	out.Token, out.Terminal = secret, terminal
	return out, nil
}

// Authenticate finds the caller who holds a secret, which comes from an address. The error is [ErrCredential] where nobody does.
func (s *Service) Authenticate(secret, address string) (Caller, time.Time, error) {
	if issuer := signon.IssuerOf(secret); issuer != "" {
		return s.bySignOn(context.Background(), secret, issuer, address)
	}
	h, err := s.who.Authenticate(secret, address)
	if err != nil {
		return Caller{}, time.Time{}, err
	}
	return Caller{User: h.User, Via: h.Via, Token: h.Token, Strong: h.Strong, Mandate: policy.MandateID(h.Mandate), Source: h.Source, secret: secret}, h.Expires, nil
}

// Still tells whether the credential that a caller came with holds still.
func (s *Service) Still(c Caller) bool {
	_, _, err := s.Authenticate(c.secret, c.From)
	return c.secret == "" || err == nil // whoever has the machine in hand has none
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
	r := s.Rights(s.State(), c)
	return wire.Session{Sourced: !s.known.Load().Empty(), ReasonRequired: s.settings.Load().ReasonRequired, Strong: c.Strong, Setup: s.Setup(c), Sees: typeNames(r.Sees()), Makes: typeNames(r.Makes()), Whole: r.May(Whole, "") == nil, User: wire.Named{ID: string(c.User), Name: name}, Mandates: s.Roles(c), Expires: expires.UTC(), Now: s.borders.Clock().UTC(), Revision: s.State().Revision.Number}
}

func typeNames(types []policy.Type) []string {
	out := []string{}
	for _, t := range types {
		out = append(out, t.String())
	}
	return out
}

// Invite makes a link, good once and for a week, by which a user sets a password of their own: the first, or a new one.
// It takes the place of one made before.
func (s *Service) Invite(ctx context.Context, c Caller, id string) (secret string, until time.Time, err error) {
	st := s.State()
	u, ok := policy.Find[*policy.User](st.Policy, id)
	if err := s.Rights(st, c).Invite(st.Policy, u); err != nil {
		return "", until, err
	}
	if !ok {
		return "", until, ErrNotFound
	}
	if u.Kind == policy.Service {
		return "", until, Wrong("user", "%s is a service, and sets no password: make a token for it", u.Title())
	}
	if u.Status == policy.Suspended {
		return "", until, Wrong("user", "%s is suspended: reinstate them first", u.Title())
	}
	if err := s.handOut(ctx, c, id, "link"); err != nil {
		return "", until, err
	}
	if secret, until, err = s.who.MakeLink(ctx, id, c.User); err == nil {
		s.borders.Log.Info("link made", "user", id, "by", c.User)
		s.note(c, audit.Link, audit.Made, id, details{"expires": until})
	}
	return secret, until, err
}

// Welcome sets the password of the user whom a link was made for, ends the link and begins a session. Who was invited has come
// by that, which is a change like any other.
func (s *Service) Welcome(ctx context.Context, in wire.Welcome, address string) (wire.Session, error) {
	user, err := s.who.UseLink(ctx, in.Link, in.Password, address, func(user, by policy.UserID) error {
		return s.arrive(ctx, Caller{User: user, Via: "link"}, by)
	})
	if err != nil {
		return wire.Session{}, err
	}
	s.note(Caller{User: user, Via: "link", From: address}, audit.Password, audit.Done, string(user), nil)
	return s.begin(ctx, user, address, in.Terminal, false, "a link")
}

// arrive makes an invited user active who comes by a link that somebody has made, and may make still: as they are now, and as the user is.
func (s *Service) arrive(ctx context.Context, c Caller, by policy.UserID) error {
	_, err := answerOf(s.edit(ctx, c, &EditOptions{way: WayComeIn, Note: "came by the link"}, func(now *State) ([]policy.Change, error) {
		u, ok := policy.Find[*policy.User](now.Policy, string(c.User))
		if !ok || s.Rights(now, Caller{User: by}).Invite(now.Policy, u) != nil {
			s.borders.Log.Warn("a link is refused: whoever made it may not make it any more", "user", c.User, "by", by)
			return nil, ErrLink
		}
		if u.Status != policy.Invited {
			return nil, nil
		}
		active := *u
		active.Status = policy.Active
		return []policy.Change{{Op: policy.Put, Type: policy.Users, ID: u.Key(), Record: &active}}, nil
	}))
	return err
}

// ChangePassword changes the caller's own password. All their sessions end with it; the one that they ask from begins anew.
func (s *Service) ChangePassword(ctx context.Context, c Caller, in wire.NewPassword, address string) (wire.Session, error) {
	if err := session(c); err != nil {
		return wire.Session{}, err
	}
	if err := s.ownPassword(ctx, c, in.Current, address); err != nil {
		return wire.Session{}, err
	}
	if norm.NFC.String(in.Password) == norm.NFC.String(in.Current) {
		return wire.Session{}, Wrong("password", "is the one before: choose another")
	}
	if err := s.who.SetPassword(ctx, string(c.User), in.Password, false); err != nil {
		return wire.Session{}, err
	}
	s.borders.Log.Info("password changed", "user", c.User)
	s.note(c, audit.Password, audit.Done, string(c.User), nil)
	return s.begin(ctx, c.User, address, c.Via == string(store.KindTerminal), c.Strong, "a new password")
}

// Sessions lists the caller's own sessions, newest first.
func (s *Service) Sessions(ctx context.Context, c Caller) ([]wire.OwnSession, error) {
	list, err := s.who.Sessions(ctx, c.User)
	out := []wire.OwnSession{}
	for _, t := range list {
		out = append(out, wire.OwnSession{ID: t.ID, Kind: string(t.Kind), From: identity.CameFrom(&t), Began: t.CreatedAt.UTC(), Used: instant(s.who.Used(&t)), Expires: t.ExpiresAt.UTC(), This: t.ID == c.Token})
	}
	return out, err
}

// SignIns tells how a user comes in: for whoever sees the policy as a whole.
func (s *Service) SignIns(ctx context.Context, c Caller, user string) (wire.SignIns, error) {
	st := s.State()
	out := wire.SignIns{Tokens: []wire.Token{}}
	if err := s.Permit(st, c, Whole, ""); err != nil {
		return out, err
	}
	if _, ok := st.Policy.Get(policy.Users, user); !ok {
		return out, ErrNotFound
	}
	of := Caller{User: policy.UserID(user)}
	if since := s.who.PasswordSince(of.User); !since.IsZero() {
		since = since.UTC()
		out.Password = &since
	}
	out.Required, _ = s.signInRules(of.User)
	var err error
	if out.Factors, err = s.Factors(ctx, of); err != nil {
		return out, err
	}
	if out.Sessions, err = s.Sessions(ctx, of); err != nil {
		return out, err
	}
	list, err := s.Tokens(ctx, c, user)
	for _, t := range list {
		if t.Kind == string(store.KindToken) && t.Revoked == nil && !t.Expired {
			out.Tokens = append(out.Tokens, t)
		}
	}
	return out, err
}

// EndSessionsOf ends all sessions of a user; their tokens go on.
func (s *Service) EndSessionsOf(ctx context.Context, c Caller, user string) error {
	st := s.State()
	if err := s.Permit(st, c, Manage, ""); err != nil {
		return err
	}
	if _, ok := st.Policy.Get(policy.Users, user); !ok {
		return ErrNotFound
	}
	s.borders.Log.Info("sessions ended", "user", policy.Clip(user), "by", c.User)
	if err := s.endSessions(ctx, policy.UserID(user), ""); err != nil {
		return err
	}
	s.note(c, audit.SignOut, audit.Done, user, details{"what": "all sessions"})
	return nil
}

// EndSession ends one of the caller's own sessions.
func (s *Service) EndSession(ctx context.Context, c Caller, id string) error {
	list, err := s.who.Sessions(ctx, c.User)
	if err != nil {
		return err
	}
	for _, t := range list {
		if t.ID == id {
			if _, err := s.who.End(ctx, id); err != nil {
				return err
			}
			s.note(c, audit.SignOut, audit.Done, string(c.User), details{"what": "one session", "session": id})
			return nil
		}
	}
	return ErrNotFound
}

// EndOtherSessions ends all of the caller's own sessions but the one that they ask from.
func (s *Service) EndOtherSessions(ctx context.Context, c Caller) error {
	if err := s.endSessions(ctx, c.User, c.Token); err != nil {
		return err
	}
	s.note(c, audit.SignOut, audit.Done, string(c.User), details{"what": "all other sessions"})
	return nil
}

// endSessions ends all sessions of a user but one.
func (s *Service) endSessions(ctx context.Context, user policy.UserID, but string) error {
	list, err := s.who.Sessions(ctx, user)
	for _, t := range list {
		if err == nil && t.ID != but {
			_, err = s.who.End(ctx, t.ID)
		}
	}
	return err
}
