package acceptance

import (
	"bufio"
	"context"
	"io"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
)

// TestThePanelOfTheDemonstration is dark while divers are below, lit when they are up, does what whoever stands there may, stops by itself when they no longer
// may, and is dark as a whole when its gate is gone.
func TestThePanelOfTheDemonstration(t *testing.T) {
	t.Parallel()
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	cmd := exec.CommandContext(ctx, binary(t), "demo", "--gate", "--listen", "127.0.0.1:0", "--at", testNow(t).Format(time.RFC3339))
	cmd.Cancel = func() error { return cmd.Process.Signal(syscall.SIGTERM) }
	out, err := cmd.StdoutPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		t.Fatal(err)
	}
	defer func() {
		cancel()
		if err := cmd.Wait(); err != nil && ctx.Err() == nil {
			t.Errorf("the demonstration ends with %v", err)
		}
	}()
	var said strings.Builder
	lines := bufio.NewScanner(out)
	for lines.Scan() && !strings.Contains(lines.Text(), "release-lock-out") {
		said.WriteString(lines.Text() + "\n")
	}
	find := func(pattern string) string {
		t.Helper()
		m := regexp.MustCompile(pattern).FindStringSubmatch(said.String())
		if m == nil {
			t.Fatalf("%s is not in what the demonstration says: %s", pattern, said.String())
		}
		return m[1]
	}
	at := find(`Panel +(http://\S+)`)
	w := &world{t: t, url: find(`SENTIER_URL=(\S+)`), token: find(`SENTIER_TOKEN=(\S+)`)}
	look := func() string {
		t.Helper()
		resp, err := http.Get(at + "/?person=clara.fontes")
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		text, err := io.ReadAll(resp.Body)
		if err != nil || resp.StatusCode != 200 {
			t.Fatal(resp.Status, err)
		}
		return string(text)
	}
	press := func(device string) string {
		t.Helper()
		resp, err := http.PostForm(at, url.Values{"device": {device}, "person": {"clara.fontes"}})
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		text, err := io.ReadAll(resp.Body)
		if err != nil {
			t.Fatal(err)
		}
		return string(text)
	}
	if text := look(); !strings.Contains(text, "Dark: locked out") {
		t.Errorf("while divers are below: %s", text)
	}
	if text := press("estuary-gate-1"); !strings.Contains(text, "refused Clara Fontes: locked out") {
		t.Errorf("pressed while divers are below: %s", text)
	}
	give := `{"id":"clara-at-the-gate","name":"Clara at the gate","to":{"users":["clara.fontes"]},"lines":[{"rights":["control"],"on":{"devices":["estuary-gate-1"]}}]}`
	if status, _, text := w.ask("PUT", "/api/v1/grants/clara-at-the-gate", w.token, give); status >= 300 {
		t.Fatalf("%d %s", status, text)
	}
	if code, _, errOut := w.run("device", "release-lock-out", "estuary-gate-1"); code != 0 {
		t.Fatal(errOut)
	}
	w.soon("the gate is lit", func() bool { return strings.Contains(look(), ">Open</button>") })
	if os.Getenv("SENTIER_SCREENSHOTS") != "" {
		b := w.browse()
		b.do("the panel", chromedp.Navigate(at+"/?person=clara.fontes"))
		b.see("At the panel:")
		b.screenshot("panel")
	}
	if text := press("estuary-gate-1"); !strings.Contains(text, "opening") {
		t.Errorf("pressed when it is lit: %s", text)
	}
	if code, _, errOut := w.run("device", "lock-out", "estuary-gate-1", "--reason", "Divers below"); code != 0 {
		t.Fatal(errOut)
	}
	w.soon("it stops by itself", func() bool { return strings.Contains(look(), "stopped by itself: locked out") })
	if resp, err := http.Get(at + "/nowhere"); err != nil || resp.StatusCode != 404 {
		t.Errorf("nowhere: %v %v", resp, err)
	}
}
