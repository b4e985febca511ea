package replica

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"io"
	"log/slog"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"sentier/internal/policy"
	"sentier/internal/specimen"
	"sentier/internal/store"
)

// shelf is a feed of a few objects, on which nothing else comes.
type shelf struct {
	*Ring
	objects map[string][]byte
}

func (s shelf) Objects(_ context.Context, prefix string) (names []string, err error) {
	for name := range s.objects {
		if strings.HasPrefix(name, prefix) {
			names = append(names, name)
		}
	}
	return names, nil
}

func (s shelf) Get(_ context.Context, name string) (io.ReadCloser, error) {
	return io.NopCloser(bytes.NewReader(s.objects[name])), nil
}

// snapshots are those of a policy: as rows, and as the picture of a program whose form of pictures is the one given.
func snapshots(t *testing.T, p *policy.Policy, pictureForm uint64) (shelf, *Signer, Keys) {
	t.Helper()
	public, key, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}
	signer, err := NewSigner(key)
	if err != nil {
		t.Fatal(err)
	}
	keys, err := Trust(public)
	if err != nil {
		t.Fatal(err)
	}
	st, err := store.Open(t.TempDir(), true)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := st.Close(); err != nil {
			t.Error(err)
		}
	})
	r := store.Revision{Number: 1, At: made, By: "ines.carvalho", Via: "terminal"}
	if err := st.Append(t.Context(), &r, (&policy.Policy{}).Compare(p), store.Saving{}); err != nil {
		t.Fatal(err)
	}
	s := shelf{NewRing(), map[string][]byte{}}
	for prefix, of := range map[string]struct {
		from body
		at   Standing
	}{
		rowsPrefix:     {st.Rows, Standing{Epoch: 1, Seq: 4, Made: made, form: formRows}},
		snapshotPrefix: {pictured(p, r), Standing{Epoch: 1, Seq: 4, Made: made, form: formPicture, picture: pictureForm}},
	} {
		path := filepath.Join(t.TempDir(), "snapshot")
		file, err := os.Create(path)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := signer.writeSnapshot(t.Context(), of.from, of.at, func() {}, file); err != nil {
			t.Fatal(err)
		}
		if err := file.Close(); err != nil {
			t.Fatal(err)
		}
		if s.objects[prefix+"1"], err = os.ReadFile(path); err != nil {
			t.Fatal(err)
		}
	}
	return s, signer, keys
}

var made = time.Date(2026, 11, 25, 10, 0, 0, 0, time.UTC)

// TestAPictureOfAnotherProgramIsPassedOver: a machine begins with the rows where the picture is of a program of other records, and has the same policy.
func TestAPictureOfAnotherProgramIsPassedOver(t *testing.T) {
	p := specimen.Maker{Rand: rand.New(rand.NewPCG(6, 15))}.Whole(t)
	for name, c := range map[string]struct {
		form uint64
		want int
	}{"of this program": {policy.PictureForm, formPicture}, "of another": {policy.PictureForm + 1, formRows}} {
		from, _, keys := snapshots(t, p, c.form)
		file, err := scratch()
		if err != nil {
			t.Fatal(err)
		}
		defer file.Close()
		if head, err := takeNewest(t.Context(), from, keys, file); err != nil || head.Form != c.want {
			t.Errorf("a picture %s: a snapshot of form %d was taken, want %d (%v)", name, head.Form, c.want, err)
		}
		f, err := OpenFollower(t.Context(), FollowerOptions{Bus: from, Keys: keys, Dir: t.TempDir(), Log: slog.New(slog.DiscardHandler)})
		if err != nil {
			t.Fatal(err)
		}
		if differ := f.Copy().Policy.Compare(p); len(differ) > 0 || f.Copy().Seq != 4 || f.Copy().Revision.Number != 1 {
			t.Errorf("a picture %s: %d records differ at place %d, revision %d", name, len(differ), f.Copy().Seq, f.Copy().Revision.Number)
		}
	}
}

// TestAnOldWordIsNotTaken: a word of the writer that is sent again, or comes late, does not make what is here newer; nor does one of a time that is over, or
// of what has not come. By its count a word is known to be newer, also where the writer's clock was set back.
func TestAnOldWordIsNotTaken(t *testing.T) {
	from, signer, keys := snapshots(t, specimen.Maker{Rand: rand.New(rand.NewPCG(7, 15))}.Whole(t), policy.PictureForm)
	now := made.Add(time.Hour)
	f, err := OpenFollower(t.Context(), FollowerOptions{Bus: from, Keys: keys, Dir: t.TempDir(), Log: slog.New(slog.DiscardHandler), Clock: func() time.Time { return now }})
	if err != nil {
		t.Fatal(err)
	}
	_, stranger, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}
	forger, err := NewSigner(stranger)
	if err != nil {
		t.Fatal(err)
	}
	at := func(minutes int) time.Time { return made.Add(time.Duration(minutes) * time.Minute) }
	for _, c := range []struct {
		name string
		by   *Signer
		beat Beat
		want time.Time // since when it is known that nothing newer is there
	}{
		{"the first", signer, Beat{Epoch: 1, Count: 5, Seq: 4, At: at(10)}, at(10)},
		{"the next", signer, Beat{Epoch: 1, Count: 6, Seq: 4, At: at(20)}, at(20)},
		{"the one before, again", signer, Beat{Epoch: 1, Count: 5, Seq: 4, At: at(10)}, at(20)},
		{"the same, again", signer, Beat{Epoch: 1, Count: 6, Seq: 4, At: at(20)}, at(20)},
		{"by another key", forger, Beat{Epoch: 1, Count: 7, Seq: 4, At: at(30)}, at(20)},
		{"of what has not come", signer, Beat{Epoch: 1, Count: 7, Seq: 5, At: at(30)}, at(20)},
		{"of an epoch that is over", signer, Beat{Epoch: 0, Count: 99, Seq: 4, At: at(40)}, at(20)},
		{"by a clock that was set back", signer, Beat{Epoch: 1, Count: 8, Seq: 4, At: at(15)}, at(15)},
		{"of another writer", signer, Beat{Epoch: 2, Count: 1, Seq: 4, At: at(50)}, at(50)},
	} {
		text, err := c.by.SignBeat(c.beat)
		if err != nil {
			t.Fatal(err)
		}
		f.hear(text)
		if heard := f.heard.Load(); !heard.beat.At.Equal(c.want) {
			t.Errorf("after %s, nothing newer is known to be there since %s, want %s", c.name, heard.beat.At, c.want)
		}
	}
	if p := f.Problem(); p == nil || !strings.Contains(p.Err.Error(), "sign") {
		t.Errorf("of the forged one is told: %v", p)
	}
}
