package acceptance

import (
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
)

// TestTheRecordInTheConsole reads it as an administrator does: narrows it down, opens a change, takes it back with a reason, has the record
// verified; and makes a reason something that every change needs.
func TestTheRecordInTheConsole(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	w.must("PATCH", "/api/v1/users/tomas.field?note=moved%20to%20instruments", `{"email":"tomas@larkmere.example"}`)
	w.must("POST", "/access/v1/evaluation", `{"subject":{"type":"user","id":"noor.haddad"},"action":{"name":"control"},"resource":{"type":"device","id":"mill-bridge"},"context":{"ip":"10.20.3.4"}}`)
	b := w.consoleAt("/record")
	b.see("moved to instruments")
	b.accessible("the record")
	b.choose("Outcome", "Denied")
	b.until("only what was denied is left", `!document.body.innerText.includes("moved to instruments") && document.body.innerText.includes("May Noor Haddad have Control on Mill bridge? no")`)
	b.press("the entry", `//button[starts-with(@aria-label, "Details of entry")]`)
	b.see("10.20.3.4")
	if at := b.location(); !strings.Contains(at, "outcome=not_granted") {
		t.Errorf("what is looked for does not stand in the address: %s", at)
	}
	b.open("/record")
	b.see("moved to instruments")
	b.fill("Address", "10.20")
	b.key("Enter")
	b.see("is no address and no network")
	b.fill("Address", "127.0.0.0/8")
	b.key("Enter")
	b.until("what came from there", `!document.body.innerText.includes("The record begins here") && document.body.innerText.includes("moved to instruments")`)
	b.do("as on paper", emulated("print"))
	b.see("Address: 127.0.0.0/8") // which says what the sheet holds
	b.do("as on a screen", emulated(""))
	b.open("/record?kind=change&of=tomas.field")
	b.see("moved to instruments")
	b.press("the entry", `//button[starts-with(@aria-label, "Details of entry")]`)
	b.see("tomas@larkmere.example")
	b.accessible("an entry that is open")
	b.click("Take this change back…")
	b.see("Take revision 2 back")
	b.fill("Why (for the record)", "the wrong Tomas")
	b.clickLast("Undo")
	b.see("undo of revision 2: the wrong Tomas")
	b.click("Verify…")
	b.see("The first that is not as it was written is named")
	b.click("Verify now")
	b.see("The record is whole")
	b.accessible("the verification")

	b.open("/service")
	b.see("Every change needs a reason")
	b.accessible("the settings of the service")
	b.fill("Let entries go after (days; empty: never)", "soon")
	b.click("Save")
	b.see("write a whole number")
	b.fill("Let entries go after (days; empty: never)", "400")
	b.do("a reason", chromedp.Click(chromedp.Search(`//label[contains(., "Every change needs a reason")]//input`)))
	b.click("Add a rule")
	b.pick("Right", "vi", "View")
	b.click("Save")
	b.see("it holds from now on")
	if got := string(third(w.ask("GET", "/api/v1/service", w.token, ""))); !strings.Contains(got, `"keep_days":400,"reason_required":true`) || !strings.Contains(got, `[{"right":"view","keep":"none"}]`) {
		t.Errorf("the settings are %s", got)
	}
	b.open("/records/user_groups/volunteers/edit")
	b.fill("Name", "Weekend volunteers")
	b.see("Volunteers → Weekend volunteers")
	b.click("Save")
	b.see("asks for a reason with every change")
	b.fill("Why (a setting of the service asks for it)", "they come on weekends alone")
	b.click("Save")
	b.see("Weekend volunteers")
	b.open("/record?kind=change")
	b.see("they come on weekends alone")
	b.open("/records/devices/mill-bridge")
	b.see("On record")
	b.see("May Noor Haddad have Control on Mill bridge? no")
}
