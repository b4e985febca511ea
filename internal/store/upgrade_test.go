package store

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/pressly/goose/v3"

	"sentier/internal/policy"
)

// aged makes of the database in a folder one from before there were marks, hashes over all records and forms of the chain.
func aged(t *testing.T, dir string) {
	t.Helper()
	s := opened(t, dir)
	var before []byte
	var list []Revision
	if err := s.writer.Order("number").Find(&list).Error; err != nil {
		t.Fatal(err)
	}
	for i := range list {
		r := &list[i]
		changes, err := changesOf(s.reader, r.Number)
		if err != nil {
			t.Fatal(err)
		}
		if before, err = linkJSON(before, r, changes); err != nil {
			t.Fatal(err)
		}
		if err := s.writer.Exec("UPDATE revisions SET chain = ? WHERE number = ?", before, r.Number).Error; err != nil {
			t.Fatal(err)
		}
	}
	pool, err := s.writer.DB()
	if err != nil {
		t.Fatal(err)
	}
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		t.Fatal(err)
	}
	provider, err := goose.NewProvider(goose.DialectSQLite3, pool, sub, goose.WithLogger(goose.NopLogger()))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := provider.DownTo(context.Background(), groundVersion-1); err != nil {
		t.Fatal(err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	if err := os.Remove(filepath.Join(dir, HeadName)); err != nil {
		t.Fatal(err)
	}
}

// TestADatabaseOfBeforeIsBroughtForward: what an earlier version has written is loaded as it was, is verified by the form of the chain that
// it had, and goes on in the present one; and what somebody has changed in it is found by name.
func TestADatabaseOfBeforeIsBroughtForward(t *testing.T) {
	ctx := context.Background()
	dir := t.TempDir()
	s, first := larkmere(t, dir)
	p := first
	change := func(number uint64) {
		t.Helper()
		next, _, err := p.Apply([]policy.Change{{Op: policy.Put, Type: policy.Kinds, ID: "winch", Record: &policy.Kind{ID: "winch", Name: fmt.Sprintf("Winch %d", number)}}})
		if err != nil {
			t.Fatal(err)
		}
		save(t, s, number, p, next)
		p = next
	}
	change(2)
	change(3)
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	aged(t, dir)

	if _, err := VerifyFile(ctx, dir); err == nil || !strings.Contains(err.Error(), "of an earlier version: start the service on it once") {
		t.Errorf("verified before it was brought forward: %v", err)
	}
	s = opened(t, dir)
	loaded, last, err := s.Load(ctx)
	if err != nil || last.Number != 3 || len(loaded.Compare(p)) != 0 {
		t.Fatalf("revision %d with %d differences, %v", last.Number, len(loaded.Compare(p)), err)
	}
	change(4)
	if v, err := s.Verify(ctx); err != nil || v.Revisions != 4 {
		t.Errorf("verified %d revisions: %v", v.Revisions, err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	s = opened(t, dir)
	if loaded, last, err = s.Load(ctx); err != nil || last.Number != 4 || len(loaded.Compare(p)) != 0 {
		t.Errorf("after a restart revision %d with %d differences, %v", last.Number, len(loaded.Compare(p)), err)
	}
	for _, forged := range []string{
		"UPDATE changes SET after = replace(after, 'Winch 2', 'Winch 7') WHERE revision = 2",
		"UPDATE revisions SET by = 'somebody' WHERE number = 2",
		"DELETE FROM changes WHERE revision = 2",
	} {
		tx := s.writer.Begin()
		if err := tx.Exec(forged).Error; err != nil {
			t.Fatal(err)
		}
		if err := checkChain(tx, 1, nil, nil); err == nil || !strings.Contains(err.Error(), "revision 2") {
			t.Errorf("after %s the chain is checked as %v", forged, err)
		}
		if err := tx.Rollback().Error; err != nil {
			t.Fatal(err)
		}
	}
}

// TestWhatWasWrittenIsReadBack: when nobody writes the chain of the last revisions is checked, so that the next start begins after them; what does
// not read back is told.
func TestWhatWasWrittenIsReadBack(t *testing.T) {
	ctx := context.Background()
	s, _ := larkmere(t, t.TempDir())
	if s.head.Read().Verified != 0 {
		t.Fatalf("revision %d is verified before it was read back", s.head.Read().Verified)
	}
	for range 2 { // again, there is nothing to do
		if err := s.readBack(ctx); err != nil || s.head.Read().Verified != 1 {
			t.Errorf("read back: %v, verified %d", err, s.head.Read().Verified)
		}
	}
	p, _, err := s.Load(ctx)
	if err != nil {
		t.Fatal(err)
	}
	next, _, err := p.Apply([]policy.Change{{Op: policy.Put, Type: policy.Kinds, ID: "winch", Record: &policy.Kind{ID: "winch", Name: "Winch"}}})
	if err != nil {
		t.Fatal(err)
	}
	save(t, s, 2, p, next)
	if err := s.writer.Exec("UPDATE changes SET after = replace(after, 'Winch', 'Wench') WHERE revision = 2").Error; err != nil {
		t.Fatal(err)
	}
	if err := s.readBack(ctx); err == nil || !strings.Contains(err.Error(), "revision 2") || s.head.Read().Verified != 1 {
		t.Errorf("read back: %v, verified %d", err, s.head.Read().Verified)
	}
}
