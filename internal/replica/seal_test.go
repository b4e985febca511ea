package replica

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"sentier/internal/store"
)

// TestWhatIsSealedIsOpenedByTheSameKeyAlone, and by nobody who has changed it.
func TestWhatIsSealedIsOpenedByTheSameKeyAlone(t *testing.T) {
	path := filepath.Join(t.TempDir(), "sealing.key")
	box, err := LoadBox(path)
	if err != nil {
		t.Fatal(err)
	}
	if info, err := os.Stat(path); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the key is kept as %v, %v", info.Mode(), err)
	}
	again, err := LoadBox(path)
	if err != nil {
		t.Fatal(err)
	}
	other, err := LoadBox(filepath.Join(t.TempDir(), "other.key"))
	if err != nil {
		t.Fatal(err)
	}
	key := "the key of a request"
	in := &beside{Rows: []store.Row{{Table: "facts", Values: map[string][2]string{"name": {"text", "a"}, "value": {"text", strings.Repeat("secret ", 100)}}}}, RequestKey: &key, Answer: []byte{0, 255}}
	sealed, err := box.seal(in)
	if err != nil {
		t.Fatal(err)
	}
	if bytes.Contains(sealed, []byte("secret")) {
		t.Error("what is sealed can be read")
	}
	out, err := again.open(sealed)
	if err != nil || *out.RequestKey != key || !bytes.Equal(out.Answer, in.Answer) || out.Rows[0].Values["value"] != in.Rows[0].Values["value"] {
		t.Errorf("opened: %+v %v", out, err)
	}
	flipped := bytes.Clone(sealed)
	flipped[len(flipped)/2] ^= 1
	for name, tried := range map[string]struct {
		by   *Box
		what []byte
	}{
		"another key": {other, sealed}, "a bit flipped": {box, flipped}, "cut off": {box, sealed[:len(sealed)-1]}, "cut short": {box, sealed[:5]}, "nothing": {box, nil},
	} {
		if _, err := tried.by.open(tried.what); !errors.Is(err, ErrSealed) {
			t.Errorf("%s: %v", name, err)
		}
	}
	for name, text := range map[string]string{"nothing": "", "words": "a key", "too short": "c2hvcnQ=\n", "too long": strings.Repeat("QUJD", 20)} {
		bad := filepath.Join(t.TempDir(), "bad.key")
		if err := os.WriteFile(bad, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if _, err := LoadBox(bad); err == nil || !strings.Contains(err.Error(), bad) || !strings.Contains(err.Error(), "copy the file") {
			t.Errorf("a key file that holds %s: %v", name, err)
		}
		if left, err := os.ReadFile(bad); err != nil || string(left) != text {
			t.Errorf("a key file that holds %s was changed", name)
		}
	}
}

// TestMachinesThatMakeTheKeyAtOnceShareIt: one of them makes it, and no other finds a part of it.
func TestMachinesThatMakeTheKeyAtOnceShareIt(t *testing.T) {
	path := filepath.Join(t.TempDir(), "sealing.key")
	var boxes [8]*Box
	var all sync.WaitGroup
	for i := range boxes {
		all.Go(func() {
			var err error
			if boxes[i], err = LoadBox(path); err != nil {
				t.Error(err)
			}
		})
	}
	all.Wait()
	if t.Failed() {
		return
	}
	sealed, err := boxes[0].seal(&beside{})
	if err != nil {
		t.Fatal(err)
	}
	for _, box := range boxes {
		if _, err := box.open(sealed); err != nil {
			t.Error(err)
		}
	}
}
