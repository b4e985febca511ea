package bus

import (
	"context"
	"io"
	"os"

	"sentier/internal/replica"
)

// File is a snapshot that somebody has brought, and that nothing follows.
type File struct{ Path string }

// Objects lists the snapshot; see [replica.Feed].
func (f File) Objects(_ context.Context, prefix string) ([]string, error) {
	if prefix == pictureOverHTTP {
		return []string{prefix}, nil
	}
	return nil, nil
}

// Get gives the snapshot; see [replica.Feed].
func (f File) Get(_ context.Context, name string) (io.ReadCloser, error) {
	if name != pictureOverHTTP {
		return nil, replica.ErrNone
	}
	return os.Open(f.Path)
}

// Follow waits: nothing comes; see [replica.Feed].
func (f File) Follow(ctx context.Context, _ uint64, _ func(text []byte) error) error {
	<-ctx.Done()
	return ctx.Err()
}

// Beats waits: nothing comes; see [replica.Feed].
func (f File) Beats(ctx context.Context, _ func(text []byte)) error {
	<-ctx.Done()
	return nil
}
