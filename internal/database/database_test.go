package database

import (
	"bytes"
	"context"
	"crypto/sha256"
	"database/sql"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"gorm.io/gorm"
)

// TestErrorsOfSQLiteAreTold for what they are: the second of one key, a reference to nothing, a file that is no database, a disk that is full.
func TestErrorsOfSQLiteAreTold(t *testing.T) {
	db := opened(t, filepath.Join(t.TempDir(), "a.db"), ToWrite)
	must(t, db.Exec("create table site (id text primary key, name text unique, parent text references site(id))").Error)
	must(t, db.Exec("insert into site values ('summit', 'Summit', null)").Error)
	for _, c := range []struct {
		name, statement string
		want            error
	}{
		{"the same key", "insert into site values ('summit', 'Other', null)", gorm.ErrDuplicatedKey},
		{"the same name", "insert into site values ('other', 'Summit', null)", gorm.ErrDuplicatedKey},
		{"a parent that is not there", "insert into site values ('tunnel', 'Tunnel', 'nowhere')", gorm.ErrForeignKeyViolated},
	} {
		if err := db.Exec(c.statement).Error; !errors.Is(err, c.want) {
			t.Errorf("%s: %v, want %v", c.name, err, c.want)
		}
	}

	over, end := context.WithCancel(t.Context())
	end()
	for _, c := range []struct {
		name string
		db   *gorm.DB
		want error
	}{
		{"a row", db.Raw("select id from site"), nil},
		{"no row", db.Raw("select id from site where id = 'nowhere'"), sql.ErrNoRows},
		{"a row for which nobody waits any more", db.WithContext(over).Raw("select name from site"), context.Canceled},
	} {
		var id string
		if err := Row(c.db, &id); !errors.Is(err, c.want) || (err == nil) != (id == "summit") {
			t.Errorf("%s: %v, read is %q, want %v", c.name, err, id, c.want)
		}
	}

	path := filepath.Join(t.TempDir(), "b.db")
	must(t, os.WriteFile(path, []byte(strings.Repeat("no database at all\n", 100)), 0o600))
	db, err := Open(path, ToRead, 1)
	if err == nil {
		defer Close(db)
		err = db.Exec("select * from sqlite_master").Error
	}
	if err = Damaged(err); !errors.Is(err, ErrDamaged) || strings.Contains(err.Error(), "\n") {
		t.Errorf("a file that is no database: %v", err)
	}
	for _, c := range []struct {
		name       string
		err        error
		full, sick bool
	}{
		{"no room", fmt.Errorf("append: %w", syscall.ENOSPC), true, false},
		{"something else", errors.New("something else"), false, false},
		{"nothing", nil, false, false},
	} {
		if full, sick := errors.Is(Full(c.err), ErrFull), errors.Is(Damaged(c.err), ErrDamaged); full != c.full || sick != c.sick {
			t.Errorf("%s: full %v, damaged %v", c.name, full, sick)
		}
	}
}

// TestWhatIsOpenedToReadIsNotWritten: neither the way to read nor that to copy changes anything, in a folder whatever it is called.
func TestWhatIsOpenedToReadIsNotWritten(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "quay #1? 100%20")
	must(t, os.Mkdir(dir, 0o700))
	path := filepath.Join(dir, "a.db")
	db := opened(t, path, ToWrite)
	must(t, db.Exec("create table kind (id text)").Error)
	for _, way := range []string{ToRead, ToCopy} {
		if err := opened(t, path, way).Exec("insert into kind values ('pump')").Error; err == nil {
			t.Errorf("%s writes", way)
		}
	}
	must(t, opened(t, path, ToCopy).Exec("vacuum into ?", path+"-copy").Error)
	if err := Close(nil); err != nil {
		t.Error(err)
	}
}

// TestTimesComeBackAsTheyWere, whatever zone they were given in: they are kept, compared and read in UTC.
func TestTimesComeBackAsTheyWere(t *testing.T) {
	db := opened(t, filepath.Join(t.TempDir(), "a.db"), ToWrite)
	must(t, db.Exec("create table seen (at datetime)").Error)
	at := time.Date(2026, 10, 25, 1, 30, 0, 0, time.FixedZone("west of Larkmere", -3*3600-1800))
	must(t, db.Exec("insert into seen values (?)", at).Error)
	var back []time.Time
	must(t, db.Raw("select at from seen where at between ? and ?", at.Add(-time.Second), at.UTC().Add(time.Second)).Scan(&back).Error)
	if len(back) != 1 || !back[0].Equal(at) || back[0].Location() != time.UTC {
		t.Errorf("%v came back as %v", at, back)
	}
}

// TestTheMarkOutlivesABrokenWrite: whatever becomes of the slot that is being written, the other one tells what was acknowledged before it; and
// no byte that is flipped is taken for a mark that was never written.
func TestTheMarkOutlivesABrokenWrite(t *testing.T) {
	path := filepath.Join(t.TempDir(), "head")
	if _, _, there, err := ReadMark(path); there || err != nil {
		t.Fatalf("where there is none: %v, %v", there, err)
	}
	h, err := OpenHead(path, Mark{Number: 1}, 0)
	must(t, err)
	defer h.Close()
	written := map[Mark]bool{{Number: 1}: true}
	for n := uint64(2); n < 9; n++ {
		m := Mark{Number: n, Chain: sha256.Sum256([]byte{byte(n)}), Verified: n - 1, Small: 3 * n}
		must(t, h.Write(m))
		written[m] = true
		if got, _, there, err := ReadMark(path); got != m || !there || err != nil {
			t.Fatalf("%+v came back as %+v (%v, %v)", m, got, there, err)
		}
	}
	last := h.Read()
	must(t, h.Update(func(m *Mark) { m.Verified = 8 }))
	whole, err := os.ReadFile(path)
	must(t, err)
	other := filepath.Join(t.TempDir(), "head")
	for i := range whole {
		broken := bytes.Clone(whole)
		broken[i] ^= 1 << (i % 8)
		must(t, os.WriteFile(other, broken, 0o600))
		if m, _, there, err := ReadMark(other); !there || err != nil || m != h.Read() && m != last {
			t.Fatalf("with byte %d flipped: %+v, %v, %v", i, m, there, err)
		}
	}
	for _, cut := range []int{1, slotSize - 1} {
		must(t, os.WriteFile(other, whole[:cut], 0o600))
		if _, _, there, err := ReadMark(other); there || !errors.Is(err, ErrDamaged) {
			t.Errorf("of %d bytes: %v, %v", cut, there, err)
		}
	}

	// Another process has gone on meanwhile; what it wrote before is no news.
	m, turn, _, err := ReadMark(path)
	must(t, err)
	h.Again(Mark{Number: 99}, turn)
	if h.Read() != m {
		t.Errorf("an older mark was taken up: %+v", h.Read())
	}
	h.Again(Mark{Number: 99}, turn+1)
	if h.Read().Number != 99 {
		t.Errorf("a newer mark was not taken up: %+v", h.Read())
	}
}

// TestTheSumIsOfTheSet: it does not matter in which order rows come and go, only which are there; and none is like another.
func TestTheSumIsOfTheSet(t *testing.T) {
	rows := make([][sha256.Size]byte, 60)
	for i := range rows {
		rows[i] = RowHash("device", fmt.Sprint(i))
	}
	var kept, detour, half Sum
	for _, row := range rows[:30] {
		kept.Add(row)
	}
	random := rand.New(rand.NewPCG(1, 2))
	for _, i := range random.Perm(60) {
		detour.Add(rows[i])
	}
	for _, i := range random.Perm(30) {
		detour.Take(rows[30+i])
	}
	for _, row := range rows[:15] {
		half.Add(row)
	}
	if kept != detour || kept == half {
		t.Errorf("%x, by a detour %x, half of it %x", kept.Bytes(), detour.Bytes(), half.Bytes())
	}
	var rest Sum
	for _, row := range rows[15:30] {
		rest.Add(row)
	}
	if half.Join(rest); half != kept || len(kept.Bytes()) != sha256.Size {
		t.Errorf("joined %x, want %x", half.Bytes(), kept.Bytes())
	}
}

// TestNoTwoListsAreTheSameBytes: where one field ends and the next begins counts, as does what is missing beside what is empty.
func TestNoTwoListsAreTheSameBytes(t *testing.T) {
	empty, seen := "", map[string]string{}
	for name, list := range map[string][]*string{
		"ab, c": {text("ab"), text("c")}, "a, bc": {text("a"), text("bc")}, "abc": {text("abc")}, "abc, empty": {text("abc"), &empty}, "abc, missing": {text("abc"), nil},
		"empty": {&empty}, "missing": {nil}, "nothing": {}, "empty, missing": {&empty, nil}, "missing, empty": {nil, &empty},
	} {
		var out bytes.Buffer
		w := NewFieldWriter(&out)
		for _, field := range list {
			w.Maybe(field)
		}
		must(t, w.Flush())
		if other, is := seen[out.String()]; is {
			t.Errorf("%s and %s are the same bytes", name, other)
		}
		seen[out.String()] = name
	}
	if RowHash("ab", "c") == RowHash("a", "bc") || RowHash("a") == RowHash("a", "") || RowHash(strings.Repeat("x", 2000)) == RowHash(strings.Repeat("x", 2001)) {
		t.Error("two rows have one hash")
	}
	var out bytes.Buffer
	w := NewFieldWriter(&out)
	w.Text("Larkmere")
	w.Bytes([]byte{1, 2})
	w.Number(7)
	must(t, w.Flush())
	want := AppendNumber(append(AppendNumber(AppendText(nil, "Larkmere"), 2), 1, 2), 7)
	if !bytes.Equal(out.Bytes(), want) {
		t.Errorf("written %x, appended %x", out.Bytes(), want)
	}
}

func text(s string) *string { return &s }

func must(t *testing.T, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

// opened is a database that is closed when the test ends.
func opened(t *testing.T, path, way string) *gorm.DB {
	t.Helper()
	db, err := Open(path, way, 1)
	must(t, err)
	t.Cleanup(func() { must(t, Close(db)) })
	return db
}
