package acceptance

import (
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"
)

// TestANewProcessTakesOver: with a socket that is held open for it, a service is replaced under load, and nobody is refused; what it was told
// before stands, and whoever started it is told how it stands.
func TestANewProcessTakesOver(t *testing.T) {
	t.Parallel()
	sentier, dir := binary(t), t.TempDir()
	token := begin(t, sentier, dir)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	socket, err := l.(*net.TCPListener).File()
	if err != nil {
		t.Fatal(err)
	}
	defer socket.Close()
	told, err := net.ListenUnixgram("unixgram", &net.UnixAddr{Name: filepath.Join(dir, "told"), Net: "unixgram"})
	if err != nil {
		t.Fatal(err)
	}
	defer told.Close()
	states := make(chan string, 16)
	go func() {
		buffer := make([]byte, 256)
		for {
			n, err := told.Read(buffer)
			if err != nil {
				return // closed
			}
			states <- string(buffer[:n])
		}
	}()
	next := func(want string) {
		t.Helper()
		select {
		case got := <-states:
			if got != want {
				t.Errorf("told %q, want %q", got, want)
			}
		case <-time.After(time.Minute):
			t.Fatalf("never told %q", want)
		}
	}
	command := func() *exec.Cmd {
		cmd := exec.Command("sh", "-c", `LISTEN_PID=$$ LISTEN_FDS=1 exec "$0" serve --data "$1"`, sentier, dir)
		cmd.ExtraFiles = []*os.File{socket}
		cmd.Env = append(os.Environ(), "NOTIFY_SOCKET="+told.LocalAddr().String())
		return cmd
	}
	first := launched(t, command())
	next("READY=1")
	if first.url != "http://"+l.Addr().String() {
		t.Fatalf("it answers at %s, and the socket is %s", first.url, l.Addr())
	}

	var answered, changed atomic.Int64
	var load sync.WaitGroup
	stop := make(chan struct{})
	client := &http.Client{Timeout: time.Minute, Transport: &http.Transport{DisableKeepAlives: true}}
	ask := func(method, path, body string, count *atomic.Int64) {
		for {
			select {
			case <-stop:
				return
			default:
			}
			req, err := http.NewRequest(method, first.url+path, strings.NewReader(strings.ReplaceAll(body, "◦", strconv.FormatInt(count.Load(), 10))))
			if err != nil {
				t.Error(err)
				return
			}
			req.Header.Set("Authorization", "Bearer "+token)
			req.Header.Set("Content-Type", map[string]string{"POST": "application/json", "PATCH": "application/merge-patch+json"}[method])
			answer, err := client.Do(req)
			if err != nil {
				t.Errorf("while one takes over from the other: %v", err)
				return
			}
			text, err := io.ReadAll(answer.Body)
			answer.Body.Close()
			if err != nil {
				t.Errorf("while one takes over from the other, the answer breaks off: %v", err)
				return
			}
			if answer.StatusCode != 200 {
				t.Errorf("while one takes over from the other: %s %s: %s %s", method, path, answer.Status, text)
				return
			}
			count.Add(1)
		}
	}
	for range 3 {
		load.Go(func() {
			ask("POST", "/access/v1/evaluation", `{"subject":{"type":"user","id":"tomas.field"},"action":{"name":"view"},"resource":{"type":"device","id":"mill-bridge"}}`, &answered)
		})
	}
	load.Go(func() {
		ask("PATCH", "/api/v1/users/tomas.field", `{"note":"seen ◦ times"}`, &changed)
	})
	second := command()
	pipe, err := second.StderrPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := second.Start(); err != nil {
		t.Fatal(err)
	}
	p := &process{cmd: second}
	t.Cleanup(func() { p.end(syscall.SIGKILL) })
	waits := make([]byte, 512)
	n, err := pipe.Read(waits)
	if err != nil || !strings.Contains(string(waits[:n]), "answers when that one has ended") {
		t.Fatalf("the second says %q, %v", waits[:n], err)
	}
	enough := func(count *atomic.Int64, more int64) {
		t.Helper()
		for from, end := count.Load(), time.Now().Add(time.Minute); count.Load() < from+more && time.Now().Before(end) && !t.Failed(); {
			time.Sleep(10 * time.Millisecond)
		}
	}
	enough(&answered, 20)
	if err := first.end(syscall.SIGTERM); err != nil {
		t.Errorf("the first ended with %v", err)
	}
	next("STOPPING=1")
	next("READY=1")
	enough(&answered, 20)
	enough(&changed, 2)
	close(stop)
	load.Wait()
	if answered.Load() < 40 || changed.Load() < 2 {
		t.Errorf("%d answers, %d changes", answered.Load(), changed.Load())
	}
	if err := p.end(syscall.SIGTERM); err != nil {
		t.Errorf("the second ended with %v", err)
	}
	if out, err := exec.Command(sentier, "verify", "--data", dir).CombinedOutput(); err != nil {
		t.Errorf("what both wrote: %v\n%s", err, out)
	}

	// Two sockets are one too many, and the mend is told.
	two := exec.Command("sh", "-c", `LISTEN_PID=$$ LISTEN_FDS=2 exec "$0" serve --data "$1"`, sentier, dir)
	two.ExtraFiles = []*os.File{socket, socket}
	if out, err := two.CombinedOutput(); err == nil || !strings.Contains(string(out), "one ListenStream=") {
		t.Errorf("two sockets: %v %s", err, out)
	}
}
