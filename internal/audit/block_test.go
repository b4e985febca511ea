package audit

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"sentier/internal/database"
)

// awkward are texts that a line could be broken by.
var awkward = []string{"", `"`, `\`, `\"`, "\t", "\n", `\t`, "a\tb\nc", "tomas.field", "tomas.field", "naïve — ☃", strings.Repeat("x", 300), `""`, `\\`, "\r"}

func randomEntry(random *rand.Rand, seq uint64) Entry {
	pick := func() string { return awkward[random.IntN(len(awkward))] }
	e := Entry{Seq: seq, At: time.UnixMicro(random.Int64N(1 << 52)).UTC(), Kind: Kind(pick()), Outcome: pick(), By: pick(), Via: pick(), Token: pick(), From: pick(),
		User: pick(), Right: pick(), Device: pick(), Point: pick(), Revision: uint64(random.IntN(3)), Chain: []byte{byte(random.IntN(256)), 1, 2}}
	if more := pick(); more != "" {
		e.More = json.RawMessage(more)
	}
	return e
}

// TestABlockReadsBackAsItWasWritten: whatever entries hold, and however they are like those before them.
func TestABlockReadsBackAsItWasWritten(t *testing.T) {
	random := rand.New(rand.NewPCG(11, 12))
	for range 2000 {
		first := random.Uint64N(1 << 40)
		list := make([]Entry, 1+random.IntN(mostInBlock))
		var body []byte
		var before *Entry
		for i := range list {
			list[i] = randomEntry(random, first+uint64(i))
			if i > 0 && random.IntN(3) == 0 { // as like the one before as entries mostly are
				at, seq, chain := list[i].At, list[i].Seq, list[i].Chain
				list[i] = list[i-1]
				list[i].At, list[i].Seq, list[i].Chain = at, seq, chain
			}
			body = appendLine(body, before, &list[i])
			before = &list[i]
		}
		n := 0
		err := readBlock(first, string(body), func(e *Entry) error {
			if got, want := fmt.Sprintf("%+v", *e), fmt.Sprintf("%+v", list[n]); got != want {
				t.Fatalf("entry %d:\n got %s\nwant %s\n in %q", n, got, want, body)
			}
			n++
			return nil
		})
		if err != nil || n != len(list) {
			t.Fatalf("%d of %d entries: %v", n, len(list), err)
		}
	}
}

// FuzzReadBlock: no text makes the reader fail in another way than by saying which entry cannot be read; and what it reads is written as it was.
func FuzzReadBlock(f *testing.F) {
	random := rand.New(rand.NewPCG(13, 14))
	for range 20 {
		var body []byte
		var before *Entry
		for i := range 3 {
			e := randomEntry(random, uint64(i))
			body = appendLine(body, before, &e)
			before = &e
		}
		f.Add(string(body))
	}
	f.Add("x")
	f.Add(strings.Repeat("\t", 13) + "\n")
	f.Fuzz(func(t *testing.T, body string) {
		var again []byte
		var before *Entry
		var list []Entry
		err := readBlock(7, body, func(e *Entry) error {
			list = append(list, *e)
			again = appendLine(again, before, e)
			before = e
			return nil
		})
		if err != nil && !isLine(err) {
			t.Fatalf("%v", err)
		}
		n := 0
		err = readBlock(7, string(again), func(e *Entry) error {
			if fmt.Sprintf("%+v", *e) != fmt.Sprintf("%+v", list[n]) {
				t.Fatalf("entry %d of %q is another when it is written and read again", n, body)
			}
			n++
			return nil
		})
		if err != nil || n != len(list) {
			t.Fatalf("%d of %d read again: %v", n, len(list), err)
		}
	})
}

// TestTheRecordInABackup: up to an entry it is copied into another database, and put back from it beside that, whole, with its index; what was
// written meanwhile is not in it.
func TestTheRecordInABackup(t *testing.T) {
	ctx, dir := context.Background(), t.TempDir()
	r := opened(t, dir)
	defer func() { r.Close() }()
	indexedAfter(r, 300)
	random := rand.New(rand.NewPCG(15, 16))
	if err := r.AnnounceKey(ctx); err != nil {
		t.Fatal(err)
	}
	some(t, r, 1200, random)
	if _, err := r.Sign(); err != nil {
		t.Fatal(err)
	}
	upTo := r.Last()
	some(t, r, 100, random)

	file := filepath.Join(t.TempDir(), "backup.db")
	db, err := database.Open(file, database.ToWrite, 1)
	if err != nil {
		t.Fatal(err)
	}
	if err := db.Exec("CREATE TABLE something (x TEXT)").Error; err != nil {
		t.Fatal(err)
	}
	if err := database.Close(db); err != nil {
		t.Fatal(err)
	}
	if found, err := There(file, "main.db"); err != nil || found != nil {
		t.Fatalf("a record in a file that has none: %v %v", found, err)
	}
	if err := r.CopyInto(ctx, file, upTo); err != nil {
		t.Fatal(err)
	}
	if err := r.CopyInto(ctx, file, upTo); err == nil {
		t.Error("a record is copied into a file that has one")
	}
	copied, err := There(file, "main.db")
	if err != nil {
		t.Fatal(err)
	}
	found, err := copied.Verify(ctx, Against{})
	if err != nil || found.Last.Seq != upTo || found.Checkpoints != 1 || found.Marked {
		t.Errorf("the copy: %+v %v", found, err)
	}
	if err := copied.Close(); err != nil {
		t.Fatal(err)
	}

	// Put back: the database beside it has nothing of the record any more.
	into := t.TempDir()
	if err := os.WriteFile(filepath.Join(into, "main.db"), read(t, file), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := Restore(ctx, file, into, "main.db"); err != nil {
		t.Fatal(err)
	}
	if err := Restore(ctx, file, into, "main.db"); err == nil {
		t.Error("a record is put where there is one")
	}
	if found, err := There(filepath.Join(into, "main.db"), "other.db"); err != nil || found != nil {
		t.Errorf("the database has a record still: %v", err)
	}
	options := r.Options
	options.Dir = into
	back, err := Open(ctx, options)
	if err != nil {
		t.Fatal(err)
	}
	defer back.Close()
	if found, err := back.Verify(ctx, Against{Key: r.PublicKey()}); err != nil || found.Last.Seq != upTo {
		t.Errorf("put back: %+v %v", found, err)
	}
	for _, f := range []Filter{{}, {User: "noor.haddad"}, {Kinds: []Kind{Change, SignIn}}, {Device: "mill-bridge", Outcomes: []string{Refused}}} {
		f.Before = upTo + 1
		here, err1 := r.Search(ctx, f, MaxPage)
		there, err2 := back.Search(ctx, f, MaxPage)
		same := slices.EqualFunc(here.Entries, there.Entries, func(a, b Entry) bool { return a.Seq == b.Seq && string(a.Chain) == string(b.Chain) })
		if err1 != nil || err2 != nil || !same || len(here.Entries) == 0 {
			t.Errorf("%+v: %d entries here, %d there (%v %v)", f, len(here.Entries), len(there.Entries), err1, err2)
		}
	}
	some(t, back, 10, random)
	if _, err := back.Verify(ctx, Against{}); err != nil {
		t.Errorf("as it goes on: %v", err)
	}
}

func read(t *testing.T, path string) []byte {
	t.Helper()
	data, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	return data
}
