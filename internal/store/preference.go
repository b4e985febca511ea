package store

import (
	"context"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// Preference is how somebody has the console, as JSON.
type Preference struct {
	UserID string `gorm:"primaryKey"`
	Value  string
}

// KeepPreference keeps how somebody has the console, in the place of what was kept before.
func (s *Store) KeepPreference(ctx context.Context, p Preference) error {
	return s.small(ctx, func(tx *gorm.DB) error { return tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(&p).Error })
}

// PreferenceOf is how somebody has the console; its value is empty where nothing is kept.
func (s *Store) PreferenceOf(ctx context.Context, user string) (Preference, error) {
	var out []Preference
	err := s.reader.WithContext(ctx).Where("user_id = ?", user).Limit(1).Find(&out).Error
	if err != nil || len(out) == 0 {
		return Preference{UserID: user}, err
	}
	return out[0], nil
}
