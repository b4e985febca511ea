package service

import (
	"cmp"
	"context"
	"errors"
	"net/netip"
	"slices"
	"strings"
	"time"

	"sentier/internal/audit"
	"sentier/internal/document"
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
		if near := st.Policy.Near(policy.Users, policy.Clip(in.User)); len(near) > 0 {
			return wire.Token{}, Wrong("user", "there is no user %q: did you mean %s?", policy.Clip(in.User), policy.Names(near))
		}
		return wire.Token{}, Wrong("user", "there is no user %q", policy.Clip(in.User))
	}
	if err := s.mayEnter(policy.UserID(in.User)); err != nil {
		return wire.Token{}, Wrong("user", "%s cannot come in: a token takes %s", st.Policy.Title(policy.Users, in.User), err.(*ForbiddenError).Missing)
	}
	if strings.TrimSpace(in.Name) == "" || len(in.Name) > 200 {
		return wire.Token{}, Wrong("name", "give the token a name of up to 200 characters that says what it is for")
	}
	until, err := s.tokenEnd(st, in)
	if err != nil {
		return wire.Token{}, err
	}
	if err := s.checkScope(st, &in); err != nil {
		return wire.Token{}, err
	}
	return s.keepToken(ctx, c, store.Token{UserID: in.User, Name: in.Name, CreatedBy: string(c.User), ExpiresAt: &until, Mandate: in.Mandate, Networks: strings.Join(in.Networks, " ")}, asked)
}

// keepToken makes a token of which all is known but its secret.
func (s *Service) keepToken(ctx context.Context, c Caller, token store.Token, asked Asked) (wire.Token, error) {
	if err := s.handOut(ctx, c, token.UserID, "token"); err != nil {
		return wire.Token{}, err
	}
	secret, t, repeated, err := s.who.CreateToken(ctx, token,
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
	out := s.wireToken(t)
	out.Secret = secret
	return out, nil
}

// tokenEnd is when a token that is asked for ends.
func (s *Service) tokenEnd(st *State, in wire.NewToken) (time.Time, error) {
	now := s.borders.Clock()
	if in.Until == "" {
		if in.Days < 0 || in.Days > maxTokenDays {
			return now, Wrong("days", "%d is out of range: a token holds 1 to %d days", in.Days, maxTokenDays)
		}
		return now.AddDate(0, 0, cmp.Or(in.Days, tokenDays)).UTC(), nil
	}
	if in.Days != 0 {
		return now, Wrong("until", "is given beside days: give one of them")
	}
	zone, err := policy.LoadZone(st.Policy.Settings().Zone)
	if err != nil {
		return now, err
	}
	until, err := document.ParseInstant(in.Until, now, zone)
	if err != nil {
		return now, Wrong("until", "%v", err)
	}
	if !until.After(now) || until.After(now.AddDate(0, 0, maxTokenDays)) {
		return now, Wrong("until", "%s is out of range: a token holds up to %d days from now", until.UTC().Format(time.RFC3339), maxTokenDays)
	}
	return until.UTC(), nil
}

// checkScope looks at what a token is to be good for, and writes its networks in their usual form.
func (s *Service) checkScope(st *State, in *wire.NewToken) error {
	if in.Mandate != "" {
		reach := st.Compiled.Mandates(policy.UserID(in.User), s.borders.Clock())
		if !slices.ContainsFunc(reach, func(m *policy.Mandate) bool { return string(m.ID) == in.Mandate }) {
			return Wrong("mandate", "no mandate %q is in force for %s: their mandates are under People", policy.Clip(in.Mandate), st.Policy.Title(policy.Users, in.User))
		}
	}
	for i, text := range in.Networks {
		p, err := netip.ParsePrefix(text)
		if err != nil {
			return Wrong("networks", "%q is no network: write it as 10.20.0.0/16 or 2001:db8::/32", policy.Clip(text))
		}
		in.Networks[i] = p.Masked().String()
	}
	if len(in.Networks) > mostNetworks {
		return Wrong("networks", "has %d: keep it to %d", len(in.Networks), mostNetworks)
	}
	return nil
}

// rotationHours is for how long a token holds beside the one that takes its place, where nobody says.
const (
	rotationHours     = 24
	mostRotationHours = 720
)

// RotateToken makes a token in the place of another, for as long and for the same; the one before holds beside it for a while, so that
// whoever uses it can change over without a gap.
func (s *Service) RotateToken(ctx context.Context, c Caller, id string, in wire.Rotation) (wire.Token, error) {
	if err := s.Permit(s.State(), c, Manage, ""); err != nil {
		return wire.Token{}, err
	}
	if in.Hours < 0 || in.Hours > mostRotationHours {
		return wire.Token{}, Wrong("hours", "%d is out of range: %d to %d", in.Hours, 0, mostRotationHours)
	}
	now := s.borders.Clock().UTC()
	old, ok := s.who.TokenOf(id)
	if !ok || old.Kind != store.KindToken || old.RevokedAt != nil || s.who.Expired(&old) {
		return wire.Token{}, ErrNotFound
	}
	until := now.AddDate(0, 0, tokenDays)
	if old.ExpiresAt != nil {
		until = now.Add(old.ExpiresAt.Sub(old.CreatedAt))
	}
	if err := s.handOut(ctx, c, old.UserID, "token"); err != nil {
		return wire.Token{}, err
	}
	secret, t, _, err := s.who.CreateToken(ctx, store.Token{UserID: old.UserID, Name: old.Name, CreatedBy: string(c.User), ExpiresAt: &until, Mandate: old.Mandate, Networks: old.Networks}, identity.Repetition{})
	if err != nil {
		return wire.Token{}, err
	}
	if _, err := s.who.Shorten(ctx, old, now.Add(time.Duration(cmp.Or(in.Hours, rotationHours))*time.Hour)); err != nil {
		return wire.Token{}, err
	}
	s.borders.Log.Info("token rotated", "id", old.ID, "by", t.ID, "user", t.UserID)
	s.note(c, audit.Token, audit.Made, t.UserID, details{"token": t.ID, "name": t.Name, "expires": t.ExpiresAt, "replaces": old.ID})
	out := s.wireToken(t)
	out.Secret = secret
	return out, nil
}

// Ending lists tokens that end before an instant, the next first, unless another of the same user and name goes on.
func (s *Service) Ending(before time.Time) []wire.Token {
	var list []store.Token
	lasts := map[[2]string]bool{}
	for t := range s.who.All() {
		if t.Kind != store.KindToken || t.RevokedAt != nil || t.ExpiresAt == nil || s.who.Expired(&t) {
			continue
		}
		if t.ExpiresAt.Before(before) {
			list = append(list, t)
		} else {
			lasts[[2]string{t.UserID, t.Name}] = true
		}
	}
	list = slices.DeleteFunc(list, func(t store.Token) bool {
		return lasts[[2]string{t.UserID, t.Name}] || t.ExpiresAt.Sub(t.CreatedAt) < soonEnding // made for a short time
	})
	slices.SortFunc(list, func(a, b store.Token) int { return a.ExpiresAt.Compare(*b.ExpiresAt) })
	out := []wire.Token{}
	for _, t := range list {
		out = append(out, s.wireToken(t))
	}
	return out
}

// soonEnding is for how long a token must have been made for its end to be worth a warning.
const soonEnding = 2 * 24 * time.Hour

const mostNetworks = 50

func (s *Service) wireToken(t store.Token) wire.Token {
	out := wire.Token{
		ID: t.ID, User: t.UserID, Name: t.Name, Kind: string(t.Kind),
		Created: t.CreatedAt, By: t.CreatedBy, Expires: t.ExpiresAt, Revoked: t.RevokedAt,
		Mandate: t.Mandate, Networks: strings.Fields(t.Networks), Expired: s.who.Expired(&t),
	}
	if used := s.who.Used(&t); !used.IsZero() {
		out.Used = &used
	}
	return out
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
		out = append(out, s.wireToken(t))
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
