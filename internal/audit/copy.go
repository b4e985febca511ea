package audit

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"gorm.io/gorm"

	"sentier/internal/database"
)

// toFill opens a file that nobody else has yet, and that is synced when it is whole.
const toFill = "&_pragma=journal_mode(OFF)&_pragma=synchronous(OFF)"

// tables are those of the record, with what of them goes with entries up to one.
var tables = []struct{ name, upTo string }{
	{"audit_blocks", "last <= ?"}, {"audit_postings", "up_to <= ?"}, {"audit_checkpoints", "seq <= ?"}, {"audit_days", "first <= ?"}, {"audit_facts", "? >= 0"},
}

// CopyInto copies the record up to an entry into the file of a backup.
func (r *Record) CopyInto(ctx context.Context, path string, upTo uint64) error {
	return fill(ctx, path, r.path(), upTo)
}

// fill copies the record of one file into another that has none.
func fill(ctx context.Context, into, from string, upTo uint64) (err error) {
	db, err := database.Open(into, toFill, 1)
	if err != nil {
		return err
	}
	defer func() { err = database.Full(errors.Join(err, database.Close(db))) }()
	if err := migrate(db); err != nil {
		return err
	}
	tx := db.WithContext(ctx)
	if err := tx.Exec("ATTACH ? AS origin", database.URI(from)+"?mode=ro").Error; err != nil {
		return err
	}
	err = tx.Transaction(func(tx *gorm.DB) error {
		for _, t := range tables {
			if err := tx.Exec("INSERT INTO main."+t.name+" SELECT * FROM origin."+t.name+" WHERE "+t.upTo, int64(upTo)).Error; err != nil {
				return err
			}
		}
		if err := tx.Exec("DELETE FROM main.audit_facts WHERE name = ?", factBeside).Error; err != nil { // which may be of a moment after
			return err
		}
		if err := tx.Exec("UPDATE main.audit_days SET last = ? WHERE last > ?", int64(upTo), int64(upTo)).Error; err != nil {
			return err
		}
		return tx.Exec("UPDATE main.audit_facts SET value = (SELECT coalesce(max(up_to), 0) FROM main.audit_postings) WHERE name = ?", factIndexed).Error
	})
	return errors.Join(err, tx.Exec("DETACH origin").Error)
}

// origin finds the file that holds the record of a backup, of a folder, or of the database in one; empty where there is none.
func origin(path, beside string) (string, error) {
	if info, err := os.Stat(path); err == nil && info.IsDir() {
		path = filepath.Join(path, FileName)
	} else if filepath.Base(path) == beside {
		path = filepath.Join(filepath.Dir(path), FileName)
	}
	if _, err := os.Stat(path); errors.Is(err, os.ErrNotExist) {
		return "", nil
	}
	db, err := database.Open(path, database.ToRead, 1)
	if err != nil {
		return "", database.Damaged(err)
	}
	var there int64
	err = db.Raw("SELECT count(*) FROM sqlite_master WHERE name = 'audit_blocks'").Scan(&there).Error
	if there == 0 {
		path = ""
	}
	return path, database.Damaged(errors.Join(err, database.Close(db)))
}

// There finds the record of a backup, of a folder, or beside the database of that name in one; nil where there is none.
func There(path, beside string) (*Record, error) {
	found, err := origin(path, beside)
	if err != nil || found == "" {
		return nil, err
	}
	return OpenToRead(found)
}

// Restore puts the record of a backup, or the one that lies beside a database, into a folder that has none. database is the one that was
// restored there: what a backup has brought of the record along is taken out of it.
func Restore(ctx context.Context, from, dir, beside string) error {
	source, err := origin(from, beside)
	if err != nil || source == "" {
		return err
	}
	into, part := filepath.Join(dir, FileName), filepath.Join(dir, FileName+".part")
	if _, err := os.Stat(into); err == nil {
		return fmt.Errorf("%s holds %s already: restore into an empty folder", dir, FileName)
	}
	if err := restore(ctx, source, dir, part); err != nil {
		return errors.Join(err, os.Remove(part))
	}
	if err := os.Rename(part, into); err != nil {
		return err
	}
	return strip(ctx, filepath.Join(dir, beside))
}

func restore(ctx context.Context, source, dir, part string) error {
	const everything = 1<<63 - 1
	if err := fill(ctx, part, source, everything); err != nil {
		return err
	}
	file, err := os.OpenFile(part, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	if err := errors.Join(file.Chmod(0o600), file.Sync(), file.Close()); err != nil {
		return err
	}
	db, err := database.Open(part, database.ToRead, 1)
	if err != nil {
		return err
	}
	end, err := lastLink(db.WithContext(ctx))
	if err := errors.Join(err, database.Close(db)); err != nil {
		return err
	}
	m := database.Mark{Number: end.seq}
	copy(m.Chain[:], end.chain)
	head, err := database.OpenHead(filepath.Join(dir, HeadName), m, 0)
	if err != nil {
		return err
	}
	return head.Close()
}

// strip takes the record out of a database that a backup has brought it in.
func strip(ctx context.Context, path string) error {
	db, err := database.Open(path, database.ToWrite, 1)
	if err != nil {
		return err
	}
	tx := db.WithContext(ctx)
	for _, t := range tables {
		err = errors.Join(err, tx.Exec("DROP TABLE IF EXISTS "+t.name).Error)
	}
	err = errors.Join(err, tx.Exec("DROP TABLE IF EXISTS audit_version").Error, tx.Exec("VACUUM").Error)
	return errors.Join(err, database.Close(db))
}
