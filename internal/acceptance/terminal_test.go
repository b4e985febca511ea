package acceptance

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"
	"unsafe"
)

// terminal is a pseudo-terminal: what a person types at it, and what it shows them.
type terminal struct {
	t      *testing.T
	master *os.File
	slave  *os.File

	mu    sync.Mutex
	shown bytes.Buffer
}

func newTerminal(t *testing.T) *terminal {
	t.Helper()
	master, err := os.OpenFile("/dev/ptmx", os.O_RDWR|syscall.O_NOCTTY, 0)
	if err != nil {
		t.Fatal(err)
	}
	control := func(request uintptr, value *int32) {
		t.Helper()
		if _, _, e := syscall.Syscall(syscall.SYS_IOCTL, master.Fd(), request, uintptr(unsafe.Pointer(value))); e != 0 {
			t.Fatal(e)
		}
	}
	var number, unlocked int32
	control(syscall.TIOCSPTLCK, &unlocked)
	control(syscall.TIOCGPTN, &number)
	slave, err := os.OpenFile(fmt.Sprintf("/dev/pts/%d", number), os.O_RDWR|syscall.O_NOCTTY, 0)
	if err != nil {
		t.Fatal(err)
	}
	x := &terminal{t: t, master: master, slave: slave}
	go func() {
		buffer := make([]byte, 4096)
		for {
			n, err := master.Read(buffer)
			x.mu.Lock()
			x.shown.Write(buffer[:n])
			x.mu.Unlock()
			if err != nil {
				return
			}
		}
	}()
	t.Cleanup(func() { slave.Close(); master.Close() })
	return x
}

// screen is all that the terminal has shown.
func (x *terminal) screen() string {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.shown.String()
}

// see waits until the terminal shows a text after a place, and gives the place after it.
func (x *terminal) see(after int, text string) (end int) {
	x.t.Helper()
	for range 500 {
		s := x.screen()
		if at := strings.Index(s[min(after, len(s)):], text); at >= 0 {
			return after + at + len(text)
		}
		time.Sleep(10 * time.Millisecond)
	}
	x.t.Fatalf("the terminal shows no %q:\n%s", text, x.screen())
	return 0
}

// run carries out a command whose input and messages are the terminal's, and types each answer when its question is shown.
func (x *terminal) run(w *world, line string, dialogue ...string) (code int, out string) {
	x.t.Helper()
	var written bytes.Buffer
	ended := make(chan int)
	go func() {
		ended <- w.program(w.token, x.slave, &written, x.slave).Run(strings.Fields(line))
	}()
	place := 0
	for i := 0; i+1 < len(dialogue); i += 2 {
		place = x.see(place, dialogue[i])
		time.Sleep(100 * time.Millisecond) // a person's fingers: the echo is off by then
		if _, err := x.master.WriteString(dialogue[i+1] + "\n"); err != nil {
			x.t.Fatal(err)
		}
	}
	select {
	case code = <-ended:
	case <-time.After(20 * time.Second):
		x.t.Fatalf("sentier %s waits for more:\n%s", line, x.screen())
	}
	return code, written.String()
}

// TestWhoSitsAtATerminalIsAsked: before a policy is put in the place of another they see what it changes and say yes; and passwords are typed
// unseen, new ones twice.
func TestWhoSitsAtATerminalIsAsked(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	_, dump, _ := w.run("policy", "dump")
	file := write(t, filepath.Join(t.TempDir(), "policy.yaml"), strings.Replace(dump, "name: Bridge crew", "name: Bridge team", 1))
	title := func() string {
		_, out, _ := w.run("group", "show", "bridge-crew")
		return out
	}
	for _, c := range []struct {
		answer string
		code   int
		team   bool
		want   string
	}{{"", 1, false, "Nothing was changed."}, {"n", 1, false, "Nothing was changed."}, {"maybe", 1, false, "Nothing was changed."}, {"y", 0, true, "revision 2"}} {
		x := newTerminal(t)
		code, out := x.run(w, "policy load "+file, "[y/N]", c.answer)
		if code != c.code || !strings.Contains(out, "Bridge crew → Bridge team") || strings.Contains(title(), "Bridge team") != c.team {
			t.Errorf("answered %q: code %d\n%s%s", c.answer, code, out, x.screen())
		}
		x.see(0, c.want)
	}

	const fresh = "larkmere heron and reed"
	x := newTerminal(t)
	if code, _ := x.run(w, "sign-in --user ines.carvalho", "assword", password); code != 0 {
		t.Fatalf("signing in ends with %d:\n%s", code, x.screen())
	}
	w.token = "" // from here on as who has signed in
	for _, c := range []struct {
		first, again string
		code         int
		want         string
	}{{fresh, fresh + "x", 2, "the two passwords differ"}, {fresh, fresh, 0, ""}} {
		x = newTerminal(t)
		code, _ := x.run(w, "password", "assword", password, "assword", c.first, "nce more", c.again)
		x.see(0, c.want)
		if code != c.code {
			t.Errorf("changing the password ends with %d:\n%s", code, x.screen())
		}
		for _, secret := range []string{password, fresh} {
			if strings.Contains(x.screen(), secret) {
				t.Errorf("the terminal shows a password:\n%s", x.screen())
			}
		}
	}
	if status, _, _ := w.signedIn("ines.carvalho", fresh); status != 200 {
		t.Errorf("the new password signs nobody in: %d", status)
	}
}
