// Package database opens the SQLite files of the service through GORM, and holds what they share: what their errors mean, the mark of how far
// a file must go, and the bytes over which their chains are made.
package database

import (
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"syscall"

	"gorm.io/driver/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
	sqlite3 "modernc.org/sqlite"
)

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

// Ways to open a database.
const (
	ToWrite = "&_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_txlock=immediate"
	ToRead  = "&mode=ro&_pragma=query_only(1)"
	ToCopy  = "&mode=ro" // a copy is made by a statement that query_only refuses
)

// URI is the name of a file as SQLite opens it, whatever is in its path: “?” and “#” would end it, and “%” begin a letter.
func URI(path string) string { return "file:" + (&url.URL{Path: path}).EscapedPath() }

// Open opens the file of a database in one of the ways, with a number of connections.
func Open(path, way string, connections int) (*gorm.DB, error) {
	dsn := URI(path) + "?_pragma=busy_timeout(5000)&_pragma=foreign_keys(1)&_time_format=sqlite&_timezone=UTC" + way
	db, err := gorm.Open(dialect{sqlite.Dialector{DriverName: "sqlite", DSN: dsn}}, &gorm.Config{
		Logger:                 logger.Discard,
		TranslateError:         true,
		SkipDefaultTransaction: true,
		PrepareStmt:            way != ToWrite,
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
	if way == ToWrite && connections == 1 {
		prepareWrites(db, pool)
	}
	return db, nil
}

// Row reads the one row that a statement gives; without one, the error is [sql.ErrNoRows]. GORM's own Row panics where a prepared statement cannot be
// run, as when its context has ended.
func Row(statement *gorm.DB, into ...any) error {
	rows, err := statement.Rows()
	if err != nil {
		return err
	}
	if rows.Next() {
		err = rows.Scan(into...)
	} else if err = rows.Err(); err == nil {
		err = sql.ErrNoRows
	}
	return errors.Join(err, rows.Close())
}

// ErrDamaged is the error of a database that cannot be read.
var ErrDamaged = errors.New("the database is damaged: put a good copy in its place; nothing was changed")

const (
	codeCorrupt = 11
	codeNotADB  = 26
	codeFull    = 13
	codeWrite   = 10 | 3<<8 // I/O error on writing
	codeSync    = 10 | 4<<8
	codeShm     = 10 | 19<<8 // no room for what the readers share
)

// oneLine is an error whose text has no second line, as that of a damaged schema has.
type oneLine struct{ error }

func (e oneLine) Error() string { return strings.Join(strings.Fields(e.error.Error()), " ") }

// Unwrap is the error itself.
func (e oneLine) Unwrap() error { return e.error }

// Damaged says of an error that it is that of a damaged database, where it is.
func Damaged(err error) error {
	var e *sqlite3.Error
	if errors.As(err, &e) && (e.Code()&0xff == codeCorrupt || e.Code()&0xff == codeNotADB) {
		return fmt.Errorf("%w (%w)", ErrDamaged, oneLine{err})
	}
	return err
}

// ErrFull is the error of a change that the disk has no room for.
var ErrFull = errors.New("the disk has no room for it, or cannot be written")

// Full says of an error that it is that of a disk without room, where it is.
func Full(err error) error {
	var e *sqlite3.Error
	if errors.As(err, &e) && slices.Contains([]int{codeFull, codeWrite, codeSync, codeShm}, e.Code()) || errors.Is(err, syscall.ENOSPC) {
		return fmt.Errorf("%w (%w)", ErrFull, err)
	}
	return err
}

// WrongError is the first thing in the files that is not what was written.
type WrongError struct{ What, Problem string }

func (e *WrongError) Error() string { return e.What + " " + e.Problem }

// Close closes a database; nil is none.
func Close(db *gorm.DB) error {
	if db == nil {
		return nil
	}
	pool, err := db.DB()
	if err != nil {
		return err
	}
	return pool.Close()
}
