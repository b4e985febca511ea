package store

import (
	"context"
	"time"
)

// Look is that somebody looked at the service as another user sees it, as it was kept before there was a record.
type Look struct {
	ID     uint64 `gorm:"primaryKey"`
	At     time.Time
	By     string
	UserID string
}

// Looks lists the last looks, newest first.
func (s *Store) Looks(ctx context.Context, limit int) ([]Look, error) {
	var out []Look
	return out, s.reader.WithContext(ctx).Order("id DESC").Limit(limit).Find(&out).Error
}
