package acceptance

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"io"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"

	"sentier/enforce"
	"sentier/internal/daemon"
)

// TestOneReaderAtAllOfThem: whatever body is sent, however made, a gate says what the service says: allowed or not, with the same status.
func TestOneReaderAtAllOfThem(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	secret, hash := daemon.NewSecret("sentier_gate_")
	o := daemon.GateOptions{
		Enforce: enforce.Options{Service: w.url, Token: w.tokenFor("gateway-bridges"), Keys: []string{base64.StdEncoding.EncodeToString(w.writerKey())}, Dir: t.TempDir(), Clock: daemon.ClockFrom(testNow(t))},
		Listen:  "127.0.0.1:0", Machine: "estuary", Version: "test", Most: 100_000, GoOn: true, Log: slog.New(slog.DiscardHandler),
	}
	copy(o.Hash[:], hash)
	ctx, cancel := context.WithCancel(context.Background())
	g, err := daemon.OpenGate(ctx, o)
	if err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() { ended <- g.Run(ctx) }()
	defer func() {
		cancel()
		if err := <-ended; err != nil {
			t.Errorf("the gate ends with %v", err)
		}
	}()
	client := &http.Client{}
	said := func(base, secret, path, body string) (status int, decisions string) {
		t.Helper()
		req, err := http.NewRequest("POST", base+path, strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+secret)
		req.Header.Set("Content-Type", "application/json")
		resp, err := client.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		data, err := io.ReadAll(resp.Body)
		if err != nil {
			t.Fatal(err)
		}
		type one struct {
			Decision *bool
			Context  struct {
				Reason string
				Error  *struct{ Status int }
			}
		}
		var out struct {
			one
			Evaluations []one
		}
		if resp.StatusCode == 200 {
			if err := json.Unmarshal(data, &out); err != nil {
				t.Fatal(err)
			}
		}
		text, err := json.Marshal(out)
		if err != nil {
			t.Fatal(err)
		}
		return resp.StatusCode, string(text)
	}
	whole := `{"subject":{"type":"user","id":"tomas.field"},"action":{"name":"control"},"resource":{"type":"device","id":"weather-mast-1"},"context":{"strong_sign_in":true,"time":"2026-11-24T10:00:00Z","ip":"10.20.0.7","attended":true,"place":"tunnel"}}`
	many := `{"subject":{"type":"user","id":"tomas.field"},"action":{"name":"control"},"context":{"strong_sign_in":true},"evaluations":[{"resource":{"type":"device","id":"weather-mast-1"},"context":{"strong_sign_in":true}},{"resource":{"type":"device","id":"mill-bridge"},"context":{"ip":"10.20.0.7"}},{"resource":{"type":"device","id":"mill-bridge"}},{"resource":{"id":"mill-bridge"}}],"options":{"evaluations_semantic":"execute_all"}}`
	seeds := []string{
		whole, many,
		strings.Replace(many, "execute_all", "deny_on_first_deny", 1), strings.Replace(many, "execute_all", "permit_on_first_permit", 1),
		strings.Replace(whole, `"subject"`, `"Subject"`, 1), strings.Replace(whole, `"id"`, `"ID"`, 1), strings.Replace(whole, `"strong_sign_in":true`, `"strong_sign_in":false,"strong_sign_in":true`, 1),
		strings.Replace(many, `"context":{"strong_sign_in":true},"evaluations"`, `"evaluations"`, 1), `{"evaluations":[]}`, whole + whole, "\xef\xbb\xbf" + whole,
	}
	tokens := []string{`"type"`, `"user"`, `"device"`, `"point"`, `"context"`, `"strong_sign_in"`, `true`, `false`, `null`, `{}`, `[]`, `{`, `}`, `,`, `:`, `"`, `"time"`, `"2026-11-24T23:00:00Z"`, `1e999`, "\xff", `"evaluations"`, `"mill-bridge/deck"`, ` `}
	inputs := 1000
	if text := os.Getenv("SENTIER_INPUTS"); text != "" {
		if inputs, err = strconv.Atoi(text); err != nil {
			t.Fatal(err)
		}
	}
	random, taken := rand.New(rand.NewPCG(30, 7)), 0
	for n := range inputs {
		body := []byte(seeds[n%len(seeds)])
		if n >= len(seeds) {
			for range 1 + random.IntN(3) {
				at := random.IntN(len(body) + 1)
				to := min(len(body), at+random.IntN(20))
				switch random.IntN(4) {
				case 0:
					body = slices.Delete(body, at, to)
				case 1:
					body = slices.Insert(body, at, slices.Clone(body[at:to])...)
				default:
					body = slices.Insert(body, at, []byte(tokens[random.IntN(len(tokens))])...)
				}
			}
		}
		for _, path := range []string{"/access/v1/evaluation", "/access/v1/evaluations"} {
			a, at := said(w.url, w.token, path, string(body))
			b, gate := said(g.Address(), secret, path, string(body))
			if a != b || at != gate {
				t.Errorf("%s %q: the service says %d %s, the gate %d %s", path, body, a, at, b, gate)
			}
			if a == 200 {
				taken++
			}
		}
		if t.Failed() && n > 100 {
			break
		}
	}
	if taken < inputs/20 {
		t.Errorf("%d of %d bodies are answered: they say little", taken, inputs)
	}
}

// TestNamesThatStandTwice are refused in every body, and so are those of another case.
func TestNamesThatStandTwice(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	for path, body := range map[string]string{
		"/api/v1/changes":       `{"changes":[{"op":"put","op":"remove","type":"devices","id":"mill-bridge"}]}`,
		"/api/v1/check":         `{"user":"tomas.field","user":"ines.carvalho","right":"view","device":"mill-bridge"}`,
		"/api/v1/tokens":        `{"user":"tomas.field","name":"x","name":"y"}`,
		"/api/v1/drafts":        `{"Name":"x"}`,
		"/api/v1/sources":       `{"name":"x","name":"y","kind":"scim","bring":{}}`,
		"/api/v1/mine/join":     `{"group":"x","group":"y","minutes":1,"reason":"z"}`,
		"/api/v1/hooks":         `{"name":"x","URL":"https://x.example"}`,
		"/access/v1/evaluation": `{"subject":{"type":"user","id":"a","id":"b"}}`,
	} {
		if status, _, text := w.ask("POST", path, w.token, body); status != 400 && status != 422 {
			t.Errorf("%s %s: %d %s", path, body, status, text)
		}
	}
}
