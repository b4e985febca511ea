package store

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"gorm.io/gorm"

	"sentier/internal/database"
	"sentier/internal/policy"
)

// files are those of a folder, by name.
func files(t *testing.T, dir string) map[string][]byte {
	t.Helper()
	list, err := os.ReadDir(dir)
	if err != nil {
		t.Fatal(err)
	}
	out := map[string][]byte{}
	for _, e := range list {
		data, err := os.ReadFile(filepath.Join(dir, e.Name()))
		if err != nil {
			t.Fatal(err)
		}
		out[e.Name()] = data
	}
	return out
}

func put(t *testing.T, dir string, all map[string][]byte) {
	t.Helper()
	for name, data := range all {
		if err := os.WriteFile(filepath.Join(dir, name), data, 0o600); err != nil {
			t.Fatal(err)
		}
	}
}

// lived is a folder with some history and credentials, as it lies there after its service was killed: the log not taken into the
// database, or taken into it.
func lived(t *testing.T, taken bool) (all map[string][]byte, dump *policy.Policy, last uint64) {
	t.Helper()
	ctx, dir := context.Background(), t.TempDir()
	s, p := larkmere(t, dir)
	at := time.Date(2026, 11, 24, 9, 0, 0, 0, time.UTC)
	for i := range uint64(30) {
		op := []policy.Op{policy.Add, policy.Drop}[i%2]
		next, _, err := p.Apply([]policy.Change{
			{Op: op, Type: policy.UserGroups, ID: "bridge-crew", List: "members", Entry: policy.Entry{Value: "noor.haddad", Until: at.AddDate(0, 1, 0)}},
			{Op: op, Type: policy.Devices, ID: "mill-bridge", List: "tags", Entry: policy.Entry{Value: fmt.Sprintf("t%d", i/2)}},
		})
		if err != nil {
			t.Fatal(err)
		}
		save(t, s, i+2, p, next)
		p = next
	}
	if err := s.SetPassword(ctx, Password{UserID: "ines.carvalho", Hash: "$argon2id$v=19$m=19456,t=2,p=1$c2FsdA$aGFzaA", ChangedAt: at}); err != nil {
		t.Fatal(err)
	}
	for i := range 5 {
		if err := s.AddToken(ctx, Token{ID: fmt.Sprintf("t%d", i), UserID: "ines.carvalho", Name: "x", Hash: bytes.Repeat([]byte{byte(i)}, 32), Kind: KindToken, CreatedAt: at}); err != nil {
			t.Fatal(err)
		}
	}
	if taken {
		if err := s.checkpoint(ctx); err != nil {
			t.Fatal(err)
		}
	}
	all = files(t, dir)
	delete(all, FileName+"-shm") // which is of the process that was killed
	delete(all, "sentier.lock")
	return all, p, 31
}

// TestABitThatFlipsIsToldOrChangesNothing flips single bits of the database and its log. A start is refused without touching a file, or the
// policy is what was acknowledged last; what a start does not look at, verifying finds, unless nothing of what is read has changed.
func TestABitThatFlipsIsToldOrChangesNothing(t *testing.T) {
	flips := 300
	if testing.Short() {
		flips = 30
	}
	r := rand.New(rand.NewPCG(20, 26))
	refused, verified, harmless := 0, 0, 0
	for _, taken := range []bool{false, true} {
		all, want, last := lived(t, taken)
		for n := range flips / 2 {
			name := FileName
			if !taken && n%3 > 0 && len(all[FileName+"-wal"]) > 0 {
				name += "-wal"
			}
			spoilt := map[string][]byte{}
			for k, v := range all {
				spoilt[k] = bytes.Clone(v)
			}
			at := r.IntN(len(spoilt[name]))
			bit := byte(1) << r.IntN(8)
			spoilt[name][at] ^= bit
			dir := t.TempDir()
			put(t, dir, spoilt)
			what := fmt.Sprintf("taken %v, %s, byte %d, bit %08b", taken, name, at, bit)
			s, err := Open(dir, true)
			if err != nil {
				refused++
				if strings.Count(err.Error(), "\n") > 0 {
					t.Errorf("%s: the refusal is more than one line: %v", what, err)
				}
				for k, v := range files(t, dir) {
					if k != "sentier.lock" && k != FileName+"-shm" && !bytes.Equal(v, spoilt[k]) {
						t.Fatalf("%s: a start that is refused (%v) has touched %s", what, err, k)
					}
				}
				continue
			}
			p, rev, err := s.Load(context.Background())
			if err != nil || rev.Number != last || len(want.Compare(p)) != 0 {
				t.Fatalf("%s: a start took revision %d for the last, with %d differences (%v)", what, rev.Number, len(want.Compare(p)), err)
			}
			if _, err := s.Verify(context.Background()); err != nil {
				verified++
			} else {
				harmless++
				if got := everything(t, s); got != everythingOf(t, all) {
					t.Fatalf("%s: neither the start nor verifying tells it, and what is read has changed:\n%s", what, got)
				}
			}
			if err := s.Close(); err != nil && !errors.Is(err, ErrDamaged) {
				t.Logf("%s: closing: %v", what, err)
			}
		}
	}
	t.Logf("of %d flips %d were refused at the start, %d found by verifying, %d changed nothing", flips, refused, verified, harmless)
	if refused == 0 || harmless == flips {
		t.Error("no flip was told")
	}
}

var sound = map[string]string{}

// everythingOf is what is read of sound files.
func everythingOf(t *testing.T, all map[string][]byte) string {
	key := string(all[HeadName]) + fmt.Sprint(len(all[FileName+"-wal"]))
	if sound[key] == "" {
		dir := t.TempDir()
		put(t, dir, all)
		s := opened(t, dir)
		sound[key] = everything(t, s)
	}
	return sound[key]
}

// everything writes out all rows that anything is decided or told by.
func everything(t *testing.T, s *Store) string {
	t.Helper()
	var out strings.Builder
	for _, query := range []string{
		"SELECT type, id, body FROM records ORDER BY 1, 2", "SELECT type, id, of, entry FROM entries ORDER BY 1, 2, 3, 4",
		"SELECT number, at, by, note FROM revisions ORDER BY 1", "SELECT user_id, hash, changed_at FROM passwords ORDER BY 1",
		"SELECT id, user_id, kind, hex(hash) FROM tokens ORDER BY 1",
	} {
		err := s.reader.Transaction(func(tx *gorm.DB) error {
			columns := 4
			if strings.Contains(query, "body") || strings.Contains(query, "passwords") {
				columns = 3
			}
			return eachRow(tx, query, func(row [4]string) { fmt.Fprintln(&out, row) }, columns)
		})
		if err != nil {
			fmt.Fprintln(&out, err)
		}
	}
	return out.String()
}

// TestWhatACopyLacksIsTold starts folders of which something was left out.
func TestWhatACopyLacksIsTold(t *testing.T) {
	all, _, _ := lived(t, false)
	for name, x := range map[string]struct {
		without []string
		refused string // empty: it starts
		notice  string
	}{
		"the whole folder":        {nil, "", ""},
		"without its log":         {[]string{FileName + "-wal"}, "and revision 31 was acknowledged", ""},
		"without the database":    {[]string{FileName, FileName + "-wal"}, "it is missing, and revision 31 was acknowledged here", ""},
		"without the mark":        {[]string{HeadName}, "sentier.head is missing beside it", ""},
		"the main file by itself": {[]string{FileName + "-wal", HeadName}, "", ""},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			put(t, dir, all)
			for _, gone := range x.without {
				if err := os.Remove(filepath.Join(dir, gone)); err != nil {
					t.Fatal(err)
				}
			}
			s, err := Open(dir, true)
			if x.refused != "" {
				if err == nil || !strings.Contains(err.Error(), x.refused) {
					t.Errorf("it starts, or says %v", err)
				}
				return
			}
			if err != nil || !strings.Contains(s.Notice(), x.notice) {
				t.Fatalf("%v; it says %q", err, s.Notice())
			}
			if err := s.Close(); err != nil {
				t.Error(err)
			}
		})
	}
}

// TestVerifyNamesTheFirstThingThatIsWrong changes rows by hand.
func TestVerifyNamesTheFirstThingThatIsWrong(t *testing.T) {
	all, _, _ := lived(t, true)
	for by, want := range map[string]string{
		`UPDATE records SET body = replace(body, '"allow"', '"deny"') WHERE type = 'grants' AND id = 'bridge-watch'`: "the record grants/bridge-watch is not what revision 1 made of it",
		`DELETE FROM records WHERE type = 'users' AND id = 'noor.haddad'`:                                            "the record users/noor.haddad is not what revision",
		`INSERT INTO records VALUES ('users', 'mallory', '{"id":"mallory"}')`:                                        "the record users/mallory was made by no revision",
		`INSERT INTO entries VALUES ('user_groups', 'duty-officers', 'noor.haddad', '"noor.haddad"')`:                `the entry "noor.haddad" of user_groups/duty-officers was added by no revision`,
		`DELETE FROM entries WHERE id = 'bridge-crew' AND of = 'tomas.field'`:                                        `the entry "tomas.field" of user_groups/bridge-crew is missing`,
		`UPDATE revisions SET by = 'mallory' WHERE number = 7`:                                                       "revision 7 is not as it was written",
		`DELETE FROM revisions WHERE number = 31`:                                                                    "rows of changes refer to nothing in revisions",
		`UPDATE tokens SET user_id = 'mallory' WHERE id = 't3'`:                                                      `the token t3 of "mallory" is not as it was written`,
		`UPDATE passwords SET hash = replace(hash, 'aGFzaA', 'AGFzaA')`:                                              `the password of "ines.carvalho" is not as it was written`,
	} {
		dir := t.TempDir()
		put(t, dir, all)
		db, err := database.Open(filepath.Join(dir, FileName), database.ToWrite+"&_pragma=foreign_keys(0)", 1)
		if err != nil {
			t.Fatal(err)
		}
		if err := errors.Join(db.Exec("PRAGMA foreign_keys = 0").Error, db.Exec(by).Error); err != nil {
			t.Fatalf("%s: %v", by, err)
		}
		pool, err := db.DB()
		if err != nil {
			t.Fatal(err)
		}
		if err := pool.Close(); err != nil {
			t.Fatal(err)
		}
		if _, err := VerifyFile(t.Context(), dir); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want …%s…", by, err, want)
		}
	}
}

// TestBackupBesideAWriter copies the database while revisions are written, restores it elsewhere, and finds one moment in it.
func TestBackupBesideAWriter(t *testing.T) {
	dir := t.TempDir()
	s, p := larkmere(t, dir)
	stop, ended := make(chan struct{}), make(chan error, 1)
	go func() {
		for n := uint64(2); ; n++ {
			select {
			case <-stop:
				ended <- nil
				return
			default:
			}
			next, done, err := p.Apply([]policy.Change{{Op: policy.Add, Type: policy.Devices, ID: "mill-bridge", List: "tags", Entry: policy.Entry{Value: fmt.Sprint("t", n)}}})
			if err == nil {
				r := Revision{Number: n, At: time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC), By: "ines.carvalho", Via: "test"}
				err = s.Append(context.Background(), &r, done, Saving{})
			}
			if err != nil {
				ended <- err
				return
			}
			p = next
		}
	}()
	copies := t.TempDir()
	for i := range 5 {
		file := filepath.Join(copies, fmt.Sprint(i, ".db"))
		found, err := s.Backup(t.Context(), file)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := s.Backup(t.Context(), file); err == nil {
			t.Error("a backup was written over another")
		}
		restored := filepath.Join(copies, fmt.Sprint("r", i))
		before, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		if again, err := Restore(t.Context(), file, restored); err != nil || again.Last.Number != found.Last.Number {
			t.Fatalf("restored to revision %d, want %d (%v)", again.Last.Number, found.Last.Number, err)
		}
		if after, err := os.ReadFile(file); err != nil || !bytes.Equal(before, after) {
			t.Errorf("restoring has changed the backup (%v)", err)
		}
		if _, err := Restore(t.Context(), file, restored); err == nil {
			t.Error("a folder was restored over")
		}
		r := opened(t, restored)
		if _, last, err := r.Load(t.Context()); err != nil || last.Number != found.Last.Number {
			t.Errorf("revision %d was loaded, want %d (%v)", last.Number, found.Last.Number, err)
		}
	}
	close(stop)
	if err := <-ended; err != nil {
		t.Fatal(err)
	}
	cut := filepath.Join(copies, "cut.db")
	data, err := os.ReadFile(filepath.Join(copies, "0.db"))
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(cut, data[:len(data)/2], 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Restore(t.Context(), cut, filepath.Join(copies, "none")); err == nil {
		t.Error("half of a backup was restored")
	}
	if rest, err := os.ReadDir(filepath.Join(copies, "none")); err != nil || len(rest) > 0 {
		t.Errorf("of a restoring that failed is left: %v (%v)", rest, err)
	}
}

// TestADatabaseThatIsMovedAwayIsNoticed and what is written then is refused.
func TestADatabaseThatIsMovedAwayIsNoticed(t *testing.T) {
	dir := t.TempDir()
	s, p := larkmere(t, dir)
	if err := os.Rename(filepath.Join(dir, FileName), filepath.Join(dir, "away.db")); err != nil {
		t.Fatal(err)
	}
	next, done, err := p.Apply([]policy.Change{{Op: policy.Remove, Type: policy.Grants, ID: "backup"}})
	if err != nil || next == nil {
		t.Fatal(err)
	}
	if err := s.Append(t.Context(), &Revision{Number: 2}, done, Saving{}); err == nil || !strings.Contains(err.Error(), "was moved away") {
		t.Errorf("a revision is written into a file that is gone: %v", err)
	}
	from, err := os.Open(filepath.Join(dir, "away.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer from.Close()
	to, err := os.Create(filepath.Join(dir, FileName))
	if err != nil {
		t.Fatal(err)
	}
	defer to.Close()
	if _, err := io.Copy(to, from); err != nil {
		t.Fatal(err)
	}
	if s.Replaced() == nil {
		t.Error("a copy in its place passes for the database")
	}
}
