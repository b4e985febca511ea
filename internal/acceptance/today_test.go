package acceptance

import (
	"fmt"
	"strings"
	"testing"

	"sentier/internal/policy"
	"sentier/internal/wire"
)

// TestTheFirstLook: what is open, what ends, what is held back and what happened is what the policy and its history say.
func TestTheFirstLook(t *testing.T) {
	t.Parallel()
	w := start(t, withoutExpectations(t, alive(t)))
	now := testNow(t)
	soon := now.AddDate(0, 0, 3).UTC().Format("2006-01-02T15:04:05Z")
	for _, body := range []string{
		fmt.Sprintf(`{"changes":[{"op":"add","type":"user_groups","id":"bridge-crew","list":"members","value":"noor.haddad","until":%q}],"note":"for the feast"}`, soon),
		fmt.Sprintf(`{"changes":[{"op":"patch","type":"devices","id":"mill-bridge","record":{"lockout":{"reason":"Painting","until":%q}}},{"op":"patch","type":"grants","id":"bridge-watch","record":{"enabled":false}}]}`, soon),
		`{"changes":[{"op":"remove","type":"kinds","id":"no-such"}]}`,
	} {
		w.ask("POST", "/api/v1/changes", w.token, body)
	}
	day := get[wire.Today](w, "GET", "/api/v1/today", "")
	found := false
	for _, e := range day.Ending {
		found = found || e.Kind == "membership" && e.User.ID == "noor.haddad" && e.Group.ID == "bridge-crew"
	}
	if !found || day.Endings < len(day.Ending) {
		t.Errorf("the end of a membership in three days is not told: %+v", day.Ending)
	}
	found = false
	for _, l := range day.Lockouts {
		found = found || l.Device.ID == "mill-bridge" && l.Reason == "Painting" && l.Until != nil
	}
	if !found {
		t.Errorf("the lock-out is not told: %+v", day.Lockouts)
	}
	if len(day.Revisions) < 3 || day.Revisions[0].All != 2 || day.Revisions[1].Note != "for the feast" || day.Revisions[1].Records[0] != (wire.Touched{Op: "changed", Type: "user_groups", ID: "bridge-crew", Name: "Bridge crew"}) {
		t.Errorf("the last changes are %+v", day.Revisions)
	}
	if last := day.Revisions[len(day.Revisions)-1]; last.All < 300 || len(last.Records) > 5 || last.Records[0].Op != "added" {
		t.Errorf("the first revision is told as %+v", last)
	}
	if day.Invitees == 0 || len(day.Invited) == 0 || day.Counts["devices"] < 180 || len(day.Schedules) == 0 || len(day.Look) == 0 {
		t.Errorf("the day is %+v", day)
	}
	for _, s := range day.Schedules { // each as a device of its zone is answered
		if s.Until != nil && !s.Until.After(day.At) {
			t.Errorf("%s stays as it is until %v, which is past", s.ID, s.Until)
		}
	}

	history := get[[]wire.Happened](w, "GET", "/api/v1/history/user_groups/bridge-crew", "")
	if len(history) != 2 || history[0].Note != "for the feast" || history[0].By.Name != "Ines Carvalho" {
		t.Errorf("the history of the group is %+v", history)
	}
	for path, status := range map[string]int{"/api/v1/history/user_groups/none": 404, "/api/v1/history/none/x": 404, "/api/v1/groups/users/none": 404, "/api/v1/groups/sites/border-arm": 404} {
		if got, _, body := w.ask("GET", path, w.token, ""); got != status {
			t.Errorf("%s: %d %s", path, got, body)
		}
	}
}

// TestWhyIsItInThatGroup tells of a person and of a device which groups they are in, and why.
func TestWhyIsItInThatGroup(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	edit(w, "PUT", "/api/v1/user_groups/watch", `{"id":"watch","name":"Everybody on watch","includes":["bridge-crew"],"enabled":false}`)
	edit(w, "PUT", "/api/v1/device_groups/outer", `{"id":"outer","name":"Outer"}`)
	edit(w, "PUT", "/api/v1/device_groups/inner", `{"id":"inner","name":"Inner","parent":"outer","match":{"kinds":["lift-bridge"]}}`)
	edit(w, "PUT", "/api/v1/device_groups/hand", `{"id":"hand","name":"By hand","devices":["mill-bridge"]}`)
	told := func(path string) string {
		var out strings.Builder
		for _, b := range get[[]wire.Belongs](w, "GET", path, "") {
			fmt.Fprintf(&out, "%s %s", b.Group.ID, b.Why)
			if b.Through != nil {
				fmt.Fprintf(&out, " %s", b.Through.ID)
			}
			fmt.Fprintf(&out, " %t;", b.Enabled)
		}
		return out.String()
	}
	if got := told("/api/v1/groups/users/tomas.field"); !strings.Contains(got, "bridge-crew listed true;") || !strings.Contains(got, "watch includes bridge-crew false;") {
		t.Errorf("tomas.field is in %s", got)
	}
	if got := told("/api/v1/groups/devices/mill-bridge"); !strings.Contains(got, "hand listed true;") || !strings.Contains(got, "inner rule true;") || !strings.Contains(got, "outer within inner true;") {
		t.Errorf("mill-bridge is in %s", got)
	}
	if got := told("/api/v1/groups/devices/found-1"); got != "gauges rule true;" {
		t.Errorf("a found device is in %s", got)
	}
}

// TestAccessIsTheSameFromFiveSides gives the crew of the bridges control of a device as one would from the person, the group, the device,
// its group and its site: each way comes to the same grant, whatever else it asks for; and what is given is taken back.
func TestAccessIsTheSameFromFiveSides(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	access := func(op, to, on string) wire.Saved {
		body := fmt.Sprintf(`{"changes":[{"op":%q,"type":"grants","id":"","access":{"to":%s,"line":{"rights":["history"],"on":%s,"when":["night-watch"]}}}]}`, op, to, on)
		saved, status := edit(w, "POST", "/api/v1/changes", body)
		if status != 200 {
			t.Fatalf("%s %s: %d", op, body, status)
		}
		return saved
	}
	dump := func() string { return third(w.ask("GET", "/api/v1/policy", w.token, "")) }
	before := dump()
	crew := `{"groups":["bridge-crew"]}`
	parts := []string{`{"devices":["mill-bridge"]}`, `{"device_groups":["bridges"]}`, `{"sites":["mill-basin"]}`, `{"points":["mill-bridge/deck"]}`}
	first := access("give", crew, parts[0])
	if len(first.Changes) != 1 || first.Changes[0].Op != "added" || first.Changes[0].ID != "bridge-crew-read-history" {
		t.Fatalf("the first access came to %+v", first.Changes)
	}
	for _, on := range parts[1:] {
		if saved := access("give", crew, on); len(saved.Changes) != 1 || saved.Changes[0].ID != first.Changes[0].ID {
			t.Fatalf("%s came to %+v", on, saved.Changes)
		}
	}
	one := dump()
	for _, on := range parts {
		access("take", crew, on)
	}
	if got := dump(); got != before {
		t.Error("what was given and taken back leaves something")
	}
	for i := range parts { // in another order
		access("give", crew, parts[len(parts)-1-i])
	}
	if got := dump(); got != one {
		t.Error("in another order it is another grant")
	}
	if saved := access("give", crew, parts[0]); len(saved.Changes) != 0 {
		t.Errorf("what is given already changes %+v", saved.Changes)
	}
	for body, want := range map[string]string{
		`{"changes":[{"op":"give","type":"grants","id":"","access":{"to":{},"line":{"rights":["control"],"on":{"everything":true}}}}]}`:                          "not to whom",
		`{"changes":[{"op":"give","type":"grants","id":"","access":{"to":{"everyone":true},"line":{"on":{"everything":true}}}}]}`:                                "not what",
		`{"changes":[{"op":"give","type":"grants","id":"","access":{"to":{"everyone":true},"line":{"rights":["control"]}}}]}`:                                    "not on what",
		`{"changes":[{"op":"give","type":"users","id":"","access":{"to":{"everyone":true},"line":{"rights":["control"]}}}]}`:                                     "the type is grants",
		`{"changes":[{"op":"give","type":"grants","id":""}]}`:                                                                                                    "says who gets what",
		`{"changes":[{"op":"give","type":"grants","id":"","access":{"to":{"groups":["bridge-crewe"]},"line":{"rights":["control"],"on":{"everything":true}}}}]}`: "did you mean",
		`{"changes":[{"op":"give","type":"grants","id":"","access":{"to":{"everyone":true},"line":{"rights":["contrl"],"on":{"everything":true}}}}]}`:            "did you mean",
		`{"changes":[{"op":"take","type":"grants","id":"x","access":{"to":{"everyone":true},"line":{"rights":["control"],"on":{"everything":true}}}}]}`:          "the id is left empty",
	} {
		if status, _, text := w.ask("POST", "/api/v1/changes", w.token, body); status < 400 || !strings.Contains(text, want) {
			t.Errorf("%s: %d %s, want %s", body, status, text, want)
		}
	}
	// A copy with grants of its own leaves those of the model alone.
	saved, status := edit(w, "POST", "/api/v1/changes", `{"changes":[{"op":"copy","type":"user_groups","id":"bridge-crew","name":"Night crew","with":["own_grants"]}]}`)
	if status != 200 {
		t.Fatal(status)
	}
	for _, c := range saved.Changes {
		if c.Op != "added" {
			t.Errorf("the copy changes %+v", c)
		}
	}
	g, ok := w.owner.Service.State().Policy.Get(policy.Grants, "bridge-watch-night-crew")
	if !ok || len(g.(*policy.Grant).To.Groups) != 1 || g.(*policy.Grant).To.Groups[0] != "night-crew" {
		t.Errorf("the grant of its own is %+v", g)
	}
}
