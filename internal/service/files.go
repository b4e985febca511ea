package service

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"sentier/internal/audit"
	"sentier/internal/database"
	"sentier/internal/store"
	"sentier/internal/wire"
)

// Verify reads back everything that decides; see [store.Store.Verify].
func (s *Service) Verify(ctx context.Context, c Caller) (wire.Verified, error) {
	if err := s.Permit(s.State(), c, Whole, ""); err != nil {
		return wire.Verified{}, err
	}
	found, err := s.borders.Files.Verify(ctx)
	out := wireVerified(found)
	if wrong := new(store.WrongError); errors.As(err, &wrong) || errors.Is(err, store.ErrDamaged) {
		s.doubt(err)
		out.Wrong = err.Error()
		return out, nil
	}
	if err != nil {
		return out, err
	}
	record, err := AuditVerified(s.borders.Record.Verify(ctx, audit.Against{}))
	out.Whole, out.Wrong, out.Recorded, out.Marked = record.Whole, record.Wrong, record.Entries, out.Marked && record.Marked
	return out, err
}

func wireVerified(v store.Verified) wire.Verified {
	return wire.Verified{Revisions: v.Revisions, Records: v.Records, Entries: v.Entries, Marked: v.Marked}
}

// CopyInto writes a verified copy of all that is kept, as it is at one moment, into a file that is not there yet. Nobody is asked whether they may: it is for
// whoever has the machine in hand.
func (s *Service) CopyInto(ctx context.Context, path string) error {
	upTo := s.borders.Record.Last() // what comes meanwhile tells of revisions that the copy does not have
	if _, err := s.borders.Files.Backup(ctx, path); err != nil {
		return err
	}
	return s.borders.Record.CopyInto(ctx, path, upTo)
}

// Backup makes a verified copy of the database, as it is at one moment, and opens it. done takes it away again.
func (s *Service) Backup(ctx context.Context, c Caller) (file *os.File, done func(), err error) {
	if err := s.Permit(s.State(), c, Manage, ""); err != nil {
		return nil, nil, err
	}
	dir, err := os.MkdirTemp(s.borders.Files.Dir(), store.PassingPrefix+"backup-")
	if err != nil {
		return nil, nil, fmt.Errorf("make room for the copy: %w", err)
	}
	away := func() {
		if err := os.RemoveAll(dir); err != nil {
			s.borders.Log.Warn("a copy could not be taken away", "error", err)
		}
	}
	path := filepath.Join(dir, store.FileName+".backup")
	if err := s.CopyInto(ctx, path); err != nil {
		away()
		return nil, nil, s.kept(err)
	}
	if file, err = os.Open(path); err != nil {
		away()
		return nil, nil, err
	}
	s.borders.Log.Info("backup made", "by", c.User)
	s.note(c, audit.Backup, audit.Made, "", nil)
	return file, func() {
		if err := file.Close(); err != nil {
			s.borders.Log.Warn("a copy could not be closed", "error", err)
		}
		away()
	}, nil
}

// DataFiles are the files that grow with what is kept.
func (s *Service) DataFiles() []string {
	dir := s.borders.Files.Dir()
	return []string{filepath.Join(dir, store.FileName), filepath.Join(dir, store.FileName+"-wal"), filepath.Join(dir, audit.FileName), filepath.Join(dir, audit.FileName+"-wal")}
}

// Writes are what was written to the policy's file and to the record's, by the name of each.
func (s *Service) Writes() map[string]*database.Writes {
	return map[string]*database.Writes{"policy": s.borders.Files.Writes(), "record": s.borders.Record.Writes()}
}

// LastBackup is when the last backup was made that is on record, in seconds since 1970; 0: none is.
func (s *Service) LastBackup() float64 {
	e, ok, err := s.borders.Record.LastOf(context.Background(), audit.Backup)
	if err != nil || !ok {
		return 0
	}
	return float64(e.At.Unix())
}
