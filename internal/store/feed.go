package store

import (
	"context"
	"time"

	"gorm.io/gorm"
)

// Feed is a calendar that others read by a secret address.
type Feed struct {
	ID        string `gorm:"primaryKey"`
	Hash      []byte // SHA-256 of the secret
	Kind      string
	Of        string // id of the record that it is of; empty: of none
	Zone      string
	UserID    string    // as whom it is read
	Mandate   string    // the only one that counts then; empty: all
	CreatedAt time.Time `gorm:"autoCreateTime:false"`
}

// AddFeed keeps a new feed.
func (s *Store) AddFeed(ctx context.Context, f Feed) error {
	return s.small(ctx, func(tx *gorm.DB) error { return tx.Create(&f).Error })
}

// DropFeed takes a feed away.
func (s *Store) DropFeed(ctx context.Context, id string) error {
	return s.small(ctx, func(tx *gorm.DB) error { return tx.Delete(&Feed{}, "id = ?", id).Error })
}

// Feeds lists all feeds, by id.
func (s *Store) Feeds(ctx context.Context) (out []Feed, err error) {
	return out, s.reader.WithContext(ctx).Order("id").Find(&out).Error
}
