package store

import (
	"context"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// HandedOut is that one person was given a way in by another: a password, a link, a token, or the reset of second factors.
type HandedOut struct {
	UserID string `gorm:"primaryKey"`
	By     string `gorm:"primaryKey"`
	What   string `gorm:"primaryKey"`
	At     time.Time
}

// TableName is the name of the table: it is no plural of the type's.
func (HandedOut) TableName() string { return "handed_out" }

// Given is that one person alone has given another something.
type Given struct {
	By     string `gorm:"primaryKey"`
	UserID string `gorm:"primaryKey"`
	At     time.Time
}

// TableName is the name of the table: it is no plural of the type's.
func (Given) TableName() string { return "given" }

// HandOut keeps that a way in was handed out, the last time of its kind.
func (s *Store) HandOut(ctx context.Context, h HandedOut) error {
	h.At = h.At.UTC()
	return s.small(ctx, func(tx *gorm.DB) error { return tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(&h).Error })
}

// HandedOutTo lists who has handed a way in to somebody since an instant.
func (s *Store) HandedOutTo(ctx context.Context, user string, since time.Time) (out []HandedOut, err error) {
	return out, s.reader.WithContext(ctx).Where("user_id = ? AND at >= ?", user, since.UTC()).Find(&out).Error
}

// GivenBy lists to whom somebody alone has given something since an instant.
func (s *Store) GivenBy(ctx context.Context, by string, since time.Time) (out []Given, err error) {
	return out, s.reader.WithContext(ctx).Where("by = ? AND at >= ?", by, since.UTC()).Find(&out).Error
}

// keepGiven keeps to whom something was given, and forgets what is over.
func keepGiven(tx *gorm.DB, list []Given) error {
	if len(list) == 0 {
		return nil
	}
	if err := tx.Delete(&Given{}, "at < ?", list[0].At.Add(-GivenFor).UTC()).Error; err != nil {
		return err
	}
	return tx.Clauses(clause.OnConflict{UpdateAll: true}).CreateInBatches(list, 500).Error
}

// GivenFor is for how long it is kept to whom somebody has given something.
const GivenFor = 24 * time.Hour
