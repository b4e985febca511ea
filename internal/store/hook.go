package store

import (
	"context"
	"time"

	"gorm.io/gorm"
)

// Hook is to whom it is told what has happened.
type Hook struct {
	ID        string `gorm:"primaryKey"`
	Name      string
	URL       string
	Secret    string // the name of the secret by which it is signed
	Kinds     string // of entries of the record, with spaces between
	Author    string
	CreatedAt time.Time `gorm:"autoCreateTime:false"`
	Version   uint64    // counts how often it was set up
	Paused    bool

	Sent    uint64     // the last entry that was taken
	Tries   int        // of the next, that failed
	NextAt  *time.Time // when it is tried again
	LastAt  *time.Time // when it was tried last
	Status  int        // that was answered then; 0: nothing
	Problem string     // empty: it was taken
}

// AddHook keeps a new hook. The error is gorm.ErrDuplicatedKey where its id is taken.
func (s *Store) AddHook(ctx context.Context, h Hook) error {
	return s.small(ctx, func(tx *gorm.DB) error { return tx.Create(&h).Error })
}

// SetHook sets a hook up otherwise; how far it has come stays. It is false where that was done since the version before.
func (s *Store) SetHook(ctx context.Context, h Hook) (kept bool, err error) {
	err = s.small(ctx, func(tx *gorm.DB) error {
		done := tx.Model(&Hook{}).Where("id = ? AND version = ?", h.ID, h.Version-1).Select("name", "url", "secret", "kinds", "version", "paused", "tries", "next_at").Updates(&h)
		kept = done.RowsAffected == 1
		return done.Error
	})
	return kept, err
}

// HookTold keeps how far a hook has come, and what was answered last. It is false, and nothing is kept, where the hook was set up otherwise meanwhile, or
// taken away: the event is told once more then, to wherever it goes now.
func (s *Store) HookTold(ctx context.Context, h Hook) (kept bool, err error) {
	err = s.small(ctx, func(tx *gorm.DB) error {
		done := tx.Model(&Hook{}).Where("id = ? AND version = ?", h.ID, h.Version).Select("sent", "tries", "next_at", "last_at", "status", "problem", "paused").Updates(&h)
		kept = done.RowsAffected == 1
		return done.Error
	})
	return kept, err
}

// DropHook takes a hook away.
func (s *Store) DropHook(ctx context.Context, id string) error {
	return s.small(ctx, func(tx *gorm.DB) error { return tx.Delete(&Hook{}, "id = ?", id).Error })
}

// Hooks lists all hooks, by id.
func (s *Store) Hooks(ctx context.Context) (out []Hook, err error) {
	return out, s.reader.WithContext(ctx).Order("id").Find(&out).Error
}
