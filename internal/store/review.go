package store

import (
	"context"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// Review is a round in which those responsible confirm or take away what people hold.
type Review struct {
	ID         string `gorm:"primaryKey"`
	Name       string
	Reason     string
	Author     string
	Mandate    string // the only one of the author that counts when it ends; empty: all
	Scope      []byte // JSON, as it was asked for
	Due        time.Time
	Unanswered string // what becomes of what nobody has answered by then
	State      string
	CreatedAt  time.Time `gorm:"autoCreateTime:false"`
	EndedAt    *time.Time
	Version    uint64 // counts what was done to it
	Reminded   int    // letters that were sent, of those that are
	Problem    string
}

// What can become of a review.
const (
	ReviewOpen    = "open"
	ReviewOver    = "over"
	ReviewStopped = "stopped"
)

// ReviewItem is one thing that somebody holds: a membership, or a grant that names them.
type ReviewItem struct {
	Review   string `gorm:"primaryKey"`
	Type     string `gorm:"primaryKey"`
	Record   string `gorm:"primaryKey"` // the group, or the grant
	User     string `gorm:"primaryKey"`
	Answer   string // empty: nobody has answered
	By       string
	At       *time.Time
	Note     string
	Revision uint64 // by which it was taken away
}

// Answers to an item of a review.
const (
	ReviewKept      = "kept"
	ReviewTaken     = "taken"
	ReviewSuspended = "suspended"
)

// AddReview keeps a new review with its items. The error is gorm.ErrDuplicatedKey where its id is taken.
func (s *Store) AddReview(ctx context.Context, r Review, items []ReviewItem) error {
	return s.small(ctx, func(tx *gorm.DB) error {
		if err := tx.Create(&r).Error; err != nil || len(items) == 0 {
			return err
		}
		return tx.CreateInBatches(items, rowsAtOnce).Error
	})
}

// rowsAtOnce is how many rows one statement writes.
const rowsAtOnce = 500

// KeepReview keeps what became of a review, and of some of its items; false where something was done to it since the version before.
func (s *Store) KeepReview(ctx context.Context, r Review, items []ReviewItem) (kept bool, err error) {
	err = s.small(ctx, func(tx *gorm.DB) error {
		done := tx.Model(&Review{}).Where("id = ? AND version = ?", r.ID, r.Version-1).Select("*").Updates(&r)
		if kept = done.RowsAffected == 1; !kept || done.Error != nil || len(items) == 0 {
			return done.Error
		}
		return tx.Clauses(clause.OnConflict{UpdateAll: true}).CreateInBatches(items, rowsAtOnce).Error
	})
	return kept, err
}

// Reviews lists reviews, those that began last first: those that are open, or ended since an instant.
func (s *Store) Reviews(ctx context.Context, since time.Time, limit int) (out []Review, err error) {
	return out, s.reader.WithContext(ctx).Where("state = ? OR ended_at > ?", ReviewOpen, since.UTC()).Order("created_at DESC, id").Limit(limit).Find(&out).Error
}

// ReviewOfID finds a review, or [ErrNotFound].
func (s *Store) ReviewOfID(ctx context.Context, id string) (r Review, err error) {
	return r, found(s.reader.WithContext(ctx).Take(&r, "id = ?", id).Error)
}

// ReviewItems lists the items of a review, by what is held and then by whom.
func (s *Store) ReviewItems(ctx context.Context, id string) (out []ReviewItem, err error) {
	return out, s.reader.WithContext(ctx).Where("review = ?", id).Order("type DESC, record, user").Find(&out).Error
}
