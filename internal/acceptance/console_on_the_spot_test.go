package acceptance

import (
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
)

// TestWhatAGrantNeedsIsMadeOnTheSpot: a role and a schedule, without leaving the grant that is being written; and a schedule shows how it runs.
func TestWhatAGrantNeedsIsMadeOnTheSpot(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	b := w.consoleAt("/records/grants/new")
	b.fill("Name", "Evening rounds")
	b.pick("Who", "bridge", "Bridge crew")
	b.see("New role")
	b.click("New role")
	b.fillIn("Name", "last()", "Rounds")
	b.do("a right", chromedp.Click(chromedp.Search(`//div[@role="dialog"]//label[contains(., "Acknowledge")]//input`)))
	b.accessible("a role made on the spot")
	b.clickLast("Save")
	b.until("the role is chosen", `document.querySelector("[role=dialog]") === null && document.querySelector("form").innerText.includes("Rounds")`)
	b.pick("Where", "mill bridge", "Mill bridge")

	b.click("New schedule")
	b.fillIn("Name", "last()", "Night watch") // which there is
	b.clickLast("Save")
	b.see("is taken") // and is told in the dialog, which stays
	b.fillIn("Name", "last()", "Evenings")
	b.clickLast("Save")
	b.until("the schedule is chosen", `document.querySelector("[role=dialog]") === null && document.querySelector("form").innerText.includes("Evenings")`)
	b.do("point at it", chromedp.Focus(chromedp.Search(`//button[normalize-space(.)="Evenings"]`)))
	b.see("The next fortnight, as it will run")
	b.look("on-the-spot")
	b.key("Escape")
	b.click("Save")
	b.until("saved", `location.pathname.startsWith("/records/grants/evening-rounds")`)
	if _, _, body := w.ask("GET", "/api/v1/grants/evening-rounds", w.token, ""); !strings.Contains(body, `"roles":["rounds"]`) || !strings.Contains(body, `"when":["evenings"]`) {
		t.Errorf("the grant is %s", body)
	}
}

// TestManyPeopleAtOnce are put into a group until a time said in words, and suspended, each as one change that can be undone.
func TestManyPeopleAtOnce(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	b := w.consoleAt("/people?q=an")
	b.see("8 in all")
	for _, name := range []string{"Hana Novak", "Anders Vik"} {
		b.do("pick "+name, chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`document.querySelector('input[aria-label="Pick %s"]')?.click()`, name)))
	}
	b.until("some are picked", `document.body.innerText.includes(" picked")`)
	b.pick("Group", "winter", "Winter contractors")
	b.fill("Until", "in 2 weeks")
	b.key("Enter")
	b.see("Who gains and loses")
	b.accessible("many people picked")
	b.click("Do it")
	b.until("it is done", `!document.body.innerText.includes(" picked")`)
	if _, _, body := w.ask("GET", "/api/v1/user_groups/winter-contractors", w.token, ""); !strings.Contains(body, `{"user":"anders.vik","until":`) {
		t.Errorf("the group is %s", body)
	}
}
