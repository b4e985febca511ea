package store

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"sentier/internal/demo"
	"sentier/internal/policy"
)

func opened(t *testing.T, dir string) *Store {
	t.Helper()
	s, err := Open(dir, true)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

func save(t *testing.T, s *Store, number uint64, from, to *policy.Policy) {
	t.Helper()
	r := Revision{Number: number, At: time.Date(2026, 11, 23, 9, 0, int(number), 0, time.UTC), By: "ines.carvalho", Via: "test"}
	if err := s.Append(context.Background(), &r, from.Compare(to), Saving{}); err != nil {
		t.Fatal(err)
	}
}

// larkmere is a store in a folder that holds the navigation as its first revision.
func larkmere(t *testing.T, dir string) (*Store, *policy.Policy) {
	t.Helper()
	s := opened(t, dir)
	first, err := demo.Policy()
	if err != nil {
		t.Fatal(err)
	}
	save(t, s, 1, &policy.Policy{}, first)
	return s, first
}

func TestWhatIsSavedIsLoaded(t *testing.T) {
	ctx := context.Background()
	dir := t.TempDir()
	s, first := larkmere(t, dir)
	second, done, err := first.Apply([]policy.Change{
		{Op: policy.Add, Type: policy.UserGroups, ID: "bridge-crew", List: "members", Entry: policy.Entry{Value: "noor.haddad", Until: time.Date(2026, 12, 1, 0, 0, 0, 0, time.UTC)}},
		{Op: policy.Drop, Type: policy.UserGroups, ID: "bridge-crew", List: "members", Entry: policy.Entry{Value: "tomas.field"}},
		{Op: policy.Remove, Type: policy.Grants, ID: "backup"},
		{Op: policy.Add, Type: policy.DeviceGroups, ID: "winter-list", List: "devices", Entry: policy.Entry{Value: "mill-bridge"}},
	})
	if err != nil {
		t.Fatal(err)
	}
	save(t, s, 2, first, second)
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	s = opened(t, dir)
	loaded, last, err := s.Load(ctx)
	if err != nil || last.Number != 2 || len(second.Compare(loaded)) != 0 {
		t.Fatalf("revision %d with %d differences, %v", last.Number, len(second.Compare(loaded)), err)
	}
	changes, err := s.Changes(ctx, 2)
	if err != nil || len(changes) != len(done) {
		t.Fatalf("%d changes, %v", len(changes), err)
	}
	for _, c := range changes {
		added, dropped := c.Entries()
		before, after := c.Written()
		if c.Record().Key() == "bridge-crew" && (len(added) != 1 || added[0].Until.Format(time.DateOnly) != "2026-12-01" || len(dropped) != 1 || dropped[0].Value != "tomas.field" || string(before) != string(after)) {
			t.Errorf("the change of the group is %+v, %v came and %v went", c, added, dropped)
		}
	}
	stale := Revision{Number: 2}
	if err := s.Append(ctx, &stale, nil, Saving{}); err == nil {
		t.Error("a revision was written over another")
	}
	if v, err := s.Verify(ctx); v.Revisions != 2 || err != nil {
		t.Errorf("verified %d, %v", v.Revisions, err)
	}
	if err := s.writer.Exec("UPDATE changes SET after = replace(after, 'Winter', 'Wintry') WHERE revision = 1 AND type = 'schedules'").Error; err != nil {
		t.Fatal(err)
	}
	if _, err := s.Verify(ctx); err == nil || !strings.Contains(err.Error(), "revision 1") {
		t.Errorf("the forged record is not found: %v", err)
	}
}

func TestDatabasesThatCannotBeUsed(t *testing.T) {
	good := t.TempDir()
	s, _ := larkmere(t, good)
	if _, err := Open(good, true); err == nil || !strings.Contains(err.Error(), "another service") {
		t.Errorf("opened twice: %v", err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	data, err := os.ReadFile(filepath.Join(good, FileName))
	if err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		spoil func(t *testing.T, dir string) string // gives the folder to open
		want  string
	}{
		"no database at all": {func(t *testing.T, dir string) string {
			return dir + "/file"
		}, "not a directory"},
		"bytes that are none": {func(t *testing.T, dir string) string {
			writeFile(t, dir, []byte(strings.Repeat("no database", 1000)))
			return dir
		}, ErrDamaged.Error()},
		"pages overwritten": {func(t *testing.T, dir string) string {
			bad := append([]byte{}, data...)
			for i := 2 * 4096; i < len(bad); i++ {
				bad[i] = byte(i * 7)
			}
			writeFile(t, dir, bad)
			return dir
		}, ErrDamaged.Error()},
		"cut off": {func(t *testing.T, dir string) string {
			writeFile(t, dir, data[:len(data)/3])
			return dir
		}, ErrDamaged.Error()},
		"of a newer version": {func(t *testing.T, dir string) string {
			writeFile(t, dir, data)
			mark, err := os.ReadFile(filepath.Join(good, HeadName))
			if err == nil {
				err = os.WriteFile(filepath.Join(dir, HeadName), mark, 0o600)
			}
			if err != nil {
				t.Fatal(err)
			}
			s := opened(t, dir)
			if err := s.writer.Exec("INSERT INTO goose_db_version (version_id, is_applied) VALUES (9999, 1)").Error; err != nil {
				t.Fatal(err)
			}
			s.Close()
			return dir
		}, "run a newer sentier"},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			if err := os.WriteFile(dir+"/file", nil, 0o600); err != nil {
				t.Fatal(err)
			}
			s, err := Open(c.spoil(t, dir), true)
			if err == nil {
				_, _, err = s.Load(context.Background())
				s.Close()
			}
			if err == nil || !strings.Contains(err.Error(), c.want) {
				t.Errorf("got %v, want …%s…", err, c.want)
			}
		})
	}
}

func writeFile(t *testing.T, dir string, data []byte) {
	t.Helper()
	if err := os.WriteFile(filepath.Join(dir, FileName), data, 0o600); err != nil {
		t.Fatal(err)
	}
}

func TestTokens(t *testing.T) {
	ctx := context.Background()
	s := opened(t, t.TempDir())
	at := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	if err := s.AddToken(ctx, Token{ID: "1", UserID: "a", Hash: []byte{1}, CreatedAt: at, ExpiresAt: &at}); err != nil {
		t.Fatal(err)
	}
	if err := s.AddToken(ctx, Token{ID: "2", UserID: "a", Hash: []byte{1}, CreatedAt: at}); err == nil {
		t.Error("one secret stands for two tokens")
	}
	if list, err := s.Tokens(ctx, "a"); err != nil || len(list) != 1 || !list[0].ExpiresAt.Equal(at) {
		t.Errorf("%+v, %v", list, err)
	}
	if err := s.RevokeToken(ctx, "1", at); err != nil {
		t.Error(err)
	}
	if err := s.RevokeToken(ctx, "1", at); !errors.Is(err, ErrNotFound) {
		t.Errorf("revoked twice: %v", err)
	}
}

// TestLoadIsOfOneRevision loads again and again while somebody writes: records and their long lists, which are
// read side by side, are those of one revision.
func TestLoadIsOfOneRevision(t *testing.T) {
	ctx := context.Background()
	s, first := larkmere(t, t.TempDir())
	const revisions = 60
	written, loaded := make(chan error, 1), make(chan struct{})
	go func() {
		p := first
		for n := uint64(2); n < revisions; n++ {
			op, note := policy.Drop, "without"
			if n%2 == 0 {
				op, note = policy.Add, "with"
			}
			// The group's name says whether the member is there.
			next, done, err := p.Apply([]policy.Change{
				{Op: policy.Patch, Type: policy.UserGroups, ID: "bridge-crew", Patch: fmt.Appendf(nil, `{"name": %q}`, note)},
				{Op: op, Type: policy.UserGroups, ID: "bridge-crew", List: "members", Entry: policy.Entry{Value: "noor.haddad"}},
			})
			if err == nil {
				r := Revision{Number: n, At: time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC), By: "ines.carvalho", Via: "test"}
				err = s.Append(ctx, &r, done, Saving{})
			}
			if err != nil {
				written <- err
				return
			}
			p = next
			if n%8 == 0 {
				<-loaded // so that several are seen however busy the machine is
			}
		}
		written <- nil
	}()
	seen := map[uint64]bool{}
	for last := uint64(0); last < revisions-1; {
		p, r, err := s.Load(ctx)
		if err != nil {
			t.Fatal(err)
		}
		if r.Number < last {
			t.Fatalf("revision %d was loaded after %d", r.Number, last)
		}
		last, seen[r.Number] = r.Number, true
		g, _ := policy.Find[*policy.UserGroup](p, "bridge-crew")
		member := slices.ContainsFunc(g.Members, func(m policy.Member) bool { return m.User == "noor.haddad" })
		if want := r.Number%2 == 0; r.Number > 1 && (member != want || (g.Name == "with") != want) {
			t.Fatalf("revision %d has a member %v and is called %q", r.Number, member, g.Name)
		}
		select {
		case loaded <- struct{}{}:
		case err := <-written:
			if err != nil {
				t.Fatal(err)
			}
			written <- nil
		default:
		}
	}
	if len(seen) < 3 {
		t.Errorf("only the revisions %v were seen", seen)
	}
}

// TestEveryTableIsForOtherMachinesOrHasAReason not to be: what a machine that takes over lacks is lost.
func TestEveryTableIsForOtherMachinesOrHasAReason(t *testing.T) {
	s := opened(t, t.TempDir())
	var tables []string
	if err := s.reader.Raw("SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite_%' ORDER BY name").Scan(&tables).Error; err != nil {
		t.Fatal(err)
	}
	elsewhere := []string{
		"revisions", "changes", "records", "entries", // go as revisions
		"looks",            // of the machine itself, at its own file
		"goose_db_version", // of the file
	}
	for _, name := range tables {
		if slices.Contains(Beside, name) == slices.Contains(elsewhere, name) {
			t.Errorf("the table %s is in neither list, or in both: put it into store.Beside, or say here why not", name)
		}
	}
	for _, name := range Beside {
		if !slices.Contains(tables, name) {
			t.Errorf("there is no table %s", name)
		}
	}
}
