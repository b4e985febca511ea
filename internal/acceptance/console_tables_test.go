package acceptance

import (
	"encoding/csv"
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"sentier/internal/demo"
	"sentier/internal/policy"
)

// TestATableIsNarrowedLaidOutAndTakenAway: by any column, with the columns one chooses, kept in the address; what it shows is a file.
func TestATableIsNarrowedLaidOutAndTakenAway(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	b := w.console()
	narrow := func(field string) {
		t.Helper()
		b.press(field, fmt.Sprintf(`//button[@aria-label="Narrow down by: %s"]`, field))
	}
	b.open("/devices")
	b.see("in all")
	narrow("Tags")
	b.fill("Tags: holds", "critical")
	b.key("Escape")
	b.see("Tags: “critical”")
	narrow("Site")
	b.pick("Site", "twin", "Twin Bridges")
	b.key("Escape")
	b.see("Site: Twin Bridges")
	b.see("2 in all")
	b.press("the columns", `//button[@aria-label="Choose columns"]`)
	b.see("The usual columns")
	b.accessible("columns to choose from")
	b.do("address", chromedp.Click(chromedp.Search(`//label[contains(., "Address")]//input`)))
	b.see("plc-twin.larkmere.example:4157")
	b.do("state", chromedp.Click(chromedp.Search(`//label[contains(., "State")]//input`)))
	b.until("the state is gone", `![...document.querySelectorAll("thead th")].some((h) => h.innerText.includes("State"))`)
	b.key("Escape")
	for _, part := range []string{"tags=critical", "site=twin-bridges", "columns="} {
		if !strings.Contains(b.location(), part) {
			t.Errorf("the address %s does not keep %s", b.location(), part)
		}
	}
	b.do("come back", chromedp.Reload())
	b.see("plc-twin.larkmere.example:4157") // and a link to it shows others the same

	b.do("catch the file", chromedp.Evaluate[chromedp.Void](`URL.createObjectURL = (file) => { void file.text().then((text) => (window.taken = text)); return "#taken"; }`))
	b.press("take it away", `//button[@aria-label="Take away as CSV"]`)
	b.until("the file is there", `typeof window.taken === "string"`)
	text, err := ask(b, chromedp.Evaluate[string](`window.taken`))
	if err != nil {
		t.Fatal(err)
	}
	rows, err := csv.NewReader(strings.NewReader(strings.TrimPrefix(text, "\ufeff"))).ReadAll()
	if err != nil || len(rows) != 3 {
		t.Fatalf("the file has %d rows (%v):\n%s", len(rows), err, text)
	}
	first := map[string]string{}
	for i, head := range rows[0] {
		first[head] = rows[1][i]
	}
	for head, want := range map[string]string{
		"Name": "Twin bridge north", "Kind": "Lift bridge", "Kind, id": "lift-bridge", "Site": "Twin Bridges", "Tags": "critical|moves", "Revision": "1", "As of": "20",
	} {
		if !strings.HasPrefix(first[head], want) {
			t.Errorf("%s is %q of %v", head, first[head], rows[0])
		}
	}
	if _, there := first["State"]; there {
		t.Errorf("a column that is not shown is taken along: %v", rows[0])
	}
}

// TestManyArePickedAtOnce: a range with Shift, and all that match though they have not been read.
func TestManyArePickedAtOnce(t *testing.T) {
	t.Parallel()
	many := policy.NewBuilder(policy.Empty())
	many.Add(&policy.Kind{ID: "gauge", Name: "Gauge"})
	for i := range 420 {
		many.Add(&policy.Device{ID: policy.DeviceID(fmt.Sprintf("gauge-%03d", i)), Name: fmt.Sprintf("Gauge %d", i), Kind: "gauge"})
	}
	p, err := many.Policy()
	if err != nil {
		t.Fatal(err)
	}
	w := start(t, p)
	b := w.consoleAt("/devices")
	b.see("420 in all")
	box := func(name string) string {
		return fmt.Sprintf(`document.querySelector('input[aria-label="Pick %s"]')`, name)
	}
	press := func(name string, shift bool) {
		t.Helper()
		b.do("pick "+name, chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`void %s.dispatchEvent(new MouseEvent("click", { bubbles: true, cancelable: true, shiftKey: %t }))`, box(name), shift)))
	}
	press("Gauge 2", false)
	b.see("1 picked")
	press("Gauge 6", true)
	b.see("5 picked") // numbers in names are numbers: 2, 3, 4, 5, 6
	press("Gauge 4", false)
	b.see("4 picked")
	b.press("all that are shown", `//input[@aria-label="Pick all that are shown"]`)
	b.click("Pick all 420 that match")
	b.see("420 picked")
	b.choose("What to do", "Put a tag on")
	b.fill("Tag", "found")
	b.click("Do it")
	b.until("all are tagged", `!document.body.innerText.includes("picked")`)
	if _, _, body := w.ask("GET", "/api/v1/devices?tags=found&limit=1", w.token, ""); !strings.Contains(body, `"total":420`) {
		t.Errorf("of 420 devices these have the tag: %s", body)
	}
}

// TestPagesOfManyAreLight: with 1,275 sites and 2,000 groups trees are read as they are opened, and no page is brought more than 300 kB.
func TestPagesOfManyAreLight(t *testing.T) {
	t.Parallel()
	p, err := demo.Grown(4000, 4000)
	if err != nil {
		t.Fatal(err)
	}
	w := start(t, p)
	b := w.console()
	for page, shows := range map[string]string{
		"/": "Last changes", "/devices": "Division 01", "/devices/groups": "in all", "/devices/sites": "in all", "/people": "in all", "/people/groups": "in all",
		"/grants": "in all", "/check": "Ask", "/records/grants/new": "Who", "/records/user_groups/district-001-early": "Members",
	} {
		b.open(page)
		b.see(shows)
		b.until("it rests", `performance.now() - Math.max(0, ...performance.getEntriesByType("resource").map((r) => r.responseEnd)) > 700`)
		brought, err := ask(b, chromedp.Evaluate[float64](`performance.getEntriesByType("resource").filter((r) => r.name.includes("/api/")).reduce((n, r) => n + r.decodedBodySize, 0)`))
		if err != nil {
			t.Fatal(err)
		}
		if brought == 0 || brought > 300_000 {
			t.Errorf("%s is brought %.0f bytes", page, brought)
		}
	}
	b.open("/devices")
	b.see("Division 01")
	b.until("what lies below is not there yet", `!document.body.innerText.includes("District 026")`)
	b.press("Division 01", `//button[@aria-label="Open Division 01"]`)
	b.see("District 026")
	b.press("Division 02", `//button[starts-with(normalize-space(.), "Division 02")]`)
	b.see("Site: Division 02")
	b.pick("Find", "district 030", "District 030")
	b.see("Site: District 030")
}
