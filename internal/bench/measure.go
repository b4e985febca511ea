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
	took := r.compile(w)
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
	if r.wants("possible") {
		r.possible(w, n)
	}
	if n < large {
		for name, measure := range map[string]func(*world, int){"impact": r.impact, "findings": r.upkeep, "expectations": r.expectations} {
			if r.wants(name) {
				measure(w, n)
			}
		}
	}
	if r.wants("read") && n < 100_000 {
		r.readers(w, n)
	}
	if r.wants("service") || r.wants("edit|page|import|SCIM|http|sql|start|record|past|machines") {
		r.service(w, n)
	}
}

func (r *run) compile(w *world) time.Duration {
	start := time.Now()
	w.compiled = decision.Compile(w.policy)
	return time.Since(start)
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
	if r.wants("past") && n == 100_000 {
		r.past(s, n)
	}
	if r.wants("http") {
		r.overHTTP(s, n)
	}
	if r.wants("record") && n < 100_000 {
		r.recorded(s, n)
		r.records(s, n, r.entries)
	}
	if r.wants("sql") {
		r.bySQL(s, n)
	}
	if r.wants("page") && n < large {
		r.pages(s, n)
	}
	if r.wants("import|SCIM") && n < large {
		r.provisioned(s, n)
	}
	if r.wants("import") && n == 100_000 {
		r.imports(s, n)
	}
	if r.wants("start") && n >= large {
		*w = world{} // as a start finds the memory: without a second policy to look through for garbage
		r.starts(s, n)
	}
	if r.wants("machines") {
		if n >= large {
			*w = world{}
		}
		r.machines(s, n)
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
- **a document**: reading it into a policy, with the place of every record and all checks, against the library that parses the same bytes
  (JSON into plain values, YAML into its syntax tree).
- **the impact of a group on many devices**: a grant on 10,000 devices is given to a group of 10,000 people, who have much else: told before it is saved, in
  three degrees, against compiling the whole policy.
- **all findings**, and **after one edit**: of upkeep; somebody joins a crew. **100 expectations beside an edit**: what each such edit is held against.
- **a new machine that follows**: reading a snapshot and verifying, checking and compiling all of it, against the start of the service on its own folder; the
  middle of three each, in turn, each with the machine to itself.
- **a change known at a follower**: from its answer until the other machine decides by it, against adding such an entry to the log and nothing else.
- **a decision in the process of a program**: by the package sentier/enforce, against the decision of the core, in turns of a millisecond; the middle of 601.
- **two followers**: each with who asks it on a core of its own, against each alone, in turns of a second; the middle of 11. Beside it what two cores do that only compute.
- **start**: reading and decoding all records, checking every reference and name again, and compiling.

What made the figures what they are, as the profiles showed, and where they are tight:

- **plain decision**: two lookups, and one bit that says whether anything concerns the two classes; where there are too many classes for that
  (above two million pairs), three words of marks compared. At 1,000 the floor stays in the nearest cache, and half of ours is
  the same two lookups: few entries get the room that nearly each is where it is looked for first, since a guess that goes wrong there cost as much
  as the comparison. Devices with more than four neighbourhoods went the long way before; three words hold all but one in two hundred.
- **with explanation**: for two random ids nearly every answer is no_grant, and its explanation looks for the three nearest of some fifty
  lines. They are kept as they come, nearest targets first, so that most are passed over without a look at their schedules; how a target covers a
  device is kept with the class; what is drawn takes one allocation.
- **matrix**: a row visits the columns that any line of its user covers, by target; the others are not looked at.
- **batches**: all users and devices of 128 questions are found first, a stage at a time, so that the waits for memory overlap, which
  at 1,000,000 are half of what a question costs. Batches work on at most half of the processors, so that a question beside them is answered
  as quickly as ever: on two that is one.
- **people imported from CSV**: the rows are laid ready beside what others write, and then moved into their place: written twice, so that others wait
  for a quarter of it.
- **POST /access/v1/evaluation**: the handler that it is held against has no credential to look up, no bounds on what goes on at once, no
  deadlines and no figures to keep; those cost most of the rest, and the decision a hundredth.
- **a member added**: the bare transaction waits for the disk once, a change twice: for the database, and for the mark beside it without which a
  lost end of the database would not be seen. Of the rest a third is HTTP, a third GORM; the last copies what changes: the group's
  list, a shard of the index and its directory.
- **start**: records and long lists are read side by side; SQLite's driver takes most of it, and the hash of every row a tenth. It is
  measured last, without the policy that the other figures ask, as a start finds the memory.
- **how far runs swing** on this machine, which is at times half as fast as at others: a plain decision at 1,000 between 1.44 and 1.67, with
  explanation at 1,000 between 8.8 and 11.3, all who may control one device between 3.9 and 5.8, people imported between 2.8 and 3.7, requests
  between 0.35 and 1.1, a member added at 1,000,000 between 2.7 and 9.3 (the entry of the record is written beside it), two followers
  against one between 1.5 and 2.2 in single turns, the start between 0.26 and 0.5.
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
