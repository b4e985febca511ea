package bus_test

import (
	"math/rand/v2"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"sentier/internal/replica"
	"sentier/internal/specimen"
	"sentier/internal/store"
)

// TestAClockThatIsSetBack: machines that follow go on with a writer whose clock was an hour ahead and is mended, while it runs and between two starts; and each
// knows by how much its own clock differs.
func TestAClockThatIsSetBack(t *testing.T) {
	t.Parallel()
	line := connect(t, servers(t), "control-room")
	if err := line.Prepare(t.Context()); err != nil {
		t.Fatal(err)
	}
	signer, keys, _ := signing(t)
	m := specimen.Maker{Rand: rand.New(rand.NewPCG(3, 15))}
	dir := filepath.Join(t.TempDir(), "writer")
	begin(t, dir, m.Whole(t))
	st, err := store.Open(dir, true)
	if err != nil {
		t.Fatal(err)
	}
	var ahead atomic.Int64
	ahead.Store(int64(time.Hour))
	clock := func() time.Time { return time.Now().Add(time.Duration(ahead.Load())) }
	w, err := writesFrom(t, st, replica.LogOptions{Bus: line, Signer: signer, Keys: keys, Clock: clock})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(w.close)
	end := w.keeps()
	f := follows(t, line, t.TempDir(), keys)
	near := func(what string, ours time.Duration) {
		t.Helper()
		for end := time.Now().Add(20 * time.Second); (f.Ahead() - ours).Abs() > 5*time.Second; time.Sleep(10 * time.Millisecond) {
			if time.Now().After(end) {
				t.Fatalf("%s: the clock here is ahead by %s, and not by %s", what, f.Ahead(), ours)
			}
		}
		if since, _ := f.Since(); time.Since(since.Add(ours)).Abs() > 5*time.Second {
			t.Errorf("%s: it was last heard at %s", what, since)
		}
	}
	near("an hour ahead", -time.Hour)
	ahead.Store(0)
	near("set back", 0)
	end()

	// A machine that is alone has its log in memory: the next one goes on behind all that the last one had.
	var last uint64
	for _, by := range []time.Duration{time.Hour, 0, 0, 2 * time.Hour} {
		ahead.Store(int64(by))
		log, err := writesFrom(t, st, replica.LogOptions{Bus: replica.NewRing(), Signer: signer, Keys: keys, Clock: clock})
		if err != nil {
			t.Fatal(err)
		}
		log.step(m)
		if seq := log.log.Seq(); seq <= last {
			t.Errorf("with a clock that is ahead by %s the log begins at %d, and went to %d before", by, seq, last)
		} else {
			last = seq
		}
	}
}
