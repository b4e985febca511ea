package acceptance

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"gorm.io/gorm"

	"sentier/internal/audit"
	"sentier/internal/daemon"
	"sentier/internal/database"
	"sentier/internal/demo"
	"sentier/internal/store"
)

// lived is a folder in which everything is kept that there can be, and the same folder a little earlier.
func livedIn(t *testing.T) (earlier, later string) {
	t.Helper()
	p, err := demo.Policy()
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	ctx, stop := context.WithCancel(context.Background())
	d, err := daemon.Open(ctx, daemon.Options{Dir: dir, Listen: "127.0.0.1:0", Clock: daemon.ClockFrom(testNow(t)), Log: slog.New(slog.DiscardHandler), Version: "test"})
	if err != nil {
		t.Fatal(err)
	}
	if err := d.Prepare(ctx, daemon.Beginning{Owner: demo.Owner, Name: "Ines Carvalho", Password: password, Policy: p}); err != nil {
		t.Fatal(err)
	}
	token, err := d.OwnerToken(ctx, demo.Owner, "test")
	if err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() { ended <- d.Run(ctx) }()
	w := &world{t: t, url: d.Address(), token: token, owner: d}
	w.must("POST", "/api/v1/drafts", `{"name":"Regatta","changes":[{"op":"patch","type":"devices","id":"mill-bridge","record":{"note":"x"}}]}`)
	w.must("PUT", "/api/v1/users/noor.haddad/password", `{"password":"herons of the weir"}`)
	w.must("POST", "/api/v1/users/elin.berg/invitation", "")
	w.must("PATCH", "/api/v1/service", `{"approval":{"control":true,"everyone":true,"everything":true,"mandates":false,"more_than":5}}`)
	w.must("POST", "/api/v1/hooks", `{"name":"Desk","url":"https://desk.example/x","secret":"desk"}`)
	w.must("POST", "/api/v1/sources", `{"name":"People","kind":"scim","bring":{}}`)
	w.must("POST", "/api/v1/reviews", `{"name":"Autumn","everything":true,"due":"in 9 days","unanswered":"told"}`)
	w.as("tomas.field").must("POST", "/api/v1/requests", fmt.Sprintf(`{"right":"control","device":"mill-bridge","until":%q,"reason":"x"}`, testNow(t).Add(48*time.Hour).Format(time.RFC3339)))
	copied := func() string {
		to := t.TempDir()
		copyFiles(t, dir, to)
		return to
	}
	w.must("PATCH", "/api/v1/devices/mill-bridge", `{"note":"before"}`)
	stop()
	if err := <-ended; err != nil {
		t.Fatal(err)
	}
	earlier = copied()
	ctx, stop = context.WithCancel(context.Background())
	if d, err = daemon.Open(ctx, daemon.Options{Dir: dir, Listen: "127.0.0.1:0", Clock: daemon.ClockFrom(testNow(t).Add(time.Hour)), Log: slog.New(slog.DiscardHandler), Version: "test"}); err != nil {
		t.Fatal(err)
	}
	go func() { ended <- d.Run(ctx) }()
	w.url = d.Address()
	w.must("POST", "/api/v1/changes", `{"changes":[{"op":"drop","type":"user_groups","id":"bridge-crew","list":"members","value":"tomas.field"}]}`)
	w.must("PATCH", "/api/v1/service", `{"keep_days":400}`)
	stop()
	if err := <-ended; err != nil {
		t.Fatal(err)
	}
	return earlier, dir
}

func copyFiles(t *testing.T, from, to string, names ...string) {
	t.Helper()
	files, err := os.ReadDir(from)
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range files {
		if f.IsDir() || len(names) > 0 && !strings.Contains(" "+strings.Join(names, " ")+" ", " "+f.Name()+" ") {
			continue
		}
		data, err := os.ReadFile(filepath.Join(from, f.Name()))
		if err == nil {
			err = os.WriteFile(filepath.Join(to, f.Name()), data, 0o600)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
}

// starts tells whether a service starts on a folder, and if not, why.
func starts(t *testing.T, dir string) error {
	t.Helper()
	d, err := daemon.Open(context.Background(), daemon.Options{Dir: dir, Listen: "127.0.0.1:0", Clock: daemon.ClockFrom(testNow(t).Add(2 * time.Hour)), Log: slog.New(slog.DiscardHandler), Version: "test"})
	if err == nil {
		if err := d.Close(); err != nil {
			t.Error(err)
		}
	}
	return err
}

// TestForgeries puts in, changes and takes out rows of each table, and swaps, cuts, removes and rolls back the files: a service answers nothing by any of it, and a
// verification says so; whoever holds the files can accept them, and it is on record.
func TestForgeries(t *testing.T) {
	t.Parallel()
	earlier, later := livedIn(t)
	if err := starts(t, fresh(t, later)); err != nil {
		t.Fatalf("untouched: %v", err)
	}
	told := func(name, dir string) {
		t.Helper()
		if err := starts(t, dir); err == nil {
			t.Errorf("%s: a service starts on it", name)
		}
		v, err := daemon.Verify(context.Background(), dir)
		if err == nil && v.Whole {
			t.Errorf("%s: verify calls it whole", name)
		}
	}
	forged := 0
	for _, table := range store.Beside {
		for what, change := range map[string]func(tx *gorm.DB, columns []string) error{
			"put in":  forgeRow,
			"changed": changeRow,
			"taken out": func(tx *gorm.DB, _ []string) error {
				return tx.Exec("DELETE FROM " + table + " WHERE rowid IN (SELECT rowid FROM " + table + " LIMIT 1)").Error
			},
		} {
			dir := fresh(t, later)
			db, err := database.Open(filepath.Join(dir, store.FileName), database.ToWrite, 1)
			if err != nil {
				t.Fatal(err)
			}
			var before, after int64
			var columns []string
			tx := db.Set("table", table)
			if err := db.Raw("SELECT name FROM pragma_table_info(?) ORDER BY pk DESC, cid", table).Scan(&columns).Error; err != nil {
				t.Fatal(err)
			}
			if err := db.Raw("SELECT total_changes()").Scan(&before).Error; err != nil {
				t.Fatal(err)
			}
			if what == "taken out" {
				err = db.Exec("DELETE FROM " + table + " WHERE " + quotedList(columns, 1) + " IN (SELECT " + quotedList(columns, 1) + " FROM " + table + notOwn(table) + " LIMIT 1)" + strings.Replace(notOwn(table), "WHERE", "AND", 1)).Error
			} else {
				err = change(tx, columns)
			}
			if err != nil {
				t.Logf("%s %s: %v", table, what, err)
			}
			if err := db.Raw("SELECT total_changes()").Scan(&after).Error; err != nil {
				t.Fatal(err)
			}
			if err := database.Close(db); err != nil {
				t.Fatal(err)
			}
			if after == before {
				continue // there is no row of that table here
			}
			forged++
			if slicesLarge[table] { // looked at once the service answers: verify tells at once
				if v, err := daemon.Verify(context.Background(), dir); err == nil && v.Whole {
					t.Errorf("%s %s: verify calls it whole", table, what)
				}
				continue
			}
			told(table+" "+what, dir)
		}
	}
	if forged < 30 {
		t.Errorf("only %d forgeries were made", forged)
	}

	pair := []string{store.FileName, store.FileName + "-wal", store.FileName + "-shm", store.HeadName}
	log := []string{audit.FileName, audit.FileName + "-wal", audit.FileName + "-shm", audit.HeadName}
	remove := func(names ...string) func(dir string) {
		return func(dir string) {
			for _, name := range names {
				if err := os.Remove(filepath.Join(dir, name)); err != nil && !os.IsNotExist(err) {
					t.Fatal(err)
				}
			}
		}
	}
	for name, do := range map[string]func(dir string){
		"an older database with its mark":    func(dir string) { remove(pair...)(dir); copyFiles(t, earlier, dir, pair...) },
		"an older database without its mark": func(dir string) { remove(pair...)(dir); copyFiles(t, earlier, dir, pair[:3]...) },
		"an older audit log with its mark":   func(dir string) { remove(log...)(dir); copyFiles(t, earlier, dir, log...) },
		"no audit log, and no mark":          remove(log...),
		"no audit log":                       remove(log[:3]...),
		"no database, and no mark":           remove(pair...),
		"no database":                        remove(pair[:3]...),
		"no mark of the database":            remove(store.HeadName),
		"no mark of the audit log":           remove(audit.HeadName),
		"no marks":                           remove(store.HeadName, audit.HeadName),
		"an audit log whose end is cut": func(dir string) {
			remove(audit.HeadName)(dir)
			db, err := database.Open(filepath.Join(dir, audit.FileName), database.ToWrite, 1)
			if err == nil {
				err = db.Exec("DELETE FROM audit_blocks WHERE first > 5").Error
			}
			if err != nil {
				t.Fatal(err)
			}
			if err := database.Close(db); err != nil {
				t.Fatal(err)
			}
		},
	} {
		dir := fresh(t, later)
		do(dir)
		if err := starts(t, dir); err == nil {
			t.Errorf("%s: a service starts on it", name)
		} else if !strings.Contains(err.Error(), "sentier recover") && !strings.Contains(err.Error(), "missing") {
			t.Errorf("%s: it says %v, and not what to do", name, err)
		}
		if name == "no database" || name == "no database, and no mark" {
			continue
		}
		if code, _, errOut := runCLI(t, "", "recover", "--data", dir); code != 1 || !strings.Contains(errOut, "--reason") {
			t.Errorf("%s: recover says %d %s", name, code, errOut)
		}
		if code, _, errOut := runCLI(t, "", "recover", "--data", dir, "--reason", "put back by hand"); code != 0 {
			t.Errorf("%s: accepted: %d %s", name, code, errOut)
			continue
		}
		if err := starts(t, dir); err != nil {
			t.Errorf("%s: after it was accepted: %v", name, err)
		}
		if code, out, errOut := runCLI(t, "", "audit", "export", "--data", dir, "--kind", "service"); code == 0 && !strings.Contains(out, "put back by hand") {
			t.Errorf("%s: it is not on record: %s%s", name, out, errOut)
		}
	}
	// Both put back together from one copy look sound: only what was kept elsewhere tells.
	if err := starts(t, fresh(t, earlier)); err != nil {
		t.Errorf("a whole older folder: %v", err)
	}
}

var slicesLarge = map[string]bool{"origins": true, "origin_members": true, "source_runs": true, "source_contents": true, "preferences": true, "places": true}

func fresh(t *testing.T, from string) string {
	t.Helper()
	dir := t.TempDir()
	copyFiles(t, from, dir)
	return dir
}

func notOwn(table string) string {
	if table == "facts" {
		return " WHERE name NOT IN ('place in the log', 'trail', 'credential changes', 'sums', 'audit log head', 'seen')"
	}
	return ""
}

func quotedList(columns []string, n int) string { return `"` + strings.Join(columns[:n], `", "`) + `"` }

// forgeRow puts in a row like one that is there, under another key.
func forgeRow(tx *gorm.DB, columns []string) error {
	table, _ := tx.Get("table")
	rest := ""
	if len(columns) > 1 {
		rest = `, "` + strings.Join(columns[1:], `", "`) + `"`
	}
	return tx.Exec(fmt.Sprintf(`INSERT INTO %s ("%s"%s) SELECT "%s" || 'x'%s FROM %s%s LIMIT 1`, table, columns[0], rest, columns[0], rest, table, notOwn(fmt.Sprint(table)))).Error
}

// changeRow changes what stands in the last column of a row.
func changeRow(tx *gorm.DB, columns []string) error {
	table, _ := tx.Get("table")
	last := columns[len(columns)-1]
	return tx.Exec(fmt.Sprintf(`UPDATE %s SET "%s" = coalesce("%s", 0) || '1'%s`, table, last, last, notOwn(fmt.Sprint(table)))).Error
}
