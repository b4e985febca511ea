package acceptance

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"sentier/internal/demo"
	"sentier/internal/wire"
)

// TestMembershipsAtSeveralTimesAreTakenBack makes random changes of people who are in a group several times, and takes them back: from the last
// to the first each dump is that of the moment before; in any order the record is what it was once the undo is undone, or the
// refusal says which later revision stands in the way.
func TestMembershipsAtSeveralTimesAreTakenBack(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	r := rand.New(rand.NewPCG(5, 11))
	dump := func() string { return third(w.ask("GET", "/api/v1/policy", w.token, "")) }
	post := func(path, body string) (int, wire.Saved) {
		status, _, answer := w.ask("POST", path, w.token, body)
		var saved wire.Saved
		if status == 200 {
			if err := json.Unmarshal([]byte(answer), &saved); err != nil {
				t.Fatal(err)
			}
		} else if status != 409 && status != 422 {
			t.Fatalf("%s %s: %d %s", path, body, status, answer)
		}
		return status, saved
	}
	groups, people := []string{"bridge-crew", "volunteers", "night-watch"}, []string{"noor.haddad", "tomas.field", "greta.holm"}
	pick := func(list []string) string { return list[r.IntN(len(list))] }
	span := func() string {
		month := 1 + r.IntN(4)
		return fmt.Sprintf(`"from":"2027-%02d-01T00:00:00Z","until":"2027-%02d-01T00:00:00Z"`, month, month+1+r.IntN(3))
	}
	change := func(n int) string {
		member := fmt.Sprintf(`"type":"user_groups","id":%q,"list":"members","value":%q`, pick(groups), pick(people))
		switch r.IntN(5) {
		case 0:
			return fmt.Sprintf(`{"op":"add",%s,%s}`, member, span()) // in place of what was there
		case 1, 2:
			return fmt.Sprintf(`{"op":"add",%s,%s,"beside":true}`, member, span())
		case 3:
			return fmt.Sprintf(`{"op":"drop",%s}`, member)
		}
		return fmt.Sprintf(`{"op":"copy","type":"users","id":%q,"name":"Copy %d","with":["groups","grants"]}`, pick(people), n)
	}
	dumps := map[uint64]string{1: dump()}
	var made []uint64
	for n := range 40 {
		if _, saved := post("/api/v1/changes", `{"changes":[`+change(n)+`]}`); len(saved.Changes) > 0 {
			made = append(made, saved.Revision)
			dumps[saved.Revision] = dump()
		}
	}
	refused, taken := 0, 0
	for range 40 {
		number := made[r.IntN(len(made))]
		before := dump()
		status, saved := post(fmt.Sprintf("/api/v1/revisions/%d/undo", number), "")
		if status != 200 {
			refused++
			if dump() != before {
				t.Fatalf("the undo of %d is refused, and has changed something", number)
			}
			continue
		}
		if len(saved.Changes) == 0 {
			continue
		}
		taken++
		if status, _ := post(fmt.Sprintf("/api/v1/revisions/%d/undo", saved.Revision), "{}"); status != 200 || dump() != before {
			t.Fatalf("the undo of the undo of %d (%d) is not what was there", number, status)
		}
	}
	for i := len(made) - 1; i >= 0; i-- {
		if status, _ := post(fmt.Sprintf("/api/v1/revisions/%d/undo", made[i]), ""); status != 200 {
			t.Fatalf("from the last to the first, the undo of %d is refused: %d", made[i], status)
		}
		if want := dumps[made[i]-1]; dump() != want {
			t.Fatalf("after the undo of %d the policy is not what it was before", made[i])
		}
	}
	if refused == 0 || taken < 5 {
		t.Errorf("%d were refused and %d taken back: the test tells nothing", refused, taken)
	}
}

// TestUndoDoesNotGiveMore: a deny that a membership's other times carry is not lost by taking a sheet back.
func TestUndoDoesNotGiveMore(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	before := string(demo.Document())
	for _, body := range []string{
		`{"changes":[{"op":"add","type":"user_groups","id":"apprentices","list":"members","value":"noor.haddad","from":"2026-11-01T00:00:00Z","until":"2026-12-01T00:00:00Z"}]}`,
		`{"changes":[{"op":"add","type":"user_groups","id":"apprentices","list":"members","value":"noor.haddad","from":"2027-01-01T00:00:00Z","beside":true}]}`,
	} {
		if status, _, answer := w.ask("POST", "/api/v1/changes", w.token, body); status != 200 {
			t.Fatalf("%d %s", status, answer)
		}
	}
	twice := third(w.ask("GET", "/api/v1/policy", w.token, ""))
	sheet := "group,user,from,until\napprentices,noor.haddad,2027-06-01T00:00:00Z,2027-07-01T00:00:00Z\n"
	if status, _, answer := w.ask("PUT", "/api/v1/sheets/members", w.token, sheet, "Content-Type", "text/csv"); status != 200 {
		t.Fatalf("%d %s", status, answer)
	}
	if status, _, answer := w.ask("POST", "/api/v1/revisions/2/undo", w.token, `{"revision":2}`); status != 400 || !strings.Contains(answer, "nothing is read from the body here") {
		t.Errorf("an undo with a body that says something: %d %s", status, answer)
	}
	if status, _, answer := w.ask("POST", "/api/v1/revisions/2/undo", w.token, ""); status != 409 || !strings.Contains(answer, "revision 3 has changed") && !strings.Contains(answer, "revision 4 has changed") {
		t.Errorf("the undo of what the sheet has replaced: %d %s", status, answer)
	}
	for revision, want := range map[int]string{4: twice} {
		if status, _, answer := w.ask("POST", fmt.Sprintf("/api/v1/revisions/%d/undo", revision), w.token, ""); status != 200 {
			t.Fatalf("%d %s", status, answer)
		}
		if got := third(w.ask("GET", "/api/v1/policy", w.token, "")); got != want || got == before {
			t.Errorf("after the undo of %d both times are not back", revision)
		}
	}
}
