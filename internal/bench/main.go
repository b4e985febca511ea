// Command bench measures what docs/performance.md tells, prints one line per figure, and ends with 1 where
// one falls short of its limit. Every figure is a ratio to a floor that is measured in the same run.
package main

import (
	"flag"
	"fmt"
	"os"
	"regexp"
	"runtime"
	"runtime/pprof"
	"slices"
	"strconv"
	"strings"
)

// figure is one line of the result.
type figure struct {
	name  string
	size  int
	value float64
	limit float64
	least bool   // value must be at least limit, not at most
	floor string // what the value is a ratio to, and how long both took
}

func (f figure) ok() bool {
	if f.least {
		return f.value >= f.limit
	}
	return f.value <= f.limit
}

func (f figure) verdict() string {
	if f.ok() {
		return "ok"
	}
	return "short"
}

func (f figure) bound() string {
	if f.least {
		return fmt.Sprintf("≥ %g", f.limit)
	}
	return fmt.Sprintf("≤ %g", f.limit)
}

// run gathers the figures.
type run struct {
	figures []figure
	wanted  *regexp.Regexp
	sizes   []int
	entries int // of the record
}

// wants tells whether any of some names, apart by bars, is to be measured.
func (r *run) wants(names string) bool {
	return slices.ContainsFunc(strings.Split(names, "|"), r.wanted.MatchString)
}

func (r *run) report(f figure) {
	r.figures = append(r.figures, f)
	fmt.Printf("%-44s %9s %10.3g  %-8s %-6s %s\n", f.name, grouped(f.size), f.value, f.bound(), f.verdict(), f.floor)
}

func grouped(n int) string {
	s := strconv.Itoa(n)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}

func main() {
	only := flag.String("only", "", "measure only the figures whose name matches")
	sizes := flag.String("sizes", "1000,100000,1000000", "users, and as many devices")
	entries := flag.Int("entries", 2_000_000, "decisions in the record")
	write := flag.String("write", "", "file to write the report to")
	profile := flag.String("profile", "", "file to write a CPU profile to")
	flag.Parse()
	if *loaded != "" {
		askFollower(*loaded)
		return
	}
	r := &run{wanted: regexp.MustCompile(*only), entries: *entries}
	for _, s := range strings.Split(*sizes, ",") {
		n, err := strconv.Atoi(s)
		check(err)
		r.sizes = append(r.sizes, n)
	}
	if *profile != "" {
		file, err := os.Create(*profile)
		check(err)
		profileTo = file
	}
	for _, n := range r.sizes {
		r.measure(n)
		runtime.GC()
	}
	if *write != "" {
		check(os.WriteFile(*write, []byte(r.document()), 0o644))
	}
	for _, f := range r.figures {
		if !f.ok() || sink < 0 { // which it never is: but so the work that is measured has a use
			os.Exit(1)
		}
	}
}

var profileTo *os.File

// profiled runs what is measured under the profiler, where one was asked for.
func profiled(f func()) {
	if profileTo != nil {
		check(pprof.StartCPUProfile(profileTo))
		defer pprof.StopCPUProfile()
	}
	f()
}

func check(err error) {
	if err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(2)
	}
}
