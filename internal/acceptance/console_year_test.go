package acceptance

import (
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
)

// TestAYearIsClicked: days go in and out by a click, a range with Shift, a day out of a range; and what is saved is just that.
func TestAYearIsClicked(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	b := w.consoleAt("/records/calendars/new")
	b.fill("Name", "Works weeks")
	b.press("next year", `//button[@aria-label="On to 2027"]`)
	click := func(day string, shift bool) {
		t.Helper()
		b.until(day+" is there", fmt.Sprintf(`document.querySelector('[data-day="%s"] button') !== null`, day))
		b.do("click "+day, chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`void document.querySelector('[data-day="%s"] button').dispatchEvent(new MouseEvent("click", { bubbles: true, shiftKey: %t }))`, day, shift)))
	}
	marked := func(n int) {
		t.Helper()
		b.until(fmt.Sprintf("%d days are marked", n), fmt.Sprintf(`document.querySelectorAll(".year .marked button").length === %d`, n))
	}
	click("2027-02-08", false)
	marked(1)
	b.fillLast("Name", "Dewatering")
	click("2027-02-12", true)
	marked(5)
	click("2027-02-10", false) // not on this one
	marked(4)
	click("2027-05-01", false)
	marked(5)
	click("2027-05-02", false)
	marked(6)
	click("2027-05-02", false)
	marked(5)
	b.accessible("a year")
	b.look("year")
	b.click("Save")
	b.until("saved", `location.pathname === "/records/calendars/works-weeks"`)
	const want = `"days":[{"from":"2027-02-08","to":"2027-02-09","name":"Dewatering"},{"from":"2027-02-11","to":"2027-02-12","name":"Dewatering"},{"date":"2027-05-01"}]`
	if _, _, body := w.ask("GET", "/api/v1/calendars/works-weeks", w.token, ""); !strings.Contains(body, want) {
		t.Errorf("the calendar is %s", body)
	}
}
