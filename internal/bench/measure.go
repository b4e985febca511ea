package main

import (
	"fmt"
	"os"
	"time"

	"sentier/internal/decision"
	"sentier/internal/policy"
)

func (r *run) measure(n int) {
	start := time.Now()
	w := newWorld(n)
	made := time.Since(start)
	before := heap()
	start = time.Now()
	w.compiled = decision.Compile(w.policy)
	took := time.Since(start)
	fmt.Fprintf(os.Stderr, "%d: made %v, compiled %v\n", n, made, took)
	if r.wants("memory") && n >= large {
		r.memory(w, n, heap()-before)
	}
	for name, measure := range map[string]func(*world, int){"plain": r.plain, "explain": r.explain} {
		if r.wants(name) {
			measure(w, n)
		}
	}
	if r.wants("matrix") && n >= 100_000 && n < large {
		r.matrix(w, n)
	}
	if r.wants("reach") && n >= large {
		r.reach(w, n)
	}
	if r.wants("service") || r.wants("edit|page|import|http|sql|start") {
		r.service(w, n)
	}
}

// large is the size of the figures that are told for a million users and as many devices.
const large = 1_000_000

func (r *run) service(w *world, n int) {
	start := time.Now()
	s := r.start(w)
	defer s.end()
	fmt.Fprintf(os.Stderr, "%d: stored %v\n", n, time.Since(start))
	if r.wants("start") && n >= large {
		r.starts(s, n)
	}
	if r.wants("edit") {
		r.edits(s, n)
	}
	if r.wants("http") {
		r.overHTTP(s, n)
	}
	if r.wants("sql") {
		r.bySQL(s, n)
	}
	if r.wants("page") && n < large {
		r.pages(s, n)
	}
	if r.wants("import") && n == 100_000 {
		r.imports(s, n)
	}
}

func (r *run) memory(w *world, n int, compiled uint64) {
	bytes := 0
	for _, t := range policy.Types() {
		for record := range w.policy.Table(t).All() {
			bytes += len(record.Key()) + len(record.Title())
		}
	}
	r.report(figure{"memory of the compiled policy", n, float64(compiled) / float64(bytes), 4, false,
		fmt.Sprintf("%d MB, ids and names %d MB", compiled>>20, bytes>>20)})
}

func (r *run) document() string { return "" }
