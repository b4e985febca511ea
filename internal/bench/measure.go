package main

import (
	"fmt"
	"os"
	"runtime"
	"strings"
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
	if r.wants("start") && n >= large {
		*w = world{} // as a start finds the memory: without a second policy to look through for garbage
		r.starts(s, n)
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

// document is docs/performance.md.
func (r *run) document() string {
	var out strings.Builder
	out.WriteString(`# Performance

Written by “make bench”, which measures everything below in one go. Every figure is a ratio to a floor measured in the same run,
in turn with it, so that what the machine is otherwise busy with hits both. The policy is the Larkmere Navigation with as many
more users and devices as the size says ("sentier demo --people N --devices N"): 250 districts, four groups a user, some six
targets a device, 20,000 lines of grants with schedules.

`)
	fmt.Fprintf(&out, "Machine: %s, %d cores, %s. Measured on %s.\n\n", cpu(), runtime.NumCPU(), runtime.Version(), time.Now().Format(time.DateOnly))
	out.WriteString("| figure | size | value | limit | | measured |\n| --- | ---: | ---: | ---: | --- | --- |\n")
	for _, f := range r.figures {
		fmt.Fprintf(&out, "| %s | %s | %.3g | %s | %s | %s |\n", f.name, grouped(f.size), f.value, f.bound(), f.verdict(), f.floor)
	}
	out.WriteString(notes)
	return out.String()
}

// notes say what the figures mean, and what keeps those that are short.
const notes = `
What the figures are:

- **plain decision by ids**: random users and devices, against finding both ids in two Go maps of that size and doing nothing else.
- **with explanation**: against the answer that an enforcement point gets (allowed, reason, until, limits).
- **the question as one SQL query**: without schedules, denials, conditions and included groups, which would make it slower still.
- **memory**: the compiled policy beside the records, against the bytes of all ids and names.
- **start**: reading and decoding all records, checking every reference and name again, and compiling.

What keeps those that fall short, as the profiles show, and what was tried:

- **plain decision at 1,000**: at this size the floor is two lookups that stay in the nearest cache. Ours are two lookups as well, then
  the classes of both and the comparison of four bits: that alone is twice the floor. One question in eight has a line to look at
  (everyone may look at weather masts), which costs some 300 ns. Tried: marks of neighbourhoods, classes that fit lines of the cache,
  no conversion of the time before it is needed, emptier tables. From 100,000 on the memory's latency is the floor's cost too.
- **with explanation**: for two random ids nearly every answer is no_grant, found without looking at a line; its explanation has to
  look at all lines that would give the right on the device, some fifty, for the three that lack least, and to draw those. Tried:
  ranking before drawing, lengths of covers without the covers, no maps.
- **matrix**: a cell with nothing in it costs some 15 ns, one with anything some 150 ns; a plain decision of the same thousand users in
  turn some 170 ns, as they stay in the cache. Tried: lines laid out by target once a row, what a device rules out once a matrix, cells
  by number, rows of one class once.
- **a member added at 1,000,000**: of the time beyond the bare transaction a third is HTTP, a third GORM, the rest copying what changes:
  the group's list of some thousand members and the directory of the index of users. Tried: entries checked by themselves,
  compiling beside the writing, lists compared at their ends first, no entity tag of the whole group.
- **requests, batches and the start at 1,000,000** swing between runs (0.72 to 1.15, 15 to 28, 2.1 to 3.5): the collector of garbage marks
  a heap of 3 GB meanwhile, on the same two cores. Batches of 1,000 swing at 100,000 too (26 to 33).
`

// cpu is the processor's name.
func cpu() string {
	data, err := os.ReadFile("/proc/cpuinfo")
	if err != nil {
		return runtime.GOARCH
	}
	for line := range strings.Lines(string(data)) {
		if name, value, ok := strings.Cut(line, ":"); ok && strings.TrimSpace(name) == "model name" {
			return strings.TrimSpace(value)
		}
	}
	return runtime.GOARCH
}
