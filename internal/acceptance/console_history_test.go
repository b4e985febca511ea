package acceptance

import (
	"strings"
	"testing"
)

// TestTheLineOfRevisionsInTheConsole: somebody moves and keeps the bridge by accident; the line of revisions says who gained and lost what by
// each step, compares them, shows the policy as it was, where nothing can be changed, and takes both steps back as one.
func TestTheLineOfRevisionsInTheConsole(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	w.must("DELETE", "/api/v1/user_groups/instrument-technicians/members/tomas.field", "")
	_, _, before := w.ask("GET", "/api/v1/policy", w.token, "")
	w.must("PUT", "/api/v1/user_groups/instrument-technicians/members/tomas.field?note=moves%20to%20the%20instruments", "")
	w.must("DELETE", "/api/v1/user_groups/bridge-crew/members/tomas.field?note=and%20leaves%20the%20bridges", "")
	b := w.consoleAt("/record")
	b.click("Revisions")
	b.see("and leaves the bridges")
	b.accessible("the line of revisions")
	b.click("What revision 4 did")
	b.see("Who gained and lost what")
	b.see("Twin bridge north: −Control")
	b.accessible("a revision that is open")
	b.look("history-open")
	for _, n := range []string{"3", "4"} {
		b.press("pick "+n, `//input[@aria-label="Pick revision `+n+`"]`)
	}
	b.click("Compare these two")
	b.see("From revision 3 to revision 4")
	b.see("Members: − tomas.field")
	b.key("Escape")

	b.click("Look at the policy as it was")
	b.see("You look at the policy as revision 4 left it")
	for path, shows := range map[string]string{
		"/devices": "Alder gate 1", "/devices/groups": "Bridges", "/devices/sites": "Border Arm", "/people": "Agnes Lindqvist", "/people/groups": "Bridge crew", "/grants": "Bridge watch",
		"/times": "Night watch", "/rights": "Control", "/matrix": "Winter contractors", "/records/users/tomas.field": "Instrument technicians",
		"/records/user_groups/bridge-crew?as_of=3": "Tomas Field", "/records/devices/twin-bridge-north": "Who reaches it", "/people/tomas.field/seen": "Bridge watch", "/records/grants/bridge-watch": "Lines",
		question("user", "tomas.field", "right", "control", "device", "twin-bridge-north", "at", "2026-11-24 10:00"): "Allowed",
	} {
		if !strings.Contains(path, "as_of") {
			path += map[bool]string{true: "&", false: "?"}[strings.Contains(path, "?")] + "as_of=3"
		}
		b.open(path)
		b.see(shows)
		b.see("as revision 3 left it")
		for what, wrong := range map[string]string{
			"shows a fault":              `document.querySelector("main [role=alert]") !== null`,
			"offers what cannot be done": `[...document.querySelectorAll("main button, main a")].some((e) => ["Edit", "Copy", "Remove", "Suspend", "Add", "Give access", "Take access", "New device", "New person", "New grant", "End", "Lock out", "What would take it away?"].includes(e.innerText.trim()))`,
		} {
			var bad bool
			if b.is(wrong, &bad); bad {
				t.Errorf("as it was, %s %s:\n%s", path, what, b.text("main"))
			}
		}
	}
	b.accessible("the policy as it was")
	b.look("history-before")
	b.click("Back to now")
	b.until("the present", `!document.body.innerText.includes("You look at the policy")`)

	b.open("/history?type=user_groups&id=bridge-crew")
	b.see("Only those that changed Bridge crew")
	if page := b.text("main"); strings.Contains(page, "moves to the instruments") || !strings.Contains(page, "and leaves the bridges") {
		t.Errorf("the line of the bridge crew is\n%s", page)
	}
	b.click("All revisions")
	b.see("moves to the instruments")
	for _, n := range []string{"3", "4"} {
		b.press("pick "+n, `//input[@aria-label="Pick revision `+n+`"]`)
	}
	b.click("Take back…")
	b.see("Take these 2 revisions back")
	b.see("Members: + tomas.field")
	b.look("history-back")
	b.clickLast("Undo")
	b.see("undo of revisions 3 and 4")
	if _, _, now := w.ask("GET", "/api/v1/policy", w.token, ""); now != before {
		t.Error("with both steps taken back the policy is not what it was before")
	}
	b.fill("The policy as it was at", "yesterday")
	b.key("Enter")
	b.click("Look")
	b.see("there was no policy yet")
	b.see("You look at the policy as it was at")
	b.click("Back to now")
	b.until("the present", `!document.body.innerText.includes("You look at the policy")`)
}
