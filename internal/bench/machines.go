package main

import (
	"context"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"

	"sentier/enforce"
	"sentier/internal/daemon"
	"sentier/internal/decision"
	"sentier/internal/demo"
	"sentier/internal/logserver"
	"sentier/internal/policy"
	"sentier/internal/replica"
)

// machines measures what machines that follow take.
func (r *run) machines(s *running, n int) {
	r.carried(s, n)
	if n < 100_000 {
		r.followed(n)
	}
}

// carried measures a point that begins with a snapshot against the start of the service, and its decisions against those of the core.
func (r *run) carried(s *running, n int) {
	file := filepath.Join(s.dir, "bench.snapshot")
	check(os.WriteFile(file, s.call("GET", "/api/v1/snapshot?picture="+strconv.FormatUint(replica.PictureForm, 10), ""), 0o600))
	key := s.key()
	s.stop()
	var floors, took []time.Duration
	var writes, follows uint64
	var point *enforce.Point
	for range starts {
		if point != nil {
			point.Close()
			point = nil
		}
		before := heap()
		floors = append(floors, s.open())
		writes = grown(before)
		s.stop() // which would read its rows once more beside the point, as it does after each start
		dir, err := os.MkdirTemp("", "sentier-bench-point-")
		check(err)
		defer os.RemoveAll(dir)
		before = heap()
		begun := time.Now()
		point, err = enforce.Open(context.Background(), enforce.Options{Snapshot: file, Keys: []string{key}, Dir: dir})
		check(err)
		took = append(took, time.Since(begun))
		follows = grown(before)
	}
	defer point.Close()
	slices.Sort(floors)
	slices.Sort(took)
	floor, ready := floors[starts/2], took[starts/2]
	r.report(figure{"a new machine that follows, to ready", n, ratio(ready, floor), 2, false, fmt.Sprintf("%v, the start of the service %v", ready, floor)})
	if n >= large {
		r.report(figure{"memory of a machine that follows", n, float64(follows) / float64(writes), 1.1, false, fmt.Sprintf("%d MB, the service %d MB", follows>>20, writes>>20)})
	}
	keys, err := replica.Trust(parsed(key))
	check(err)
	snapshot, err := os.Open(file)
	check(err)
	c, _, err := keys.ReadSnapshot(snapshot)
	check(errors.Join(err, snapshot.Close()))
	compiled := decision.Compile(c.Policy) // of records that lie in memory as those of the point do
	users, devices := some[*policy.User](compiled.Policy()), some[*policy.Device](compiled.Policy())
	core, ours, more := inTurn(func(i int) {
		q := decision.Question{User: policy.UserID(users[i%len(users)]), Device: policy.DeviceID(devices[i%len(devices)]), Right: policy.View, At: time.Now()}
		compiled.Decide(&q)
	}, func(i int) {
		q := enforce.Question{User: users[i%len(users)], Device: devices[i%len(devices)], Right: "view"}
		point.Decide(&q)
	})
	r.report(figure{"a decision in the process of a program", n, more, 1.2, false, fmt.Sprintf("%v, the core's own %v", ours, core)})
}

// grown is by how much the heap is larger than before.
func grown(before uint64) uint64 {
	now := heap()
	return now - min(before, now)
}

// starts is how often each of the two is started, in turn.
const starts = 3

// some are ids of records of a type, far from each other.
func some[R policy.Record](p *policy.Policy) []string {
	var all []string
	for r := range policy.Each[R](p) {
		all = append(all, r.Key())
	}
	out := make([]string, 0, 997)
	for i := range 997 {
		out = append(out, strings.Clone(all[i*7919%len(all)])) // as who asks has them: of other memory than the records
	}
	return out
}

// inTurn is how long one of many calls of each of two takes, in the middle, and how many times longer the second takes. They are made in turns of about a
// millisecond, and each turn is held against the one beside it: what else a machine is busy with, and how fast it is meanwhile, hits both.
func inTurn(first, second func(i int)) (a, b time.Duration, more float64) {
	const calls, turns = 5_000, 601
	var as, bs []time.Duration
	var ratios []float64
	once := func(do func(i int), from int) time.Duration {
		begun := time.Now()
		for i := range calls {
			do(from + i)
		}
		return time.Since(begun) / calls
	}
	for turn := range turns {
		x, y := once(first, turn*calls), once(second, turn*calls)
		as, bs, ratios = append(as, x), append(bs, y), append(ratios, ratio(y, x))
	}
	slices.Sort(as)
	slices.Sort(bs)
	slices.Sort(ratios)
	return as[turns/2], bs[turns/2], ratios[turns/2]
}

// key is the public key of the service.
func (s *running) key() string {
	var out struct{ Key []byte }
	check(json.Unmarshal(s.call("GET", "/api/v1/audit/key", ""), &out))
	return base64.StdEncoding.EncodeToString(out.Key)
}

// followed measures machines that follow by the servers of a log.
func (r *run) followed(n int) {
	dir, err := os.MkdirTemp("", "sentier-bench-line-")
	check(err)
	defer os.RemoveAll(dir)
	servers, err := logserver.Start(logserver.Options{Dir: filepath.Join(dir, "nats")})
	check(err)
	defer servers.Stop()
	line := func(name string) daemon.Line { return daemon.Line{URL: servers.URL(), Machine: name} }
	log := slog.New(slog.DiscardHandler)
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	p, err := demo.At(time.Now())
	check(err)
	options := daemon.Options{Dir: filepath.Join(dir, "writer"), Listen: "127.0.0.1:0", Log: log, Line: line("writer")}
	w, err := daemon.Open(ctx, options)
	check(err)
	check(w.Prepare(ctx, daemon.Beginning{Owner: demo.Owner, Password: "bench-only-1234", Policy: p}))
	s := &running{url: w.Address()}
	s.token, err = w.OwnerToken(ctx, demo.Owner, "bench")
	check(err)
	ended := make(chan error, 2)
	go func() { ended <- w.Run(ctx) }()
	defer func() { cancel(); check(<-ended) }()
	s.service = w.Service
	key := s.key()
	r.known(ctx, s, n, servers.URL(), daemon.Options{
		Dir: filepath.Join(dir, "follower"), Listen: "127.0.0.1:0", Log: log, Line: line("follower"), Following: &daemon.Following{Keys: []ed25519.PublicKey{parsed(key)}, Most: 1_000_000},
	})
	r.beside(s, n, servers.URL(), key, dir)
}

func parsed(key string) ed25519.PublicKey {
	out, err := daemon.ParseKey(key)
	check(err)
	return out
}

// known measures how long after it was answered a change is decided by at a machine that follows, against adding an entry to the log and nothing else.
func (r *run) known(ctx context.Context, s *running, n int, url string, o daemon.Options) {
	ctx, cancel := context.WithCancel(ctx)
	f, err := daemon.Open(ctx, o)
	check(err)
	done := make(chan error, 1)
	go func() { done <- f.Run(ctx) }()
	defer func() { cancel(); check(<-done) }()
	const edits = 400
	var took []time.Duration
	for i := range edits {
		var saved struct{ Revision uint64 }
		check(json.Unmarshal(s.call([]string{"PUT", "DELETE"}[i%2], "/api/v1/user_groups/bridge-crew/members/noor.haddad", ""), &saved))
		begun := time.Now()
		for f.Service.State().Revision.Number < saved.Revision {
			runtime.Gosched()
		}
		took = append(took, time.Since(begun))
	}
	conn, err := nats.Connect(url)
	check(err)
	defer conn.Close()
	js, err := jetstream.New(conn)
	check(err)
	last, err := js.Stream(ctx, "SENTIER_LOG")
	check(err)
	entry, err := last.GetLastMsgForSubject(ctx, "sentier.log")
	check(err)
	_, err = js.CreateStream(ctx, jetstream.StreamConfig{Name: "FLOOR", Subjects: []string{"floor"}, Storage: jetstream.FileStorage})
	check(err)
	var alone []time.Duration
	for range edits {
		begun := time.Now()
		_, err := js.Publish(ctx, "floor", entry.Data)
		check(err)
		alone = append(alone, time.Since(begun))
	}
	slices.Sort(took)
	slices.Sort(alone)
	p99, middle, floor := took[edits*99/100], took[edits/2], alone[edits/2]
	r.report(figure{"a change known at a follower, p99, in ms", n, float64(p99.Microseconds()) / 1000, 50, false, "after it was answered"})
	r.report(figure{"a change known at a follower, in the middle", n, ratio(middle, floor), 3, false, fmt.Sprintf("%v after it was answered, adding such an entry alone %v", middle, floor)})
	r.report(figure{"a member added, on the wire, in KiB", n, float64(len(entry.Data)) / 1024, 2, false, fmt.Sprintf("%d bytes", len(entry.Data))})
}

// Of two followers: for how long they are asked, and how many times.
const (
	loadTime = time.Second
	loads    = 11
)

// spinning is in the place of a follower's address: nobody is asked, and only computed.
const spinning = "nobody"

// spin computes for a while, and prints how many times.
func spin() {
	count, data := 0, make([]byte, 1<<10)
	for end := time.Now().Add(loadTime); time.Now().Before(end); count++ {
		sum := sha256.Sum256(data)
		copy(data, sum[:])
	}
	fmt.Println(float64(count) / loadTime.Seconds())
}

// beside measures two followers, each with who asks it on a core of their own, against one.
func (r *run) beside(s *running, n int, url, key, dir string) {
	if _, err := exec.LookPath("taskset"); err != nil || runtime.NumCPU() < 2 {
		fmt.Fprintln(os.Stderr, "two followers are not measured: it takes two cores, and taskset to keep to them")
		return
	}
	program := filepath.Join(dir, "sentier")
	build := exec.Command("go", "build", "-o", program, "sentier/cmd/sentier")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	check(build.Run())
	self, err := os.Executable()
	check(err)
	var at [2]string
	for core := range at {
		follow := exec.Command("taskset", "-c", strconv.Itoa(core), program, "follow", "--data", filepath.Join(dir, "core"+strconv.Itoa(core)), "--listen", "127.0.0.1:0", "--nats", url, "--writer-key", key, "--machine", "core"+strconv.Itoa(core))
		follow.Env = append(os.Environ(), "GOMAXPROCS=1")
		out, err := follow.StderrPipe()
		check(err)
		check(follow.Start())
		defer func() { check(errors.Join(follow.Process.Kill(), errIfOther(follow.Wait()))) }()
		buffer := make([]byte, 64<<10)
		for text := ""; at[core] == ""; {
			read, err := out.Read(buffer)
			if text += string(buffer[:read]); err != nil {
				check(fmt.Errorf("a follower does not start: %w: %s %q", err, text, follow.Args))
			}
			if _, after, ok := strings.Cut(text, "answers at "); ok {
				at[core], _, _ = strings.Cut(after, ",")
			}
		}
		go io.Copy(io.Discard, out)
	}
	s.call("PATCH", "/api/v1/service", `{"decisions":"none"}`) // what is recorded is measured by itself
	load := func(core int, of string) float64 {
		c := exec.Command("taskset", "-c", strconv.Itoa(core), self, "-load", of)
		c.Env = append(os.Environ(), "GOMAXPROCS=1", "BENCH_TOKEN="+s.token)
		out, err := c.Output()
		check(err)
		rate, err := strconv.ParseFloat(strings.TrimSpace(string(out)), 64)
		check(err)
		return rate
	}
	// Each alone, and both at once, beside each other in time: how fast a core is swings where a machine has neighbours.
	more := func(first, second string) (both, gain float64) {
		one := load(0, first)
		other := make(chan float64)
		go func() { other <- load(1, second) }()
		both = load(0, first) + <-other
		return both, both / ((one + load(1, second)) / 2)
	}
	var boths, gains, most []float64
	for range loads {
		both, gain := more(at[0], at[1])
		_, cores := more(spinning, spinning)
		boths, gains, most = append(boths, both), append(gains, gain), append(most, cores)
	}
	for _, all := range [][]float64{boths, gains, most} {
		slices.Sort(all)
	}
	r.report(figure{"two followers, against one", n, gains[loads/2], 1.8, true, fmt.Sprintf("%.0f questions/s; two cores that only compute do %.2f of what one does", boths[loads/2], most[loads/2])})
}

func errIfOther(err error) error {
	var ended *exec.ExitError
	if errors.As(err, &ended) { // it was killed
		return nil
	}
	return err
}

// askFollower asks a follower for a while, four at once, and prints how many questions a second it answers.
func askFollower(url string) {
	if url == spinning {
		spin()
		return
	}
	const body = `{"subject":{"type":"user","id":"tomas.field"},"action":{"name":"view"},"resource":{"type":"device","id":"twin-mast"}}`
	counts := make(chan int)
	end := time.Now().Add(loadTime)
	for range 4 {
		go func() {
			count := 0
			for ; time.Now().Before(end); count++ {
				req, err := http.NewRequest("POST", url+"/access/v1/evaluation", strings.NewReader(body))
				check(err)
				req.Header.Set("Authorization", "Bearer "+os.Getenv("BENCH_TOKEN"))
				req.Header.Set("Content-Type", "application/json")
				resp, err := client.Do(req)
				check(err)
				_, err = io.Copy(io.Discard, resp.Body)
				check(errors.Join(err, resp.Body.Close()))
				if resp.StatusCode != http.StatusOK {
					check(fmt.Errorf("a follower answers %s", resp.Status))
				}
			}
			counts <- count
		}()
	}
	all := 0
	for range 4 {
		all += <-counts
	}
	fmt.Println(float64(all) / loadTime.Seconds())
}

var loaded = flag.String("load", "", "ask the follower at this address for a while, and tell how many questions a second it answers")
