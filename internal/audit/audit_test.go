package audit

import (
	"context"
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"sentier/internal/database"
)

var began = time.Date(2026, 11, 20, 22, 0, 0, 0, time.UTC)

// opened is a record in a folder, whose clock moves on by two hours with every look.
func opened(t testing.TB, dir string) *Record {
	t.Helper()
	key, err := LoadKey(filepath.Join(dir, KeyName))
	if err != nil {
		t.Fatal(err)
	}
	now := began
	r, err := Open(context.Background(), Options{Dir: dir, Key: key, Log: slog.New(slog.DiscardHandler), Clock: func() time.Time { now = now.Add(2 * time.Hour); return now }})
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// again opens a record that was closed.
func again(t *testing.T, r *Record) *Record {
	t.Helper()
	out, err := Open(context.Background(), r.Options)
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// indexedAfter lets a record put so many entries at once into its index.
func indexedAfter(r *Record, entries int) {
	r.recent.mu.Lock()
	defer r.recent.mu.Unlock()
	r.recent.most = entries
}

// posted is how many rows the index has.
func posted(t *testing.T, r *Record) (n int) {
	t.Helper()
	if err := r.reader.Raw("SELECT count(*) FROM audit_postings").Row().Scan(&n); err != nil {
		t.Fatal(err)
	}
	return n
}

// some writes entries over some days, in requests of several sizes.
func some(t testing.TB, r *Record, n int, random *rand.Rand) {
	t.Helper()
	kinds, people, devices := Kinds(), []string{"tomas.field", "noor.haddad", "irene.castro"}, []string{"mill-bridge", "estuary-gate", ""}
	for n > 0 {
		list := make([]Entry, min(n, 1+random.IntN(120)))
		for i := range list {
			list[i] = Entry{At: r.Clock(), Kind: kinds[random.IntN(len(kinds)-3)], Outcome: []string{Done, Refused, Granted, "no_grant"}[random.IntN(4)],
				By: people[random.IntN(3)], User: people[random.IntN(3)], Device: devices[random.IntN(3)], Right: "view", From: []string{"10.20.0.7", "10.20.1.9", ""}[random.IntN(3)], Revision: 7, More: json.RawMessage(`{"note":"a reason"}`)}
		}
		if err := r.Add(list...); err != nil {
			t.Fatal(err)
		}
		n -= len(list)
	}
}

// TestSearchFindsWhatAScanFinds: every way through the indexes, page by page, gives what reading all of them gives.
func TestSearchFindsWhatAScanFinds(t *testing.T) {
	r := opened(t, t.TempDir())
	defer func() { r.Close() }()
	ctx, random := context.Background(), rand.New(rand.NewPCG(1, 2))
	// Some of it is in the index, some is on its way there, and some is found in memory, before and after another start.
	indexedAfter(r, 400)
	some(t, r, 1500, random)
	if err := r.Close(); err != nil {
		t.Fatal(err)
	}
	r = again(t, r)
	indexedAfter(r, 700)
	some(t, r, 1500, random)
	if n := posted(t, r); n < 100 {
		t.Fatalf("%d rows are in the index", n)
	}
	var everything []Entry
	err := r.Each(ctx, Filter{}, func(e *Entry) error { everything = append(everything, *e); return nil })
	slices.Reverse(everything)
	if err != nil || len(everything) != 3000 {
		t.Fatalf("%d entries (%v)", len(everything), err)
	}
	for n := range 400 {
		var f Filter
		for _, set := range []func(){
			func() { f.User = "noor.haddad" }, func() { f.By = "tomas.field" }, func() { f.Either = "irene.castro" }, func() { f.Device = "mill-bridge" }, func() { f.Right = "view" },
			func() { f.Kinds = []Kind{Change, SignIn, Token} }, func() { f.Kinds = append(f.Kinds, Decision) }, func() { f.Outcomes = []string{Refused, "no_grant"} }, func() { f.Not = []string{Granted} },
			func() { f.Since = began.Add(time.Duration(random.IntN(200)) * 24 * time.Hour) }, func() { f.Until = began.Add(time.Duration(random.IntN(300)) * 24 * time.Hour) },
			func() { f.Before = random.Uint64N(3000) }, func() { f.After = random.Uint64N(3000) }, func() { f.From = netip.MustParsePrefix("10.20.0.0/24") }, func() { f.From = netip.MustParsePrefix("10.20.1.0/24") },
		} {
			if random.IntN(4) == 0 {
				set()
			}
		}
		var want, got []uint64
		for _, e := range everything {
			switch {
			case f.User != "" && e.User != f.User, f.By != "" && e.By != f.By, f.Device != "" && e.Device != f.Device,
				f.Either != "" && e.User != f.Either && (e.By != f.Either || e.Kind == Decision),
				len(f.Kinds) > 0 && !slices.Contains(f.Kinds, e.Kind), len(f.Outcomes) > 0 && !slices.Contains(f.Outcomes, e.Outcome), slices.Contains(f.Not, e.Outcome),
				!f.Since.IsZero() && e.At.Before(f.Since), !f.Until.IsZero() && !e.At.Before(f.Until),
				f.From.IsValid() && !strings.HasPrefix(e.From, strings.TrimSuffix(f.From.Masked().Addr().String(), "0")), f.Before > 0 && e.Seq >= f.Before, e.Seq <= f.After:
			default:
				want = append(want, e.Seq)
			}
		}
		for page := f; ; {
			found, err := r.Search(ctx, page, 1+random.IntN(900))
			if err != nil {
				t.Fatal(err)
			}
			for _, e := range found.Entries {
				got = append(got, e.Seq)
			}
			if page.Before = found.Next; page.Before == 0 {
				break
			}
		}
		if !slices.Equal(got, want) {
			t.Fatalf("search %d, %+v: %d entries, want %d", n, f, len(got), len(want))
		}
		got = nil
		if err := r.Each(ctx, f, func(e *Entry) error { got = append(got, e.Seq); return nil }); err != nil {
			t.Fatal(err)
		}
		slices.Reverse(got)
		if !slices.Equal(got, want) {
			t.Fatalf("each of search %d, %+v: %d entries, want %d", n, f, len(got), len(want))
		}
	}
}

// TestVerifyNamesTheFirstWrongEntry: whatever is done to the file, the first entry that is not as it was written is named.
func TestVerifyNamesTheFirstWrongEntry(t *testing.T) {
	ctx := context.Background()
	for _, c := range []struct {
		name     string
		do       func(t *testing.T, dir string)
		want     string
		reopened string // what a start says; empty: it starts
	}{
		{"nothing", func(*testing.T, string) {}, "", ""},
		{"an outcome changed", lineOf(301, func(f []string) { f[2] = "another" }), "entry 301 of the record is not as it was written", ""},
		{"a time changed", lineOf(17, func(f []string) { f[0] += "1" }), "entry 17 of the record is not as it was written", ""},
		{"a reason changed", lineOf(400, func(f []string) { f[12] = `{"note":"another reason"}` }), "entry 400 of the record is not as it was written", ""},
		{"a text moved into the next field", lineOf(9, func(f []string) { f[9], f[8] = "somewhere", "" }), "entry 9 of the record is not as it was written", ""},
		{"a field taken out", lineOf(44, func(f []string) { f[3], f[4] = "", f[3] }), "entry 44 of the record is not as it was written", ""},
		{"a line that is none", linesOf(60, func(lines []string, i int) []string { lines[i] = "x"; return lines }), "entry 60 of the record is not as it was written", ""},
		{"an entry removed", linesOf(250, func(lines []string, i int) []string { return slices.Delete(lines, i, i+1) }), "entry 250 of the record is", ""},
		{"two swapped", linesOf(30, func(lines []string, i int) []string {
			k := i - 1
			if k < 0 {
				k = i + 1
			}
			lines[i], lines[k] = lines[k], lines[i]
			return lines
		}), " of the record is not as it was written", ""},
		{"a block removed", func(t *testing.T, dir string) {
			tamper(t, dir, "DELETE FROM audit_blocks WHERE first <= 250 AND last >= 250")
		}, " of the record is missing", ""},
		{"two blocks swapped", func(t *testing.T, dir string) {
			tamper(t, dir, "UPDATE audit_blocks SET body = (SELECT body FROM audit_blocks WHERE first = 1) WHERE first <= 100 AND last >= 100")
		}, " of the record is not as it was written", ""},
		{"the beginning removed", func(t *testing.T, dir string) { tamper(t, dir, "DELETE FROM audit_blocks WHERE first <= 20") }, "entry 1 of the record is missing", ""},
		{"the beginning removed, as if it had been let go", func(t *testing.T, dir string) {
			tamper(t, dir, "DELETE FROM audit_blocks WHERE first <= 20; INSERT INTO audit_facts SELECT 'base', min(first) - 1 FROM audit_blocks; INSERT INTO audit_facts VALUES ('base chain', '00')")
		}, " of the record is not as it was written", ""},
		{"the end cut", func(t *testing.T, dir string) { tamper(t, dir, "DELETE FROM audit_blocks WHERE last > 480") }, "the record ends at entry", "the record ends at entry"},
		{"the signature of a checkpoint changed", func(t *testing.T, dir string) {
			tamper(t, dir, "UPDATE audit_checkpoints SET signature = zeroblob(64)")
		}, "the checkpoint at entry 201 of the record is not what its key has signed", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			r := opened(t, dir)
			random := rand.New(rand.NewPCG(3, 4))
			if err := r.AnnounceKey(ctx); err != nil {
				t.Fatal(err)
			}
			some(t, r, 200, random)
			elsewhere, err := r.Sign()
			if err != nil || elsewhere.Entry != 201 {
				t.Fatalf("a checkpoint at %d (%v)", elsewhere.Entry, err)
			}
			some(t, r, 300, random)
			if err := r.Close(); err != nil {
				t.Fatal(err)
			}
			c.do(t, dir)
			if got := verified(t, dir, Against{}); !strings.Contains(got, c.want) || c.want == "" && got != "" {
				t.Errorf("%q, want …%s…", got, c.want)
			}
			again, err := Open(ctx, r.Options)
			if c.reopened != "" {
				if err == nil || !strings.Contains(err.Error(), c.reopened) {
					t.Errorf("a start says %v, want …%s…", err, c.reopened)
				}
				return
			}
			if err != nil {
				t.Fatal(err)
			}
			if err := again.Close(); err != nil {
				t.Fatal(err)
			}
		})
	}
}

// linesOf changes the lines of the block in which an entry is; i is its line.
func linesOf(seq uint64, change func(lines []string, i int) []string) func(t *testing.T, dir string) {
	return func(t *testing.T, dir string) {
		t.Helper()
		db, err := database.Open(filepath.Join(dir, FileName), database.ToWrite, 1)
		if err != nil {
			t.Fatal(err)
		}
		var first int64
		var body string
		if err := db.Raw("SELECT first, body FROM audit_blocks WHERE first <= ? AND last >= ?", int64(seq), int64(seq)).Row().Scan(&first, &body); err != nil {
			t.Fatal(err)
		}
		lines := change(strings.Split(strings.TrimSuffix(body, "\n"), "\n"), int(int64(seq)-first))
		if err := db.Exec("UPDATE audit_blocks SET body = ? WHERE first = ?", strings.Join(lines, "\n")+"\n", first).Error; err != nil {
			t.Fatal(err)
		}
		if err := database.Close(db); err != nil {
			t.Fatal(err)
		}
	}
}

// lineOf changes the fields of the line of an entry.
func lineOf(seq uint64, change func(fields []string)) func(t *testing.T, dir string) {
	return linesOf(seq, func(lines []string, i int) []string {
		fields := strings.Split(lines[i], "\t")
		change(fields)
		lines[i] = strings.Join(fields, "\t")
		return lines
	})
}

// tamper does what somebody could who has the files.
func tamper(t *testing.T, dir, statements string) {
	t.Helper()
	db, err := database.Open(filepath.Join(dir, FileName), database.ToWrite, 1)
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range strings.Split(statements, "; ") {
		if s == "" {
			continue
		}
		if err := db.Exec(s).Error; err != nil {
			t.Fatal(err)
		}
	}
	if err := database.Close(db); err != nil {
		t.Fatal(err)
	}
}

// verified is what a verification finds wrong; empty: nothing.
func verified(t *testing.T, dir string, against Against) string {
	t.Helper()
	r, err := OpenToRead(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	if _, err = r.Verify(context.Background(), against); err == nil {
		return ""
	}
	if !errors.As(err, new(*database.WrongError)) && !errors.Is(err, database.ErrDamaged) {
		t.Fatal(err)
	}
	return err.Error()
}

// TestACheckpointKeptElsewhereFindsWhatTheFilesCannot: whoever has all files can write the record anew, its mark and its checkpoints as well;
// not so that it goes with a checkpoint that lies elsewhere.
func TestACheckpointKeptElsewhereFindsWhatTheFilesCannot(t *testing.T) {
	ctx, dir := context.Background(), t.TempDir()
	r := opened(t, dir)
	random := rand.New(rand.NewPCG(5, 6))
	if err := r.AnnounceKey(ctx); err != nil {
		t.Fatal(err)
	}
	some(t, r, 99, random)
	early, err := r.Sign()
	if err != nil {
		t.Fatal(err)
	}
	some(t, r, 100, random)
	late, err := r.Sign()
	if err != nil {
		t.Fatal(err)
	}
	if err := r.Close(); err != nil {
		t.Fatal(err)
	}
	elsewhere := Against{Checkpoints: []Checkpoint{early, late}, Key: r.PublicKey()}
	if got := verified(t, dir, elsewhere); got != "" {
		t.Fatal(got)
	}

	// The end cut, and the mark and the checkpoints with it.
	tamper(t, dir, "DELETE FROM audit_blocks WHERE last > 150; DELETE FROM audit_checkpoints WHERE seq > 150; DELETE FROM audit_days")
	if err := os.Remove(filepath.Join(dir, HeadName)); err != nil {
		t.Fatal(err)
	}
	if got := verified(t, dir, Against{}); got != "" {
		t.Errorf("the files alone: %s", got)
	}
	if got := verified(t, dir, elsewhere); !strings.Contains(got, "of the record is missing: a checkpoint of") {
		t.Errorf("with the checkpoint: %q", got)
	}

	// Another end written, by the service's own program and another key.
	if err := os.Remove(filepath.Join(dir, KeyName)); err != nil {
		t.Fatal(err)
	}
	r = opened(t, dir)
	if err := r.AnnounceKey(ctx); err != nil {
		t.Fatal(err)
	}
	some(t, r, 60, random)
	if _, err := r.Sign(); err != nil {
		t.Fatal(err)
	}
	if err := r.Close(); err != nil {
		t.Fatal(err)
	}
	if got := verified(t, dir, Against{}); got != "" {
		t.Errorf("the files alone: %s", got)
	}
	if got := verified(t, dir, Against{Checkpoints: []Checkpoint{late}}); !strings.Contains(got, "entry 200 of the record") && !strings.Contains(got, "another key than the record names") {
		t.Errorf("with the checkpoint: %q", got)
	}
	if got := verified(t, dir, Against{Key: late.Key}); !strings.Contains(got, "is signed by another key than the one given") {
		t.Errorf("with the key: %q", got)
	}

	// Checkpoints are read as they are written.
	line, err := json.Marshal(late)
	if err != nil {
		t.Fatal(err)
	}
	back, err := ReadCheckpoints(strings.NewReader(string(line) + "\n\n" + string(line)))
	if err != nil || len(back) != 2 || back[0].check(late.Key) != nil {
		t.Errorf("%v %v", back, err)
	}
	for _, text := range []string{"", "{}", `{"format":"sentier-checkpoint/1","entry":1}`, strings.Replace(string(line), "sentier-checkpoint/1", "another", 1)} {
		if _, err := ReadCheckpoints(strings.NewReader(text)); err == nil {
			t.Errorf("%q is taken for a checkpoint", text)
		}
	}
	late.Entry++
	if late.check(nil) == nil {
		t.Error("a checkpoint that was changed is taken for one that was signed")
	}
}

// TestWhatIsLetGoIsToldInTheChain: old days go, the rest can be verified from there on, and nothing can go without its entry.
func TestWhatIsLetGoIsToldInTheChain(t *testing.T) {
	ctx, dir := context.Background(), t.TempDir()
	r := opened(t, dir)
	random := rand.New(rand.NewPCG(7, 8))
	some(t, r, 600, random) // fifty days
	if _, err := r.Sign(); err != nil {
		t.Fatal(err)
	}
	cut := began.Add(20 * 24 * time.Hour)
	if err := r.LetGo(ctx, cut); err != nil {
		t.Fatal(err)
	}
	left, err := r.Search(ctx, Filter{}, MaxPage)
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range left.Entries {
		if dayOf(e.At) < dayOf(cut) {
			t.Fatalf("entry %d of %v is there still", e.Seq, e.At)
		}
	}
	if e := left.Entries[0]; e.Kind != Closing || len(left.Entries) < 300 {
		t.Errorf("%d entries are left, the last of the kind %s", len(left.Entries), e.Kind)
	}
	some(t, r, 30, random)
	if err := r.Close(); err != nil {
		t.Fatal(err)
	}
	if got := verified(t, dir, Against{}); got != "" {
		t.Error(got)
	}
	// What was let go as if by the service, but without its entry.
	end := left.Entries[slices.IndexFunc(left.Entries, func(e Entry) bool { return dayOf(e.At) != dayOf(left.Entries[100].At) && e.Seq < left.Entries[100].Seq })]
	tamper(t, dir, fmt.Sprintf("DELETE FROM audit_blocks WHERE last <= %[1]d; UPDATE audit_facts SET value = '%[1]d' WHERE name = 'base'; UPDATE audit_facts SET value = lower('%[2]X') WHERE name = 'base chain'", end.Seq, end.Chain))
	if got := verified(t, dir, Against{}); !strings.Contains(got, "no entry says that they were let go") {
		t.Errorf("%q", got)
	}
}

// TestWhatCannotBeKeptIsNotLost: an entry of what was done waits where the disk has no room, and is written once there is some.
func TestWhatCannotBeKeptIsNotLost(t *testing.T) {
	r := opened(t, t.TempDir())
	defer r.Close()
	ctx := context.Background()
	if err := r.writer.Exec("PRAGMA max_page_count = 20").Error; err != nil {
		t.Fatal(err)
	}
	var last error
	for range 200 {
		if last = r.Add(Entry{At: r.Clock(), Kind: Decision, Outcome: Granted, User: "tomas.field", More: json.RawMessage(`"` + strings.Repeat("x", 2000) + `"`)}); last != nil {
			break
		}
	}
	if !errors.Is(last, database.ErrFull) {
		t.Fatalf("a full disk: %v", last)
	}
	before := r.Last()
	r.Note(Entry{At: r.Clock(), Kind: Token, Outcome: Ended, User: "tomas.field", More: json.RawMessage(`"` + strings.Repeat("x", 2000) + `"`)})
	if r.Last() != before {
		t.Fatal("there was room still")
	}
	if err := r.writer.Exec("PRAGMA max_page_count = 2000").Error; err != nil {
		t.Fatal(err)
	}
	if err := r.Add(Entry{At: r.Clock(), Kind: SignIn, Outcome: Done, By: "ines.carvalho"}); err != nil {
		t.Fatal(err)
	}
	found, err := r.Search(ctx, Filter{Kinds: []Kind{Token, SignIn}}, 10)
	if err != nil || len(found.Entries) != 2 || found.Entries[1].Kind != Token {
		t.Errorf("%v (%v)", found.Entries, err)
	}
	if _, err := r.Verify(ctx, Against{}); err != nil {
		t.Error(err)
	}
}

// TestFollowMissesNothing: whoever follows has every entry, in order, and is told when it is quiet.
func TestFollowMissesNothing(t *testing.T) {
	r := opened(t, t.TempDir())
	defer r.Close()
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	some(t, r, 50, rand.New(rand.NewPCG(1, 1)))
	got := make(chan uint64, 1000)
	go r.Follow(ctx, 20, Filter{}, time.Hour, func(e *Entry) error { got <- e.Seq; return nil })
	some(t, r, 200, rand.New(rand.NewPCG(2, 2)))
	for want := uint64(21); want <= 250; want++ {
		if seq := <-got; seq != want {
			t.Fatalf("entry %d, want %d", seq, want)
		}
	}
	quiet := errors.New("it is quiet")
	if err := r.Follow(ctx, 250, Filter{}, time.Millisecond, func(e *Entry) error { return quiet }); !errors.Is(err, quiet) {
		t.Errorf("%v", err)
	}
}

// TestTheKeyIsMadeOnce: it is the same with the next start, and what is no key is refused with the mend.
func TestTheKeyIsMadeOnce(t *testing.T) {
	path := filepath.Join(t.TempDir(), KeyName)
	first, err1 := LoadKey(path)
	second, err2 := LoadKey(path)
	info, err3 := os.Stat(path)
	if err := errors.Join(err1, err2, err3); err != nil || !first.Equal(second) || info.Mode().Perm() != 0o600 {
		t.Fatalf("%v, same key: %v, mode %v", err, first.Equal(second), info.Mode())
	}
	if err := os.WriteFile(path, []byte("no key"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := LoadKey(path); err == nil || !strings.Contains(err.Error(), "move it away") {
		t.Errorf("%v", err)
	}
	public := first.Public().(ed25519.PublicKey)
	text, err := json.Marshal(public)
	if err != nil {
		t.Fatal(err)
	}
	if back, err := ParseKey(strings.Trim(string(text), `"`)); err != nil || !back.Equal(public) {
		t.Errorf("%v %v", back, err)
	}
	if _, err := ParseKey("none"); err == nil {
		t.Error("a word is taken for a key")
	}
}

// BenchmarkAdd is how long an entry of a decision takes where as many wait as a busy service has.
func BenchmarkAdd(b *testing.B) {
	r := opened(b, b.TempDir())
	defer r.Close()
	b.SetParallelism(64)
	b.RunParallel(func(p *testing.PB) {
		for p.Next() {
			if err := r.Add(Entry{At: began, Kind: Decision, Outcome: Granted, By: "panel", Via: "token", Token: "0192f0c8-0000-7000-8000-000000000000", User: "tomas.field", Right: "control", Device: "mill-bridge", Revision: 7}); err != nil {
				b.Fatal(err)
			}
		}
	})
}
