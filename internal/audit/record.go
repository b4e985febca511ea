package audit

import (
	"context"
	"crypto/ed25519"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"github.com/pressly/goose/v3"
	"gorm.io/gorm"

	"sentier/internal/database"
	"sentier/internal/notifier"
)

// The files of the record, in the folder of the service.
const (
	FileName = "audit.db"
	HeadName = "audit.head"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Options are what a record stands in.
type Options struct {
	Dir    string
	Clock  func() time.Time
	Log    *slog.Logger
	Room   func() error       // gives room on a full disk for what must be kept; nil: there is none
	Key    ed25519.PrivateKey // signs checkpoints
	Beyond string             // file that checkpoints are appended to as well; empty: none
	Accept bool               // whoever holds the files says that they count, whatever the mark beside them says
}

// Record is an open record. One goroutine writes, many read.
type Record struct {
	Options
	writer, reader  *gorm.DB
	insert, posting *sql.Stmt // write rows
	added           []inBlock // by the last transaction
	recent          recent
	marked          time.Time
	head            *database.Head
	notice          string

	queue   chan *request
	closing sync.Once
	written chan struct{} // closed when the writer has ended

	last atomic.Uint64        // entry that is on the disk
	kept atomic.Pointer[tail] // likewise, with its chain

	beside    atomic.Pointer[func() []byte] // how far the file of the policy goes; nil: nobody says
	besideNow []byte                        // as it was written last
	besideAt  time.Time
	tail      tail // of the writer

	writes  database.Writes
	taking  sync.Mutex // held by the one who takes entries over
	backlog backlog
	told    notifier.Notifier
}

// tail is the end of the chain.
type tail struct {
	seq   uint64
	chain []byte
}

// Open opens the record of a folder, and begins it where there is none. An end that was acknowledged and is not there is an error that says
// what to do.
func Open(ctx context.Context, o Options) (*Record, error) {
	r := &Record{Options: o, queue: make(chan *request, mostQueued), written: make(chan struct{})}
	if err := r.open(ctx); err != nil {
		return nil, errors.Join(fmt.Errorf("open the record %s: %w", r.path(), err), r.closeFiles())
	}
	go r.write()
	return r, nil
}

// OpenToRead opens a record, or a backup that holds one, to look at it and to change nothing.
func OpenToRead(path string) (*Record, error) {
	r := &Record{Options: Options{Dir: path}}
	if info, err := os.Stat(path); err == nil && !info.IsDir() {
		if r.Dir = filepath.Dir(path); filepath.Base(path) != FileName {
			r.Dir = path // a backup has no mark beside it
		}
	} else {
		path = r.path()
	}
	if _, err := os.Stat(path); err != nil {
		return nil, fmt.Errorf("open the record: %w", err)
	}
	var err error
	if r.reader, err = database.Open(path, database.ToRead, 1); err != nil {
		return nil, fmt.Errorf("open the record %s: %w", path, database.Damaged(err))
	}
	return r, nil
}

func (r *Record) path() string { return filepath.Join(r.Dir, FileName) }

func (r *Record) open(ctx context.Context) error {
	m, turn, marked, err := database.ReadMark(filepath.Join(r.Dir, HeadName))
	if err != nil {
		return err
	}
	info, err := os.Stat(r.path())
	there := err == nil && info.Size() > 0
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if !there && m.Number > 0 && !r.Accept {
		return fmt.Errorf("it is missing, and entry %d was acknowledged here: put it back, with %s-wal; where it is lost, run “sentier recover”, and a new one begins that says so", m.Number, FileName)
	}
	if there && !r.Accept {
		if err := r.inspect(ctx, m, marked); err != nil {
			return database.Damaged(err)
		}
	}
	if err := database.OwnersAlone(r.path()); err != nil {
		return err
	}
	if r.writer, err = database.Open(r.path(), database.ToWrite, 1); err != nil {
		return database.Damaged(err)
	}
	if err := migrate(r.writer); err != nil {
		return database.Damaged(err)
	}
	if err := r.prepare(); err != nil {
		return database.Damaged(err)
	}
	if r.reader, err = database.Open(r.path(), database.ToRead, 4); err != nil {
		return err
	}
	if r.tail, err = lastLink(r.reader.WithContext(ctx)); err != nil {
		return err
	}
	if !r.Accept {
		if err := r.holds(ctx, m); err != nil {
			return err
		}
	}
	if err := r.loadRecent(ctx); err != nil {
		return err
	}
	if there && !marked {
		r.notice = HeadName + " is missing beside the record, so that nobody can tell whether its last entry is the last that was kept: where the folder was copied, copy that file as well"
	}
	now := database.Mark{Number: r.tail.seq}
	copy(now.Chain[:], r.tail.chain)
	if r.head, err = database.OpenHead(filepath.Join(r.Dir, HeadName), now, turn); err != nil {
		return err
	}
	r.last.Store(r.tail.seq)
	r.kept.Store(&tail{r.tail.seq, r.tail.chain})
	if r.head.Read() != m {
		return r.head.Write(now)
	}
	return nil
}

// inspect looks at a record that is there before it is opened for writing, which would take away what a damaged log holds behind the damage.
func (r *Record) inspect(ctx context.Context, m database.Mark, marked bool) error {
	look, err := OpenToRead(r.path())
	if err != nil {
		return err
	}
	look.Dir = r.Dir
	tx := look.reader.WithContext(ctx)
	var begun int64
	err = tx.Raw("SELECT count(*) FROM sqlite_master WHERE name = 'audit_blocks'").Scan(&begun).Error
	if err == nil && begun > 0 {
		if look.tail, err = lastLink(tx); err == nil {
			err = look.holds(ctx, m)
		}
		if err == nil && !marked && look.tail.seq > 0 {
			if kept, _ := fact(tx, factBeside); kept != "" {
				err = fmt.Errorf("%s is missing beside it, so that nobody can tell whether entry %d is the last that was kept: where the folder was copied, copy that file as well; to go on with what is there, run “sentier recover”", HeadName, look.tail.seq)
			}
		}
	}
	return errors.Join(err, look.closeFiles())
}

// Head is the last entry that is on the disk, and its chain.
func (r *Record) Head() (seq uint64, chain []byte) {
	t := r.kept.Load()
	return t.seq, t.chain
}

// factBeside is how far the file of the policy goes, as it was when entries were kept last.
const factBeside = "beside"

// Beside has it kept with the entries how far the file of the policy goes, so that an older copy of that file is noticed: now gives it, as it is on the disk.
func (r *Record) Beside(now func() []byte) { r.beside.Store(&now) }

// BesideKept is how far the file of the policy goes, as the record has kept it; nil: it has kept nothing.
func (r *Record) BesideKept(ctx context.Context) ([]byte, error) {
	text, err := fact(r.reader.WithContext(ctx), factBeside)
	if err != nil || text == "" {
		return nil, err
	}
	return []byte(text), nil
}

// Fits tells whether the record goes as far as the file of the policy knows, by the same chain; an entry of 0: that knows nothing.
func (r *Record) Fits(ctx context.Context, seq uint64, chain []byte) error {
	if seq == 0 {
		return nil
	}
	tx := r.reader.WithContext(ctx)
	last, err := lastLink(tx)
	if err != nil {
		return err
	}
	base, err := baseOf(tx)
	if err != nil {
		return err
	}
	if last.seq < seq {
		return fmt.Errorf("%w (the audit log ends at entry %d, and the database knows entry %d: %s was taken away, cut, or replaced by an older copy. Put it back, with %s-wal and %s; to go on without what is lost, run “sentier recover”)",
			database.ErrDamaged, last.seq, seq, FileName, FileName, HeadName)
	}
	if seq <= base.seq {
		return nil // it was let go since
	}
	e, err := entryAt(tx, seq)
	if err == nil && string(e.Chain) != string(chain) {
		err = &database.WrongError{What: EntryName(seq), Problem: "is another than the one that the database knows"}
	}
	return err
}

// besideEvery is how often it is kept at most how far the file of the policy goes.
const besideEvery = 200 * time.Millisecond

// keepBeside keeps with a batch how far the file of the policy goes. The writer calls it.
func (r *Record) keepBeside(tx *sql.Tx, always bool) error {
	now := r.beside.Load()
	if now == nil || !always && time.Since(r.besideAt) < besideEvery {
		return nil
	}
	text := (*now)()
	r.besideAt = time.Now()
	if len(text) == 0 || string(text) == string(r.besideNow) {
		return nil
	}
	_, err := tx.Exec("INSERT INTO audit_facts (name, value) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET value = excluded.value", factBeside, string(text))
	if err == nil {
		r.besideNow = text
	}
	return err
}

// holds tells whether the record goes as far as its mark, by the same chain.
func (r *Record) holds(ctx context.Context, m database.Mark) error {
	if m.Number == 0 {
		return nil
	}
	if r.tail.seq < m.Number {
		return cutError(r.tail.seq, m.Number)
	}
	e, err := entryAt(r.reader.WithContext(ctx), m.Number)
	if err != nil {
		return err
	}
	if string(e.Chain) != string(m.Chain[:]) {
		return &database.WrongError{What: EntryName(m.Number), Problem: "is another than the one that was acknowledged here"}
	}
	return nil
}

// EntryName is how messages name an entry.
func EntryName(seq uint64) string { return fmt.Sprintf("entry %d of the record", seq) }

func cutError(last, want uint64) error {
	return fmt.Errorf("%w (the record ends at entry %d, and entry %d was acknowledged: %s-wal is damaged or missing. With a good copy of that file beside it all is there again; to go on without what is lost, move %s and %s away and keep them: a new record begins, and says so)",
		database.ErrDamaged, last, want, FileName, FileName, HeadName)
}

func migrate(db *gorm.DB) error {
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	pool, err := db.DB()
	if err != nil {
		return err
	}
	provider, err := goose.NewProvider(goose.DialectSQLite3, pool, sub, goose.WithLogger(goose.NopLogger()), goose.WithTableName("audit_version"))
	if err != nil {
		return err
	}
	current, newest, err := provider.GetVersions(context.Background())
	if err != nil {
		return err
	}
	if current > newest {
		return fmt.Errorf("its version is %d, and this program knows versions up to %d: run a newer sentier", current, newest)
	}
	_, err = provider.Up(context.Background())
	return err
}

// lastLink reads the end of the chain: of the last entry, or, where all were let go, of the last of those.
func lastLink(tx *gorm.DB) (tail, error) {
	var first, last int64
	var body string
	err := database.Row(tx.Raw("SELECT first, last, body FROM audit_blocks ORDER BY first DESC LIMIT 1"), &first, &last, &body)
	if errors.Is(err, sql.ErrNoRows) {
		return baseOf(tx)
	}
	if err != nil {
		return tail{}, database.Damaged(err)
	}
	var t tail
	err = readBlock(uint64(first), body, func(e *Entry) error {
		t = tail{e.Seq, e.Chain}
		return nil
	})
	if err != nil || t.seq != uint64(last) {
		return t, &database.WrongError{What: EntryName(t.seq + 1), Problem: "is not as it was written"}
	}
	return t, nil
}

// Notice is what whoever runs the service should know of the record; empty: nothing.
func (r *Record) Notice() string { return r.notice }

// Last is the number of the last entry that is on the disk.
func (r *Record) Last() uint64 { return r.last.Load() }

// Writes counts the batches that were written, and the time that it took.
func (r *Record) Writes() *database.Writes { return &r.writes }

// Close writes what is queued, and closes the files. Nothing may be added any more.
func (r *Record) Close() error {
	r.closing.Do(func() {
		if r.queue != nil {
			close(r.queue)
			<-r.written
			if err := r.inTransaction(func(tx *sql.Tx) error { return r.keepBeside(tx, true) }); err != nil && r.Log != nil {
				r.Log.Warn("the audit log could not keep how far the database goes", "error", err)
			}
		}
	})
	return r.closeFiles()
}

func (r *Record) closeFiles() error {
	var errs []error
	for _, db := range []*gorm.DB{r.reader, r.writer} {
		errs = append(errs, database.Close(db))
	}
	if r.head != nil {
		errs = append(errs, r.head.Close())
	}
	return errors.Join(errs...)
}

// Seen is the instant of the last entry, where it comes after another entry; zero: there is none.
func (r *Record) Seen(ctx context.Context, after uint64) (time.Time, error) {
	last := r.Last()
	if last == 0 || last <= after {
		return time.Time{}, nil
	}
	e, err := entryAt(r.reader.WithContext(ctx), last)
	return e.At, err
}

// AcceptMark makes the end of the record the one that was acknowledged, for whoever holds the files and has said so.
func (r *Record) AcceptMark() error { return r.mark() }
