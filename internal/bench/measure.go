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
	if r.wants("memory") {
		r.memory(w, n, heap()-before)
	}
	if r.wants("plain") {
		r.plain(w, n)
	}
	if r.wants("edit|page|import") {
		start = time.Now()
		s := r.start(w)
		defer s.stop()
		fmt.Fprintf(os.Stderr, "%d: started %v\n", n, time.Since(start))
		if r.wants("edit") {
			r.edits(s, n)
		}
		if r.wants("page") {
			r.pages(s, n)
		}
		if r.wants("import") {
			r.imports(s, n)
		}
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
