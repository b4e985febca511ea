package main

import (
	"math"
	"regexp"
	"strings"
	"testing"
	"time"

	"sentier/internal/demo"
)

// TestEveryFigureIsMeasured measures each figure once on a small navigation: not how fast anything is, but that each
// measures something, and that the report holds it.
func TestEveryFigureIsMeasured(t *testing.T) {
	long, often := round, rounds
	round, rounds = 40*time.Millisecond, 2
	defer func() { round, rounds = long, often }()
	const n = 400
	r := &run{wanted: regexp.MustCompile("")}
	w := newWorld(n)
	before := heap()
	r.compile(w)
	r.memory(w, n, heap()-before)
	r.plain(w, n)
	r.explain(w, n)
	r.matrix(w, n)
	r.possible(w, n)
	r.reach(w, n)
	small, err := demo.Policy()
	if err != nil {
		t.Fatal(err)
	}
	r.readers(&world{policy: small}, n)
	r.impact(w, n)
	r.upkeep(w, n)
	r.expectations(w, n)
	s := r.start(w)
	defer s.end()
	r.edits(s, n)
	r.overHTTP(s, n)
	r.bySQL(s, n)
	r.pages(s, n)
	r.imports(s, n)
	r.provisioned(s, n)
	*w = world{}
	r.starts(s, n)
	if len(r.figures) != 24 {
		t.Errorf("%d figures were measured: %v", len(r.figures), r.figures)
	}
	report := r.document()
	for _, f := range r.figures {
		if math.IsNaN(f.value) || math.IsInf(f.value, 0) || f.value <= 0 && !strings.HasPrefix(f.name, "allocations") {
			t.Errorf("%s is %v", f.name, f.value)
		}
		if !strings.Contains(report, "| "+f.name+" | 400 | ") {
			t.Errorf("%s is not in the report", f.name)
		}
	}
	for _, f := range r.figures {
		if f.name == "allocations of a plain decision" && f.value != 0 {
			t.Errorf("a plain decision allocates %v times", f.value)
		}
	}
}

func TestVerdicts(t *testing.T) {
	for _, x := range []struct {
		f     figure
		ok    bool
		bound string
	}{
		{figure{value: 2, limit: 2}, true, "≤ 2"}, {figure{value: 2.01, limit: 2}, false, "≤ 2"},
		{figure{value: .8, limit: .8, least: true}, true, "≥ 0.8"}, {figure{value: .79, limit: .8, least: true}, false, "≥ 0.8"},
	} {
		if x.f.ok() != x.ok || x.f.bound() != x.bound || (x.f.verdict() == "ok") != x.ok {
			t.Errorf("%+v: %v, %s, %s", x.f, x.f.ok(), x.f.bound(), x.f.verdict())
		}
	}
	for n, want := range map[int]string{7: "7", 1000: "1,000", 100_000: "100,000", 1_000_000: "1,000,000"} {
		if got := grouped(n); got != want {
			t.Errorf("%d is written %s, want %s", n, got, want)
		}
	}
}
