package acceptance

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"sentier/internal/daemon"
	"sentier/internal/demo"
	"sentier/internal/policy"
	"sentier/internal/store"
	"sentier/internal/wire"
)

// TestEndsHold: whatever is given for a time ends at its instant, whatever has become by then of whoever gave it, of the objects, of what is expected, and of the
// clock; what was taken or set for the time is put back, but for what somebody has changed since.
func TestEndsHold(t *testing.T) {
	t.Parallel()
	const gives = `
		{"op":"add","type":"user_groups","id":"bridge-crew","list":"members","value":"noor.haddad"},
		{"op":"put","type":"user_groups","id":"crew-at-the-yard","record":{"id":"crew-at-the-yard","name":"Crew at the yard","members":["noor.haddad"]}},
		{"op":"put","type":"grants","id":"yard-tonight","record":{"id":"yard-tonight","name":"Yard tonight","to":{"groups":["crew-at-the-yard"]},"lines":[{"rights":["control"],"on":{"devices":["yard-pump-1"]}}]}},
		{"op":"patch","type":"grants","id":"standing","record":{"to":{"users":["elin.berg","noor.haddad"]},"lines":[{"rights":["control"],"on":{"devices":["tunnel-pump-1"]}},{"rights":["control"],"on":{"devices":["tunnel-pump-2"]}}]}},
		{"op":"put","type":"mandates","id":"looks","record":{"id":"looks","name":"Looks","role":"auditor","to":{"users":["noor.haddad"]}}},
		{"op":"patch","type":"devices","id":"mill-pump-1","record":{"state":"maintenance"}},
		{"op":"drop","type":"user_groups","id":"bridge-crew","list":"members","value":"tomas.field"}`
	given := [][2]string{{"noor.haddad", "mill-bridge"}, {"noor.haddad", "yard-pump-1"}, {"noor.haddad", "tunnel-pump-1"}, {"elin.berg", "tunnel-pump-2"}, {"noor.haddad", "tunnel-pump-2"}}
	note := func(w *world, path string) { w.must("PATCH", "/api/v1/"+path, `{"note":"seen"}`) }
	for fate, c := range map[string]struct {
		do   func(w *world, forward func(time.Duration))
		left string // that is told of what stays
	}{
		"nothing": {func(*world, func(time.Duration)) {}, ""},
		"whoever gave it is suspended": {func(w *world, _ func(time.Duration)) {
			w.must("PATCH", "/api/v1/users/bram.okafor", `{"status":"suspended"}`)
		}, ""},
		"whoever gave it has no mandate": {func(w *world, _ func(time.Duration)) {
			for _, m := range get[struct {
				Items []struct {
					ID string
					To struct{ Users []string }
				}
			}](w, "GET", "/api/v1/mandates", "").Items {
				if strings.Join(m.To.Users, " ") == "bram.okafor" {
					w.must("DELETE", "/api/v1/mandates/"+m.ID, "")
				}
			}
			w.must("PATCH", "/api/v1/users/bram.okafor", `{"status":"suspended"}`)
		}, ""},
		"somebody writes notes": {func(w *world, _ func(time.Duration)) {
			note(w, "grants/yard-tonight")
			note(w, "grants/standing")
			note(w, "user_groups/crew-at-the-yard")
			note(w, "mandates/looks")
			note(w, "devices/mill-pump-1")
		}, "Crew at the yard, Yard tonight, Looks"},
		"somebody sets the state": {func(w *world, _ func(time.Duration)) {
			w.must("PATCH", "/api/v1/devices/mill-pump-1", `{"state":"retired"}`)
		}, "Mill pump 1"},
		"it breaks an expectation": {func(w *world, _ func(time.Duration)) {
			w.must("POST", "/api/v1/expectations", `{"name":"Not Tomas","who":{"users":["tomas.field"]},"rights":["control"],"on":{"devices":["mill-bridge"]},"expect":"never"}`)
		}, ""},
		"two must agree": {func(w *world, _ func(time.Duration)) {
			w.must("PATCH", "/api/v1/service", `{"approval":{"control":true,"everyone":true,"everything":true,"mandates":true,"more_than":1}}`)
		}, ""},
		"the clock goes back and forth": {func(_ *world, forward func(time.Duration)) { forward(3 * time.Hour); forward(-2 * time.Hour) }, ""},
	} {
		t.Run(fate, func(t *testing.T) {
			t.Parallel()
			w, forward := shifted(t)
			w.must("PUT", "/api/v1/grants/standing", `{"id":"standing","name":"Standing","to":{"users":["elin.berg"]},"lines":[{"rights":["control"],"on":{"devices":["tunnel-pump-1"]}}]}`)
			before := map[string]bool{}
			ask := func(of [2]string) wire.Answer {
				return get[wire.Answer](w, "POST", "/api/v1/check", fmt.Sprintf(`{"user":%q,"right":"control","device":%q}`, of[0], of[1]))
			}
			for _, g := range given {
				before[g[0]+g[1]] = ask(g).Allowed
			}
			end := get[wire.Session](w, "GET", "/api/v1/session", "").Now.Add(5 * time.Hour).UTC().Truncate(time.Second)
			bram := w.session("bram.okafor")
			bram.must("POST", "/api/v1/drafts", `{"name":"For the night","changes":[`+gives+`]}`)
			bram.must("POST", "/api/v1/drafts/for-the-night/application", fmt.Sprintf(`{"until":%q}`, end.Format(time.RFC3339)))
			for _, g := range given {
				if a := ask(g); !a.Allowed || !before[g[0]+g[1]] && (a.Until == nil || !a.Until.Equal(end)) {
					t.Errorf("%v in the time: %v %s until %v, and the end is %v", g, a.Allowed, a.Reason, a.Until, end)
				}
			}
			c.do(w, forward)
			forward(end.Sub(get[wire.Session](w, "GET", "/api/v1/session", "").Now) + time.Second)
			for _, g := range given {
				if a := ask(g); a.Allowed != before[g[0]+g[1]] {
					t.Errorf("%v a second after the end: %v %s", g, a.Allowed, a.Reason)
				}
			}
			w.soon("the draft has ended", func() bool { return w.drafted("for-the-night").State == "ended" })
			d := w.drafted("for-the-night")
			if !strings.Contains(d.Problem, c.left) || c.left == "" && d.Problem != "" {
				t.Errorf("it ended with %q, want %q", d.Problem, c.left)
			}
			if state := get[struct{ State string }](w, "GET", "/api/v1/devices/mill-pump-1", "").State; state != "in-service" && fate != "somebody sets the state" {
				t.Errorf("the pump is %s", state)
			}
			if members := get[struct{ Members []any }](w, "GET", "/api/v1/user_groups/bridge-crew", "").Members; strings.Contains(fmt.Sprint(members), "noor.haddad") || !strings.Contains(fmt.Sprint(members), "tomas.field") {
				t.Errorf("the bridge crew is %v", members)
			}
			if lines := get[struct{ Lines []any }](w, "GET", "/api/v1/grants/standing", "").Lines; len(lines) != 1 {
				t.Errorf("the grant that stood has %d lines", len(lines))
			}
			if status, _, text := w.ask("GET", "/api/v1/seen/noor.haddad", w.token, ""); status != 200 || strings.Contains(text, "auditor") {
				t.Errorf("the mandate is left: %d %.200s", status, text)
			}
		})
	}
}

// runsFrom runs a service on a folder from some time after the tests' instant, the first time with the navigation's policy.
func runsFrom(t *testing.T, dir string, after time.Duration, do func(w *world)) {
	t.Helper()
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	d, err := daemon.Open(ctx, daemon.Options{Dir: dir, Listen: "127.0.0.1:0", Clock: daemon.ClockFrom(testNow(t).Add(after)), Log: slog.New(slog.DiscardHandler), Version: "test"})
	if err != nil {
		t.Fatal(err)
	}
	var p *policy.Policy
	if after == 0 {
		if p, err = demo.Policy(); err != nil {
			t.Fatal(err)
		}
	}
	w := worldOf(ctx, t, d, p)
	ended := make(chan error, 1)
	go func() { ended <- d.Run(ctx) }()
	do(w)
	stop()
	if err := <-ended; err != nil {
		t.Fatal(err)
	}
}

// TestEndsWhileNoServiceRuns: every way to give for a time, and no service at its end: none had stopped in order, as the files are those of one that runs. From the
// first answer of the next nothing of it is left, here and at a machine that was given the files.
func TestEndsWhileNoServiceRuns(t *testing.T) {
	t.Parallel()
	dir, found := t.TempDir(), t.TempDir()
	given := [][3]string{{"noor.haddad", "control", "mill-bridge"}, {"noor.haddad", "control", "yard-pump-1"}, {"agnes.lindqvist", "control", "mill-bridge"}, {"maya.winter", "control", "mill-bridge"}, {"noor.haddad", "control", "tunnel-pump-1"}}
	ask := func(w *world, of [3]string) wire.Answer {
		return get[wire.Answer](w, "POST", "/api/v1/check", fmt.Sprintf(`{"user":%q,"right":%q,"device":%q,"context":{"strong_sign_in":true,"attended":true}}`, of[0], of[1], of[2]))
	}
	before := map[[3]string]bool{}
	runsFrom(t, dir, 0, func(w *world) {
		for _, g := range given {
			before[g] = ask(w, g).Allowed
		}
		end := get[wire.Session](w, "GET", "/api/v1/session", "").Now.Add(time.Hour).UTC().Format(time.RFC3339)
		w.must("POST", "/api/v1/drafts", `{"name":"Tonight","changes":[{"op":"put","type":"grants","id":"tonight","record":{"id":"tonight","name":"Tonight","to":{"users":["noor.haddad"]},"lines":[{"rights":["control"],"on":{"devices":["yard-pump-1"]}}]}}]}`)
		w.must("POST", "/api/v1/drafts/tonight/application", fmt.Sprintf(`{"until":%q}`, end))
		w.must("POST", "/api/v1/changes", fmt.Sprintf(`{"changes":[{"op":"add","type":"user_groups","id":"bridge-crew","list":"members","value":"noor.haddad","until":%q}]}`, end))
		agnes, maya, noor := w.as("agnes.lindqvist"), w.as("maya.winter"), w.as("noor.haddad")
		joining := get[wire.Request](agnes, "POST", "/api/v1/mine/join", `{"group":"bridge-crew","minutes":60,"reason":"the bridge crew is ill"}`)
		w.must("POST", "/api/v1/requests/"+joining.ID+"/answer", `{"agree":true}`)
		maya.must("POST", "/api/v1/mine/join", `{"group":"duty-officers","minutes":60,"reason":"the estuary gate is stuck"}`)
		asked := get[wire.Request](noor, "POST", "/api/v1/requests", fmt.Sprintf(`{"right":"control","device":"tunnel-pump-1","until":%q,"reason":"the pump hums"}`, end))
		w.must("POST", "/api/v1/requests/"+asked.ID+"/answer", fmt.Sprintf(`{"agree":true,"edits":[{"op":"put","type":"grants","id":"hums","record":{"id":"hums","name":"Hums","to":{"users":["noor.haddad"]},"valid":{"until":%q},"lines":[{"rights":["control"],"on":{"devices":["tunnel-pump-1"]}}]}}]}`, end))
		for _, g := range given {
			if a := ask(w, g); !a.Allowed || !before[g] && (a.Until == nil || a.Until.After(testNow(t).Add(62*time.Minute))) {
				t.Errorf("%v in the time: %v %s until %v", g, a.Allowed, a.Reason, a.Until)
			}
		}
		copyAsItRuns(t, dir, found)
	})
	for _, at := range []string{dir, found} {
		runsFrom(t, at, 61*time.Minute, func(w *world) {
			for _, g := range given {
				if a := ask(w, g); a.Allowed != before[g] {
					t.Errorf("%v after the end: %v %s", g, a.Allowed, a.Reason)
				}
			}
			w.soon("the draft has ended", func() bool { return w.drafted("tonight").State == "ended" })
		})
	}
}

// copyAsItRuns copies the files of a service that runs, as they would be found if it were killed now: the marks before what they are marks of.
func copyAsItRuns(t *testing.T, from, to string) {
	t.Helper()
	files, err := os.ReadDir(from)
	if err != nil {
		t.Fatal(err)
	}
	slices.SortStableFunc(files, func(a, b os.DirEntry) int {
		return strings.Compare(filepath.Ext(b.Name()), filepath.Ext(a.Name())) // .head before .db-wal and .db
	})
	for _, file := range files {
		if file.IsDir() || strings.HasSuffix(file.Name(), "-shm") {
			continue
		}
		data, err := os.ReadFile(filepath.Join(from, file.Name()))
		if err == nil {
			err = os.WriteFile(filepath.Join(to, file.Name()), data, 0o600)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
}

// TestAnOlderDraftForATime: one that was applied by a version that did not put its end into what it gave is brought over at the start; and where such a version
// had failed to end it, it ends.
func TestAnOlderDraftForATime(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	run := func(after time.Duration, do func(w *world)) { runsFrom(t, dir, after, do) }
	end := testNow(t).Add(20 * time.Hour).UTC().Truncate(time.Second)
	ask := func(w *world, device string) wire.Answer {
		return get[wire.Answer](w, "POST", "/api/v1/check", fmt.Sprintf(`{"user":"noor.haddad","right":"control","device":%q}`, device))
	}
	run(0, func(w *world) {
		for name, device := range map[string]string{"Night": "yard-pump-1", "Stuck": "tunnel-pump-1"} {
			id := strings.ToLower(name)
			w.must("POST", "/api/v1/drafts", fmt.Sprintf(`{"name":%q,"changes":[{"op":"put","type":"grants","id":%q,"record":{"id":%[2]q,"name":%[1]q,"to":{"users":["noor.haddad"]},"lines":[{"rights":["control"],"on":{"devices":[%[3]q]}}]}}]}`, name, id, device))
			w.must("POST", "/api/v1/drafts/"+id+"/application", `{}`)
		}
	})
	st, err := store.Open(dir, true)
	if err != nil {
		t.Fatal(err)
	}
	for id, as := range map[string]func(d *store.Draft){"night": func(d *store.Draft) { d.Until = &end }, "stuck": func(d *store.Draft) { d.Problem = "it could not be taken back" }} {
		d, err := st.DraftOfID(context.Background(), id)
		if err != nil {
			t.Fatal(err)
		}
		as(&d)
		d.Version++
		if kept, err := st.KeepDraft(context.Background(), d); err != nil || !kept {
			t.Fatalf("%t %v", kept, err)
		}
	}
	if err := st.Close(); err != nil {
		t.Fatal(err)
	}
	run(time.Hour, func(w *world) {
		w.soon("the grant has its end", func() bool { a := ask(w, "yard-pump-1"); return a.Allowed && a.Until != nil && a.Until.Equal(end) })
		w.soon("what could not be ended has ended", func() bool { return !ask(w, "tunnel-pump-1").Allowed && w.drafted("stuck").State == "ended" })
		if last := get[wire.Revisions](w, "GET", "/api/v1/revisions?limit=9", "").Items; !strings.Contains(fmt.Sprintf("%+v", last), "the end of the draft “Night” stands in what it gave") {
			t.Errorf("the revisions are %+v", last)
		}
	})
	run(21*time.Hour, func(w *world) {
		w.soon("the draft has ended", func() bool { return w.drafted("night").State == "ended" })
		if status, _, _ := w.ask("GET", "/api/v1/grants/night", w.token, ""); status != 404 || ask(w, "yard-pump-1").Allowed {
			t.Errorf("the grant is left: %d", status)
		}
	})
}
