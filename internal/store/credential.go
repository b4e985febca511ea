package store

import (
	"context"
	"errors"

	"fmt"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// ErrNotFound is the error of a credential that is not there.
var ErrNotFound = errors.New("not found")

// Password is the hash of a user's password.
type Password struct {
	UserID    string `gorm:"primaryKey"`
	Hash      string
	ChangedAt time.Time
}

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
	ID        string     `gorm:"primaryKey" json:"id"`
	UserID    string     `json:"user"`
	Name      string     `json:"name"`
	Hash      []byte     `json:"-"`
	Kind      TokenKind  `json:"kind"`
	CreatedAt time.Time  `json:"created_at"`
	CreatedBy string     `json:"created_by"`
	ExpiresAt *time.Time `json:"expires_at,omitempty"`
	RevokedAt *time.Time `json:"revoked_at,omitempty"`
}

// SetPassword keeps the hash of a user's password.
func (s *Store) SetPassword(ctx context.Context, p Password) error {
	return s.writer.WithContext(ctx).Clauses(clause.OnConflict{UpdateAll: true}).Create(&p).Error
}

// Password finds the hash of a user's password, or [ErrNotFound].
func (s *Store) Password(ctx context.Context, user string) (Password, error) {
	var p Password
	return p, found(s.reader.WithContext(ctx).Take(&p, "user_id = ?", user).Error)
}

// WithPassword lists the users who have a password.
func (s *Store) WithPassword(ctx context.Context) ([]string, error) {
	var out []string
	return out, s.reader.WithContext(ctx).Model(&Password{}).Pluck("user_id", &out).Error
}

// AddToken keeps a new token.
func (s *Store) AddToken(ctx context.Context, t Token) error {
	return s.writer.WithContext(ctx).Create(&t).Error
}

// TokenByHash finds a token, revoked or not, or [ErrNotFound].
func (s *Store) TokenByHash(ctx context.Context, hash []byte) (Token, error) {
	var t Token
	return t, found(s.reader.WithContext(ctx).Take(&t, "hash = ?", hash).Error)
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
	done := s.writer.WithContext(ctx).Model(&Token{}).Where("id = ? AND revoked_at IS NULL", id).Update("revoked_at", at)
	if done.Error == nil && done.RowsAffected == 0 {
		return fmt.Errorf("token %q: %w", id, ErrNotFound)
	}
	return done.Error
}

func found(err error) error {
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return ErrNotFound
	}
	return err
}
