package main

import (
	"bytes"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/labstack/echo/v5"

	"sentier/internal/decision"
	"sentier/internal/policy"
	"sentier/internal/survey"
	"sentier/internal/wire"
)

// explain measures an answer with its reasons against one without.
func (r *run) explain(w *world, n int) {
	const some = 512
	took, floor := against(15, func() {
		for i := range some {
			sink += len(w.compiled.Explain(w.questions[i]).Missing)
		}
	}, func() {
		for i := range some {
			sink += int(w.compiled.Answer(w.questions[i]).Reason)
		}
	})
	r.report(figure{"with explanation", n, ratio(took, floor), 12, false, fmt.Sprintf("%v, an answer with its end but without reasons %v", each(took, some), each(floor, some))})
}

// reach measures finding all who may control one device against copying that many results.
func (r *run) reach(w *world, n int) {
	var device policy.DeviceID
	var ids []policy.UserID
	for _, id := range w.deviceIDs { // the first that has anybody
		if found, _ := survey.Of(w.compiled).UsersOf(id, "", survey.Circumstances{At: at, Right: "control"}); found.Total > len(ids) {
			device, ids = id, found.IDs()
			if len(ids)*1000 > n {
				break
			}
		}
	}
	took, floor := against(199, func() {
		found, _ := survey.Of(w.compiled).UsersOf(device, "", survey.Circumstances{At: at, Right: "control"})
		sink += len(found.IDs())
	}, func() {
		copied := make([]policy.UserID, len(ids))
		sink += copy(copied, ids)
	})
	r.report(figure{"all who may control one device", n, ratio(took, floor), 6, false, fmt.Sprintf("%v for %d, copying them %v", took, len(ids), floor)})
}

// possible measures all that is possible for one user on every device, in whatever circumstances, against what they are allowed at any time.
func (r *run) possible(w *world, n int) {
	var user policy.UserID
	most := 0
	for i := range 200 { // one who reaches much
		id := w.userIDs[i*len(w.userIDs)/200]
		if found, _ := survey.Of(w.compiled).DevicesOf(id, survey.Circumstances{At: at, Degrees: survey.AllDegrees}); found.Total > most {
			user, most = id, found.Total
		}
	}
	anyTime := survey.Degrees(0).With(survey.Now).With(survey.Later)
	var took, floor time.Duration
	profiled(func() {
		took, floor = against(99, func() {
			found, _ := survey.Of(w.compiled).DevicesOf(user, survey.Circumstances{At: at, Degrees: survey.AllDegrees})
			sink += found.Total
		}, func() {
			found, _ := survey.Of(w.compiled).DevicesOf(user, survey.Circumstances{At: at, Degrees: anyTime})
			sink += found.Total
		})
	})
	r.report(figure{"all that is possible for one user", n, ratio(took, floor), 5, false, fmt.Sprintf("%v for %d, what is allowed at any time %v", took, most, floor)})
}

// matrix measures 1,000 × 1,000 cells against as many plain decisions.
func (r *run) matrix(w *world, n int) {
	const side = 1000
	rows, columns := make([]survey.Who, side), make([]survey.What, side)
	for i := range side {
		rows[i].User = w.userIDs[i*len(w.userIDs)/side]
		columns[i].Device = w.deviceIDs[i*len(w.deviceIDs)/side]
	}
	var took, floor time.Duration
	profiled(func() {
		took, floor = against(7, func() {
			sink += len(survey.Of(w.compiled).Matrix(rows, columns, survey.Circumstances{At: at}).Kinds)
		}, func() {
			q := decision.Question{Right: "control", At: at}
			for i := range rows {
				for k := range columns {
					q.User, q.Device = rows[i].User, columns[k].Device
					if w.compiled.Decide(&q).Allowed {
						sink++
					}
				}
			}
		})
	})
	r.report(figure{"matrix of 1,000 × 1,000", n, ratio(took, floor), 0.2, false, fmt.Sprintf("%v with all rights, 1,000,000 plain decisions %v", took, floor)})
}

// evaluation is a question as the AuthZEN interface takes it.
func evaluation(q *decision.Question) string {
	return fmt.Sprintf(`{"subject":{"type":"user","id":%q},"action":{"name":%q},"resource":{"type":"device","id":%q},"context":{"time":%q}}`,
		q.User, q.Right, q.Device, q.At.Format(time.RFC3339))
}

// Loads are measured in turn, so often and each so long.
var rounds, round = 8, 500 * time.Millisecond

// load sends requests on some connections for a while, and gives how many were answered a second.
func load(url, token string, bodies []string, during time.Duration) float64 {
	return loadOn(8, url, token, bodies, during)
}

// loadOn is load on a number of connections.
func loadOn(connections int, url, token string, bodies []string, during time.Duration) float64 {
	var done atomic.Int64
	var wait sync.WaitGroup
	end := time.Now().Add(during)
	for c := range connections {
		wait.Go(func() {
			for i := c; time.Now().Before(end); i += connections {
				request, err := http.NewRequest("POST", url, strings.NewReader(bodies[i%len(bodies)]))
				check(err)
				request.Header.Set("Authorization", "Bearer "+token)
				request.Header.Set("Content-Type", "application/json")
				answer, err := client.Do(request)
				check(err)
				_, err = io.Copy(io.Discard, answer.Body)
				check(err)
				check(answer.Body.Close())
				if answer.StatusCode != http.StatusOK {
					check(fmt.Errorf("%s: %s", url, answer.Status))
				}
				done.Add(1)
			}
		})
	}
	wait.Wait()
	return float64(done.Load()) / during.Seconds()
}

// overHTTP measures evaluations against a handler that reads the same body and answers a constant, in the same process.
func (r *run) overHTTP(s *running, n int) {
	var bodies []string
	for i := range s.world.questions {
		bodies = append(bodies, evaluation(&s.world.questions[i]))
	}
	e := echo.New()
	e.POST("/access/v1/evaluation", func(c *echo.Context) error {
		var in wire.Evaluation
		body, err := io.ReadAll(c.Request().Body)
		if err != nil {
			return err
		}
		if err := json.Unmarshal(body, &in); err != nil {
			return err
		}
		return c.JSON(http.StatusOK, wire.Decision{Context: wire.DecisionContext{Reason: "no_grant", Revision: 1}})
	})
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	check(err)
	server := &http.Server{Handler: e}
	go func() {
		if err := server.Serve(listener); err != http.ErrServerClosed {
			check(err)
		}
	}()
	defer server.Close()
	runtime.GC() // a collection of what was measured before would go on through all rounds, and slow whoever allocates more
	constant := "http://" + listener.Addr().String() + "/access/v1/evaluation"
	ours, floor := 0.0, 0.0
	for range rounds {
		floor = max(floor, load(constant, s.token, bodies, round))
		ours = max(ours, load(s.url+"/access/v1/evaluation", s.token, bodies, round))
	}
	r.report(figure{"POST /access/v1/evaluation, requests/s", n, ours / floor, 0.65, true, fmt.Sprintf("%.0f/s, a handler that reads the body and answers a constant %.0f/s", ours, floor)})

	var many []string
	for from := 0; from+1000 <= len(s.world.questions); from += 1000 {
		var parts bytes.Buffer
		for i := from; i < from+1000; i++ {
			q := &s.world.questions[i]
			fmt.Fprintf(&parts, `,{"subject":{"type":"user","id":%q},"resource":{"type":"device","id":%q}}`, q.User, q.Device)
		}
		many = append(many, fmt.Sprintf(`{"action":{"name":"control"},"context":{"time":%q},"evaluations":[%s]}`, at.Format(time.RFC3339), parts.String()[1:]))
	}
	single, batch := 0.0, 0.0
	profiled(func() {
		for range rounds {
			single = max(single, load(s.url+"/access/v1/evaluation", s.token, bodies, round))
			time.Sleep(round) // nobody else asks
			batch = max(batch, 1000*load(s.url+"/access/v1/evaluations", s.token, many, round))
		}
	})
	r.report(figure{"batch of 1,000, decisions/s", n, batch / single, 25, true, fmt.Sprintf("%.0f/s, single requests %.0f/s", batch, single)})
}

// bySQL measures the same question as one prepared query on the store: who is in the user's groups and has an allow line that
// names the device, a group of it or its site. It leaves out schedules, denials, conditions and included groups.
func (r *run) bySQL(s *running, n int) {
	db, err := sql.Open("sqlite", "file:"+filepath.Join(s.dir, "sentier.db")+"?_pragma=query_only(1)")
	check(err)
	defer db.Close()
	db.SetMaxOpenConns(1)
	query, err := db.Prepare(`
		WITH mine AS (SELECT id FROM entries WHERE type = 'user_groups' AND of = ?1),
		gear AS (SELECT id FROM entries WHERE type = 'device_groups' AND of = ?2),
		place AS (WITH RECURSIVE up (id) AS (
			SELECT json_extract(body, '$.site') FROM records WHERE type = 'devices' AND id = ?2
			UNION ALL SELECT json_extract(records.body, '$.parent') FROM up JOIN records ON records.type = 'sites' AND records.id = up.id
		) SELECT id FROM up WHERE id IS NOT NULL)
		SELECT EXISTS (
			SELECT 1 FROM records g, json_each(g.body, '$.to.groups') who, json_each(g.body, '$.lines') line
			WHERE g.type = 'grants' AND who.value IN (SELECT id FROM mine) AND (
				EXISTS (SELECT 1 FROM json_each(line.value, '$.on.device_groups') d WHERE d.value IN (SELECT id FROM gear))
				OR EXISTS (SELECT 1 FROM json_each(line.value, '$.on.sites') d WHERE d.value IN (SELECT id FROM place))))`)
	check(err)
	const some = 8
	took, floor := against(3, func() {
		for i := range some {
			q := &s.world.questions[i]
			var allowed bool
			check(query.QueryRow(string(q.User), string(q.Device)).Scan(&allowed))
		}
	}, func() {
		for i := range some {
			sink += int(s.world.compiled.Decide(&s.world.questions[i]).Reason)
		}
	})
	r.report(figure{"the question as one SQL query, times slower", n, ratio(took, floor), 100, true, fmt.Sprintf("%v, a plain decision %v", each(took, some), each(floor, some))})
}
