package acceptance

import (
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp/kb"

	"sentier/internal/policy"
)

// tabTo presses Tab until what has the focus is what is meant.
func (b *browser) tabTo(what, is string) {
	b.t.Helper()
	for range 150 {
		var on bool
		b.is(fmt.Sprintf(`((e) => %s)(document.activeElement)`, is), &on)
		if on {
			return
		}
		b.key(kb.Tab)
	}
	b.t.Fatalf("%s is not reached by Tab; the focus is at %q", what, b.text(":focus"))
}

// labelled tells whether the focus is in the input with a label.
func labelled(label string) string {
	return fmt.Sprintf(`[...(e.labels ?? [])].some((l) => l.innerText.trim() === %q)`, label)
}

// TestEveryFormByKeyboardAlone makes a record of each type without a mouse: from the address bar to the toast.
func TestEveryFormByKeyboardAlone(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	b := w.console()
	choose := func(label, typed string) {
		t.Helper()
		b.tabTo(label, labelled(label))
		b.typeKeys(typed)
		b.settled()
		b.key("Enter")
	}
	for _, typ := range policy.Types() {
		b.open("/records/" + typ.String() + "/new")
		b.until("the form of "+typ.String(), `!!document.querySelector("form")`)
		if missing := b.text("form"); strings.Contains(missing, "console.") {
			t.Errorf("the form of %s has no word for something: %s", typ, missing)
		}
		name := "By keys, " + strings.ReplaceAll(typ.String(), "_", " ")
		b.tabTo("the name", labelled("Name"))
		b.typeKeys(name)
		switch typ {
		case policy.Grants:
			choose("Who", "bridge crew")
			choose("What", "look only")
			choose("Where", "mill basin")
			choose("When", "night")
		case policy.Expectations:
			choose("Who", "night backup")
			b.tabTo("a right", labelled("Emergency release"))
			b.typeKeys(" ")
			choose("Where", "mill basin")
		case policy.Mandates:
			choose("People", "lena")
		case policy.UserGroups:
			choose("Members", "lena")
			b.tabTo("the end", labelled("Until"))
			b.typeKeys("in 2 weeks")
			b.key("Enter")
			b.see("in 14 d")
		case policy.Devices:
			choose("Kind", "lift")
			choose("Site", "mill basin")
			b.tabTo("add a point", `e.innerText.trim() === "Add" && e.closest("fieldset").innerText.startsWith("Points")`)
			b.typeKeys(" ")
			b.until("its name has the focus", `document.activeElement.matches("fieldset input") && document.activeElement.value === ""`)
			b.typeKeys("Señal 1")
		}
		b.see("Added")
		b.tabTo("Save", `e.innerText === "Save" && !e.disabled`)
		b.typeKeys(" ") // which presses a button that has the focus
		b.see("Undo")
		if _, _, body := w.ask("GET", "/api/v1/devices/by-keys-devices", w.token, ""); typ == policy.Devices && !strings.Contains(body, `"points":[{"id":"senal-1","name":"Señal 1"}]`) {
			t.Errorf("the point has no id of its name: %s", body)
		}
		if status, _, body := w.ask("GET", "/api/v1/"+typ.String()+"?q=by+keys", w.token, ""); status != 200 || !strings.Contains(body, name) {
			t.Errorf("%s: %d %.200s", typ, status, body)
		}
	}
	b.open("/policy")
	b.tabTo("the settings", `e.innerText.trim() === "Change the settings"`)
	b.key("Enter")
	b.tabTo("the zone", labelled("Zone"))
	b.typeKeys("helsinki")
	b.key("Enter")
	b.see("Changed Settings")
	b.tabTo("Save", `e.innerText === "Save" && !e.disabled`)
	b.typeKeys(" ")
	b.until("the policy again", `location.pathname === "/policy" && document.body.innerText.includes("Europe/Helsinki")`)
	// And the keys that go somewhere, with the list of them.
	b.open("/")
	b.see("Last changes")
	b.key("?")
	b.see("Close a list or a dialog")
	b.accessible("the list of keys")
	b.key("Escape")
	b.until("closed", `document.querySelector("[role=dialog]") === null`)
	b.key("g")
	b.key("d")
	b.until("the devices", `location.pathname === "/devices"`)
	b.see("in all")
	b.key("n")
	b.until("a new device", `location.pathname === "/records/devices/new"`)
}
