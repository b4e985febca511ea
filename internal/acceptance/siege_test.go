package acceptance

import (
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"
)

// attacks are what somebody without a credential can do from outside, or with the least there is. Each takes one turn.
var attacks = map[string]func(a *attacker) error{
	"nested brackets at sign-in": func(a *attacker) error { return a.send("POST", "/api/v1/session", strings.Repeat("[", 100_000)) },
	"nested objects in an evaluation": func(a *attacker) error {
		return a.send("POST", "/access/v1/evaluation", strings.Repeat(`{"a":`, 200_000))
	},
	"a sheet of nothing": func(a *attacker) error {
		return a.send("PUT", "/api/v1/sheets/users", strings.Repeat("a,b\n", 500_000))
	},
	"a document of nothing":     func(a *attacker) error { return a.send("PUT", "/api/v1/policy", strings.Repeat("a: 1\n", 500_000)) },
	"methods that nobody knows": func(a *attacker) error { return a.send(fmt.Sprintf("M%d", a.IntN(1e9)), "/api/v1/users", "") },
	"paths that nobody knows": func(a *attacker) error {
		return a.send("GET", fmt.Sprintf("/api/v1/%d/%d", a.IntN(1e9), a.IntN(1e9)), "")
	},
	"names that nobody has":  func(a *attacker) error { return a.signIn(fmt.Sprintf("nobody-%d", a.IntN(1e9)), "guess") },
	"guesses at one account": func(a *attacker) error { return a.signIn("ines.carvalho", fmt.Sprint("guess ", a.IntN(1e9))) },
	"names of a kilobyte":    func(a *attacker) error { return a.signIn(strings.Repeat("x", 6000), strings.Repeat("y", 1500)) },
	"links that nobody made": func(a *attacker) error {
		return a.send("POST", "/api/v1/welcome", fmt.Sprintf(`{"link":"sentier_%d","password":"long enough a word"}`, a.IntN(1e9)))
	},
	"tokens that nobody made": func(a *attacker) error {
		return a.sendAs(fmt.Sprintf("sentier_%d", a.IntN(1e9)), "GET", "/api/v1/policy", "")
	},
	"large headers": func(a *attacker) error {
		return a.raw("GET / HTTP/1.1\r\nHost: x\r\nX-Large: " + strings.Repeat("x", 200_000))
	},
	"a sign-in that never ends": func(a *attacker) error {
		return a.raw("POST /api/v1/session HTTP/1.1\r\nHost: x\r\nContent-Type: application/json\r\nContent-Length: 8000\r\n\r\n{\"user\":\"")
	},
	"headers that never end": func(a *attacker) error { return a.raw("GET / HTTP/1.1\r\nHost: x\r\nX-Slow: ") },
	"a batch of one's own": func(a *attacker) error {
		return a.sendAs(a.least, "POST", "/access/v1/evaluations", `{"subject":{"type":"user","id":"tomas.field"},"action":{"name":"view"},"resource":{"type":"device","id":"mill-bridge"},"evaluations":[`+strings.TrimSuffix(strings.Repeat("{},", 5000), ",")+`]}`)
	},
	"a document from one with nothing": func(a *attacker) error {
		return a.sendAs(a.least, "PUT", "/api/v1/policy?dry_run=true", strings.Repeat("- ", 500_000))
	},
	"other people's ids": func(a *attacker) error { return a.sendAs(a.least, "GET", "/api/v1/reach/users/rui.falcao", "") },
}

type attacker struct {
	*rand.Rand
	url, least string
	client     *http.Client
}

func (a *attacker) send(method, path, body string) error { return a.sendAs("", method, path, body) }

func (a *attacker) signIn(user, password string) error {
	return a.send("POST", "/api/v1/session", fmt.Sprintf(`{"user":%q,"password":%q}`, user, password))
}

// sendAs sends a request whose answer must be a refusal or a plain answer, and never a fault of the service.
func (a *attacker) sendAs(token, method, path, body string) error {
	req, err := http.NewRequest(method, a.url+path, strings.NewReader(body))
	if err != nil {
		return err
	}
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	resp, err := a.client.Do(req)
	if err != nil {
		return nil // the connection was closed while the body was on its way
	}
	defer resp.Body.Close()
	if _, err := io.Copy(io.Discard, resp.Body); err != nil {
		return nil
	}
	if resp.StatusCode >= 500 && resp.StatusCode != 503 && resp.StatusCode != 501 || token == "" && resp.StatusCode < 300 {
		return fmt.Errorf("%s %s: %s", method, path, resp.Status)
	}
	return nil
}

// raw opens a connection, says the beginning of something and holds on for a while.
func (a *attacker) raw(text string) error {
	c, err := net.Dial("tcp", strings.TrimPrefix(a.url, "http://"))
	if err != nil {
		return nil
	}
	defer c.Close()
	if _, err := io.WriteString(c, text); err != nil {
		return nil
	}
	if err := c.SetReadDeadline(time.Now().Add(2 * time.Second)); err != nil {
		return err
	}
	io.Copy(io.Discard, c) // until it is closed, or the time is over
	return nil
}

// memory is how much a process has in memory, in bytes.
func memory(t *testing.T, pid int) int {
	t.Helper()
	data, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		t.Fatal(err)
	}
	m := regexp.MustCompile(`VmRSS:\s+(\d+) kB`).FindSubmatch(data)
	if m == nil {
		t.Fatalf("no memory in %s", data)
	}
	n, err := strconv.Atoi(string(m[1]))
	if err != nil {
		t.Fatal(err)
	}
	return n << 10
}

// plainLoad asks one evaluation after the other, as an enforcement point does, and gives the 99th percentile of the time that answers took.
func plainLoad(ctx context.Context, t *testing.T, url, token string) time.Duration {
	client := &http.Client{Timeout: 20 * time.Second}
	questions := map[string]string{
		`{"subject":{"type":"user","id":"tomas.field"},"action":{"name":"control"},"resource":{"type":"device","id":"twin-bridge-north"},"context":{"time":"2026-11-24T10:00:00Z"}}`:  `"decision":true`,
		`{"subject":{"type":"user","id":"night-backup"},"action":{"name":"control"},"resource":{"type":"device","id":"reservoir-gauge-1"},"context":{"time":"2026-11-24T02:00:00Z"}}`: `"reason":"right_not_granted"`,
	}
	var took []time.Duration
	for ctx.Err() == nil {
		for body, want := range questions {
			req, err := http.NewRequest("POST", url+"/access/v1/evaluation", strings.NewReader(body))
			if err != nil {
				t.Error(err)
				return 0
			}
			req.Header.Set("Authorization", "Bearer "+token)
			req.Header.Set("Content-Type", "application/json")
			begun := time.Now()
			resp, err := client.Do(req)
			if err != nil {
				t.Errorf("a plain evaluation: %v", err)
				return 0
			}
			answer, err := io.ReadAll(resp.Body)
			resp.Body.Close()
			took = append(took, time.Since(begun))
			if err != nil || resp.StatusCode != 200 || !strings.Contains(string(answer), want) {
				t.Errorf("a plain evaluation: %s %s (%v), want %s", resp.Status, answer, err, want)
				return 0
			}
		}
		time.Sleep(time.Millisecond)
	}
	slices.Sort(took)
	return took[len(took)*99/100]
}

// attackAll attacks in all ways at once over 200 connections until ctx ends, and gives how many turns were taken and what went wrong.
func attackAll(ctx context.Context, url, least string) (turns int64, faults []string) {
	names := make([]string, 0, len(attacks))
	for name := range attacks {
		if only := os.Getenv("SENTIER_ATTACK"); only == "" || only == name {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	var all sync.WaitGroup
	var mu sync.Mutex
	for i := range 200 {
		all.Go(func() {
			a := &attacker{rand.New(rand.NewPCG(uint64(i), 1)), url, least, &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{}}}
			for n := i; ctx.Err() == nil; n++ {
				name := names[n%len(names)]
				err := attacks[name](a)
				mu.Lock()
				turns++
				if err != nil {
					faults = append(faults, fmt.Sprintf("%s: %v", name, err))
				}
				mu.Unlock()
			}
		})
	}
	all.Wait()
	return turns, faults
}

// TestAttacker is the attacker of TestUnderAttack, as a process of its own.
func TestAttacker(t *testing.T) {
	target := os.Getenv("SENTIER_TARGET")
	if target == "" {
		t.Skip("it is begun by TestUnderAttack")
	}
	lasts, err := time.ParseDuration(os.Getenv("SENTIER_SIEGE"))
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), lasts)
	defer cancel()
	turns, faults := attackAll(ctx, target, os.Getenv("SENTIER_LEAST"))
	for _, fault := range faults[:min(len(faults), 10)] {
		t.Error(fault)
	}
	t.Logf("%d turns", turns)
}

// TestUnderAttack attacks the service by all ways at once over 200 connections, beside a plain load: no answer is wrong, little memory is
// taken, and SIGTERM ends it with what clients hold open. SENTIER_SIEGE says for how long; then the times are held as well.
func TestUnderAttack(t *testing.T) {
	long := os.Getenv("SENTIER_SIEGE")
	lasts := 5 * time.Second
	if long != "" {
		var err error
		if lasts, err = time.ParseDuration(long); err != nil {
			t.Fatal(err)
		}
	} else {
		t.Parallel()
	}
	sentier, dir := binary(t), t.TempDir()
	owner := begin(t, sentier, dir)
	p := launch(t, sentier, "serve", "--data", dir, "--listen", "127.0.0.1:0")
	w := &world{t: t, url: p.url, token: owner}
	least, enforcement := w.tokenFor("tomas.field"), w.tokenFor("gateway-bridges")
	idle, cancel := context.WithTimeout(t.Context(), min(lasts/2, 20*time.Second))
	calm := plainLoad(idle, t, p.url, enforcement)
	cancel()
	before := memory(t, p.cmd.Process.Pid)

	ctx, cancel := context.WithTimeout(t.Context(), lasts)
	defer cancel()
	// The attacker has a machine of its own: as there is only this one, it takes what the others leave.
	attack := exec.Command("nice", "-n", "19", os.Args[0], "-test.run", "^TestAttacker$", "-test.v", "-test.timeout", "1h")
	attack.Env = append(os.Environ(), "SENTIER_TARGET="+p.url, "SENTIER_LEAST="+least, "SENTIER_SIEGE="+lasts.String())
	var all sync.WaitGroup
	all.Go(func() {
		out, err := attack.CombinedOutput()
		if err != nil {
			t.Errorf("the attack: %v", err)
		}
		t.Logf("the attack: %s", out)
	})
	most := 0
	all.Go(func() {
		for ctx.Err() == nil {
			most = max(most, memory(t, p.cmd.Process.Pid))
			time.Sleep(200 * time.Millisecond)
		}
	})
	attacked := plainLoad(ctx, t, p.url, enforcement)
	all.Wait()
	t.Logf("%v: p99 of a plain evaluation %v, idle %v (%.1f×); memory %d MB, idle %d MB", lasts, attacked, calm, float64(attacked)/float64(calm), most>>20, before>>20)
	if most-before > 300<<20 {
		t.Errorf("memory grew from %d MB to %d MB", before>>20, most>>20)
	}
	if long != "" && attacked > 5*calm {
		t.Errorf("the p99 of a plain evaluation went from %v to %v", calm, attacked)
	}
	if _, _, metrics := w.ask("GET", "/metrics", owner, ""); len(metrics) > 1<<20 {
		t.Errorf("the metrics have %d bytes by now", len(metrics))
	}
	// Clients that hold something open do not keep the service from ending.
	for range 20 {
		c, err := net.Dial("tcp", strings.TrimPrefix(p.url, "http://"))
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		if _, err := io.WriteString(c, "POST /api/v1/session HTTP/1.1\r\nHost: x\r\nContent-Length: 100\r\n\r\n{"); err != nil {
			t.Fatal(err)
		}
	}
	if err := p.end(syscall.SIGTERM); err != nil {
		t.Errorf("after SIGTERM the service ended with %v", err)
	}
}
