package acceptance

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"sentier/internal/wire"
)

func (w *world) reviewed(id string) wire.Review {
	w.t.Helper()
	return get[wire.Review](w, "GET", "/api/v1/reviews/"+id, "")
}

// until waits for what happens by itself.
func (w *world) until(what string, so func() bool) {
	w.t.Helper()
	for range 400 {
		if so() {
			return
		}
		time.Sleep(25 * time.Millisecond)
	}
	w.t.Fatalf("there is no end of waiting for %s", what)
}

// answers counts the items of a review by what became of them, and finds that of one user in a group.
func answers(r wire.Review, user, record string) (of map[string]int, item wire.ReviewItem) {
	of = map[string]int{}
	for _, i := range r.Items {
		of[i.Answer]++
		if i.User.ID == user && i.Record.ID == record {
			item = i
		}
	}
	return of, item
}

// TestAReview: those responsible confirm or take away what people hold, each what their mandate covers and nobody for themselves; what is taken away is a change
// like any other; and what nobody has answered by its date is taken, or its holder suspended, but for what must not be.
func TestAReview(t *testing.T) {
	t.Parallel()
	w, forward := shifted(t)
	for body, want := range map[string]string{
		`{"name":"x","due":"in 2 days","unanswered":"told"}`:                                      "groups",
		`{"name":"","groups":["bridge-crew"],"due":"in 2 days","unanswered":"told"}`:              "name",
		`{"name":"x","groups":["bridge-crew"],"due":"","unanswered":"told"}`:                      "due",
		`{"name":"x","groups":["bridge-crew"],"due":"in 500 days","unanswered":"told"}`:           "400 days",
		`{"name":"x","groups":["none"],"due":"in 2 days","unanswered":"told"}`:                    "none",
		`{"name":"x","groups":["bridge-crew"],"due":"in 2 days","unanswered":"gone"}`:             "gone",
		`{"name":"x","groups":["bridge-crew"],"due":"in 2 days","unanswered":"told","depth":"9"}`: "depth",
	} {
		if status, _, text := w.ask("POST", "/api/v1/reviews", w.token, body); status != 400 || !strings.Contains(text, want) {
			t.Errorf("%s: %d %s", body, status, text)
		}
	}
	code, out, errOut := w.run("review", "start", "Bridges, autumn", "--group", "bridge-crew", "--group", "border-arm-staff", "--due", "in 2 hours", "--unanswered", "taken")
	if code != 0 || !strings.Contains(out, "tomas.field") || !strings.Contains(out, "controls 9 devices") || !strings.Contains(errOut, "11 things") {
		t.Fatalf("begun: %d %s%s", code, out, errOut)
	}
	const id = "bridges-autumn"
	r := w.reviewed(id)
	if of, _ := answers(r, "", ""); of["waiting"] != 11 || r.Mine != 11 || r.Items[0].Type != "mandates" || r.Items[0].Gives != "Delegate" || !r.MayStop || len(r.Parts) != 2 || r.Parts[0].Mandate.ID != "border-arm-manager" || r.Parts[0].Counts.Total != 4 || r.Parts[1].Mandate != nil {
		t.Fatalf("the review is %+v", r)
	}

	// The greatest power first, which an owner alone confirms.
	w.must("POST", "/api/v1/reviews/"+id+"/answers", `{"answers":[{"user":"marta.solis","type":"mandates","record":"border-arm-manager","answer":"kept"}]}`)

	// A delegate sees and answers what their mandate covers, and not for themselves.
	marta := w.as("marta.solis")
	theirs := marta.reviewed(id)
	if of, own := answers(theirs, "marta.solis", "border-arm-staff"); of["waiting"] != 4 || theirs.Mine != 3 || theirs.MayStop || own.User.ID == "" || own.May {
		t.Errorf("a delegate sees %+v", theirs)
	}
	answer := func(w *world, user, record, what string) (int, string) {
		status, _, text := w.ask("POST", "/api/v1/reviews/"+id+"/answers", w.token, fmt.Sprintf(`{"answers":[{"user":%q,"type":"user_groups","record":%q,"answer":%q,"note":"as it is"}]}`, user, record, what))
		return status, text
	}
	for _, c := range []struct {
		who                *world
		user, record, what string
		status             int
	}{
		{marta, "marta.solis", "border-arm-staff", "kept", 403}, {marta, "rui.falcao", "bridge-crew", "kept", 400}, {marta, "nobody", "border-arm-staff", "kept", 400},
		{marta, "luis.ortega", "border-arm-staff", "perhaps", 400}, {marta, "luis.ortega", "border-arm-staff", "kept", 200},
		{w, "rui.falcao", "bridge-crew", "kept", 200}, {w.as("lena.marsh"), "rui.falcao", "bridge-crew", "taken", 404}, {w.as("tomas.field"), "rui.falcao", "bridge-crew", "taken", 404},
	} {
		if status, text := answer(c.who, c.user, c.record, c.what); status != c.status {
			t.Errorf("%s in %s is %s: %d %s", c.user, c.record, c.what, status, text)
		}
	}
	looked := get[wire.Reviewed](w, "POST", "/api/v1/reviews/"+id+"/answers?dry_run=true", `{"answers":[{"user":"tomas.field","type":"user_groups","record":"bridge-crew","answer":"taken"}]}`)
	if looked.Saved == nil || looked.Saved.Impact == nil || looked.Saved.Impact.Lost.All == 0 || w.reviewed(id).Counts.Taken != 0 {
		t.Errorf("looked at: %+v", looked)
	}
	if code, _, errOut := w.run("review", "take", id, "tomas.field", "--note", "moved to instruments"); code != 0 || !strings.Contains(errOut, "taken away 1") {
		t.Errorf("taken away: %d %s", code, errOut)
	}
	if _, _, text := w.ask("GET", "/api/v1/user_groups/bridge-crew", w.token, ""); strings.Contains(text, "tomas.field") {
		t.Error("Tomas is still in the bridge crew")
	}
	_, item := answers(w.reviewed(id), "tomas.field", "bridge-crew")
	if item.Answer != "taken" || item.Note != "moved to instruments" || item.By.ID != "ines.carvalho" || item.Revision == 0 || item.May {
		t.Errorf("it is told as %+v", item)
	}
	if status, text := answer(w, "tomas.field", "bridge-crew", "kept"); status != 400 {
		t.Errorf("kept after it was taken: %d %s", status, text)
	}
	// What ended otherwise waits for nobody.
	w.must("DELETE", "/api/v1/user_groups/bridge-crew/members/greta.holm", "")
	if of, item := answers(w.reviewed(id), "greta.holm", "bridge-crew"); item.Answer != "gone" || of["waiting"] != 6 {
		t.Errorf("%+v, %v", item, of)
	}
	if today := get[wire.Today](marta, "GET", "/api/v1/today", ""); !slices.ContainsFunc(today.Look, func(l wire.ToLook) bool { return l.Kind == "reviews" && l.Count == 1 }) {
		t.Errorf("a delegate's first page tells %+v", today.Look)
	}

	// At its date what nobody has answered is taken.
	forward(3 * time.Hour)
	w.until("the review is over", func() bool { return w.reviewed(id).State == "over" })
	r = w.reviewed(id)
	if of, item := answers(r, "nuno.teles", "bridge-crew"); of["waiting"] != 0 || item.Answer != "taken" || item.By != nil || r.Problem != "" {
		t.Errorf("over: %v, %+v, %s", of, item, r.Problem)
	}
	if status, _ := answer(w, "luis.ortega", "border-arm-staff", "taken"); status != 409 {
		t.Errorf("answered after its end: %d", status)
	}
	if entries := w.entries("kind=review"); len(entries) < 4 {
		t.Errorf("the record says %+v", entries)
	}

	// A delegate who sees nothing of a review is not told that it is there.
	hidden := get[wire.Review](w, "POST", "/api/v1/reviews", `{"name":"Hidden","groups":["volunteers","volunteers"],"due":"in 1 hour","unanswered":"told"}`)
	if len(hidden.Scope.Groups) != 1 {
		t.Errorf("a group that is given twice: %+v", hidden.Scope)
	}
	for _, id := range []string{hidden.ID, "none"} {
		if status, _, _ := marta.ask("POST", "/api/v1/reviews/"+id+"/answers", marta.token, `{"answers":[{"user":"rui.falcao","type":"user_groups","record":"volunteers","answer":"kept"}]}`); status != 404 {
			t.Errorf("of the review %s a delegate is told %d", id, status)
		}
	}

	// One that is stopped ends nothing, and is over.
	stopped := get[wire.Review](w, "POST", "/api/v1/reviews", `{"name":"Stopped","groups":["volunteers"],"due":"in 1 hour","unanswered":"taken"}`)
	w.must("DELETE", "/api/v1/reviews/"+stopped.ID, "")
	if r := w.reviewed(stopped.ID); r.State != "stopped" || r.Counts.Waiting != r.Counts.Total {
		t.Errorf("stopped: %+v", r.ReviewHead)
	}
	if status, _, _ := w.ask("DELETE", "/api/v1/reviews/"+stopped.ID, w.token, ""); status != 409 {
		t.Errorf("stopped twice: %d", status)
	}

	// Who must stay, stays: it is told.
	w.must("PUT", "/api/v1/user_groups/bridge-crew/members/ines.carvalho", "")
	all := get[wire.Review](w, "POST", "/api/v1/reviews", `{"name":"All","everything":true,"due":"in 2 hours","unanswered":"suspended"}`)
	forward(3 * time.Hour)
	w.until("it is over", func() bool {
		_, _, text := w.ask("GET", "/api/v1/users/tomas.field", w.token, "")
		return strings.Contains(text, "suspended")
	})
	w.until("it says so", func() bool { return w.reviewed(all.ID).State == "over" })
	if r := w.reviewed(all.ID); !strings.Contains(r.Problem, "owner") || r.Counts.Suspended == 0 || r.Counts.Waiting == 0 {
		t.Errorf("over: %+v, %s", r.Counts, r.Problem)
	}
}

// TestAReviewIsToldByMail: those for whom something waits are told when it begins, and again before it is due.
func TestAReviewIsToldByMail(t *testing.T) {
	t.Parallel()
	w, stand, _ := withMail(t)
	w.must("POST", "/api/v1/reviews", `{"name":"Border arm","sites":["border-arm"],"due":"in 3 weeks","unanswered":"told"}`)
	w.until("the letters", func() bool { return len(stand.Letters()) >= 3 })
	told := map[string]bool{}
	for _, l := range stand.Letters() {
		told[l.To] = true
		if l.Subject != "Who holds what: Border arm" || !strings.Contains(l.Text, w.url+"/reviews/border-arm") || !strings.Contains(l.Text, "that people hold wait for your answer") {
			t.Errorf("told is %+v", l)
		}
	}
	if len(told) != 3 || !told["marta.solis@larkmere.example"] || !told["ines.carvalho@larkmere.example"] {
		t.Errorf("told are %v", told)
	}
}

// TestAReviewInTheConsole: begun key by key, answered with what it would take in sight, read by a delegate, and printed.
func TestAReviewInTheConsole(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	b := w.consoleAt("/upkeep/reviews")
	b.see("There is no review.")
	b.accessible("no review")
	b.click("New review")
	b.fill("Name", "Bridges, autumn")
	b.pick("User groups", "bridge cr", "Bridge crew")
	b.fill("To be answered by", "in 3 weeks")
	b.choose("What nobody has answered by then", "is taken away")
	b.click("Begin the review")
	b.see("0 of 6 answered")
	b.see("controls 9 devices")
	b.accessible("a review")
	b.click("Keep: Rui Falcao")
	b.see("1 of 6 answered")
	b.click("Take away: Tomas Field")
	b.see("Tomas Field will hold Bridge crew no more.")
	b.see("lost")
	b.fill("Why (for the report)", "moved to instruments")
	b.accessible("taking away")
	b.click("Take away")
	b.see("2 of 6 answered")
	b.see("moved to instruments")
	b.click("Keep all shown (4)")
	b.see("6 of 6 answered")
	b.open("/today")
	b.see("Last changes")
	b.open("/upkeep/reviews")
	b.click("Bridges, autumn")
	b.click("Stop the review")
	b.see("What was answered stays as it is")
	b.clickLast("Stop the review")
	b.see("stopped")
	if r := w.reviewed("bridges-autumn"); r.Counts.Kept != 5 || r.Counts.Taken != 1 {
		t.Errorf("it has come to %+v", r.Counts)
	}
}
