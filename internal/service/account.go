package service

import (
	"context"
	"crypto/sha256"
	"errors"
	"strings"
	"time"

	"sentier/internal/policy"
	"sentier/internal/store"
	"sentier/internal/wire"
)

// linkDays is how long a link holds by which somebody sets a password.
const linkDays = 7

// Invite makes a link, good once and for a week, by which a user sets a password of their own: the first, or a new one.
// It takes the place of one made before.
func (s *Service) Invite(ctx context.Context, c Caller, id string) (secret string, until time.Time, err error) {
	st := s.State()
	if err := s.Permit(st, c, Manage, ""); err != nil {
		return "", until, err
	}
	u, ok := policy.Find[*policy.User](st.Policy, id)
	if !ok {
		return "", until, ErrNotFound
	}
	if u.Kind == policy.Service {
		return "", until, Wrong("user", "%s is a service, and sets no password: make a token for it", u.Title())
	}
	if u.Status == policy.Suspended {
		return "", until, Wrong("user", "%s is suspended: reinstate them first", u.Title())
	}
	secret, hash := newSecret()
	now := s.borders.Clock().UTC()
	until = now.AddDate(0, 0, linkDays)
	err = s.borders.Credentials.AddLink(ctx, store.Link{Hash: hash, UserID: id, CreatedAt: now, CreatedBy: string(c.User), ExpiresAt: until})
	if err != nil {
		return "", until, s.kept(err)
	}
	s.borders.Log.Info("link made", "user", id, "by", c.User)
	return secret, until, nil
}

// ErrLink is that a link holds no more, or was never made.
var ErrLink = Wrong("link", "holds no more: it is good once, and for a week; ask for a new one")

// Welcome sets the password of the user whom a link was made for, ends the link and begins a session. Who was invited has come
// by that, which is a change like any other.
func (s *Service) Welcome(ctx context.Context, in wire.Welcome, address string) (wire.Session, error) {
	try, err := s.logins.try("a link", address, false)
	if err != nil {
		return wire.Session{}, err
	}
	s.tokens.making.Lock() // so that a link is good once, whoever else has it
	defer s.tokens.making.Unlock()
	sum := sha256.Sum256([]byte(in.Link))
	link, err := s.borders.Credentials.Link(ctx, sum[:])
	if errors.Is(err, store.ErrNotFound) || err == nil && !s.borders.Clock().Before(link.ExpiresAt) {
		return wire.Session{}, ErrLink
	}
	if err != nil {
		return wire.Session{}, err
	}
	try.giveBack()
	c := Caller{User: policy.UserID(link.UserID), Via: "link"}
	if err := s.arrive(ctx, c); err != nil {
		return wire.Session{}, err
	}
	if err := s.mayEnter(c.User); err != nil {
		return wire.Session{}, err
	}
	if err := s.SetPassword(ctx, link.UserID, in.Password); err != nil {
		return wire.Session{}, err
	}
	s.borders.Log.Info("password set by a link", "user", c.User)
	s.remember(ctx, link.UserID, placeOf(link.UserID, address))
	return s.begin(ctx, c.User, address, in.Terminal)
}

// arrive makes an invited user active.
func (s *Service) arrive(ctx context.Context, c Caller) error {
	s.writing.Lock()
	defer s.writing.Unlock()
	now := s.State()
	u, ok := policy.Find[*policy.User](now.Policy, string(c.User))
	if !ok || u.Status != policy.Invited {
		return nil
	}
	active := *u
	active.Status = policy.Active
	next, done, err := now.Policy.Apply([]policy.Change{{Op: policy.Put, Type: policy.Users, ID: u.Key(), Record: &active}})
	if err == nil {
		_, err = s.make(ctx, now, c, &EditOptions{Note: "came by the link"}, step{policy: next, done: done})
	}
	return err
}

// ChangePassword changes the caller's own password. All their sessions end with it; the one that they ask from begins anew.
func (s *Service) ChangePassword(ctx context.Context, c Caller, in wire.NewPassword, address string) (wire.Session, error) {
	if c.Via == string(store.KindToken) {
		return wire.Session{}, &ForbiddenError{Missing: policy.Say("a session that was signed in to, and this is a token")}
	}
	try, err := s.logins.try(string(c.User), address, true)
	if err != nil {
		return wire.Session{}, err
	}
	ok, _, err := s.isPassword(ctx, string(c.User), in.Current)
	if err != nil {
		return wire.Session{}, err
	}
	if !ok {
		return wire.Session{}, Wrong("current", "is not your password")
	}
	try.giveBack()
	if err := s.SetPassword(ctx, string(c.User), in.Password); err != nil {
		return wire.Session{}, err
	}
	s.borders.Log.Info("password changed", "user", c.User)
	return s.begin(ctx, c.User, address, c.Via == string(store.KindTerminal))
}

// Sessions lists the caller's own sessions, newest first.
func (s *Service) Sessions(ctx context.Context, c Caller) ([]wire.OwnSession, error) {
	list, err := s.sessions(ctx, c.User)
	out := []wire.OwnSession{}
	for _, t := range list {
		out = append(out, wire.OwnSession{ID: t.ID, Kind: string(t.Kind), From: strings.TrimPrefix(t.Name, "signed in from "), Began: t.CreatedAt.UTC(), Expires: t.ExpiresAt.UTC(), This: t.ID == c.Token})
	}
	return out, err
}

// EndSession ends one of the caller's own sessions.
func (s *Service) EndSession(ctx context.Context, c Caller, id string) error {
	list, err := s.sessions(ctx, c.User)
	if err != nil {
		return err
	}
	for _, t := range list {
		if t.ID == id {
			return s.endToken(ctx, id)
		}
	}
	return ErrNotFound
}

// EndOtherSessions ends all of the caller's own sessions but the one that they ask from.
func (s *Service) EndOtherSessions(ctx context.Context, c Caller) error {
	list, err := s.sessions(ctx, c.User)
	for _, t := range list {
		if err == nil && t.ID != c.Token {
			err = s.endToken(ctx, t.ID)
		}
	}
	return err
}

// Clip bounds what somebody else has written, to 128 bytes, where it is logged or said again.
func Clip(text string) string {
	const longest = 128
	if len(text) > longest {
		return strings.ToValidUTF8(text[:longest], "") + "…"
	}
	return text
}
