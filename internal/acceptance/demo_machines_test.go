package acceptance

import (
	"bufio"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"
)

// TestSevenMachinesAreCutAndKilled does what is typed: the machine that writes is killed, and another writes; a gate that is cut off decides on; and the panel
// of one that is killed is dark.
func TestSevenMachinesAreCutAndKilled(t *testing.T) {
	t.Parallel()
	cmd := exec.Command(binary(t), "demo", "--machines", "--listen", "127.0.0.1:0")
	cmd.Env = append(os.Environ(), "TMPDIR="+t.TempDir())
	var mu sync.Mutex
	var said strings.Builder
	out, in := io.Pipe()
	cmd.Stdout, cmd.Stderr = in, in
	typed, err := cmd.StdinPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		t.Fatal(err)
	}
	ended := make(chan struct{})
	go func() { defer close(ended); _ = cmd.Wait(); in.Close() }() // how it ended, it says
	go func() {
		for lines := bufio.NewScanner(out); lines.Scan(); {
			mu.Lock()
			fmt.Fprintln(&said, lines.Text())
			mu.Unlock()
		}
	}()
	t.Cleanup(func() { _ = cmd.Process.Signal(syscall.SIGTERM); <-ended })
	all := func() string { mu.Lock(); defer mu.Unlock(); return said.String() }
	w := &world{t: t}
	for end := time.Now().Add(3 * time.Minute); !strings.Contains(all(), "Ctrl-C ends the demo."); time.Sleep(100 * time.Millisecond) { // nine programs begin
		over := time.Now().After(end)
		select {
		case <-ended:
			over = true
		default:
		}
		if over {
			t.Fatalf("the demonstration has not begun: %s", all())
		}
	}
	set := regexp.MustCompile(`SENTIER_URL=(\S+) SENTIER_TOKEN=(\S+)`).FindStringSubmatch(all())
	panels := regexp.MustCompile(`panel at (\S+)`).FindAllStringSubmatch(all(), -1)
	if set == nil || len(panels) != 2 {
		t.Fatalf("it says: %s", all())
	}
	w.url, w.token = set[1], set[2]
	types := func(words, answer string) {
		t.Helper()
		before := strings.Count(all(), answer)
		if _, err := fmt.Fprintln(typed, words); err != nil {
			t.Fatal(err)
		}
		w.soon("“"+words+"” is answered", func() bool { return strings.Count(all(), answer) > before })
	}
	for words, answer := range map[string]string{"cut": "write list", "cut made-up": `"made-up" is no machine`, "mend estuary": "is not cut", "start estuary": "estuary runs"} {
		types(words, answer)
	}
	writer := func() string {
		for _, m := range w.machines().List {
			if m.Role == "writer" && m.State == "fine" {
				return m.Name
			}
		}
		return ""
	}
	if first := writer(); first != "control-room" {
		t.Errorf("%q writes first", first)
	}
	lit := func(at string) bool {
		resp, err := http.Get(at)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		text, err := io.ReadAll(resp.Body)
		if err != nil {
			t.Fatal(err)
		}
		return !strings.Contains(string(text), "does not answer")
	}
	types("cut estuary", "The line of estuary is cut.")
	types("kill control-room", "control-room is killed.")
	w.soon("another machine writes", func() bool {
		status, text := asked(strings.TrimPrefix(w.url, "http://"), w.token, "PUT", "/api/v1/users/keeper.at.hand", `{"id":"keeper.at.hand","name":"Keeper"}`)
		return (status == 200 || status == 201) && strings.Contains(text, "revision")
	})
	if now := writer(); now == "control-room" || now == "" {
		t.Errorf("%q writes", now)
	}
	if !lit(panels[0][1]) {
		t.Error("the panel of a gate that is cut off is dark")
	}
	types("list", "runs, its line is cut")
	types("mend estuary", "The line of estuary is mended.")
	types("start control-room", "control-room runs again.")
	w.soon("all stand well", func() bool {
		list := w.machines().List
		for _, m := range list {
			if m.State != "fine" {
				return false
			}
		}
		return len(list) == 7
	})
	types("kill estuary", "estuary is killed.")
	w.soon("its panel is dark", func() bool { return !lit(panels[0][1]) })
}
