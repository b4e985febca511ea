package acceptance

import (
	"fmt"
	"regexp"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"sentier/internal/policy"
)

// walker counts what somebody clicks and types on their way.
type walker struct {
	*browser
	steps int
}

// typed is what nobody should have to type: an instant, or an id.
var typed = regexp.MustCompile(`^\d{4}-\d\d-\d\d|^[a-z0-9]+(-[a-z0-9]+)+$`)

func (b *walker) click(text string) { b.t.Helper(); b.steps++; b.browser.click(text) }
func (b *walker) last(text string)  { b.t.Helper(); b.steps++; b.browser.clickLast(text) }
func (b *walker) press(what, xpath string) {
	b.t.Helper()
	b.steps++
	b.browser.press(what, xpath)
}

func (b *walker) fill(label, value string) {
	b.t.Helper()
	b.steps++
	if typed.MatchString(value) {
		b.t.Errorf("%s: somebody types %q", label, value)
	}
	b.browser.fill(label, value)
}

func (b *walker) pick(label, word, name string) {
	b.t.Helper()
	b.steps += 2
	if typed.MatchString(word) {
		b.t.Errorf("%s: somebody types %q", label, word)
	}
	b.browser.pick(label, word, name)
}

func (b *walker) choose(label, option string) {
	b.t.Helper()
	b.steps += 2
	b.browser.choose(label, option)
}

func (b *walker) save() {
	b.t.Helper()
	b.click("Save")
	b.until("the form is left", `![...document.querySelectorAll("main button")].some(e => e.innerText.trim() === "Save")`) // “Undo” may be of what was saved before
	b.see("Undo")
}

// TestANewcomersWalk goes from an empty service to an answer that is mended, by clicking and typing words: no id and no instant.
func TestANewcomersWalk(t *testing.T) {
	t.Parallel()
	w := start(t, policy.Empty())
	b := &walker{browser: w.console()}
	b.see("From here to the first answer")
	b.accessible("today, of a new service")
	b.click("Begin with something to cut down")
	b.see("Team operates in working hours")
	b.last("Add them")
	b.see("Undo")

	b.click("Add the sites")
	b.fill("Name", "Heron Lock")
	b.fill("Zone", "lisbon")
	b.save()

	// Twelve devices by sheet, brought to the site, and a group of them.
	b.click("Today")
	b.click("Bring in the devices")
	var sheet strings.Builder
	sheet.WriteString("name\n")
	for n := range 12 {
		fmt.Fprintf(&sheet, "Heron gate %d\n", n+1)
	}
	b.see("What the file holds")
	b.steps++
	b.do("choose a file", chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`(() => { const i = document.querySelector("input[type=file]");
		const t = new DataTransfer(); t.items.add(new File([%q], "devices.csv")); i.files = t.files; i.dispatchEvent(new Event("change", { bubbles: true })); })()`, sheet.String())))
	b.see("Heron gate 12")
	b.click("Bring it in")
	b.see("Undo")
	b.click("Devices")
	b.see("12 in all")
	b.press("all", `//thead//input[@type="checkbox"]`)
	b.choose("What to do", "Bring to a site")
	b.pick("Site", "heron", "Heron Lock")
	b.click("Do it")
	b.see("Undo")
	b.click("Device groups")
	b.click("New group of devices")
	b.fill("Name", "Heron gates")
	b.pick("Sites", "heron", "Heron Lock")
	b.see("Selected by the rule 12")
	b.save()

	// Two people, and a group of them, one until next month.
	b.click("People")
	for _, name := range []string{"Pia Rask", "Ole Bay"} {
		b.click("New person")
		b.fill("Name", name)
		b.save()
		b.click("People")
	}
	b.click("Groups")
	b.click("New group of people")
	b.fill("Name", "Heron keepers")
	b.pick("Members", "pia", "Pia Rask")
	b.pick("Members", "ole", "Ole Bay")
	b.steps++
	b.browser.fillLast("Until", "in 5 weeks 17:00")
	b.save()
	b.see("until")

	// A grant of two lines, with a limit and a network; what it changes stands beside it.
	b.click("Grants")
	b.click("New grant")
	b.fill("Name", "Heron keepers work")
	b.pick("Who", "heron", "Heron keepers")
	b.see("2 people, 1 ending")
	b.pick("What", "oper", "Operate")
	b.pick("Where", "heron gates", "Heron gates")
	b.see("12 devices")
	b.click("Add a limit")
	b.fill("Limit", "minutes")
	b.fill("Number, or words", "30")
	b.click("Add a condition")
	b.fill("Networks", "10.20.0.0/16")
	b.click("Add a line")
	b.pick("What", "look", "Look on")
	b.pick("Where", "heron lock", "Heron Lock")
	b.pick("When", "work", "Working hours")
	b.see("Operate on Heron gates, at all times, only if the address is in 10.20.0.0/16, at most 30 minutes")
	b.see("gained")
	b.accessible("the grant")
	b.click("Save")
	b.see("This reaches far")
	b.see("It concerns 2 of 3 people")
	b.click("Save it")
	b.see("Undo")

	b.click("People")
	b.click("Pia Rask")
	b.click("As they see it")
	b.see("Pia Rask has")
	b.see("12 devices at Heron Lock")
	b.click("Back to the person")
	b.click("Check access…")
	b.see("Device or point") // the page before has a choice of rights too
	b.choose("Right", "Control")
	b.pick("Device or point", "gate 1", "Heron gate 1")
	b.click("Ask")
	b.see("Denied")
	b.see("the address is in 10.20.0.0/16")
	b.click("What would make it a yes?")
	b.press("the first advice", `(//li[@data-kind]//button)[1]`)
	b.see("Allowed")
	t.Logf("%d clicks and fields", b.steps)
	if b.steps > 90 {
		t.Errorf("it takes %d clicks and fields", b.steps)
	}
}
