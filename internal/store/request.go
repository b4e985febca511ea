package store

import (
	"context"
	"time"

	"gorm.io/gorm"
)

// Request is what somebody asks for who may not do it by themselves, and how it was answered.
type Request struct {
	ID         string `gorm:"primaryKey"`
	Kind       string
	UserID     string
	GroupID    string
	Right      string
	Device     string
	Minutes    int
	Until      *time.Time
	Reason     string
	State      string
	CreatedAt  time.Time
	AnsweredAt *time.Time
	AnsweredBy string
	Answer     string
	Revision   uint64
	InSession  bool // a person asked, in a session of their own
}

// The kinds of requests, and what can become of them.
const (
	RequestJoin   = "join"
	RequestAccess = "access"

	RequestOpen      = "open"
	RequestGranted   = "granted"
	RequestRefused   = "refused"
	RequestWithdrawn = "withdrawn"
	RequestJoined    = "joined" // at once, as nobody had to agree
)

// AddRequest keeps a request.
func (s *Store) AddRequest(ctx context.Context, r Request) error {
	return s.small(ctx, func(tx *gorm.DB) error { return tx.Create(&r).Error })
}

// AnswerRequest keeps what became of a request that was open; false where it was open no more.
func (s *Store) AnswerRequest(ctx context.Context, r Request) (answered bool, err error) {
	err = s.small(ctx, func(tx *gorm.DB) error {
		done := tx.Model(&Request{}).Where("id = ? AND state = ?", r.ID, RequestOpen).
			Select("state", "answered_at", "answered_by", "answer", "revision").Updates(&r)
		answered = done.RowsAffected == 1
		return done.Error
	})
	return answered, err
}

// Requests lists requests since an instant, newest first: of a user, or of everybody where user is empty; in a state, or in any where it is empty.
func (s *Store) Requests(ctx context.Context, user, state string, since time.Time, limit int) ([]Request, error) {
	q := s.reader.WithContext(ctx).Where("created_at >= ?", since.UTC()).Order("created_at DESC, id").Limit(limit)
	if user != "" {
		q = q.Where("user_id = ?", user)
	}
	if state != "" {
		q = q.Where("state = ?", state)
	}
	var out []Request
	return out, q.Find(&out).Error
}

// RequestOfID finds a request, or [ErrNotFound].
func (s *Store) RequestOfID(ctx context.Context, id string) (Request, error) {
	var r Request
	return r, found(s.reader.WithContext(ctx).Take(&r, "id = ?", id).Error)
}
