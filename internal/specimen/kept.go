package specimen

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"sentier/internal/database"
	"sentier/internal/store"
)

// Kept is all that a machine has in its folder of what each that may write has to have, as text: that of two is the same, or one of them lacks something.
func Kept(t testing.TB, dir string) string {
	t.Helper()
	db, err := database.Open(filepath.Join(dir, store.FileName), database.ToWrite, 1)
	if err != nil {
		t.Fatal(err)
	}
	var all strings.Builder
	for _, table := range append([]string{"revisions", "changes", "records", "entries"}, store.Beside...) {
		var rows []map[string]any
		if err := db.Raw("SELECT * FROM " + table + " ORDER BY 1, 2").Scan(&rows).Error; err != nil {
			t.Fatal(err)
		}
		for _, row := range rows {
			delete(row, "used_at") // each keeps by itself when it was used there, and what it knows of its own files
			if name, _ := row["name"].(string); !slices.Contains([]string{"place in the log", "sums", "audit log head", "seen", "picture"}, name) {
				fmt.Fprintln(&all, table, row)
			}
		}
	}
	if err := database.Close(db); err != nil {
		t.Fatal(err)
	}
	return all.String()
}
