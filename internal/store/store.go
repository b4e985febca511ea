// Package store keeps the policy, its history and the credentials in a SQLite database. A revision,
// its records and its changes are written in one transaction: all of it is there, or none.
package store

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/pressly/goose/v3"
	"gorm.io/gorm"

	"sentier/internal/database"
)

//go:embed migrations/*.sql
var migrations embed.FS

// HeadName is the file beside the database that says how far it must go.
const HeadName = "sentier.head"

// WrongError is the first thing in a file that is not what was written; see [database.WrongError].
type WrongError = database.WrongError

// Errors that callers tell apart; see [database].
var (
	ErrDamaged = database.ErrDamaged
	ErrFull    = database.ErrFull
)

// FileName is the database's name in its folder.
const FileName = "sentier.db"

// Store is an open database. One connection writes, many read.
type Store struct {
	writer, reader *gorm.DB
	lock           *os.File
	dir, path      string
	file           os.FileInfo // of the database that was opened
	head           *database.Head

	writes database.Writes
	saving sync.Mutex
	last   *Revision    // the last that was saved here; nil: not known
	sum    database.Sum // over all records and entries, where last is known

	loaded   *reading // what opening has read already, for Load
	pictured bool     // it was read from the picture, and not from the rows
	dirty    atomic.Int64
	log      atomic.Pointer[func(ctx context.Context, keep Keep) error] // through which goes what is done beside the policy; nil: none
	witness  atomic.Pointer[func() RecordHead]                          // how far the audit log goes; nil: nobody says
	accept   bool                                                       // whoever holds the files says that they count
	notice   string                                                     // what whoever runs the service should know
}

// Open opens the database in a folder, and makes both where they are missing. With exclusive, no
// other process can have it open exclusively, so that one service answers from it. Before anything is written, what is there
// is held against the mark of the last acknowledged revision and against its own hashes; where they do not fit, the
// error says what is wrong and what to do, and no file is touched.
func Open(dir string, exclusive bool) (*Store, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("make the folder %s: %w", dir, err)
	}
	s := &Store{dir: dir, path: filepath.Join(dir, FileName)}
	if exclusive {
		if err := s.takeLock(filepath.Join(dir, "sentier.lock")); err != nil {
			return nil, err
		}
	}
	if err := s.open(); err != nil {
		return nil, errors.Join(fmt.Errorf("open the database %s: %w", s.path, err), s.Close())
	}
	return s, nil
}

// OpenToAccept opens a folder for whoever holds the files, and says that they count, though the marks beside them, or the rows that nothing accounts for, say
// otherwise. The chain of the revisions has to be whole all the same. See [Store.Accept].
func OpenToAccept(dir string) (*Store, error) {
	s := &Store{dir: dir, path: filepath.Join(dir, FileName), accept: true}
	if _, err := os.Stat(s.path); err != nil {
		return nil, fmt.Errorf("open the database: %w", err)
	}
	if err := s.takeLock(filepath.Join(dir, "sentier.lock")); err != nil {
		return nil, err
	}
	if err := s.open(); err != nil {
		return nil, errors.Join(fmt.Errorf("open the database %s: %w", s.path, err), s.Close())
	}
	return s, nil
}

// OpenToRead opens the database in a folder, or a file of one, to look at it and to change nothing.
func OpenToRead(path string) (*Store, error) {
	s := &Store{dir: path, path: filepath.Join(path, FileName)}
	if info, err := os.Stat(path); err == nil && !info.IsDir() {
		s.dir, s.path = filepath.Dir(path), path
		if filepath.Base(path) != FileName {
			s.dir = path // a backup has no mark beside it
		}
	}
	if _, err := os.Stat(s.path); err != nil {
		return nil, fmt.Errorf("open the database: %w", err)
	}
	if err := s.openReader(); err != nil {
		return nil, errors.Join(fmt.Errorf("open the database %s: %w", s.path, database.Damaged(err)), s.Close())
	}
	return s, nil
}

// Writes counts the revisions that were saved here, or refused by the file, and the time that it took.
func (s *Store) Writes() *database.Writes { return &s.writes }

// ErrInUse tells that another process has the folder open exclusively.
var ErrInUse = errors.New("another service is using")

func (s *Store) takeLock(path string) error {
	file, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return fmt.Errorf("write in the folder of the database: %w", err)
	}
	if err := syscall.Flock(int(file.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		file.Close()
		return fmt.Errorf("%w %s: stop that one, or give another folder", ErrInUse, filepath.Dir(path))
	}
	s.lock = file
	return nil
}

func (s *Store) open() error {
	m, turn, marked, err := database.ReadMark(filepath.Join(s.dir, HeadName))
	if err != nil {
		return err
	}
	info, err := os.Stat(s.path)
	switch {
	case errors.Is(err, fs.ErrNotExist) || err == nil && info.Size() == 0:
		if m.Number > 0 {
			return fmt.Errorf("it is missing, and revision %d was acknowledged here: put the database back, or restore a backup into another folder", m.Number)
		}
	case err != nil:
		return err
	default:
		if err := s.inspect(m, marked); err != nil {
			return database.Damaged(err)
		}
	}
	if err := database.OwnersAlone(s.path); err != nil {
		return err
	}
	if s.writer, err = database.Open(s.path, database.ToWrite, 1); err != nil {
		return database.Damaged(err)
	}
	before, err := s.migrate()
	if err == nil && before < accountedVersion {
		err = s.writer.Transaction(accountAnew)
	}
	if err != nil {
		return database.Damaged(err)
	}
	if s.file, err = os.Stat(s.path); err != nil {
		return err
	}
	if s.reader == nil {
		if err := s.openReader(); err != nil {
			return database.Damaged(err)
		}
	}
	if s.loaded != nil {
		last := s.loaded.last
		verified := last.Number
		if s.pictured {
			verified = min(m.Verified, last.Number)
		}
		m = database.Mark{Number: last.Number, Verified: verified, Small: m.Small}
		copy(m.Chain[:], last.Chain)
		s.last, s.sum = &last, s.loaded.sum
	}
	if s.head, err = database.OpenHead(filepath.Join(s.dir, HeadName), m, turn); err != nil {
		return err
	}
	if s.head.Read() != m {
		err = s.head.Write(m)
	}
	return err
}

func (s *Store) openReader() (err error) {
	s.reader, err = database.Open(s.path, database.ToRead, 4)
	return err
}

// inspect looks at a database that is there before it is opened for writing: does it go as far as it must, and are its records
// what its revisions made of them?
func (s *Store) inspect(m database.Mark, marked bool) error {
	if err := s.openReader(); err != nil {
		return err
	}
	close := func() error {
		pool, err := s.reader.DB()
		s.reader = nil
		return errors.Join(err, pool.Close())
	}
	version, err := s.version()
	if err != nil {
		return err
	}
	if version < groundVersion && marked && m.Number > 0 { // it was of this version when that revision was acknowledged
		return s.lost(m, Revision{})
	}
	if version < groundVersion || version > newestVersion() { // from before there were marks, or from after this program
		return close()
	}
	ctx := context.Background()
	r, err := s.fromPicture(ctx)
	if s.pictured = r != nil; r == nil && err == nil {
		r, err = s.read(ctx)
	}
	if err != nil {
		return err
	}
	last := r.last
	if last.State != nil && string(r.sum.Bytes()) != string(last.State) {
		_, _, err := checkState(s.reader.WithContext(ctx), last)
		return fmt.Errorf("%w (%w)", ErrDamaged, err)
	}
	if version >= accountedVersion && !s.accept {
		if err := checkAccounted(s.reader.WithContext(ctx), isSmall); err != nil {
			return err
		}
	}
	if marked && !s.accept && (m.Number > 0 || m.Small > 0) {
		if err := s.holdsMark(ctx, m, last, r.of); err != nil {
			return err
		}
		count, err := smallCount(s.reader.WithContext(ctx))
		if err != nil {
			return err
		}
		if count < m.Small {
			return s.lostSmall(m.Small - count)
		}
	} else if last.Number > 0 {
		if version >= accountedVersion && !s.accept {
			return fmt.Errorf("%s is missing beside it, so that nobody can tell whether revision %d of %s is the last: where the folder was copied, copy %s and %s-wal as well; to go on with what is there, run “sentier recover”",
				HeadName, last.Number, last.At.Format(time.RFC3339), HeadName, FileName)
		}
		s.notice = fmt.Sprintf("%s is missing beside the database, so that nobody can tell whether revision %d of %s is the last: where the folder was copied, copy %s and %s-wal as well",
			HeadName, last.Number, last.At.Format(time.RFC3339), HeadName, FileName)
		if err := checkChain(s.reader.WithContext(ctx), 1, nil, nil); err != nil {
			return fmt.Errorf("%w (%w)", ErrDamaged, err)
		}
	}
	s.loaded = r
	return nil
}

// holdsMark checks that a database goes as far as the mark, by the same revisions, and checks those after the last that was
// verified. Up to checked, they are looked at later; see [Store.CheckRows].
func (s *Store) holdsMark(ctx context.Context, m database.Mark, last Revision, checked uint64) error {
	if last.Number < m.Number {
		return s.lost(m, last)
	}
	from := min(max(m.Verified, checked), m.Number)
	var before Revision
	if from > 0 {
		if err := s.reader.WithContext(ctx).Take(&before, "number = ?", from).Error; err != nil {
			return fmt.Errorf("%w (%s cannot be read: %w)", ErrDamaged, revisionName(from), err)
		}
	}
	agrees := m.Number == 0 || from == m.Number && string(before.Chain) == string(m.Chain[:]) // something was kept before the first revision
	err := checkChain(s.reader.WithContext(ctx), from+1, before.Chain, func(r *Revision) {
		agrees = agrees || r.Number == m.Number && string(r.Chain) == string(m.Chain[:])
	})
	if err != nil {
		return fmt.Errorf("%w (%w)", ErrDamaged, err)
	}
	if !agrees {
		return s.lost(m, last)
	}
	return nil
}

// lost is the error of a database that does not hold the revision of the mark.
func (s *Store) lost(m database.Mark, last Revision) error {
	if last.Number >= m.Number {
		return fmt.Errorf("%w (its revision %d is another than the one that was acknowledged here: the database is of another folder)", ErrDamaged, m.Number)
	}
	return fmt.Errorf("%w (it ends at revision %d, and revision %d was acknowledged: %s-wal is damaged or missing. With a good copy of that file beside it all is there again; to go on without what is lost, run “sentier restore %s --data NEW-FOLDER”)",
		ErrDamaged, last.Number, m.Number, FileName, s.path)
}

// lostSmall is the error of a database that lacks changes of credentials.
func (s *Store) lostSmall(n uint64) error {
	return fmt.Errorf("%w (%d changes of credentials that were acknowledged are missing, such as the end of a token: %s-wal is damaged or missing. With a good copy of that file beside it all is there again; to go on without, run “sentier restore %s --data NEW-FOLDER”)",
		ErrDamaged, n, FileName, s.path)
}

// Notice is what whoever runs the service should know of the files; empty: nothing.
func (s *Store) Notice() string { return s.notice }

// Replaced tells whether the file of the database is another one than that which was opened, or gone.
func (s *Store) Replaced() error {
	now, err := os.Stat(s.path)
	if err == nil && os.SameFile(now, s.file) {
		return nil
	}
	return fmt.Errorf("the database %s was moved away or replaced while the service runs: put it back, or stop the service first", s.path)
}

// newestVersion is the version of the schema that this program makes.
func newestVersion() int {
	files, err := migrations.ReadDir("migrations")
	if err != nil {
		return 0 // they are in the program
	}
	return len(files)
}

// groundVersion is the version of the schema from which on revisions carry a hash over all records.
const groundVersion = 4

// version is the version of the schema.
func (s *Store) version() (int, error) {
	var out int
	var there int64
	if err := s.reader.Raw("SELECT count(*) FROM sqlite_master WHERE name = 'goose_db_version'").Scan(&there).Error; err != nil || there == 0 {
		return 0, err
	}
	return out, s.reader.Raw("SELECT max(version_id) FROM goose_db_version WHERE is_applied").Scan(&out).Error
}

// migrate brings the schema up to date, and tells of which version it was.
func (s *Store) migrate() (before int64, err error) {
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return 0, err
	}
	pool, err := s.writer.DB()
	if err != nil {
		return 0, err
	}
	provider, err := goose.NewProvider(goose.DialectSQLite3, pool, sub, goose.WithLogger(goose.NopLogger()))
	if err != nil {
		return 0, err
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	current, newest, err := provider.GetVersions(ctx)
	if err != nil {
		return 0, err
	}
	if current > newest {
		return 0, fmt.Errorf("its version is %d, and this program knows versions up to %d: run a newer sentier", current, newest)
	}
	_, err = provider.Up(ctx)
	return current, err
}

// Close closes the database.
func (s *Store) Close() error {
	var errs []error
	// The writer goes last: whoever closes the database as the last takes the log into it.
	for _, db := range []*gorm.DB{s.reader, s.writer} {
		errs = append(errs, database.Close(db))
	}
	if s.head != nil {
		errs = append(errs, s.head.Close())
	}
	if s.lock != nil {
		// Given back by word: a process that is being started holds a copy of the file until it runs, and closing ours alone would keep the folder taken.
		errs = append(errs, syscall.Flock(int(s.lock.Fd()), syscall.LOCK_UN), s.lock.Close())
	}
	return errors.Join(errs...)
}

// Dir is the folder of the database.
func (s *Store) Dir() string { return s.dir }

// Path is where the database lies.
func (s *Store) Path() string { return s.path }
