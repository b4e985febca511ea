package acceptance

import (
	"strings"
	"testing"

	"sentier/internal/wire"
)

// TestAPersonMoves: out of the old groups but those that are kept on purpose, in the console as in the terminal; or after a time with both, which
// ends by itself and makes no membership last longer than it did.
func TestAPersonMoves(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	w.must("PUT", "/api/v1/user_groups/volunteers/members/greta.holm", `{"until":"2026-12-01T00:00:00Z"}`)
	w.must("PUT", "/api/v1/user_groups/night-watch/members/greta.holm", `{"from":"2027-03-01T00:00:00Z"}`)
	in := func(user string) string {
		t.Helper()
		var out []string
		for _, b := range get[[]wire.Belongs](w, "GET", "/api/v1/groups/users/"+user, "") {
			if b.Why != "listed" {
				continue
			}
			text := b.Group.ID
			if b.From != nil {
				text += " from " + b.From.UTC().Format("2006-01-02")
			}
			if b.Until != nil {
				text += " until " + b.Until.UTC().Format("2006-01-02")
			}
			out = append(out, text)
		}
		return strings.Join(out, ", ")
	}
	if got := in("greta.holm"); got != "bridge-crew, night-watch from 2027-03-01, volunteers until 2026-12-01" {
		t.Fatalf("to begin with she is in %s", got)
	}

	b := w.consoleAt("/records/users/greta.holm")
	b.click("Move")
	b.pick("New group", "instr", "Instrument technicians")
	b.until("what she loses at once", `/lost\s+\d+\s+now/.test(document.body.innerText)`) // who moves keeps nothing by accident
	b.fill("Both until (a time to hand over; empty: out at once)", "2026-12-24 12:00")
	b.key("Enter")
	b.until("what she loses after the handover alone", `/lost\s+\d+\s+later/.test(document.body.innerText) && !/lost\s+\d+\s+now/.test(document.body.innerText)`)
	b.accessible("a move")
	b.look("move")
	b.clickLast("Move")
	b.see("Undo")
	if got := in("greta.holm"); got != "bridge-crew until 2026-12-24, instrument-technicians, volunteers until 2026-12-01" {
		t.Errorf("with a handover she is in %s", got)
	}
	if code, _, errOut := w.run("history", "undo", "4"); code != 0 {
		t.Fatal(errOut)
	}

	for _, c := range []struct {
		args string
		code int
		want string
	}{
		{"--from lock-keepers-north", 2, "night-watch"}, // she is in none of that: nothing changes
		{"--from bridge-crew --keep volunteers", 2, ""},
		{"--keep volunteers --dry-run", 0, "bridge-crew, night-watch from 2027-03-01, volunteers until 2026-12-01"},
		{"--keep volunteers", 0, "instrument-technicians, volunteers until 2026-12-01"},
	} {
		args := append([]string{"user", "move", "greta.holm", "--to", "instrument-technicians"}, strings.Fields(c.args)...)
		if code, out, errOut := w.run(args...); code != c.code || !strings.Contains(in("greta.holm"), c.want) {
			t.Errorf("%s: %d, and she is in %s\n%s%s", c.args, code, in("greta.holm"), out, errOut)
		}
	}
	if code, _, errOut := w.run("user", "move", "tomas.field", "--to", "control-room", "--from", "bridge-crew", "--handover", "2026-12-24T12:00:00Z"); code != 0 || in("tomas.field") != "bridge-crew until 2026-12-24, control-room, instrument-technicians" {
		t.Errorf("from one group alone, with a handover: %d, in %s\n%s", code, in("tomas.field"), errOut)
	}
}

// TestWhoKeepsTheBridgeByAccident: who is moved and left in the old group is shown to keep it, and through what, before it is saved; the second step takes it
// away; the record has both, and taking both back brings all of it back.
func TestWhoKeepsTheBridgeByAccident(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	w.must("DELETE", "/api/v1/user_groups/bridge-crew/members/tomas.field", "") // who would do the same
	reach := func() string {
		_, _, text := w.ask("GET", "/api/v1/reach/users/greta.holm?limit=1000&at=2026-11-24T10:00:00Z", w.token, "")
		return text[strings.Index(text, `"items"`):]
	}
	before := reach()
	side := get[wire.SideBySide](w, "POST", "/api/v1/preview/reach", `{"user":"greta.holm","changes":[{"op":"add","type":"user_groups","id":"instrument-technicians","list":"members","value":"greta.holm"}]}`)
	changes := map[string]int{}
	for _, r := range side.Rows {
		changes[r.Change] += r.Count
	}
	if changes["kept"]+changes["changed"] == 0 || changes["gained"] == 0 || changes["lost"] > 0 || reach() != before {
		t.Errorf("side by side she would have %v", changes)
	}
	b := w.consoleAt("/records/users/greta.holm")
	b.click("Move")
	b.pick("New group", "instr", "Instrument technicians")
	b.press("keep the bridge crew", `//label[contains(., "Bridge crew")]//button | //label[contains(., "Bridge crew")]//input`)
	b.until("what she keeps, and through what", `[...document.querySelectorAll("[data-side-by-side] [data-change=kept], [data-side-by-side] [data-change=changed]")].some((r) => /Mill bridge/.test(r.innerText) && /Bridge crew → Bridge watch/.test(r.innerText))`)
	b.accessible("a move side by side")
	b.clickLast("Move")
	b.see("Undo")
	if code, out, _ := w.run("check", "greta.holm", "control", "mill-bridge", "--at", "2026-11-24 10:00"); code != 0 {
		t.Fatalf("she does not keep the bridge:\n%s", out)
	}
	b.open("/upkeep?kind=leftover")
	b.press("out of the bridge crew", `//li[contains(@data-finding, "greta.holm")]//button[contains(., "Bridge crew")]`)
	b.see("Who gains and loses")
	b.click("Apply…")
	b.clickLast("Apply now")
	b.see("applied")
	if code, _, _ := w.run("check", "greta.holm", "control", "mill-bridge", "--at", "2026-11-24 10:00"); code != 1 {
		t.Errorf("after the second step: %d", code)
	}
	b.open("/history")
	b.press("the second", `//input[@aria-label="Pick revision 4"] | //button[@aria-label="Pick revision 4"]`)
	b.press("the first", `//input[@aria-label="Pick revision 3"] | //button[@aria-label="Pick revision 3"]`)
	b.click("Take back…")
	b.see("Bridge crew")
	b.clickLast("Undo")
	b.see("undo of revisions 3 and 4")
	if after := reach(); after != before {
		t.Errorf("taken back, she reaches\n%s\nbefore\n%s", after, before)
	}
}
