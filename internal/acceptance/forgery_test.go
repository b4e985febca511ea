package acceptance

import (
	"context"
	"errors"
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
	"sentier/internal/wire"
)

// livedIn is a folder in which everything is kept that there can be, the same folder a little earlier, and a checkpoint that was taken away from the later one.
func livedIn(t *testing.T) (earlier, later, checkpoint string) {
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
	w := worldOf(ctx, t, d, p)
	ended := make(chan error, 1)
	go func() { ended <- d.Run(ctx) }()
	w.must("PUT", "/api/v1/session/preferences", `{"language":"fr"}`)
	w.must("POST", "/api/v1/feeds", `{"kind":"schedule","of":"night-watch"}`)
	w.must("POST", "/api/v1/findings/dismissals", `{"key":"everyone grants/look-around","reason":"the weather is for all","until":"in 9 days"}`)
	w.withOffice()
	day := testNow(t).AddDate(0, 0, 90)
	closures := write(t, filepath.Join(t.TempDir(), "office.ics"), calendarText(closed("Stocktaking", day, "DTEND;VALUE=DATE:"+day.AddDate(0, 0, 3).Format("20060102"))))
	w.does(0, "brings it a file", "source", "add", "Stocktaking", "--calendar", "--days", "office-closures")
	w.does(0, "Nothing counts yet", "source", "bring", "stocktaking", closures)
	w.does(0, "3 days come", "source", "sync", "stocktaking")
	if err := d.Service.SetPassword(ctx, "greta.holm", password); err != nil {
		t.Fatal(err)
	}
	_, in, _ := w.enter("greta.holm", "")
	greta := &world{t: t, url: w.url, token: in.Token}
	begun := get[wire.Enrolling](greta, "POST", "/api/v1/session/factors", `{"password":"`+password+`"}`)
	greta.must("POST", "/api/v1/session/factors/confirm", fmt.Sprintf(`{"code":%q,"name":"Telephone"}`, w.code(begun.Secret)))
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
	checkpoint = filepath.Join(t.TempDir(), "checkpoints.jsonl")
	if code, line, errOut := w.run("audit", "checkpoint"); code != 0 || os.WriteFile(checkpoint, []byte(line), 0o600) != nil {
		t.Fatalf("checkpoint: %d %s", code, errOut)
	}
	stop()
	if err := <-ended; err != nil {
		t.Fatal(err)
	}
	return earlier, dir, checkpoint
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
	earlier, later, checkpoint := livedIn(t)
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
	for _, f := range rowForgeries(t, later) {
		dir := fresh(t, later)
		if !f.make(t, dir) {
			continue // the schema does not allow it, or it changes nothing
		}
		forged++
		if toldByVerify[f.table] {
			if v, err := daemon.Verify(context.Background(), dir); err == nil && v.Whole {
				t.Errorf("%s: verify calls it whole", f.name)
			}
			continue
		}
		told(f.name, dir)
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
	forged += partsForged(t, earlier, later, checkpoint, told)
	t.Logf("%d forgeries", forged)
	if forged < 300 {
		t.Errorf("only %d forgeries were made", forged)
	}
}

// partsForged takes each of the four parts of a folder away or back to what it was, singly and together.
func partsForged(t *testing.T, earlier, later, checkpoint string, told func(name, dir string)) (forged int) {
	t.Helper()
	parts := [][]string{
		{store.FileName, store.FileName + "-wal", store.FileName + "-shm"}, {store.HeadName},
		{audit.FileName, audit.FileName + "-wal", audit.FileName + "-shm"}, {audit.HeadName},
	}
	for n := 1; n < 3*3*3*3; n++ {
		dir, name, rest := fresh(t, later), "", n
		for _, files := range parts {
			how := rest % 3
			rest /= 3
			name += ", " + files[0] + []string{" as it is", " removed", " of earlier"}[how]
			if how == 0 {
				continue
			}
			for _, file := range files {
				if err := os.Remove(filepath.Join(dir, file)); err != nil && !os.IsNotExist(err) {
					t.Fatal(err)
				}
			}
			if how == 2 {
				copyFiles(t, earlier, dir, files...)
			}
		}
		switch n {
		case 1 + 3 + 9 + 27:
			continue // an empty folder: nothing is forged that somebody could be given
		case 2 * 3, 2 * 27, 2 * (3 + 27): // the files are the newer ones, and a mark that is behind is what a machine leaves that was switched off
			continue
		case 2 * (1 + 3 + 9 + 27): // all put back together from one copy looks sound: only what was kept elsewhere tells
			if err := starts(t, dir); err != nil {
				t.Errorf("a whole older folder: %v", err)
			}
			if code, out, errOut := runCLI(t, "", "audit", "verify", "--data", dir, "--against", checkpoint); code != 1 {
				t.Errorf("a whole older folder against a checkpoint of later: %d %s%s", code, out, errOut)
			}
		default:
			told(strings.TrimPrefix(name, ", "), dir)
		}
		forged++
	}
	if code, out, errOut := runCLI(t, "", "audit", "verify", "--data", fresh(t, later), "--against", checkpoint); code != 0 {
		t.Errorf("untouched, against a checkpoint: %d %s%s", code, out, errOut)
	}
	return forged
}

// toldByVerify are tables of which a start reads no more than their end, or which are looked at once the service answers. Of history, what is wrong is told where
// somebody asks about the past.
var toldByVerify = map[string]bool{"origins": true, "origin_members": true, "source_runs": true, "source_contents": true, "preferences": true, "places": true,
	"revisions": true, "changes": true, "audit_blocks": true, "audit_checkpoints": true, "audit_days": true, "audit_postings": true}

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

// forgery is a statement that somebody who holds the files runs on one of them.
type forgery struct{ name, file, table, sql string }

// make runs it on a copy; false: it changed nothing.
func (f *forgery) make(t *testing.T, dir string) bool {
	t.Helper()
	db, err := database.Open(filepath.Join(dir, f.file), database.ToWrite, 1)
	if err != nil {
		t.Fatal(err)
	}
	var before, after int64
	for _, run := range []error{
		db.Exec("PRAGMA foreign_keys = OFF").Error,
		db.Raw("SELECT total_changes()").Scan(&before).Error,
	} {
		if run != nil {
			t.Fatal(run)
		}
	}
	if err := db.Exec(f.sql).Error; err != nil && !strings.Contains(err.Error(), "constraint") && !errors.Is(err, gorm.ErrDuplicatedKey) {
		t.Errorf("%s: %v", f.name, err)
	}
	if err := errors.Join(db.Raw("SELECT total_changes()").Scan(&after).Error, database.Close(db)); err != nil {
		t.Fatal(err)
	}
	return after > before
}

// unaccounted are columns that decide nothing: when a token was used, and what a request that comes again is answered with.
var unaccounted = map[string]bool{"tokens.used_at": true, "revisions.request_key": true, "revisions.request_hash": true, "revisions.form": true, "revisions.answer": true}

// rowForgeries puts a row into each table, takes one out, and changes each column of one.
func rowForgeries(t *testing.T, dir string) (out []forgery) {
	t.Helper()
	of := func(file string, tables ...string) {
		db, err := database.Open(filepath.Join(dir, file), database.ToRead, 1)
		if err != nil {
			t.Fatal(err)
		}
		for _, table := range tables {
			var columns []string
			if err := db.Raw("SELECT name FROM pragma_table_info(?) ORDER BY pk DESC, cid", table).Scan(&columns).Error; err != nil || len(columns) == 0 {
				t.Fatalf("%s: %v %v", table, columns, err)
			}
			key, own := `"`+columns[0]+`"`, notOwn(table)
			rest := strings.Join(columns[1:], `", "`)
			if rest != "" {
				rest = `, "` + rest + `"`
			}
			add := func(what, sql string) { out = append(out, forgery{table + " " + what, file, table, sql}) }
			add("put in", fmt.Sprintf(`INSERT INTO %s (%s%s) SELECT CASE typeof(%[2]s) WHEN 'integer' THEN %[2]s + 1000000 ELSE %[2]s || 'x' END%[3]s FROM %[1]s%[4]s LIMIT 1`, table, key, rest, own))
			one := fmt.Sprintf("%s IN (SELECT %[1]s FROM %s%s LIMIT 1)", key, table, own)
			if table != "audit_checkpoints" { // whoever has kept it tells
				add("taken out", fmt.Sprintf("DELETE FROM %s WHERE %s", table, one))
			}
			for _, c := range columns {
				if !unaccounted[table+"."+c] {
					add("with another "+c, fmt.Sprintf(`UPDATE %s SET "%s" = CASE typeof("%[2]s") WHEN 'integer' THEN "%[2]s" + 1 WHEN 'blob' THEN x'00' || "%[2]s" ELSE coalesce("%[2]s", '') || '1' END WHERE %s`, table, c, one))
				}
			}
		}
		if err := database.Close(db); err != nil {
			t.Fatal(err)
		}
	}
	of(store.FileName, append([]string{"revisions", "changes", "records"}, store.Beside...)...)
	of(audit.FileName, "audit_blocks", "audit_checkpoints", "audit_days", "audit_postings")
	return out
}
