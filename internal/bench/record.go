package main

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"time"

	"sentier/internal/audit"
)

// recorded measures evaluations of which every one is in the record before it is answered, against those of which none is.
func (r *run) recorded(s *running, n int) {
	var bodies []string
	for i := range s.world.questions {
		bodies = append(bodies, evaluation(&s.world.questions[i]))
	}
	ours, floor := 0.0, 0.0
	for range rounds {
		s.keep("none")
		floor = max(floor, loadOn(manyConnections, s.url+"/access/v1/evaluation", s.token, bodies, round))
		s.keep("all")
		ours = max(ours, loadOn(manyConnections, s.url+"/access/v1/evaluation", s.token, bodies, round))
	}
	if profileTo != nil {
		s.keep("all")
		profiled(func() { loadOn(manyConnections, s.url+"/access/v1/evaluation", s.token, bodies, 8*round) })
	}
	s.keep("none")
	r.report(figure{"evaluations, every one on record", n, ours / floor, 0.7, true, fmt.Sprintf("%.0f/s on %d connections, none on record %.0f/s", ours, manyConnections, floor)})
}

// manyConnections is as many as the panels of a large site hold.
const manyConnections = 64

// keep sets which decisions are kept.
func (s *running) keep(decisions string) {
	s.call("PATCH", "/api/v1/service", fmt.Sprintf(`{"decisions":%q}`, decisions))
}

// records measures a record of many decisions: a page of what one person did in the last day, and an edit beside it.
func (r *run) records(s *running, n, entries int) {
	edits := func() time.Duration {
		var list []time.Duration
		for i := range 101 {
			start := time.Now()
			s.call("PATCH", "/api/v1/users/"+string(s.world.questions[i%7].User), fmt.Sprintf(`{"note":"note %d"}`, i))
			list = append(list, time.Since(start))
		}
		return median(list)
	}
	best := func() time.Duration { // of several rounds: a disk is not equally fast at all times
		out := edits()
		for range 6 {
			out = min(out, edits())
		}
		return out
	}
	edits() // as often as it takes to be at full speed
	before := best()
	s.stop()
	fillRecord(filepath.Join(s.dir), entries)
	s.open()
	edits()
	user := string(s.world.questions[0].User)
	page := func() time.Duration {
		start := time.Now()
		s.call("GET", "/api/v1/audit?limit=100&user="+user+"&since=yesterday", "")
		return time.Since(start)
	}
	page()
	var pages []time.Duration
	for range 21 {
		pages = append(pages, page())
	}
	r.report(figure{"page of one's last day, ms", entries, float64(median(pages).Microseconds()) / 1000, 50, false, fmt.Sprintf("of a record of %s decisions", grouped(entries))})
	r.report(figure{"edit beside that record", entries, ratio(best(), before), 1.2, false, fmt.Sprintf("an edit beside an empty one %v", before)})
}

// fillRecord adds decisions to a record, as they come over thirty days of ten thousand people.
func fillRecord(dir string, entries int) {
	key, err := audit.LoadKey(filepath.Join(dir, audit.KeyName))
	check(err)
	rec, err := audit.Open(context.Background(), audit.Options{Dir: dir, Clock: time.Now, Log: slog.New(slog.DiscardHandler), Key: key})
	check(err)
	const batch = 2000
	start := time.Now()
	first := start.Add(-30 * 24 * time.Hour)
	list := make([]audit.Entry, batch)
	for done := 0; done < entries; done += batch {
		for i := range list {
			k := done + i
			list[i] = audit.Entry{At: first.Add(time.Duration(float64(k) / float64(entries) * float64(30*24*time.Hour))), Kind: audit.Decision, Outcome: audit.Granted, By: "gateway-bridges", Via: "token",
				Token: "0192f0c8-0000-7000-8000-000000000000", From: "10.20.3.4", User: fmt.Sprintf("person.%05d", k*7919%10_000), Right: "control", Device: fmt.Sprintf("device.%05d", k*104729%10_000), Revision: 7}
		}
		check(rec.Add(list...))
		if done%1_000_000 == 0 {
			fmt.Fprintf(os.Stderr, "record: %d entries, %v\n", done, time.Since(start))
		}
	}
	fmt.Fprintf(os.Stderr, "record: %d entries in %v\n", entries, time.Since(start))
	check(rec.Close())
}
