package acceptance

import (
	"fmt"
	"testing"

	"github.com/chromedp/chromedp"
)

// TestConsoleOnEveryPage opens every page in both languages, both looks, on a desk and on a telephone: each passes axe, fits the
// window, has one heading and says no key in the place of a word.
func TestConsoleOnEveryPage(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	b := w.console()
	pages := []string{
		"/check", question("user", "agnes.lindqvist", "right", "control", "device", "alder-gate-1", "at", "2026-11-24 20:00"),
		"/devices", "/devices/groups", "/devices/sites", "/people", "/people/groups", "/people/mandates", "/people/sources", "/sources/new", "/grants", "/times", "/times/calendars",
		"/rights", "/rights/roles", "/rights/kinds", "/matrix?at=2026-11-24+10:00", "/policy", "/sheets", "/people/noor.haddad/seen",
		"/records/users/tomas.field", "/records/user_groups/bridge-crew", "/records/devices/twin-bridge-north", "/records/device_groups/bridges",
		"/records/sites/border-arm", "/records/grants/bridge-watch", "/records/schedules/night-watch", "/records/calendars/closures",
		"/records/rights/control", "/records/roles/bridge-watch", "/records/mandates/audit",
		"/records/users/new", "/records/grants/bridge-watch/edit", "/records/schedules/navigation-winter/edit", "/records/device_groups/bridges/edit",
	}
	for i, way := range []struct {
		language, look string
		width, height  int64
		of             int // one in so many pages
	}{{"fr", "dark", 1280, 800, 1}, {"en", "light", 1280, 800, 5}, {"fr", "light", 390, 844, 5}, {"en", "dark", 390, 844, 5}} {
		b.do("a size", chromedp.EmulateViewport(way.width, way.height))
		b.do("a way", chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`localStorage.setItem("sentier-language", %q); localStorage.setItem("sentier-theme", %q)`, way.language, way.look)))
		for k, page := range pages {
			if k%way.of != i%way.of { // all pages once, and some in each of the other ways: each takes most of a second
				continue
			}
			name := fmt.Sprintf("%s in %s, %s, %d wide", page, way.language, way.look, way.width)
			b.open(page)
			b.until(name, `document.querySelector("main h1, main form") !== null && !document.querySelector("main > [role=status], main [aria-busy=true]")`)
			for what, wrong := range map[string]string{
				"is wider than the window":   `document.documentElement.scrollWidth > innerWidth + 1`,
				"has another language":       fmt.Sprintf(`document.documentElement.lang !== %q`, way.language),
				"has another look":           fmt.Sprintf(`document.documentElement.dataset.theme !== %q`, way.look),
				"says a key":                 `/\bconsole\.[a-z_]+/.test(document.body.innerText) || document.body.innerText.includes("{{")`,
				"has more than one heading":  `document.querySelectorAll("h1").length > 1`,
				"shows a fault":              `document.querySelector("main [role=alert]") !== null`,
				"says undefined or an error": `/undefined|\[object|NaN|Invalid Date/.test(document.body.innerText)`,
			} {
				bad, err := ask(b, chromedp.Evaluate[bool](wrong))
				if err != nil || bad {
					t.Errorf("%s %s (%v)", name, what, err)
				}
			}
			if i == 0 { // which looks at every page, and takes most of the time
				b.accessible(name)
			}
		}
	}
}
