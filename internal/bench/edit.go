package main

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"runtime"
	"runtime/pprof"
	"slices"
	"strings"
	"sync"
	"time"

	_ "modernc.org/sqlite" // the driver that the store uses, for the floors

	"sentier/internal/daemon"
	"sentier/internal/demo"
	"sentier/internal/service"
	"sentier/internal/wire"
)

// running is a service on loopback with a grown navigation in it.
type running struct {
	world *world
	dir   string
	url   string
	token string
	stop  func()

	service *service.Service
}

func (r *run) start(w *world) *running {
	dir, err := os.MkdirTemp("", "sentier-bench-")
	check(err)
	s := &running{world: w, dir: dir}
	s.open()
	for w.policy.Len() >= large/10 { // it looks through its files, and keeps a picture, beside what is measured
		if _, err := os.Stat(filepath.Join(dir, "sentier.picture")); err == nil {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	return s
}

// open starts the service, which fills a database that is empty, and gives how long it took to be ready.
func (s *running) open() time.Duration {
	ctx, cancel := context.WithCancel(context.Background())
	start := time.Now()
	d, err := daemon.Open(ctx, daemon.Options{Dir: s.dir, Listen: "127.0.0.1:0", Log: slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelWarn}))})
	check(err)
	ready := time.Since(start)
	if !d.HasOwner() {
		check(d.Prepare(ctx, daemon.Beginning{Owner: demo.Owner, Password: "bench-only-1234", Policy: s.world.policy}))
	}
	s.token, err = d.OwnerToken(ctx, demo.Owner, "bench")
	check(err)
	_, err = d.Service.ChangeSettings(ctx, service.Caller{User: demo.Owner}, wire.ServiceChange{Decisions: new("none")}) // but where the record is measured
	check(err)
	done := make(chan error, 1)
	go func() { done <- d.Run(ctx) }()
	s.url, s.service = d.Address(), d.Service
	s.stop = sync.OnceFunc(func() {
		cancel()
		check(<-done)
		s.service = nil // a policy that is held still would be looked through for garbage beside the next
	})
	return ready
}

// starts measures a start to ready, with the picture that a service leaves behind when it stops, against reading the same rows with plain SQL.
func (r *run) starts(s *running, n int) {
	s.stop()
	runtime.GC()
	start := time.Now()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(s.dir, "sentier.db")+"?_pragma=query_only(1)")
	check(err)
	for _, query := range []string{"SELECT type, id, body FROM records", "SELECT type, id, of, entry FROM entries"} {
		rows, err := db.Query(query)
		check(err)
		columns, err := rows.Columns()
		check(err)
		values := make([]string, len(columns))
		into := make([]any, len(columns))
		for i := range values {
			into[i] = &values[i]
		}
		for rows.Next() {
			check(rows.Scan(into...))
			sink += len(values[1])
		}
		check(rows.Err())
	}
	check(db.Close())
	floor := time.Since(start)
	runtime.GC()
	var took time.Duration
	profiled(func() { took = s.open() })
	r.report(figure{"start, to ready", n, ratio(took, floor), 0.5, false, fmt.Sprintf("%v, reading the rows with plain SQL %v", took, floor)})
}

// end stops the service and takes its folder away.
func (s *running) end() {
	s.stop()
	check(os.RemoveAll(s.dir))
}

var client = &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 128}}

// call makes a request and gives the body of its answer, which has to be a success.
func (s *running) call(method, path, body string) []byte {
	request, err := http.NewRequest(method, s.url+path, strings.NewReader(body))
	check(err)
	request.Header.Set("Authorization", "Bearer "+s.token)
	media := "application/json"
	switch {
	case strings.HasPrefix(path, "/api/v1/sheets/"):
		media = "text/csv"
	case method == http.MethodPatch:
		media = "application/merge-patch+json"
	}
	request.Header.Set("Content-Type", media)
	answer, err := client.Do(request)
	check(err)
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	check(err)
	if answer.StatusCode >= 300 {
		check(fmt.Errorf("%s %s: %d %s", method, path, answer.StatusCode, text))
	}
	return text
}

// bare is a database of its own, in which the floors are measured.
func (s *running) bare(name string) *sql.DB {
	db, err := sql.Open("sqlite", "file:"+filepath.Join(s.dir, name)+"?_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_txlock=immediate")
	check(err)
	db.SetMaxOpenConns(1)
	for _, statement := range []string{
		"CREATE TABLE revisions (number INTEGER PRIMARY KEY, at TEXT, by TEXT, chain BLOB)",
		"CREATE TABLE changes (revision INTEGER, seq INTEGER, type TEXT, id TEXT, before TEXT, after TEXT, added TEXT, PRIMARY KEY (revision, seq)) WITHOUT ROWID",
		"CREATE INDEX changes_record ON changes (type, id, revision)",
		"CREATE TABLE entries (type TEXT, id TEXT, of TEXT, entry TEXT, PRIMARY KEY (type, id, of)) WITHOUT ROWID",
		"CREATE TABLE records (type TEXT, id TEXT, body TEXT, PRIMARY KEY (type, id)) WITHOUT ROWID",
	} {
		_, err := db.Exec(statement)
		check(err)
	}
	return db
}

func median(list []time.Duration) time.Duration {
	slices.Sort(list)
	return list[len(list)/2]
}

// edits measures one member added to a group, from the request to the answer that a question after it sees.
func (r *run) edits(s *running, n int) {
	db := s.bare("edits.db")
	defer db.Close()
	const rounds = 200
	var took, floor []time.Duration
	group := "district-100-keepers"
	if profileTo != nil {
		check(pprof.StartCPUProfile(profileTo))
		defer pprof.StopCPUProfile()
	}
	for i := range rounds {
		user := string(s.world.userIDs[(i*7919)%len(s.world.userIDs)])
		start := time.Now()
		s.call("PUT", "/api/v1/user_groups/"+group+"/members/"+user, "")
		took = append(took, time.Since(start))
		if i == 0 && !bytes.Contains(s.call("GET", "/api/v1/user_groups/"+group, ""), []byte(user)) {
			check(fmt.Errorf("%s was added to %s and is not there", user, group))
		}
		body := `{"id":"` + group + `","name":"District 100 keepers","enabled":true}`
		start = time.Now()
		tx, err := db.Begin()
		check(err)
		_, err = tx.Exec("INSERT INTO revisions VALUES (?, ?, ?, ?)", i, start.String(), "ines.carvalho", make([]byte, 32))
		check(err)
		_, err = tx.Exec("INSERT INTO changes VALUES (?, 0, ?, ?, ?, ?, ?)", i, "user_groups", group, body, body, `["`+user+`"]`)
		check(err)
		_, err = tx.Exec("INSERT INTO entries VALUES (?, ?, ?, ?)", "user_groups", group, fmt.Sprint(user, i), `"`+user+`"`)
		check(err)
		check(tx.Commit())
		floor = append(floor, time.Since(start))
	}
	a, b := median(took), median(floor)
	r.report(figure{"a member added, through HTTP", n, ratio(a, b), 5, false, fmt.Sprintf("%v, a bare transaction of as many rows %v", a, b)})
}

// halfway is the cursor of a page in the middle of the people.
func (s *running) halfway(n int) string {
	cursor := ""
	for seen := 0; seen < n/2; {
		var page wire.List[struct{}]
		check(json.Unmarshal(s.call("GET", "/api/v1/users?limit=1000&cursor="+cursor, ""), &page))
		if page.Next == "" {
			break
		}
		seen, cursor = seen+len(page.Items), page.Next
	}
	return cursor
}

// pages measures a page of each kind of list against the SQL for it alone.
func (r *run) pages(s *running, n int) {
	db, err := sql.Open("sqlite", "file:"+filepath.Join(s.dir, "sentier.db")+"?_pragma=query_only(1)")
	check(err)
	defer db.Close()
	middle := string(s.world.userIDs[len(s.world.userIDs)/2])
	for _, page := range []struct{ name, path, count, query, word string }{
		{"a page of people", "/api/v1/users?limit=100&cursor=" + s.halfway(n), "SELECT count(*) FROM records WHERE type = 'users'",
			"SELECT body FROM records WHERE type = 'users' AND id > ? ORDER BY id LIMIT 100", middle},
		{"a page of people found by a word", "/api/v1/users?limit=100&q=brook.000", "SELECT count(*) FROM records WHERE type = 'users' AND body LIKE ?",
			"SELECT body FROM records WHERE type = 'users' AND body LIKE ? ORDER BY id LIMIT 100", "%brook.000%"},
		{"a page of devices of a kind", "/api/v1/devices?limit=100&kind=sluice", "SELECT count(*) FROM records WHERE type = 'devices' AND json_extract(body, '$.kind') = ?",
			"SELECT body FROM records WHERE type = 'devices' AND json_extract(body, '$.kind') = ? ORDER BY id LIMIT 100", "sluice"},
	} {
		took, floor := against(9, func() {
			var list wire.List[json.RawMessage]
			check(json.Unmarshal(s.call("GET", page.path, ""), &list))
			if len(list.Items) == 0 {
				check(fmt.Errorf("%s is empty", page.path))
			}
		}, func() {
			var total int
			count := []any{}
			if strings.Contains(page.count, "?") {
				count = append(count, page.word)
			}
			check(db.QueryRow(page.count, count...).Scan(&total))
			rows, err := db.Query(page.query, page.word)
			check(err)
			for rows.Next() {
				var body string
				check(rows.Scan(&body))
				sink += len(body)
			}
			check(rows.Err())
		})
		r.report(figure{page.name, n, ratio(took, floor), 3, false, fmt.Sprintf("%v, its SQL alone %v", took, floor)})
	}
}

// imports measures bringing people in as CSV against the bare batched insert of the rows.
func (r *run) imports(s *running, n int) {
	var sheet strings.Builder
	sheet.WriteString("id,name,email\n")
	for i := range n {
		fmt.Fprintf(&sheet, "newcomer.%07d,Newcomer %d,newcomer.%07d@larkmere.example\n", i, i, i)
	}
	db := s.bare("imports.db")
	defer db.Close()
	start := time.Now()
	profiled(func() { s.call("PUT", "/api/v1/sheets/users", sheet.String()) })
	took := time.Since(start)
	start = time.Now()
	tx, err := db.Begin()
	check(err)
	record := func(i int) (id, body string) {
		id = fmt.Sprintf("newcomer.%07d", i)
		return id, fmt.Sprintf(`{"id":%q,"name":"Newcomer %d","email":"%s@larkmere.example","kind":"person","status":"active"}`, id, i, id)
	}
	const batch = 500
	for from := 0; from < n; from += batch {
		var records, changes []any
		for i := from; i < min(n, from+batch); i++ {
			id, body := record(i)
			records = append(records, "users", id, body)
			changes = append(changes, 1, i, "users", id, nil, body, nil)
		}
		_, err := tx.Exec("INSERT INTO records VALUES "+values(3, len(records)/3), records...)
		check(err)
		_, err = tx.Exec("INSERT INTO changes VALUES "+values(7, len(changes)/7), changes...)
		check(err)
	}
	check(tx.Commit())
	floor := time.Since(start)
	r.report(figure{"people imported from CSV", n, ratio(took, floor), 3, false, fmt.Sprintf("%v, the bare batched insert of the rows %v", took, floor)})
}

// provisioned measures people brought by SCIM, in as few requests as are taken, against as many from one CSV file.
func (r *run) provisioned(s *running, n int) {
	many := min(10_000, 10*n) // fewer in a test
	var sheet strings.Builder
	sheet.WriteString("id,name,email\n")
	for i := range many {
		fmt.Fprintf(&sheet, "by.sheet.%05d,Newcomer %d,by.sheet.%05d@larkmere.example\n", i, i, i)
	}
	start := time.Now()
	s.call("PUT", "/api/v1/sheets/users", sheet.String())
	floor := time.Since(start)
	s.call("POST", "/api/v1/sources", `{"name":"Bench","kind":"scim"}`)
	var made wire.Token
	check(json.Unmarshal(s.call("POST", "/api/v1/sources/bench/tokens", "{}"), &made))
	owner := s.token
	s.token = made.Secret
	defer func() { s.token = owner }()
	var ops []string
	for i := range many {
		ops = append(ops, fmt.Sprintf(`{"method":"POST","path":"/Users","bulkId":"%[1]d","data":{"userName":"by.scim.%05[1]d","displayName":"Newcomer %[1]d","emails":[{"value":"by.scim.%05[1]d@larkmere.example"}]}}`, i))
	}
	body := `{"schemas":["urn:ietf:params:scim:api:messages:2.0:BulkRequest"],"Operations":[` + strings.Join(ops, ",") + `]}`
	start = time.Now()
	profiled(func() { s.call("POST", "/scim/v2/Bulk", body) })
	took := time.Since(start)
	r.report(figure{"people brought by SCIM", n, ratio(took, floor), 3, false, fmt.Sprintf("%v for %d, imported from CSV %v", took, many, floor)})
}

func values(columns, rows int) string {
	one := "(" + strings.TrimSuffix(strings.Repeat("?,", columns), ",") + ")"
	return strings.TrimSuffix(strings.Repeat(one+",", rows), ",")
}
