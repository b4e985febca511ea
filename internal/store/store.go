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
	"syscall"
	"time"

	"github.com/pressly/goose/v3"
	"gorm.io/driver/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
	sqlite3 "modernc.org/sqlite"
)

//go:embed migrations/*.sql
var migrations embed.FS

// FileName is the database's name in its folder.
const FileName = "sentier.db"

// Store is an open database. One connection writes, many read.
type Store struct {
	writer, reader *gorm.DB
	lock           *os.File
	path           string

	saving sync.Mutex
	last   *Revision // the last that was saved here; nil: not known
}

// dialect is GORM's dialect of SQLite over the pure-Go driver, whose errors it does not know by itself.
type dialect struct{ gorm.Dialector }

const (
	constraintPrimaryKey = 1555
	constraintUnique     = 2067
	constraintForeignKey = 787
)

// Translate maps the driver's constraint errors to those of GORM.
func (dialect) Translate(err error) error {
	var e *sqlite3.Error
	if errors.As(err, &e) {
		switch e.Code() {
		case constraintPrimaryKey, constraintUnique:
			return gorm.ErrDuplicatedKey
		case constraintForeignKey:
			return gorm.ErrForeignKeyViolated
		}
	}
	return err
}

func open(path, more string, connections int) (*gorm.DB, error) {
	dsn := "file:" + path + "?_pragma=busy_timeout(5000)&_pragma=journal_mode(WAL)&_pragma=foreign_keys(1)" +
		"&_pragma=synchronous(FULL)&_time_format=sqlite&_timezone=UTC" + more
	db, err := gorm.Open(dialect{sqlite.Dialector{DriverName: "sqlite", DSN: dsn}}, &gorm.Config{
		Logger:                 logger.Discard,
		TranslateError:         true,
		SkipDefaultTransaction: true,
		PrepareStmt:            true,
	})
	if err != nil {
		return nil, err
	}
	pool, err := db.DB()
	if err != nil {
		return nil, err
	}
	pool.SetMaxOpenConns(connections)
	pool.SetMaxIdleConns(connections)
	return db, nil
}

// Open opens the database in a folder, and makes both where they are missing. With exclusive, no
// other process can have it open exclusively, so that one service answers from it.
func Open(dir string, exclusive bool) (*Store, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("make the folder %s: %w", dir, err)
	}
	s := &Store{path: filepath.Join(dir, FileName)}
	if exclusive {
		if err := s.takeLock(filepath.Join(dir, "sentier.lock")); err != nil {
			return nil, err
		}
	}
	if err := s.open(); err != nil {
		s.Close()
		return nil, fmt.Errorf("open the database %s: %w", s.path, err)
	}
	return s, nil
}

func (s *Store) takeLock(path string) error {
	file, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return fmt.Errorf("write in the folder of the database: %w", err)
	}
	if err := syscall.Flock(int(file.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		file.Close()
		return fmt.Errorf("another service is using %s: stop that one, or give another folder", filepath.Dir(path))
	}
	s.lock = file
	return nil
}

func (s *Store) open() error {
	file, err := os.OpenFile(s.path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	if err := file.Close(); err != nil {
		return err
	}
	if s.writer, err = open(s.path, "&_txlock=immediate", 1); err != nil {
		return damaged(err)
	}
	if err := s.migrate(); err != nil {
		return damaged(err)
	}
	s.reader, err = open(s.path, "&_pragma=query_only(1)", 4)
	return damaged(err)
}

// ErrDamaged is the error of a database that cannot be read.
var ErrDamaged = errors.New("the database is damaged: put a good copy in its place; nothing was changed")

const (
	codeCorrupt = 11
	codeNotADB  = 26
)

func damaged(err error) error {
	var e *sqlite3.Error
	if errors.As(err, &e) && (e.Code()&0xff == codeCorrupt || e.Code()&0xff == codeNotADB) {
		return fmt.Errorf("%w (%w)", ErrDamaged, err)
	}
	return err
}

func (s *Store) migrate() error {
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	pool, err := s.writer.DB()
	if err != nil {
		return err
	}
	provider, err := goose.NewProvider(goose.DialectSQLite3, pool, sub, goose.WithLogger(goose.NopLogger()))
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	current, newest, err := provider.GetVersions(ctx)
	if err != nil {
		return err
	}
	if current > newest {
		return fmt.Errorf("its version is %d, and this program knows versions up to %d: run a newer sentier", current, newest)
	}
	_, err = provider.Up(ctx)
	return err
}

// Close closes the database.
func (s *Store) Close() error {
	var errs []error
	for _, db := range []*gorm.DB{s.reader, s.writer} {
		if db == nil {
			continue
		}
		pool, err := db.DB()
		if err == nil {
			err = pool.Close()
		}
		errs = append(errs, err)
	}
	if s.lock != nil {
		errs = append(errs, s.lock.Close())
	}
	return errors.Join(errs...)
}

// Path is where the database lies.
func (s *Store) Path() string { return s.path }
