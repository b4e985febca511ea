package store

import (
	"context"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// Dismissal is that somebody has looked at a finding and left it as it is, until it comes back.
type Dismissal struct {
	Finding string `gorm:"primaryKey"`
	Reason  string
	Until   time.Time
	By      string
	At      time.Time
}

// Dismiss keeps a dismissal, in the place of an earlier one of the same finding.
func (s *Store) Dismiss(ctx context.Context, d Dismissal) error {
	return s.small(ctx, func(tx *gorm.DB) error { return tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(&d).Error })
}

// Reopen takes a dismissal back; false where there was none.
func (s *Store) Reopen(ctx context.Context, finding string) (was bool, err error) {
	err = s.small(ctx, func(tx *gorm.DB) error {
		done := tx.Delete(&Dismissal{}, "finding = ?", finding)
		was = done.RowsAffected > 0
		return done.Error
	})
	return was, err
}

// Dismissals lists those that hold at an instant.
func (s *Store) Dismissals(ctx context.Context, at time.Time) (out []Dismissal, err error) {
	return out, s.reader.WithContext(ctx).Where("until > ?", at.UTC()).Find(&out).Error
}
