package bus_test

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"sentier/internal/bus"
	"sentier/internal/database"
	"sentier/internal/replica"
	"sentier/internal/specimen"
	"sentier/internal/store"
)

// odd is a store that takes what comes, and says now and then that it has not, or not quite.
type odd struct {
	replica.Own
	taken int
}

func (o *odd) Take(ctx context.Context, r *store.Revision, changes []store.Change, beside *store.Taken) error {
	err := o.Own.Take(ctx, r, changes, beside)
	o.taken++
	switch {
	case err != nil:
		return err
	case o.taken%10 == 5:
		return store.ErrUnmarked
	case o.taken == 27:
		return errors.New("the answer was lost")
	}
	return nil
}

// stands has a machine stand by on its folder.
func stands(t *testing.T, b *bus.Bus, dir string, keys replica.Keys, seal string) (*store.Store, *replica.Standby) {
	t.Helper()
	st, err := store.Open(dir, true)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = st.Close() }) // it may be closed already
	box, err := replica.LoadBox(seal)
	if err != nil {
		t.Fatal(err)
	}
	s, err := replica.OpenStandby(t.Context(), replica.StandbyOptions{Feed: b, Keys: keys, Box: box, Own: &odd{Own: st}, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		t.Fatal(err)
	}
	return st, s
}

// runs has a machine that stands by take what comes, until it is called back.
func runs(t *testing.T, s *replica.Standby) (end func()) {
	ctx, stop := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() { defer close(done); s.Run(ctx) }()
	return func() { stop(); <-done }
}

// reaches waits for a machine that stands by to have a place in the log.
func reaches(t *testing.T, s *replica.Standby, seq uint64) {
	t.Helper()
	for end := time.Now().Add(20 * time.Second); s.Seq() < seq; time.Sleep(5 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("the machine stands at place %d of the log, and %d is not reached: %+v", s.Seq(), seq, s.Problem())
		}
	}
}

// change changes a store as nothing of ours would.
func change(t *testing.T, dir, how string) {
	t.Helper()
	db, err := database.Open(filepath.Join(dir, store.FileName), database.ToWrite, 1)
	if err == nil {
		err = db.Exec(how).Error
	}
	if err := errors.Join(err, database.Close(db)); err != nil {
		t.Fatal(err)
	}
}

// begins has a machine that stood by write.
func begins(t *testing.T, b *bus.Bus, st *store.Store, s *replica.Standby, signer *replica.Signer, keys replica.Keys) (*writer, error) {
	t.Helper()
	w, err := writesFrom(t, st, replica.LogOptions{Bus: b, Signer: signer, Keys: keys, Stood: s})
	if err == nil {
		st.Logged(w.log.AppendBeside)
	}
	return w, err
}

// beside does something beside the policy.
func beside(t *testing.T, st *store.Store, n int) {
	t.Helper()
	ctx, id := t.Context(), fmt.Sprint("token-", n)
	odd := "a “word” 'quoted' \"twice\",\n\tback\\slash, nothing\x00at all, é, 𝄞 and " + strings.Repeat("x", n%7*100)
	err := st.SetFact(ctx, fmt.Sprint("fact ", n%9), odd)
	if err == nil {
		expires := began.Add(time.Duration(n) * time.Hour)
		t := store.Token{ID: id, UserID: "u1", Name: odd, Hash: []byte(id), Kind: store.KindToken, CreatedAt: began, CreatedBy: "ines.carvalho", Sealed: []byte{0, 1, 255, byte(n)}}
		if n%2 == 0 {
			t.ExpiresAt = &expires
		}
		err = st.AddToken(ctx, t)
	}
	if err == nil && n%3 == 0 {
		err = st.RevokeToken(ctx, id, began.Add(time.Minute))
	}
	if err != nil {
		t.Fatal(err)
	}
}

// TestAStandbyHasAllThatTheWriterHas, to the byte, whatever was done and whenever it comes and goes; it takes over, and the one that wrote stands by; and what it
// cannot have is told, with the mend.
func TestAStandbyHasAllThatTheWriterHas(t *testing.T) {
	t.Parallel()
	url, seal := servers(t), filepath.Join(t.TempDir(), "sealing.key")
	signerA, _, publicA := signing(t)
	signerB, _, publicB := signing(t)
	keys, err := replica.Trust(publicA, publicB)
	if err != nil {
		t.Fatal(err)
	}
	m := specimen.Maker{Rand: rand.New(rand.NewPCG(15, 3))}
	homeA, homeB, old := t.TempDir(), t.TempDir(), t.TempDir()
	begin(t, homeA, m.Whole(t))
	for _, dir := range []string{homeB, old} {
		if err := os.CopyFS(dir, os.DirFS(homeA)); err != nil {
			t.Fatal(err)
		}
	}
	lineA, lineB := connect(t, url, "control-room"), connect(t, url, "estuary")
	if err := lineA.Prepare(t.Context()); err != nil {
		t.Fatal(err)
	}
	stA, stoodA := stands(t, lineA, homeA, keys, seal)
	a, err := begins(t, lineA, stA, stoodA, signerA, keys)
	if err != nil {
		t.Fatal(err)
	}
	stB, stoodB := stands(t, lineB, homeB, keys, seal)
	end := runs(t, stoodB)
	for n := range 150 {
		a.step(m)
		beside(t, a.store, n)
		if n%3 == 1 { // it tries to write in between, in the middle of whatever it does
			end()
			end = runs(t, stoodB)
		}
		if n%40 == 20 { // it ends, and comes again
			end()
			if err := stB.Close(); err != nil {
				t.Fatal(err)
			}
			stB, stoodB = stands(t, lineB, homeB, keys, seal)
			end = runs(t, stoodB)
		}
	}
	for i := range 20 { // too large for an entry
		if err := a.store.SetFact(t.Context(), fmt.Sprint("large ", i%2), strings.Repeat(fmt.Sprint(rand.Uint64()), 20_000)); err != nil {
			t.Fatal(err)
		}
	}
	reaches(t, stoodB, a.log.Seq())
	if one, other := specimen.Kept(t, stA.Dir()), specimen.Kept(t, stB.Dir()); one != other {
		t.Fatal("a machine that stands by has something else than the one that writes")
	}
	// Something that is done at one that stands by by itself, as by another program, is noticed by what comes next.
	end()
	b, err := begins(t, lineB, stB, stoodB, signerB, keys)
	if err != nil {
		t.Fatal(err)
	}
	if err := a.store.SetFact(t.Context(), "late", "x"); !errors.Is(err, replica.ErrMoved) {
		t.Errorf("whoever wrote before goes on beside the policy: %v", err)
	}
	if text, err := a.store.FactOf(t.Context(), "late"); err != nil || text != "" {
		t.Errorf("what the log refused was kept: %q %v", text, err)
	}
	b.step(m)
	beside(t, b.store, 1000)
	stA.Logged(nil)
	if err := stoodA.Again(t.Context()); err != nil {
		t.Fatal(err)
	}
	end = runs(t, stoodA)
	reaches(t, stoodA, b.log.Seq())
	end()
	if one, other := specimen.Kept(t, stA.Dir()), specimen.Kept(t, stB.Dir()); one != other {
		t.Error("the one that wrote has something else than the one that writes")
	}
	// A disk that does not hold any more what was written to it is noticed before the machine would write by it, though it follows on.
	const first = " WHERE (type, id) = (SELECT type, id FROM records ORDER BY type, id LIMIT 1)"
	change(t, homeA, "UPDATE records SET body = body || ' '"+first)
	damaged, err := replica.OpenStandby(t.Context(), stoodA.StandbyOptions)
	if err != nil {
		t.Fatal(err)
	}
	end = runs(t, damaged)
	for end := time.Now().Add(20 * time.Second); damaged.Problem() == nil; time.Sleep(5 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("a damaged folder is not noticed")
		}
	}
	b.step(m)
	reaches(t, damaged, b.log.Seq())
	end()
	if _, err := begins(t, lineA, stA, damaged, signerA, keys); !replica.CannotGoOn(err) {
		t.Errorf("a damaged folder begins to write: %v", err)
	}
	change(t, homeA, "UPDATE records SET body = trim(body)"+first)
	// One that was written to on its own, one with another key, and one that comes when the log does not go back so far any more, take nothing over.
	var lost *replica.LostError
	if err := stA.SetFact(t.Context(), "alone", "x"); err != nil {
		t.Fatal(err)
	}
	if err := stoodA.Again(t.Context()); err != nil {
		t.Fatal(err)
	}
	beside(t, b.store, 1001)
	if _, err := begins(t, lineA, stA, stoodA, signerA, keys); !errors.As(err, &lost) || !strings.Contains(err.Error(), "sentier restore") {
		t.Errorf("a folder that was written to on its own begins to write: %v", err)
	}
	stOther, stoodOther := stands(t, lineA, old, keys, filepath.Join(t.TempDir(), "another.key"))
	if _, err := begins(t, lineA, stOther, stoodOther, signerA, keys); err == nil || !strings.Contains(err.Error(), "--sealing-key") {
		t.Errorf("a machine with another key begins to write: %v", err)
	}
	if err := lineB.Forget(t.Context(), b.log.Seq()); err != nil {
		t.Fatal(err)
	}
	late, stoodLate := stands(t, lineA, filepath.Join(t.TempDir(), "new"), keys, seal)
	if _, err := begins(t, lineA, late, stoodLate, signerA, keys); !errors.As(err, &lost) {
		t.Errorf("a folder without anything begins to write: %v", err)
	}
}

// TestOneMachineHoldsTheLease: nobody else gets it while it is renewed; it is given up for one alone; and it ends by itself.
func TestOneMachineHoldsTheLease(t *testing.T) {
	t.Parallel()
	url, ctx := servers(t), t.Context()
	a, b := connect(t, url, "control-room"), connect(t, url, "estuary")
	if err := a.Prepare(ctx); err != nil {
		t.Fatal(err)
	}
	held, err := a.TakeLease(ctx, "control-room")
	if err != nil {
		t.Fatal(err)
	}
	if err := held.LoseAnswer(ctx); err != nil {
		t.Fatal(err)
	}
	keeping, stop := context.WithCancel(ctx)
	kept := make(chan error, 1)
	go func() { kept <- held.Keep(keeping) }()
	for end := time.Now().Add(10 * time.Second); time.Now().Before(end); time.Sleep(200 * time.Millisecond) {
		if _, err := b.TakeLease(ctx, "estuary"); !errors.Is(err, bus.ErrHeld) {
			t.Fatalf("another machine takes a lease that is held: %v", err)
		}
	}
	if time.Now().After(held.Until()) {
		t.Error("a lease that is renewed has ended")
	}
	stop()
	if err := <-kept; err != nil {
		t.Errorf("it was kept: %v", err)
	}
	if err := held.LoseAnswer(ctx); err != nil {
		t.Fatal(err)
	}
	if err := held.GiveUp(ctx, "estuary"); err != nil {
		t.Fatal(err)
	}
	if !held.Until().IsZero() {
		t.Error("a lease that was given up is held")
	}
	for _, name := range []string{"twin-bridges", "control-room"} {
		if _, err := a.TakeLease(ctx, name); !errors.Is(err, bus.ErrHeld) {
			t.Errorf("%s takes what was given up for another: %v", name, err)
		}
	}
	next, err := b.TakeLease(ctx, "estuary")
	if err != nil {
		t.Fatal(err)
	}
	if h, err := a.Holder(ctx); err != nil || h.Machine != "estuary" {
		t.Errorf("the holder is %+v, %v", h, err)
	}
	// Nobody renews it: it ends, for its holder before it does for others.
	var ended time.Time
	for end := time.Now().Add(30 * time.Second); ended.IsZero(); time.Sleep(20 * time.Millisecond) {
		if h, err := a.Holder(ctx); err == nil && h.Machine == "" {
			ended = time.Now()
		} else if time.Now().After(end) {
			t.Fatalf("a lease that nobody renews is held: %+v %v", h, err)
		}
	}
	if next.Until().After(ended) {
		t.Errorf("its holder counts on it %s longer than the servers", next.Until().Sub(ended))
	}
	if err := next.Keep(ctx); err == nil {
		t.Error("what has ended is renewed")
	}
}
