package store

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"time"

	"gorm.io/gorm"
)

// The kinds of second factor.
const (
	FactorTOTP    = "totp"    // a program that makes codes by RFC 6238
	FactorPasskey = "passkey" // WebAuthn: a passkey or a security key
)

// SecondFactor makes codes by RFC 6238 of a secret that its user's device knows as well; or is a passkey, whose secret is what is known of it.
type SecondFactor struct {
	ID         string `gorm:"primaryKey"`
	UserID     string
	Name       string
	Secret     []byte
	Step       int64 // of the last code that was taken; of a passkey, how often it has signed
	Kind       string
	Credential []byte // id of a passkey
	CreatedAt  time.Time
	Checksum   []byte
}

func (f *SecondFactor) check() []byte {
	texts := []string{"second factor", f.ID, f.UserID, string(f.Secret), string(binary.BigEndian.AppendUint64(nil, uint64(f.Step)))}
	if f.Kind != FactorTOTP { // those from before there were other kinds are checked as they were
		texts = append(texts, f.Kind, string(f.Credential))
	}
	return checksum(texts...)
}

// RecoveryCode is the hash of a code that stands in for a second factor, once.
type RecoveryCode struct {
	Hash   []byte `gorm:"primaryKey"`
	UserID string
}

// AddSecondFactor keeps a second factor; and, where there are any, recovery codes in the place of those that the user had. The session that
// it was proved in is a strong one from then on.
func (s *Store) AddSecondFactor(ctx context.Context, f SecondFactor, session string, codes []RecoveryCode) error {
	f.CreatedAt = f.CreatedAt.UTC().Truncate(time.Microsecond)
	f.Checksum = f.check()
	return s.small(ctx, func(tx *gorm.DB) error {
		if err := tx.Create(&f).Error; err != nil {
			return err
		}
		if err := replaceCodes(tx, f.UserID, codes); err != nil {
			return err
		}
		var t Token
		if err := found(tx.Take(&t, "id = ? AND user_id = ?", session, f.UserID).Error); err != nil {
			return err
		}
		t.Strong = true
		t.Checksum = t.check()
		return tx.Model(&t).Select("strong", "checksum").Updates(&t).Error
	})
}

func replaceCodes(tx *gorm.DB, user string, codes []RecoveryCode) error {
	if len(codes) == 0 {
		return nil
	}
	if err := tx.Delete(&RecoveryCode{}, "user_id = ?", user).Error; err != nil {
		return err
	}
	return tx.Create(&codes).Error
}

// SetRecoveryCodes keeps recovery codes in the place of those that the user had.
func (s *Store) SetRecoveryCodes(ctx context.Context, user string, codes []RecoveryCode) error {
	return s.small(ctx, func(tx *gorm.DB) error { return replaceCodes(tx, user, codes) })
}

// SecondFactors lists those of a user, or of everybody where user is empty. The error is [ErrDamaged] where one is not as it was written.
func (s *Store) SecondFactors(ctx context.Context, user string) ([]SecondFactor, error) {
	q := s.reader.WithContext(ctx).Order("created_at, id")
	if user != "" {
		q = q.Where("user_id = ?", user)
	}
	var out []SecondFactor
	if err := q.Find(&out).Error; err != nil {
		return nil, err
	}
	for i := range out {
		if !bytes.Equal(out[i].Checksum, out[i].check()) {
			return nil, fmt.Errorf("a second factor of %q: %w", out[i].UserID, ErrDamaged)
		}
	}
	return out, nil
}

// PasskeyOf finds a passkey by the id of its credential, or [ErrNotFound].
func (s *Store) PasskeyOf(ctx context.Context, credential []byte) (SecondFactor, error) {
	var f SecondFactor
	if err := found(s.reader.WithContext(ctx).Take(&f, "credential = ? AND kind = ?", credential, FactorPasskey).Error); err != nil {
		return f, err
	}
	if !bytes.Equal(f.Checksum, f.check()) {
		return f, fmt.Errorf("a passkey of %q: %w", f.UserID, ErrDamaged)
	}
	return f, nil
}

// UsePasskey keeps what is known of a passkey after it has signed.
func (s *Store) UsePasskey(ctx context.Context, id string, secret []byte, step int64) error {
	return s.small(ctx, func(tx *gorm.DB) error {
		var f SecondFactor
		if err := found(tx.Take(&f, "id = ?", id).Error); err != nil {
			return err
		}
		f.Secret, f.Step = secret, step
		f.Checksum = f.check()
		return tx.Model(&f).Select("secret", "step", "checksum").Updates(&f).Error
	})
}

// SpendStep takes a code of a second factor, by its step; false where that or a later one was taken before.
func (s *Store) SpendStep(ctx context.Context, id string, step int64) (spent bool, err error) {
	err = s.small(ctx, func(tx *gorm.DB) error {
		var f SecondFactor
		if err := found(tx.Take(&f, "id = ?", id).Error); err != nil {
			return err
		}
		if spent = f.Step < step; !spent {
			return nil
		}
		f.Step = step
		f.Checksum = f.check()
		return tx.Model(&f).Select("step", "checksum").Updates(&f).Error
	})
	return spent, err
}

// SpendRecoveryCode takes a recovery code; false where the user has none of that hash.
func (s *Store) SpendRecoveryCode(ctx context.Context, user string, hash []byte) (spent bool, err error) {
	err = s.small(ctx, func(tx *gorm.DB) error {
		done := tx.Delete(&RecoveryCode{}, "user_id = ? AND hash = ?", user, hash)
		spent = done.RowsAffected == 1
		return done.Error
	})
	return spent, err
}

// DropSecondFactor takes one second factor of a user away; with the last of them the recovery codes go. An empty id takes all, and ends the
// user's sessions.
func (s *Store) DropSecondFactor(ctx context.Context, user, id string, at time.Time) error {
	return s.small(ctx, func(tx *gorm.DB) error {
		q := tx.Where("user_id = ?", user)
		if id != "" {
			q = q.Where("id = ?", id)
		}
		done := q.Delete(&SecondFactor{})
		if done.Error != nil {
			return done.Error
		}
		if done.RowsAffected == 0 {
			return ErrNotFound
		}
		var left int64
		if err := tx.Model(&SecondFactor{}).Where("user_id = ?", user).Count(&left).Error; err != nil {
			return err
		}
		if left == 0 {
			if err := tx.Delete(&RecoveryCode{}, "user_id = ?", user).Error; err != nil {
				return err
			}
		}
		if id != "" {
			return nil
		}
		return revoke(tx, at, "user_id = ? AND kind <> ?", user, KindToken)
	})
}
