package store

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"gorm.io/gorm"

	"sentier/internal/database"
)

func revisionName(number uint64) string { return fmt.Sprintf("revision %d", number) }

// Verified is what was found whole.
type Verified struct {
	Revisions uint64 // whose chain was read back
	Records   int
	Entries   int
	Last      Revision
	small     uint64
	Marked    bool // a mark of the last acknowledged revision stands beside the database, and agrees
}

// Verify reads everything that decides back and compares it with what was written: the pages of the database, the chain of
// all revisions, the records and entries against what the revisions made of them, the credentials, and the mark of the last
// revision. It looks at one moment, and keeps nobody from writing. The error is a [*WrongError] that names the first thing
// that is not right, or is [ErrDamaged].
func (s *Store) Verify(ctx context.Context) (Verified, error) {
	var out Verified
	m, _, marked, err := database.ReadMark(filepath.Join(s.dir, HeadName))
	if err != nil {
		return out, err
	}
	out.Marked = marked
	err = s.reader.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := checkPages(tx, "integrity_check"); err != nil {
			return err
		}
		agrees := !marked || m.Number == 0
		err := checkChain(tx, 1, nil, func(r *Revision) {
			out.Revisions, out.Last = r.Number, *r
			agrees = agrees || r.Number == m.Number && bytes.Equal(r.Chain, m.Chain[:])
		})
		if err != nil {
			return err
		}
		if !agrees {
			return s.lost(m, out.Last)
		}
		if out.small, err = smallCount(tx); err != nil {
			return err
		}
		if marked && out.small < m.Small {
			return s.lostSmall(m.Small - out.small)
		}
		if out.Records, out.Entries, err = checkState(tx, out.Last); err != nil {
			return err
		}
		if version, err := s.version(); err != nil || version < accountedVersion {
			return errors.Join(err, checkCredentials(tx))
		}
		if err := checkCredentials(tx); err != nil {
			return err
		}
		return checkAccounted(tx, func(string) bool { return true })
	})
	if err == nil {
		err = s.verifyPicture(ctx)
	}
	if err == nil && !marked && s.dir != s.path && out.Last.Number > 0 {
		err = &WrongError{What: HeadName, Problem: "is missing beside the database, so that nobody can tell whether its last revision is the last"}
	}
	return out, database.Damaged(err)
}

// checkPages lets SQLite look at every page and every reference: by quick_check, or by integrity_check, which looks into the indexes as
// well.
func checkPages(tx *gorm.DB, how string) error {
	var lines []string
	if err := tx.Raw("PRAGMA " + how + "(5)").Scan(&lines).Error; err != nil {
		return database.Damaged(err)
	}
	if len(lines) != 1 || lines[0] != "ok" {
		return fmt.Errorf("%w (%s)", ErrDamaged, strings.Join(lines, "; "))
	}
	var broken []struct{ Table, Parent string }
	if err := tx.Raw("PRAGMA foreign_key_check").Scan(&broken).Error; err != nil {
		return database.Damaged(err)
	}
	if len(broken) > 0 {
		return fmt.Errorf("%w (%d rows of %s refer to nothing in %s)", ErrDamaged, len(broken), broken[0].Table, broken[0].Parent)
	}
	return nil
}

// checkState compares the records and entries with the hash of the last revision; where they differ it finds the first
// that is not what its last change made of it.
func checkState(tx *gorm.DB, last Revision) (records, entries int, err error) {
	var counts [2]int64
	for i, table := range []string{"records", "entries"} {
		if err := tx.Table(table).Count(&counts[i]).Error; err != nil {
			return 0, 0, database.Damaged(err)
		}
	}
	now, err := present(tx)
	if err != nil {
		return 0, 0, database.Damaged(err)
	}
	if last.State == nil && last.Form == formJSON || last.Number == 0 || bytes.Equal(now.Bytes(), last.State) {
		return int(counts[0]), int(counts[1]), nil
	}
	if err := firstWrong(tx); err != nil {
		return 0, 0, err
	}
	return 0, 0, &WrongError{What: "the records", Problem: "are not those that revision " + fmt.Sprint(last.Number) + " left"}
}

// firstWrong follows the changes of every record and compares what they lead to with what is there.
func firstWrong(tx *gorm.DB) error {
	type made struct {
		Type, ID string
		Revision uint64
		After    *string
		Body     *string
	}
	var wrong []made
	err := tx.Raw(`SELECT c.type, c.id, c.revision, c.after, r.body FROM changes c LEFT JOIN records r ON r.type = c.type AND r.id = c.id
		WHERE c.revision = (SELECT max(revision) FROM changes m WHERE m.type = c.type AND m.id = c.id) AND c.after IS NOT r.body ORDER BY c.type, c.id LIMIT 1`).Scan(&wrong).Error
	if err != nil {
		return database.Damaged(err)
	}
	for _, w := range wrong {
		return &WrongError{What: fmt.Sprintf("the record %s/%s", w.Type, w.ID), Problem: fmt.Sprintf("is not what %s made of it", revisionName(w.Revision))}
	}
	var extra []made
	if err := tx.Raw(`SELECT r.type, r.id FROM records r WHERE NOT EXISTS (SELECT 1 FROM changes c WHERE c.type = r.type AND c.id = r.id) LIMIT 1`).Scan(&extra).Error; err != nil {
		return database.Damaged(err)
	}
	for _, w := range extra {
		return &WrongError{What: fmt.Sprintf("the record %s/%s", w.Type, w.ID), Problem: "was made by no revision"}
	}
	return firstWrongList(tx)
}

// firstWrongList does the same for the long lists.
func firstWrongList(tx *gorm.DB) error {
	type list struct{ Type, ID string }
	var lists []list
	if err := tx.Raw("SELECT DISTINCT type, id FROM changes WHERE added IS NOT NULL OR dropped IS NOT NULL UNION SELECT DISTINCT type, id FROM entries ORDER BY 1, 2").Scan(&lists).Error; err != nil {
		return database.Damaged(err)
	}
	for _, l := range lists {
		var steps []Change
		if err := tx.Where("type = ? AND id = ?", l.Type, l.ID).Order("revision, seq").Find(&steps).Error; err != nil {
			return database.Damaged(err)
		}
		want := map[string]bool{}
		for _, step := range steps {
			for _, part := range []struct {
				text *string
				in   bool
			}{{step.Dropped, false}, {step.Added, true}} {
				var entries []json.RawMessage
				if part.text != nil {
					if err := json.Unmarshal([]byte(*part.text), &entries); err != nil {
						return &WrongError{What: fmt.Sprintf("%s of %s/%s", revisionName(step.Revision), l.Type, l.ID), Problem: "cannot be read"}
					}
				}
				for _, e := range entries {
					if want[string(e)] = part.in; !part.in {
						delete(want, string(e))
					}
				}
			}
		}
		var have []string
		if err := tx.Raw("SELECT entry FROM entries WHERE type = ? AND id = ?", l.Type, l.ID).Scan(&have).Error; err != nil {
			return database.Damaged(err)
		}
		wrong := func(e, problem string) error {
			return &WrongError{What: fmt.Sprintf("the entry %s of %s/%s", e, l.Type, l.ID), Problem: problem}
		}
		slices.Sort(have)
		for _, e := range have {
			if !want[e] {
				return wrong(e, "was added by no revision")
			}
			delete(want, e)
		}
		for e := range want {
			return wrong(e, "is missing")
		}
	}
	return nil
}

// checkCredentials looks whether the credentials are those that were written.
func checkCredentials(tx *gorm.DB) error {
	var passwords []Password
	var tokens []Token
	var links []Link
	if err := errors.Join(tx.Find(&passwords).Error, tx.Find(&tokens).Error, tx.Find(&links).Error); err != nil {
		return database.Damaged(err)
	}
	for i := range passwords {
		if !passwords[i].sound() {
			return &WrongError{What: fmt.Sprintf("the password of %q", passwords[i].UserID), Problem: "is not as it was written"}
		}
	}
	for i := range tokens {
		if !tokens[i].Sound() {
			return &WrongError{What: fmt.Sprintf("the token %s of %q", tokens[i].ID, tokens[i].UserID), Problem: "is not as it was written"}
		}
	}
	for i := range links {
		if !links[i].sound() {
			return &WrongError{What: fmt.Sprintf("a link of %q", links[i].UserID), Problem: "is not as it was written"}
		}
	}
	return nil
}
