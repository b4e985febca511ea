package bus_test

import (
	"bytes"
	"errors"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	"sentier/internal/policy"
	"sentier/internal/replica"
	"sentier/internal/specimen"
)

// TestWhatWasNotSignedIsRefused: entries and snapshots that are forged, replayed, changed, cut off, or of another house. Each is told, and the last good
// policy goes on, and follows on.
func TestWhatWasNotSignedIsRefused(t *testing.T) {
	t.Parallel()
	url := servers(t)
	signer, keys, _ := signing(t)
	stranger, strange, _ := signing(t)
	m := specimen.Maker{Rand: rand.New(rand.NewPCG(15, 15))}
	home := t.TempDir()
	begin(t, home, m.Whole(t))
	line := connect(t, url, "control-room")
	w, err := writes(t, line, home, signer, keys)
	if err != nil {
		t.Fatal(err)
	}
	defer w.keeps()()
	f := follows(t, connect(t, url, "estuary"), t.TempDir(), keys)
	for range 5 {
		w.step(m)
	}
	f.until(t, w.log.Seq())

	tail, place, err := line.Tail(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	last, err := keys.Entry(tail)
	if err != nil {
		t.Fatal(err)
	}
	foreign := *last
	foreign.Seq++
	byStranger, err := stranger.Sign(&foreign)
	if err != nil {
		t.Fatal(err)
	}
	again := *last // by the right key, as a machine would that has gone mad: a revision that does not follow
	again.Seq++
	mad, err := signer.Sign(&again)
	if err != nil {
		t.Fatal(err)
	}
	beat, err := signer.SignBeat(replica.Beat{Epoch: last.Epoch, Seq: last.Seq + 1, At: began})
	if err != nil {
		t.Fatal(err)
	}
	flipped := bytes.Clone(tail)
	flipped[len(flipped)/2] ^= 1
	for name, text := range map[string][]byte{
		"by a stranger": byStranger, "that does not follow": mad, "that is a beat": beat, "with a bit flipped": flipped, "cut off": tail[:len(tail)-20], "of nothing": {}, "of noise": bytes.Repeat([]byte("a."), 300_000),
	} {
		before := f.Problem()
		if place, err = line.Publish(t.Context(), place, name, last.Seq+1, text); err != nil {
			t.Fatal(name, err)
		}
		for end := time.Now().Add(10 * time.Second); f.Problem() == before; time.Sleep(5 * time.Millisecond) {
			if time.Now().After(end) {
				t.Fatalf("an entry %s is not refused", name)
			}
		}
	}
	if _, err = line.Publish(t.Context(), place, "replayed", last.Seq, tail); err != nil {
		t.Fatal(err)
	}
	sees(t, f, w)
	w.step(m) // the writer goes on behind all of it
	w.step(m)
	f.until(t, w.log.Seq())
	sees(t, f, w)

	if _, err := writes(t, line, t.TempDir(), stranger, strange); err == nil {
		t.Error("a machine of another house begins to write the log")
	}
	var whole bytes.Buffer
	names, err := line.Objects(t.Context(), "snapshot-")
	if err != nil || len(names) == 0 {
		t.Fatal(names, err)
	}
	from, err := line.Get(t.Context(), names[0])
	if err == nil {
		_, err = io.Copy(&whole, from)
	}
	if err != nil {
		t.Fatal(err)
	}
	changed := bytes.Clone(whole.Bytes())
	changed[len(changed)-30] ^= 4
	longer := append(bytes.Clone(whole.Bytes()), "more"...)
	for name, text := range map[string][]byte{"changed": changed, "cut off": whole.Bytes()[:whole.Len()-7], "headless": []byte("none\n"), "empty": nil} {
		if _, _, err := keys.ReadSnapshot(bytes.NewReader(text)); !errors.As(err, new(*replica.ForgedError)) {
			t.Errorf("a snapshot that is %s gives %v", name, err)
		}
	}
	if _, _, err := strange.ReadSnapshot(bytes.NewReader(whole.Bytes())); !errors.As(err, new(*replica.ForgedError)) {
		t.Errorf("a snapshot of another house gives %v", err)
	}
	if c, _, err := keys.ReadSnapshot(bytes.NewReader(longer)); err != nil || c.Policy == nil { // what comes after it was signed by nobody, and is not read
		t.Errorf("a snapshot with something after it gives %v", err)
	}
}

// TestDisksThatAreNotWhatTheyWere: a follower takes of its disk what was signed, and asks for the rest again.
func TestDisksThatAreNotWhatTheyWere(t *testing.T) {
	t.Parallel()
	url := servers(t)
	signer, keys, _ := signing(t)
	m := specimen.Maker{Rand: rand.New(rand.NewPCG(4, 15))}
	home, dir := t.TempDir(), t.TempDir()
	begin(t, home, m.Whole(t))
	w, err := writes(t, connect(t, url, "control-room"), home, signer, keys)
	if err != nil {
		t.Fatal(err)
	}
	defer w.keeps()()
	f := follows(t, connect(t, url, "estuary"), dir, keys)
	many := make([]policy.Change, 0, 3000) // of which the entry is too large for the log
	for n := range 3000 {
		many = append(many, specimen.Put(&policy.User{ID: policy.UserID("keeper-" + strconv.Itoa(n)), Name: "Keeper " + strconv.Itoa(n), Kind: policy.Person, Status: policy.Active}))
	}
	next, done, err := w.policy.Apply(many)
	if err != nil {
		t.Fatal(err)
	}
	w.save(next, done)
	for range 30 {
		w.step(m)
	}
	f.until(t, w.log.Seq())
	sees(t, f, w)
	f.end()
	objects, err := os.ReadDir(filepath.Join(dir, "follower.objects"))
	if err != nil || len(objects) != 1 {
		t.Fatalf("the changes that are kept apart are not on the disk: %v %v", objects, err)
	}

	nowhere := connect(t, "nats://127.0.0.1:1", "estuary") // without a line, what is on the disk is what there is
	alone := follows(t, nowhere, dir, keys)
	sees(t, alone, w)
	alone.end()

	entries := filepath.Join(dir, replica.EntriesName)
	snapshot := filepath.Join(dir, replica.SnapshotName)
	for name, spoil := range map[string]func() error{
		"an entry with a bit flipped":   func() error { return flip(entries, 1500) },
		"entries that were cut off":     func() error { return os.Truncate(entries, 4000) },
		"a snapshot with a bit flipped": func() error { return flip(snapshot, 2000) },
		"no entries":                    func() error { return os.Remove(entries) },
		"no snapshot":                   func() error { return os.Remove(snapshot) },
		"no objects":                    func() error { return os.RemoveAll(filepath.Join(dir, "follower.objects")) },
	} {
		if err := spoil(); err != nil {
			t.Fatal(name, err)
		}
		w.step(m)
		again := follows(t, connect(t, url, "estuary"), dir, keys)
		again.until(t, w.log.Seq())
		sees(t, again, w)
		again.end()
	}
}

func flip(path string, at int64) error {
	data, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	data[at] ^= 8
	return os.WriteFile(path, data, 0o600)
}
