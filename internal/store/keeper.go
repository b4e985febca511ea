package store

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"time"

	"gorm.io/gorm"

	"sentier/internal/database"
)

// PassingPrefix begins the names of what lies in the folder of a store for a while alone, such as a copy that is being sent.
const PassingPrefix = database.PassingPrefix

// ClearPassing lets go what a process that was killed has left of it.
func (s *Store) ClearPassing() error {
	left, err := filepath.Glob(filepath.Join(s.dir, PassingPrefix+"*"))
	for _, path := range left {
		err = errors.Join(err, os.RemoveAll(path))
	}
	return err
}

// reserveName is a file that holds room on the disk for what must be written though it is full: that a token is revoked,
// that somebody signed in, that somebody looked.
const (
	reserveName = "sentier.reserve"
	reserveSize = 1 << 20
)

// small makes a small change of credentials in one transaction, with the room of the reserve where there is no other. It is counted in
// the database and in the mark beside it, so that one that is lost, such as a token's end, is told.
func (s *Store) small(ctx context.Context, change func(tx *gorm.DB) error) error {
	through := s.log.Load()
	if through == nil {
		return s.keepSmall(ctx, change, nil)
	}
	ctx = context.WithoutCancel(ctx) // what others were told is not taken back
	return (*through)(ctx, func(published func(Done) (Position, error)) error { return s.keepSmall(ctx, change, published) })
}

// keepSmall makes a small change, and tells a log of it; nil: there is none.
func (s *Store) keepSmall(ctx context.Context, change func(tx *gorm.DB) error, published func(Done) (Position, error)) error {
	var count uint64
	told := false
	counted := func(tx *gorm.DB) error {
		if err := watch(tx); err != nil {
			return err
		}
		if err := change(tx); err != nil {
			return err
		}
		if err := errors.Join(account(tx), s.keepWitnessed(tx)); err != nil {
			return err
		}
		if err := database.Row(tx.Raw("INSERT INTO facts (name, value) VALUES (?, 1) ON CONFLICT (name) DO UPDATE SET value = value + 1 RETURNING value", factSmall), &count); err != nil {
			return err
		}
		if published == nil {
			return alone(tx)
		}
		beside, err := done(tx)
		if err != nil {
			return err
		}
		told = true
		at, err := published(beside)
		if err != nil {
			return err
		}
		return setPosition(tx, at)
	}
	err := database.Full(s.writer.WithContext(ctx).Transaction(counted))
	if errors.Is(err, ErrFull) && !told && s.ReleaseReserve() == nil {
		err = database.Full(s.writer.WithContext(ctx).Transaction(counted))
	}
	if err != nil {
		return err
	}
	return s.acknowledge(count)
}

// factSmall counts the changes of credentials.
const factSmall = "credential changes"

func smallCount(tx *gorm.DB) (uint64, error) {
	var list []uint64
	err := tx.Raw("SELECT CAST(value AS INTEGER) FROM facts WHERE name = ?", factSmall).Scan(&list).Error
	return append(list, 0)[0], err
}

// ReleaseReserve gives the room of the reserve back to the disk, for what must be written though it is full. The error is [ErrFull] where
// that was done before.
func (s *Store) ReleaseReserve() error {
	path := filepath.Join(s.dir, reserveName)
	info, err := os.Stat(path)
	if err != nil {
		return err
	}
	if info.Size() == 0 {
		return ErrFull
	}
	return os.Truncate(path, 0)
}

// keepReserve takes the room of the reserve where there is some again.
func (s *Store) keepReserve() error {
	path := filepath.Join(s.dir, reserveName)
	if info, err := os.Stat(path); err == nil && info.Size() == reserveSize {
		return nil
	}
	file, err := os.OpenFile(path, os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = io.CopyN(file, zeros{}, reserveSize)
	if err != nil {
		err = errors.Join(err, os.Truncate(path, 0))
	}
	return errors.Join(err, file.Close())
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) {
	clear(p)
	return len(p), nil
}

// Times of the keeper.
const (
	keepEvery   = 2 * time.Second
	manyWritten = 10_000         // rows after which the log is taken into the database at once
	answersKept = 24 * time.Hour // for repetitions of a request
)

// Keep looks after the files until ctx ends: it takes the log into the database when nobody writes or much was written, reads back what was
// written, keeps the reserve, and lets old answers go.
func (s *Store) Keep(ctx context.Context, now func() time.Time, log *slog.Logger) {
	written := int64(0)
	for {
		if err := s.keepReserve(); err != nil {
			log.Debug("the reserve could not be kept", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(keepEvery):
		}
		dirty := s.dirty.Load()
		if dirty == 0 || dirty != written && dirty < manyWritten {
			written = dirty // somebody is writing
			continue
		}
		if err := s.letAnswersGo(ctx, now()); err != nil {
			log.Warn("old answers could not be let go", "error", err)
		}
		if err := s.checkpoint(ctx); err != nil {
			log.Debug("the log could not be taken into the database now", "error", err)
			continue
		}
		if err := s.readBack(ctx); err != nil && ctx.Err() == nil {
			log.Error("what was written does not read back as it was", "error", err)
		}
		s.dirty.Add(-dirty)
		written = 0
	}
}

// readBack checks the chain of what was written since it was last checked, so that the next start need not.
func (s *Store) readBack(ctx context.Context) error {
	m := s.head.Read()
	if m.Verified >= m.Number {
		return nil
	}
	if err := s.holdsMark(ctx, m, Revision{Number: m.Number}, 0); err != nil {
		return err
	}
	return s.head.Update(func(now *database.Mark) { now.Verified = max(now.Verified, m.Number) })
}

func (s *Store) letAnswersGo(ctx context.Context, now time.Time) error {
	return s.writer.WithContext(ctx).Exec("UPDATE revisions SET answer = NULL WHERE answer IS NOT NULL AND at < ?", now.Add(-answersKept)).Error
}

// checkpoint takes the log into the database, by a connection of its own that does not wait long for readers.
func (s *Store) checkpoint(ctx context.Context) error {
	own, err := database.Open(s.path, database.ToWrite+"&_pragma=busy_timeout(50)", 1)
	if err != nil {
		return err
	}
	pool, err := own.DB()
	if err != nil {
		return err
	}
	var busy, frames, moved int
	err = database.Row(own.WithContext(ctx).Raw("PRAGMA wal_checkpoint(TRUNCATE)"), &busy, &frames, &moved)
	if err == nil && busy != 0 {
		err = errors.New("readers are in the way")
	}
	return errors.Join(err, pool.Close())
}

// CheckPages looks at every page of the database and every reference in it.
func (s *Store) CheckPages(ctx context.Context) error {
	return checkPages(s.reader.WithContext(ctx), "quick_check")
}

// Backup writes a copy of the database, as it is at one moment, into a file that is not there yet, and verifies it.
func (s *Store) Backup(ctx context.Context, path string) (Verified, error) {
	if _, err := os.Stat(path); err == nil {
		return Verified{}, fmt.Errorf("%s is there already: name another file", path)
	}
	found, err := s.backup(ctx, path)
	if err != nil {
		return found, errors.Join(database.Full(err), remove(path))
	}
	return found, nil
}

func remove(path string) error {
	if err := os.Remove(path); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return nil
}

func (s *Store) backup(ctx context.Context, path string) (Verified, error) {
	own, err := database.Open(s.path, database.ToCopy, 1)
	if err != nil {
		return Verified{}, err
	}
	pool, err := own.DB()
	if err != nil {
		return Verified{}, err
	}
	if err := database.OwnersAlone(path); err != nil { // an empty file is taken for one that is not there
		return Verified{}, errors.Join(err, pool.Close())
	}
	err = own.WithContext(ctx).Exec("VACUUM INTO ?", path).Error
	if err = errors.Join(err, pool.Close()); err != nil {
		return Verified{}, fmt.Errorf("write the copy: %w", err)
	}
	if err := syncFile(path); err != nil {
		return Verified{}, err
	}
	return VerifyFile(ctx, path)
}

func syncFile(path string) error {
	file, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	return errors.Join(file.Sync(), file.Close())
}

// VerifyFile verifies a folder, or the file of a database, that no service need be running on; see [Store.Verify].
func VerifyFile(ctx context.Context, path string) (Verified, error) {
	s, err := OpenToRead(path)
	if err != nil {
		return Verified{}, err
	}
	version, err := s.version()
	if err == nil && version < groundVersion {
		err = fmt.Errorf("%s is of an earlier version: start the service on it once", s.path)
	}
	var found Verified
	if err == nil {
		found, err = s.Verify(ctx)
	}
	return found, errors.Join(err, s.Close())
}

// Restore puts the database of a file into a folder that has none, once it is verified, with a mark of its last revision.
func Restore(ctx context.Context, file, dir string) (Verified, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return Verified{}, fmt.Errorf("make the folder %s: %w", dir, err)
	}
	for _, name := range []string{FileName, FileName + "-wal", HeadName} {
		if _, err := os.Stat(filepath.Join(dir, name)); err == nil {
			return Verified{}, fmt.Errorf("%s holds %s already: restore into an empty folder", dir, name)
		}
	}
	part := filepath.Join(dir, FileName+".part")
	found, err := restore(ctx, file, dir, part)
	if err != nil {
		return found, errors.Join(database.Full(err), remove(part))
	}
	return found, nil
}

// forgetRecord lets a copy know nothing of how far the audit log goes: the one that comes with it may be of a moment before.
func forgetRecord(path string) error {
	db, err := database.Open(path, "&_pragma=journal_mode(DELETE)&_pragma=synchronous(FULL)", 1)
	if err != nil {
		return err
	}
	var there int64
	err = db.Raw("SELECT count(*) FROM sqlite_master WHERE name = 'facts'").Scan(&there).Error
	if err == nil && there > 0 {
		err = db.Exec("DELETE FROM facts WHERE name = ?", factRecord).Error
	}
	return errors.Join(err, database.Close(db))
}

func restore(ctx context.Context, file, dir, part string) (Verified, error) {
	s, err := OpenToRead(file)
	if err != nil {
		return Verified{}, err
	}
	// What the log beside it holds comes along.
	found, err := s.Backup(ctx, part)
	if err = errors.Join(err, s.Close()); err != nil {
		return found, err
	}
	if err := forgetRecord(part); err != nil {
		return found, err
	}
	m := database.Mark{Number: found.Last.Number, Verified: found.Last.Number, Small: found.small}
	copy(m.Chain[:], found.Last.Chain)
	h, err := database.OpenHead(filepath.Join(dir, HeadName), m, 0)
	if err != nil {
		return found, err
	}
	if err := h.Close(); err != nil {
		return found, err
	}
	if err := os.Rename(part, filepath.Join(dir, FileName)); err != nil {
		return found, err
	}
	folder, err := os.Open(dir)
	if err != nil {
		return found, err
	}
	return found, errors.Join(folder.Sync(), folder.Close())
}
