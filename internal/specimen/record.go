package specimen

import (
	"context"
	"log/slog"
	"path/filepath"
	"testing"
	"time"

	"sentier/internal/audit"
)

// Record opens the record of a folder, and closes it when the test ends.
func Record(t testing.TB, dir string, clock func() time.Time) *audit.Record {
	t.Helper()
	key, err := audit.LoadKey(filepath.Join(dir, audit.KeyName))
	if err != nil {
		t.Fatal(err)
	}
	r, err := audit.Open(context.Background(), audit.Options{Dir: dir, Clock: clock, Log: slog.New(slog.DiscardHandler), Key: key})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := r.Close(); err != nil {
			t.Error(err)
		}
	})
	return r
}
