package store

import (
	"context"
	"time"

	"gorm.io/gorm"
)

// Draft is changes that are gathered before they count.
type Draft struct {
	ID         string `gorm:"primaryKey"`
	Name       string
	Reason     string
	Author     string
	Hands      string // ids of all who have put anything into it, separated by spaces
	Changes    []byte
	Acts       []byte // JSON: what it does beside the policy; empty: nothing
	State      string
	CreatedAt  time.Time `gorm:"autoCreateTime:false"`
	ChangedAt  time.Time
	Version    uint64 // counts what was done to it
	ApprovedBy string
	ApprovedAt *time.Time
	Approved   []byte // SHA-256 of the changes that were approved
	// ApprovedFor are the rules of the settings that asked for the approval, separated by spaces, and ApprovedOn the revision on which it was
	// shown what the draft gives.
	ApprovedFor string
	ApprovedOn  uint64
	Override    string // ids of expectations, separated by spaces
	AppliedBy   string
	Mandate     string // the only one of who applies it that counts; empty: all
	ApplyAt     *time.Time
	Until       *time.Time
	Revision    uint64
	Ended       uint64
	Problem     string
}

// What can become of a draft.
const (
	DraftOpen    = "open"
	DraftWaiting = "waiting" // for its hour
	DraftApplied = "applied"
	DraftEnded   = "ended" // taken back when its time was over
	DraftFailed  = "failed"
	DraftDropped = "dropped"
)

// AddDraft keeps a new draft. The error is gorm.ErrDuplicatedKey where its id is taken.
func (s *Store) AddDraft(ctx context.Context, d Draft) error {
	return s.small(ctx, func(tx *gorm.DB) error { return tx.Create(&d).Error })
}

// KeepDraft keeps what became of a draft; false where something was done to it since the version before.
func (s *Store) KeepDraft(ctx context.Context, d Draft) (kept bool, err error) {
	err = s.small(ctx, func(tx *gorm.DB) error {
		done := tx.Model(&Draft{}).Where("id = ? AND version = ?", d.ID, d.Version-1).Select("*").Updates(&d)
		kept = done.RowsAffected == 1
		return done.Error
	})
	return kept, err
}

// Drafts lists drafts, those that were changed last first: those that can be applied, are to be taken back, or could not be; with over, all.
func (s *Store) Drafts(ctx context.Context, over bool, limit int) (out []Draft, err error) {
	q := s.reader.WithContext(ctx).Order("changed_at DESC, id").Limit(limit)
	if !over {
		q = q.Where("state IN ? OR state = ? AND (until IS NOT NULL OR problem <> '')", []string{DraftOpen, DraftWaiting, DraftFailed}, DraftApplied)
	}
	return out, q.Find(&out).Error
}

// DraftOfID finds a draft, or [ErrNotFound].
func (s *Store) DraftOfID(ctx context.Context, id string) (d Draft, err error) {
	return d, found(s.reader.WithContext(ctx).Take(&d, "id = ?", id).Error)
}
