package acceptance

import (
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"sentier/internal/demo"
)

// TestConsoleFromARefusalToTheMend follows a refusal from its trail to what would mend it, and back to an allowed answer.
func TestConsoleFromARefusalToTheMend(t *testing.T) {
	t.Parallel()
	w := start(t, alive(t))
	b := w.consoleAt(question("user", "noor.haddad", "right", "control", "device", "alder-gate-1", "at", demo.Week("2026-11-24", testNow(t))+" 10:00"))
	b.see("Denied")
	b.see("Breaks here: is not a member")
	b.see("The week, as it will run")
	b.until("the strip of the week", `document.querySelectorAll("[data-strip] svg").length === 2`)
	b.click("What would make it a yes?")
	b.see("Add Noor Haddad to Lock keepers, north")
	b.accessible("advice")
	b.do("the first advice", chromedp.Click(chromedp.Search(`(//li[@data-kind="grant"]//button)[1]`)))
	b.see("Allowed")
	b.see("Noor Haddad: control Alder gate 1")
	b.see("What would take it away, least first")
	b.do("take it away", chromedp.Click(chromedp.Search(`(//li[@data-kind="strike" or @data-kind="disable"]//button)[1]`)))
	b.see("Denied")

	b.open("/records/users/noor.haddad")
	b.see("Winter contractors → Winter works") // now or later depends on the hour
	b.see("5 devices")                         // for one reason, in one row that opens
	b.click("As they see it")
	b.see("Noor Haddad has") // on how many depends on the hour
	b.see("that you looked is recorded")
	b.accessible("as they see it")
	// A person with nothing is told why.
	if _, status := edit(w, "PUT", "/api/v1/users/nobody.new", `{"id":"nobody.new","name":"Nobody New"}`); status >= 300 {
		t.Fatalf("a new person: %d", status)
	}
	if _, status := edit(w, "PATCH", "/api/v1/grants/look-around", `{"enabled":false}`); status >= 300 {
		t.Fatalf("disable what everyone has: %d", status)
	}
	b.open("/people/nobody.new/seen")
	b.see("Nobody New reaches nothing: they are in no group that is enabled")

	// Who could, is told with what it takes; and in those circumstances, that they can.
	b.open("/records/devices/control-room-mast")
	b.see("if the sign-in is strong")
	for _, degree := range []string{"now", "later"} {
		b.press(degree, `(//button[.//*[@data-degree="`+degree+`"]])[1]`)
	}
	b.until("only what is possible in other circumstances", `document.querySelector("[data-reach] tbody") && !document.querySelector("[data-reach] tbody [data-degree=now], [data-reach] tbody [data-degree=later]")`)
	b.see("Instrument technicians → Weather masts with strong sign-in")
	b.press("now", `(//button[.//*[@data-degree="now"]])[1]`)
	b.press("the circumstances", `(//summary[normalize-space(.)="In which circumstances"])[1]`)
	b.choose("Strong sign-in", "Yes")
	b.until("what was possible is allowed", `document.querySelector("[data-reach] tbody") && !document.querySelector("[data-reach] tbody [data-degree=if]")`)
	b.accessible("what is possible")

	b.open("/records/user_groups/bridge-crew")
	b.see("What the group amounts to")
	b.pick("Add a person", "nobody", "Nobody New")
	b.fill("Until", "24 Decembre 2099 at noon")
	b.see("Nobody New")
	b.fill("Until", "24 smarch")
	b.click("Add") // reads what was typed first, and says what is wrong with it
	b.see("\"24 smarch\" is no time that can be read")
	b.fill("Until", "24 December 2099 noon")
	b.click("Add")
	b.see("until Thu 24 Dec 2099 12:00 Europe/Lisbon")
	b.click("Drop Nobody New")
	b.see("Nobody New · Mill bridge: −Control")
	b.click("Take out")
	b.see("Members 6")
	b.accessible("a group")
	b.open("/records/device_groups/bridges/edit")
	b.see("Selected by the rule 3")
	b.open("/records/schedules/night-watch")
	b.see("The next fortnight, as it will run")
	b.choose("By the clock of", "Europe/Madrid")
	b.until("fourteen days", `document.querySelectorAll("[data-fortnight] [data-day]").length === 14`)
	b.accessible("a schedule")
	b.open("/rights")
	b.see("With it: Control, View.")
	b.accessible("rights")
	b.open("/records/grants/new?with=" + `%7B%22to%22%3A%7B%22groups%22%3A%5B%22bridge-crew%22%5D%7D%7D`)
	b.see("Bridge crew")
	b.open("/records/grants/instruments/edit") // which holds at any hour
	b.see("Line 1")
	b.do("disable it", chromedp.Click(chromedp.Search(`//label[normalize-space(.)="Enabled"]//input`)))
	b.see("lost")
	b.see("36 devices")
}

// TestConsoleLoadsAPolicy compares a document with the policy, and loads it.
func TestConsoleLoadsAPolicy(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	b := w.consoleAt("/policy")
	b.see("Compare a document")
	changed := strings.Replace(string(demo.Document()), "name: Bridge crew", "name: Bridge company", 1)
	faulty := strings.Replace(changed, "kind: lift-bridge", "kind: lift-brige", 1)
	for _, x := range []struct{ text, shows string }{
		{faulty, "did you mean"},
		{changed, "would make 1 change to revision 1"},
	} {
		b.chooseFile("larkmere.yaml", x.text)
		b.see(x.shows)
		b.accessible("a policy document")
	}
	b.click("Load it")
	b.see("Bridge company")
	b.see("revision 2")
	if code, out, _ := w.run("group", "show", "bridge-crew"); code != 0 || !strings.Contains(out, "Bridge company") {
		t.Errorf("the loaded name is not there:\n%s", out)
	}
}

// TestConsoleMatrixOfAThousand scrolls and filters a thousand people by a thousand devices.
func TestConsoleMatrixOfAThousand(t *testing.T) {
	t.Parallel()
	p, err := demo.Grown(1100, 1100)
	if err != nil {
		t.Fatal(err)
	}
	w := start(t, p)
	b := w.consoleAt("/matrix?rows=users&columns=devices")
	b.see("1000 of 1160 rows, 1000 of 1284 columns")
	// Far corners are drawn, and the longest frame on the way is measured: a pause of half a second would be seen.
	longest, err := ask(b, chromedp.Evaluate[float64](`new Promise(done => {
		const box = document.querySelector("[role=region]"); let last = performance.now(), longest = 0, n = 0;
		const step = now => { longest = Math.max(longest, now - last); last = now;
			box.scrollTop = n * 1350; box.scrollLeft = n * 3600; if (++n < 20) requestAnimationFrame(step); else done(longest); };
		requestAnimationFrame(step); })`, chromedp.EvalAwaitPromise))
	if err != nil {
		t.Fatal(err)
	}
	t.Logf("the longest frame while scrolling over the sheet took %.0f ms", longest)
	b.until("the far corner", `document.querySelectorAll("[data-row]").length > 5 && document.querySelectorAll("[data-row] button").length < 5000`)
	begun := time.Now()
	b.fill("Filter rows", "field")
	b.key("Enter")
	b.see("1 of 1 rows, 1000 of 1284 columns")
	t.Logf("filtered after %v", time.Since(begun).Round(10*time.Millisecond))
	b.open("/matrix?rows=users&columns=devices&group=bridge-crew&site=twin-bridges&at=2026-11-24+10:00")
	b.do("a cell", chromedp.Click(chromedp.CSS(`[data-row="tomas.field"] button[aria-label*="Twin bridge north"]`)))
	b.see("Yes: Tomas Field has Control on Twin bridge north")
	b.accessible("a cell of the matrix")
	b.click("Close")
	b.click("Pin Tomas Field")
	b.until("the pinned row on top", `document.querySelector("[data-row]").dataset.row === "tomas.field"`)
	b.open("/matrix?rq=bridge+crew&cq=twin")
	b.do("a cell of a site", chromedp.Click(chromedp.CSS(`[data-row="bridge-crew"] button[aria-label*="Twin Bridges"]`)))
	b.see("Twin mast")
	b.do("a device of the site", chromedp.Click(chromedp.Search(`//*[@role="dialog"]//li//button[contains(., "Twin bridge north")]`)))
	b.see("somebody in Bridge crew")
}
