package store

import (
	"context"
	"errors"
	"testing"
)

// TestForgedHistoryAnswersNothing: what is asked of the past is answered by what was written then, or not at all.
func TestForgedHistoryAnswersNothing(t *testing.T) {
	all, _, last := lived(t, true)
	for name, sql := range map[string]string{
		"untouched":                      "",
		"who made it":                    `UPDATE revisions SET "by" = 'tomas.field' WHERE number = 20`,
		"when":                           "UPDATE revisions SET at = '2020-01-01 00:00:00' WHERE number = 20",
		"what it did":                    "UPDATE changes SET type = 'sites' WHERE revision = 20 AND id = 'mill-bridge'",
		"what it did, and all hashes":    "UPDATE revisions SET chain = x'00' WHERE number = 20",
		"something is gone of it":        "DELETE FROM changes WHERE revision = 20 AND id = 'mill-bridge'",
		"the revision is gone":           "PRAGMA foreign_keys = OFF; DELETE FROM revisions WHERE number = 20",
		"something is more in it":        "UPDATE changes SET revision = 20, seq = 99 WHERE revision = 21 AND id = 'mill-bridge'",
		"the one before those looked at": "UPDATE revisions SET chain = x'00' WHERE number = 10",
	} {
		dir := t.TempDir()
		put(t, dir, all)
		s := opened(t, dir)
		ctx := context.Background()
		list, err := s.Revisions(ctx, Which{}, 1)
		if err != nil || len(list) != 1 || list[0].Number != last {
			t.Fatalf("%s: %+v %v", name, list, err)
		}
		if sql != "" {
			if err := s.writer.Exec(sql).Error; err != nil {
				t.Fatalf("%s: %v", name, err)
			}
		}
		did, err := s.Back(ctx, 10, list[0])
		if sql == "" && (err != nil || len(did) != int(last)-10) {
			t.Errorf("%s: %d revisions, %v", name, len(did), err)
		}
		if sql != "" && !errors.Is(err, ErrDamaged) {
			t.Errorf("%s: %v", name, err)
		}
		if sql != "" {
			if did, err := s.Back(ctx, 21, list[0]); (err != nil || len(did) != int(last)-21) && name != "something is more in it" {
				t.Errorf("%s, which nobody asked about: %d revisions, %v", name, len(did), err)
			}
		}
	}
}
