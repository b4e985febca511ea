package service

import (
	"context"
	"errors"
	"strings"

	"sentier/internal/audit"
	"sentier/internal/identity"
	"sentier/internal/policy"
	"sentier/internal/store"
	"sentier/internal/wire"
)

// How many days a token holds.
const (
	tokenDays    = 90
	maxTokenDays = 3650
)

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
	until := s.borders.Clock().AddDate(0, 0, in.Days).UTC()
	secret, t, repeated, err := s.who.CreateToken(ctx,
		store.Token{UserID: in.User, Name: in.Name, CreatedBy: string(c.User), ExpiresAt: &until},
		identity.Repetition{Key: asked.Key, Request: asked.Request, Caller: c.User, Secret: c.secret})
	if errors.Is(err, identity.ErrRepeated) {
		return wire.Token{}, &KeyError{asked.Key}
	}
	if err != nil {
		return wire.Token{}, err
	}
	if !repeated {
		s.borders.Log.Info("token made", "id", t.ID, "user", t.UserID, "by", c.User)
		s.note(c, audit.Token, audit.Made, t.UserID, details{"token": t.ID, "name": t.Name, "expires": t.ExpiresAt})
	}
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
	if err := s.Permit(s.State(), c, Whole, ""); err != nil {
		return nil, err
	}
	list, err := s.borders.Credentials.Tokens(ctx, user)
	if err != nil {
		return nil, err
	}
	out := []wire.Token{}
	for _, t := range list {
		w := wireToken(t)
		w.Expired = s.who.Expired(&t)
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
	t, err := s.who.End(ctx, id)
	if err != nil {
		return err
	}
	s.borders.Log.Info("token revoked", "id", t.ID, "by", c.User)
	if t.Kind == store.KindToken {
		s.note(c, audit.Token, audit.Ended, t.UserID, details{"token": t.ID, "name": t.Name})
	} else {
		s.note(c, audit.SignOut, audit.Done, t.UserID, details{"what": "one session", "session": t.ID})
	}
	return nil
}
