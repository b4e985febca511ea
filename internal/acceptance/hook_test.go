package acceptance

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os/exec"
	"strings"
	"sync"
	"testing"
	"time"

	"sentier/internal/wire"
)

// told is what came to a receiver of events.
type told struct {
	Secret  string            `json:"secret"`
	Body    string            `json:"body"`
	Headers map[string]string `json:"headers"`
}

// receiver takes events, or answers with a status that it is told to.
type receiver struct {
	*httptest.Server
	mu     sync.Mutex
	status int
	got    []told // that it took
	tried  int
}

const hookSecret = "signs-what-the-desk-is-told"

func newReceiver(t *testing.T) *receiver {
	r := &receiver{status: 200}
	r.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, req *http.Request) {
		body, err := io.ReadAll(req.Body)
		if err != nil {
			t.Error(err)
		}
		r.mu.Lock()
		defer r.mu.Unlock()
		r.tried++
		headers := map[string]string{}
		for name := range req.Header {
			headers[strings.ToLower(name)] = req.Header.Get(name)
		}
		if r.status < 300 {
			r.got = append(r.got, told{hookSecret, string(body), headers})
		}
		if r.status == 302 {
			w.Header().Set("Location", r.URL)
		}
		w.WriteHeader(r.status)
	}))
	t.Cleanup(r.Close)
	return r
}

func (r *receiver) answers(status int) { r.mu.Lock(); defer r.mu.Unlock(); r.status = status }

// events are those that were taken.
func (r *receiver) events(t *testing.T) (out []map[string]any) {
	t.Helper()
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, e := range r.got {
		var one map[string]any
		if err := json.Unmarshal([]byte(e.Body), &one); err != nil {
			t.Fatal(err)
		}
		out = append(out, one)
	}
	return out
}

// TestOthersAreToldWhatHappens: each event once it is taken, in order, signed so that a library of others takes it; again with growing pauses while it is not.
func TestOthersAreToldWhatHappens(t *testing.T) {
	t.Parallel()
	desk := newReceiver(t)
	w, forward := shifted(t)
	w.secret("desk", hookSecret)
	w.secret("short", "short")
	for body, want := range map[string]string{
		`{"name":"x","url":"http://desk.example/in","secret":"desk"}`: "https", `{"name":"x","url":"https://a:b@desk.example","secret":"desk"}`: "url", `{"name":"","url":"https://desk.example","secret":"desk"}`: "name",
		`{"name":"x","url":"https://desk.example","secret":"../desk"}`: "secret", `{"name":"x","url":"https://desk.example","secret":"desk","kinds":["nothing"]}`: "kinds",
	} {
		if status, _, text := w.ask("POST", "/api/v1/hooks", w.token, body); status != 400 || !strings.Contains(text, want) {
			t.Errorf("%s: %d %s", body, status, text)
		}
	}
	w.does(0, "Set up", "hook", "add", "Ticket desk", "--url", desk.URL, "--secret", "short")
	w.does(2, "shorter than", "hook", "test", "ticket-desk")
	w.does(0, "Set up", "hook", "edit", "ticket-desk", "--secret", "desk")
	w.does(0, "It was taken: 200", "hook", "test", "ticket-desk")
	if said := texts(w.entries("kind=setting")); !strings.Contains(said, "Set up the hook “Ticket desk”: ") || !strings.Contains(said, "Changed the hook “Ticket desk”: secret \"short\" → \"desk\"") {
		t.Errorf("the record says\n%s", said)
	}

	change := func(n int) {
		w.must("PATCH", fmt.Sprintf("/api/v1/users/tomas.field?note=change%%20%d", n), fmt.Sprintf(`{"note":"%d"}`, n))
	}
	change(1)
	w.until("the first event", func() bool { return len(desk.events(t)) == 2 })
	desk.answers(500)
	for n := 2; n <= 4; n++ {
		change(n)
	}
	failing := func() wire.Hook { return get[[]wire.Hook](w, "GET", "/api/v1/hooks", "")[0] }
	w.until("a failure", func() bool { return failing().Status == 500 })
	if h := failing(); h.Next == nil || h.Problem == "" || h.Behind == 0 {
		t.Errorf("while it fails: %+v", h)
	}
	desk.answers(302) // nobody is followed anywhere
	forward(6 * time.Second)
	w.until("another failure", func() bool { return failing().Tries == 2 && failing().Status == 302 })
	desk.answers(200)
	forward(11 * time.Second)
	w.until("all events", func() bool { return len(desk.events(t)) == 5 })
	events := desk.events(t)
	for i, e := range events[1:] {
		data := e["data"].(map[string]any)
		more, _ := json.Marshal(data["more"])
		if e["specversion"] != "1.0" || e["type"] != "sentier.change" || data["revision"] != float64(i+2) || !strings.Contains(string(more), fmt.Sprintf("change %d", i+1)) || e["subject"] != fmt.Sprintf("revision/%d", i+2) {
			t.Errorf("event %d: %v", i, e)
		}
	}
	if text := fmt.Sprint(events); strings.Contains(text, hookSecret) {
		t.Error("the secret is told")
	}

	desk.mu.Lock()
	all := append([]told{}, desk.got...)
	desk.mu.Unlock()
	forged := all[1]
	forged.Body = strings.Replace(forged.Body, "change 1", "change 9", 1)
	in, err := json.Marshal(append(all, forged))
	if err != nil {
		t.Fatal(err)
	}
	node := exec.Command("node", "hooks.mjs")
	node.Dir, node.Stdin = "peers", bytes.NewReader(in)
	out, err := node.Output()
	var verdicts []string
	if err != nil || json.Unmarshal(out, &verdicts) != nil {
		t.Fatalf("%v %s (make test-tools installs what it needs)", err, out)
	}
	for i, v := range verdicts {
		if (v != "") != (i == len(all)) {
			t.Errorf("event %d of %d: %q", i, len(all), v)
		}
	}

	w.does(0, "", "hook", "edit", "ticket-desk", "--paused")
	change(5)
	time.Sleep(1500 * time.Millisecond)
	if n := len(desk.events(t)); n != 5 {
		t.Errorf("paused, and %d events were told", n)
	}
	w.does(0, "", "hook", "edit", "ticket-desk", "--paused=false")
	w.until("what was kept meanwhile", func() bool { return len(desk.events(t)) == 6 })
	desk.answers(410)
	change(6)
	w.until("that it wants no more", func() bool { return failing().Paused })
	get[wire.Hook](w, "PUT", "/api/v1/hooks/ticket-desk", fmt.Sprintf(`{"name":"Ticket desk","url":%q,"secret":"desk","paused":true}`, desk.URL))
	get[wire.Hook](w, "POST", "/api/v1/hooks/ticket-desk/test", "")
	get[wire.Hook](w, "POST", "/api/v1/hooks", fmt.Sprintf(`{"name":"Old desk","url":%q,"secret":"desk","paused":true}`, desk.URL))
	w.does(0, "paused", "hook", "list")
	if status, _, text := w.ask("DELETE", "/api/v1/hooks/old-desk", w.token, ""); status != 204 {
		t.Errorf("taking one away: %d %s", status, text)
	}
}

// TestAHookIsPausedAndTakenAwayWhileItIsTold: what is on its way is the last that is told; that it is paused stands.
func TestAHookIsPausedAndTakenAwayWhileItIsTold(t *testing.T) {
	t.Parallel()
	came, answer := make(chan string, 20), make(chan bool)
	desk := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, req *http.Request) {
		came <- req.Header.Get("Webhook-Id")
		<-answer
	}))
	defer desk.Close()
	defer close(answer)
	w := start(t, nil)
	w.secret("desk", hookSecret)
	set := func(paused bool) wire.Hook {
		return get[wire.Hook](w, "PUT", "/api/v1/hooks/ticket-desk", fmt.Sprintf(`{"name":"Ticket desk","url":%q,"secret":"desk","kinds":["change"],"paused":%t}`, desk.URL, paused))
	}
	get[wire.Hook](w, "POST", "/api/v1/hooks", fmt.Sprintf(`{"name":"Ticket desk","url":%q,"secret":"desk","kinds":["change"]}`, desk.URL))
	for n := range 3 {
		w.must("PATCH", "/api/v1/users/tomas.field", fmt.Sprintf(`{"note":"%d"}`, n))
	}
	quiet := func(what string) {
		t.Helper()
		select {
		case id := <-came:
			t.Errorf("%s, and %s was told", what, id)
		case <-time.After(2500 * time.Millisecond):
		}
	}
	first := <-came
	set(true)
	answer <- true
	quiet("paused")
	if h := get[[]wire.Hook](w, "GET", "/api/v1/hooks", "")[0]; !h.Paused {
		t.Errorf("what was on its way has taken the pause back: %+v", h)
	}
	set(false)
	if again := <-came; again != first { // at least once: nobody knows whether the one before counts
		t.Errorf("after %s comes %s", first, again)
	}
	w.must("DELETE", "/api/v1/hooks/ticket-desk", "")
	answer <- true
	quiet("taken away")
}

// TestEndsAndFindingsAreTold: each end once, a week before it comes, and of findings only those that are more than were told; while nobody asks, nothing is looked for.
func TestEndsAndFindingsAreTold(t *testing.T) {
	t.Parallel()
	desk := newReceiver(t)
	w, forward := shifted(t)
	w.secret("desk", hookSecret)
	if said := texts(w.entries("kind=ending")) + texts(w.entries("kind=finding")); said != "" {
		t.Errorf("nobody asks, and there is on record:\n%s", said)
	}
	soon := testNow(t).Add(48 * time.Hour).UTC().Format(time.RFC3339)
	w.does(0, "", "group", "add-member", "volunteers", "callum.reeve", "--until", soon)
	w.does(0, "Set up", "hook", "add", "Ticket desk", "--url", desk.URL, "--secret", "desk", "--kind", "ending,finding")
	of := func(kind, part string) (n int) {
		for _, e := range desk.events(t) {
			more, err := json.Marshal(e["data"])
			if err != nil {
				t.Fatal(err)
			}
			if e["type"] == "sentier."+kind && strings.Contains(string(more), part) {
				n++
			}
		}
		return n
	}
	w.until("Callum's end, and the findings", func() bool { return of("ending", `"user":"callum.reeve"`) == 1 && of("finding", `"unsorted":4`) == 1 })
	later := testNow(t).Add(7*24*time.Hour + 12*time.Hour).UTC().Format(time.RFC3339)
	w.does(0, "", "group", "add-member", "volunteers", "lena.marsh", "--until", later)
	w.does(0, "", "device", "add", "found-later")
	forward(11 * time.Minute)
	w.until("one more that is unsorted", func() bool { return of("finding", `"found":{"unsorted":1}`) == 1 })
	if of("ending", "lena.marsh") != 0 {
		t.Error("an end in seven days and a half is told")
	}
	forward(12 * time.Hour)
	w.until("Lena's end", func() bool { return of("ending", "lena.marsh") == 1 })
	forward(11 * time.Minute)
	w.does(0, "", "device", "add", "found-at-last")
	forward(11 * time.Minute)
	w.until("the last that is unsorted", func() bool { return of("finding", `"unsorted":6`) == 1 })
	if callum, lena := of("ending", `"user":"callum.reeve"`), of("ending", "lena.marsh"); callum != 1 || lena != 1 {
		t.Errorf("Callum's end is told %d times, Lena's %d times", callum, lena)
	}
	w.does(0, "Ends soon: Lena Marsh", "audit", "list", "--kind", "ending")
}

// TestFeedsAndHooksInTheConsole: a calendar is subscribed to, listed and taken away; a hook is set up key by key, tried, paused and taken away.
func TestFeedsAndHooksInTheConsole(t *testing.T) {
	t.Parallel()
	desk := newReceiver(t)
	w := start(t, nil)
	w.secret("desk", hookSecret)
	b := w.consoleAt("/records/schedules/night-watch")
	b.click("Subscribe")
	b.see("Whoever has the address can read it")
	b.accessible("a calendar to subscribe to")
	b.click("Make the address")
	b.until("the secret address", `/\/feeds\/[\w-]{43}\.ics$/.test(document.querySelector("[role=dialog] input")?.value ?? "")`)
	b.click("Close")
	b.open("/account")
	b.see("Calendars that others read")
	b.see("Night watch")
	b.accessible("an account with a calendar")
	b.click("Take away")
	b.until("no calendar any more", `!document.body.innerText.includes("Calendars that others read")`)

	b.open("/service")
	b.see("Nobody else is told.")
	b.click("Tell somebody")
	b.fill("Name", "Ticket desk")
	b.fill("Address to which it is sent", "http://desk.larkmere.example/in")
	b.fill("Name of the secret", "desk")
	b.click("Set up")
	b.see("is not reached by https")
	b.fill("Address to which it is sent", desk.URL)
	b.accessible("a hook that is set up")
	b.click("Set up")
	b.see("Nothing was to be told yet.")
	b.click("Send a test")
	b.see("The test was taken.")
	b.click("Pause")
	b.see("what happens meanwhile is kept")
	b.click("Go on")
	w.does(0, "", "user", "edit", "tomas.field", "--user-note", "told")
	b.see("Taken, last")
	b.accessible("who is told")
	b.click("Take away")
	b.see("Tell Ticket desk nothing more?")
	b.clickLast("Take away")
	b.see("Nobody else is told.")
}
