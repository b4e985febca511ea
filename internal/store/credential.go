package store

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"sentier/internal/policy"

	"sentier/internal/database"
)

// ErrNotFound is the error of a credential that is not there.
var ErrNotFound = errors.New("not found")

// Password is the hash of a user's password.
type Password struct {
	UserID    string `gorm:"primaryKey"`
	Hash      string
	ChangedAt time.Time
	Temporary bool // somebody else has set it: it is changed before anything else
	Checksum  []byte
}

func (p *Password) check() []byte {
	texts := []string{"password", p.UserID, p.Hash, instant(&p.ChangedAt)}
	if p.Temporary {
		texts = append(texts, "temporary")
	}
	return checksum(texts...)
}
func (p *Password) sound() bool { return p.Checksum == nil || bytes.Equal(p.Checksum, p.check()) }

// TokenKind says what a token was made for.
type TokenKind string

// The kinds of token: made on purpose, or by signing in to the console or the command line.
const (
	KindToken    TokenKind = "token"
	KindConsole  TokenKind = "console"
	KindTerminal TokenKind = "terminal"
)

// Token is a random secret that stands for a user; only its hash is kept.
type Token struct {
	ID          string     `gorm:"primaryKey" json:"id"`
	UserID      string     `json:"user"`
	Name        string     `json:"name"`
	Hash        []byte     `json:"-"`
	Kind        TokenKind  `json:"kind"`
	CreatedAt   time.Time  `json:"created_at"`
	CreatedBy   string     `json:"created_by"`
	ExpiresAt   *time.Time `json:"expires_at,omitempty"`
	RevokedAt   *time.Time `json:"revoked_at,omitempty"`
	Checksum    []byte     `json:"-"`
	RequestKey  *string    `json:"-"` // the Idempotency-Key of the request that made it
	RequestHash []byte     `json:"-"`
	Sealed      []byte     `json:"-"`                  // the answer to that request, which the caller's secret opens
	Strong      bool       `json:"strong"`             // it was begun with a second factor
	UsedAt      *time.Time `json:"used_at,omitempty"`  // last, as far as it was kept
	Mandate     string     `json:"mandate,omitempty"`  // id of the only mandate that counts with it; empty: all of its user
	Networks    string     `json:"networks,omitempty"` // that it is good from, with spaces between; empty: any
	Source      string     `json:"source,omitempty"`   // id of the source whose people and groups it brings, and that is all it is good for; empty: none
}

// check covers what decides whether and for whom the token holds. A token that is revoked needs none of it any more.
func (t *Token) check() []byte {
	texts := []string{"token", t.ID, t.UserID, string(t.Kind), string(t.Hash), instant(&t.CreatedAt), instant(t.ExpiresAt), instant(t.RevokedAt)}
	if t.Strong { // those from before there were second factors are checked as they were
		texts = append(texts, "strong")
	}
	if t.Mandate != "" || t.Networks != "" {
		texts = append(texts, "for", t.Mandate, t.Networks)
	}
	if t.Source != "" {
		texts = append(texts, "source", t.Source)
	}
	return checksum(texts...)
}

// Sound tells whether a token is as it was written.
func (t *Token) Sound() bool { return t.Checksum == nil || bytes.Equal(t.Checksum, t.check()) }

// Link is a secret by which a person sets a password; only its hash is kept.
type Link struct {
	Hash      []byte `gorm:"primaryKey"`
	UserID    string
	CreatedAt time.Time
	CreatedBy string
	ExpiresAt time.Time
	Checksum  []byte
}

func (l *Link) check() []byte {
	return checksum("link", string(l.Hash), l.UserID, instant(&l.ExpiresAt))
}
func (l *Link) sound() bool { return bytes.Equal(l.Checksum, l.check()) }

func checksum(texts ...string) []byte {
	sum := database.RowHash(texts...)
	return sum[:16]
}

func instant(t *time.Time) string {
	if t == nil {
		return ""
	}
	return string(binary.BigEndian.AppendUint64(nil, uint64(t.UnixNano())))
}

// SetPassword keeps the hash of a user's password. Every session of the user ends with it, and so does every link.
func (s *Store) SetPassword(ctx context.Context, p Password) error {
	p.ChangedAt = p.ChangedAt.UTC().Truncate(time.Microsecond)
	p.Checksum = p.check()
	return s.small(ctx, func(tx *gorm.DB) error {
		if err := tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(&p).Error; err != nil {
			return err
		}
		if err := tx.Delete(&Link{}, "user_id = ?", p.UserID).Error; err != nil {
			return err
		}
		return revoke(tx, p.ChangedAt, "user_id = ? AND kind <> ?", p.UserID, KindToken)
	})
}

// revoke ends the tokens for which a condition holds.
func revoke(tx *gorm.DB, at time.Time, where string, args ...any) error {
	var list []Token
	if err := tx.Where("revoked_at IS NULL").Where(where, args...).Find(&list).Error; err != nil {
		return err
	}
	at = at.UTC().Truncate(time.Microsecond)
	for i := range list {
		t := &list[i]
		t.RevokedAt = &at
		t.Checksum, t.Sealed = t.check(), nil
		if err := tx.Model(t).Select("revoked_at", "checksum", "sealed").Updates(t).Error; err != nil {
			return err
		}
	}
	return nil
}

// Password finds the hash of a user's password, or [ErrNotFound].
func (s *Store) Password(ctx context.Context, user string) (Password, error) {
	var p Password
	if err := found(s.reader.WithContext(ctx).Take(&p, "user_id = ?", user).Error); err != nil {
		return p, err
	}
	if !p.sound() {
		return Password{}, fmt.Errorf("the password of %q: %w", user, ErrDamaged)
	}
	return p, nil
}

// WithPassword tells which users have a password, since when, and whether it is a temporary one; not its hash.
func (s *Store) WithPassword(ctx context.Context) (map[string]Password, error) {
	var list []Password
	if err := s.reader.WithContext(ctx).Select("user_id", "changed_at", "temporary").Find(&list).Error; err != nil {
		return nil, err
	}
	out := make(map[string]Password, len(list))
	for _, p := range list {
		out[p.UserID] = p
	}
	return out, nil
}

// AddToken keeps a new token.
func (s *Store) AddToken(ctx context.Context, t Token) error {
	t.Checksum = t.check()
	return s.small(ctx, func(tx *gorm.DB) error { return tx.Create(&t).Error })
}

// TokenOf finds the token that a user's request with an Idempotency-Key made, or [ErrNotFound].
func (s *Store) TokenOf(ctx context.Context, user, key string) (Token, error) {
	var t Token
	return t, found(s.reader.WithContext(ctx).Take(&t, "created_by = ? AND request_key = ?", user, key).Error)
}

// Tokens lists the tokens of a user, or of everybody where user is empty, newest first.
func (s *Store) Tokens(ctx context.Context, user string) ([]Token, error) {
	q := s.reader.WithContext(ctx).Order("created_at DESC, id")
	if user != "" {
		q = q.Where("user_id = ?", user)
	}
	var out []Token
	return out, q.Find(&out).Error
}

// RevokeToken ends a token for good. The error is [ErrNotFound] where there is none of that id that
// still holds.
func (s *Store) RevokeToken(ctx context.Context, id string, at time.Time) error {
	return s.small(ctx, func(tx *gorm.DB) error {
		var n int64
		if err := tx.Model(&Token{}).Where("id = ? AND revoked_at IS NULL", id).Count(&n).Error; err != nil {
			return err
		}
		if n == 0 {
			return fmt.Errorf("token %q: %w", id, ErrNotFound)
		}
		return revoke(tx, at, "id = ?", id)
	})
}

// ShortenToken ends a token at an instant that is before the end that it has. The error is [ErrNotFound] where there is none that still holds.
func (s *Store) ShortenToken(ctx context.Context, id string, end time.Time) error {
	end = end.UTC().Truncate(time.Microsecond)
	return s.small(ctx, func(tx *gorm.DB) error {
		var t Token
		if err := found(tx.Take(&t, "id = ? AND revoked_at IS NULL", id).Error); err != nil {
			return err
		}
		t.ExpiresAt = &end
		t.Checksum = t.check()
		return tx.Model(&t).Select("expires_at", "checksum").Updates(&t).Error
	})
}

// UseTokens keeps when tokens were used last. It is for people to look at, and so is not counted as a change of credentials but where other machines have it too.
func (s *Store) UseTokens(ctx context.Context, used map[string]time.Time) error {
	keep := func(tx *gorm.DB) error {
		for id, at := range used {
			if err := tx.Exec("UPDATE tokens SET used_at = ? WHERE id = ?", at.UTC().Truncate(time.Second), id).Error; err != nil {
				return err
			}
		}
		return nil
	}
	if s.log.Load() != nil {
		return s.small(ctx, keep)
	}
	return database.Full(s.writer.WithContext(ctx).Transaction(keep))
}

// AddLink keeps a link, in place of those that the user had.
func (s *Store) AddLink(ctx context.Context, l Link) error {
	l.Checksum = l.check()
	return s.small(ctx, func(tx *gorm.DB) error {
		if err := tx.Delete(&Link{}, "user_id = ?", l.UserID).Error; err != nil {
			return err
		}
		return tx.Create(&l).Error
	})
}

// Link finds a link by its hash, or [ErrNotFound].
func (s *Store) Link(ctx context.Context, hash []byte) (Link, error) {
	var l Link
	if err := found(s.reader.WithContext(ctx).Take(&l, "hash = ?", hash).Error); err != nil {
		return l, err
	}
	if !l.sound() {
		return Link{}, ErrNotFound
	}
	return l, nil
}

// Place is where an account has been signed in from; Place is a hash of the address.
type Place struct {
	UserID string `gorm:"primaryKey"`
	Place  []byte `gorm:"primaryKey"`
	At     time.Time
}

// mostPlaces is how many places of an account are remembered.
const mostPlaces = 20

// AddPlace remembers a place.
func (s *Store) AddPlace(ctx context.Context, p Place) error {
	return s.small(ctx, func(tx *gorm.DB) error {
		if err := tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(&p).Error; err != nil {
			return err
		}
		return tx.Exec("DELETE FROM places WHERE user_id = ? AND place NOT IN (SELECT place FROM places WHERE user_id = ? ORDER BY at DESC LIMIT ?)", p.UserID, p.UserID, mostPlaces).Error
	})
}

// IsPlace tells whether an account has been signed in from a place.
func (s *Store) IsPlace(ctx context.Context, user string, place []byte) (bool, error) {
	var n int64
	err := s.reader.WithContext(ctx).Model(&Place{}).Where("user_id = ? AND place = ?", user, place).Count(&n).Error
	return n > 0, err
}

// forget takes all that belonged to accounts that are gone, and ends the sessions of those that were suspended.
func forget(tx *gorm.DB, removed, suspended []string, at time.Time) error {
	for _, id := range removed {
		for _, table := range []any{&Password{}, &Link{}, &Place{}, &SecondFactor{}, &RecoveryCode{}, &Request{}, &Preference{}, &HandedOut{}, &Given{}} {
			if err := tx.Delete(table, "user_id = ?", id).Error; err != nil {
				return err
			}
		}
		if err := revoke(tx, at, "user_id = ?", id); err != nil {
			return err
		}
		if err := disown(tx, id); err != nil {
			return err
		}
		if err := tx.Delete(&OriginMember{}, "user_id = ?", id).Error; err != nil {
			return err
		}
		if err := tx.Delete(&Origin{}, "type = ? AND record = ?", policy.Users.String(), id).Error; err != nil {
			return err
		}
	}
	for _, id := range suspended {
		if err := revoke(tx, at, "user_id = ? AND kind <> ?", id, KindToken); err != nil {
			return err
		}
	}
	return nil
}

// Formerly stands after the id of a user who was removed, where it is still told whose something was: whoever has the id after them has nothing of it. No id
// has a space in it.
const Formerly = " (removed)"

// disown has what a removed user began belong to nobody who may come after them with their id. What was to be done as them is not done.
func disown(tx *gorm.DB, id string) error {
	for _, x := range []struct {
		table  any
		column string
	}{{&Draft{}, "author"}, {&Draft{}, "applied_by"}, {&Draft{}, "approved_by"}, {&Review{}, "author"}, {&ReviewItem{}, "by"}, {&Source{}, "author"}, {&SourceContent{}, "by"}, {&Request{}, "answered_by"}, {&Hook{}, "author"}} {
		if err := tx.Model(x.table).Where(x.column+" = ?", id).Update(x.column, id+Formerly).Error; err != nil {
			return err
		}
	}
	for _, table := range []any{&HandedOut{}, &Given{}} {
		if err := tx.Delete(table, "by = ?", id).Error; err != nil {
			return err
		}
	}
	return nil
}

// Fact is a thing of which there is one, such as how the folder began.
type Fact struct {
	Name  string `gorm:"primaryKey"`
	Value string
}

// SetFact keeps a fact.
func (s *Store) SetFact(ctx context.Context, name, value string) error {
	return s.small(ctx, func(tx *gorm.DB) error {
		return tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(&Fact{name, value}).Error
	})
}

// FactOf gives a fact; empty where it is not known.
func (s *Store) FactOf(ctx context.Context, name string) (string, error) {
	var f Fact
	err := found(s.reader.WithContext(ctx).Take(&f, "name = ?", name).Error)
	if errors.Is(err, ErrNotFound) {
		return "", nil
	}
	return f.Value, err
}

func found(err error) error {
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return ErrNotFound
	}
	return err
}
