package daemon

import (
	"context"
	"errors"
	"io"
	"os"
	"sync"

	"sentier/internal/store"
)

// snapshots keeps the last snapshots that were asked for over HTTP, as long as no revision comes: as rows, and as a picture.
type snapshots struct {
	mu   sync.Mutex
	kept map[bool]keptSnapshot
}

type keptSnapshot struct {
	path   string
	number uint64
}

// snapshot is one of the policy as it is, without what else is known.
func (l *line) snapshot(ctx context.Context, d *Daemon, picture bool) (io.ReadSeekCloser, error) {
	s := &l.shot
	s.mu.Lock()
	defer s.mu.Unlock()
	before := s.kept[picture]
	if before.path != "" && before.number == d.Service.State().Revision.Number {
		return os.Open(before.path)
	}
	file, err := os.CreateTemp(d.options.Dir, store.PassingPrefix+"snapshot-*")
	if err != nil {
		return nil, err
	}
	head, err := l.log.Snapshot(ctx, picture, false, file)
	if err == nil {
		_, err = file.Seek(0, io.SeekStart)
	}
	if err != nil {
		return nil, errors.Join(err, file.Close(), os.Remove(file.Name()))
	}
	if s.kept == nil {
		s.kept = map[bool]keptSnapshot{}
	}
	s.kept[picture] = keptSnapshot{file.Name(), head.Number}
	if before.path != "" {
		err = os.Remove(before.path)
	}
	return file, err
}

// close lets the kept ones go.
func (s *snapshots) close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	var err error
	for _, kept := range s.kept {
		err = errors.Join(err, os.Remove(kept.path))
	}
	return err
}
