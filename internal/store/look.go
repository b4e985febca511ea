package store

import (
	"context"
	"time"

	"gorm.io/gorm"
)

// Look is a record of somebody's having looked at the service as another user sees it.
type Look struct {
	ID     uint64 `gorm:"primaryKey"`
	At     time.Time
	By     string
	UserID string
}

// AddLook keeps a look.
func (s *Store) AddLook(ctx context.Context, l Look) error {
	return s.small(ctx, func(tx *gorm.DB) error { return tx.Create(&l).Error })
}

// Looks lists the last looks, newest first.
func (s *Store) Looks(ctx context.Context, limit int) ([]Look, error) {
	var out []Look
	return out, s.reader.WithContext(ctx).Order("id DESC").Limit(limit).Find(&out).Error
}
