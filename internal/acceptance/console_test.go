package acceptance

import (
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"sentier/internal/wire"
)

// TestConsole drives the console as an administrator would: sign in, ask, read the trail, follow it.
func TestConsole(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	b := w.browse()
	b.signIn("ines.carvalho", "not the password")
	b.see("the user or the password is wrong")
	b.accessible("sign-in")
	b.fill("Password", password)
	b.click("Sign in")
	b.see("Last changes")
	b.accessible("today")
	b.open("/check")
	b.see("Choose a person, a right and a device")

	b.pick("Person", "agnes", "Agnes Lindqvist")
	b.choose("Right", "Control")
	b.pick("Device or point", "alder gate 1", "Alder gate 1")
	b.fill("When (the device’s local time)", "2026-11-24 20:00")
	b.click("Ask")
	b.see("Denied")
	b.see("Breaks here: closed until Wed 25 Nov 2026 08:00 (Europe/Madrid)")
	b.see("in 12 h")
	b.accessible("check")
	link := b.location()
	if !strings.Contains(link, "user=agnes.lindqvist") || !strings.Contains(link, "at=2026-11-24T19%3A00%3A00Z") {
		t.Errorf("the address does not hold the question: %s", link)
	}

	b.click("Lock keeping, north")
	b.see("Lines")
	b.see("Navigation hours, summer or Navigation hours, winter")
	b.accessible("a grant")
	b.click("Lock keepers, north")
	b.see("Hana Novak")
	b.click("Hana Novak")
	b.see("hana.novak@larkmere.example")

	b.click("Devices")
	b.see("184 in all")
	b.accessible("devices")
	b.do("print", chromedp.Evaluate[chromedp.Void](`window.dispatchEvent(new Event("beforeprint"))`))
	b.until("all rows on paper, with a head", `document.querySelectorAll("tbody tr td:first-child input").length === 184 && document.querySelector("thead [data-paper]") !== null`)
	b.do("printed", chromedp.Evaluate[chromedp.Void](`window.dispatchEvent(new Event("afterprint"))`))
	b.click("State")
	b.until("sorted by state", `location.search.includes("sort=state")`)
	b.see("Maintenance")
	b.click("State")
	b.until("and from the end", `location.search.includes("sort=-state")`)
	b.click("Name")
	b.fill("Search", "twin bridge")
	b.see("2 in all")
	b.click("Twin bridge north")
	b.see("Barriers (barriers)")
	b.click("Devices")
	b.click("Lower Pounds 0 / 51")
	b.see("51 in all")
	b.click("Not sorted yet 4")
	b.see("Found device 4")
	b.do("pick all", chromedp.Click(chromedp.CSS(`thead input[type=checkbox]`)))
	b.see("4 picked")
	b.choose("What to do", "Bring to a site")
	b.pick("Site", "saltm", "Saltmarsh")
	b.accessible("many devices picked")
	b.click("Do it")
	b.see("4 records changed")
	b.see("0 in all")
	b.click("People")
	b.choose("Status", "Suspended")
	b.see("1 in all")
	b.see("Ben Foster")
	b.accessible("people")
	b.click("Grants")
	b.choose("Effect", "Deny")
	b.see("Apprentices do not release")
	b.accessible("grants")

	b.click("Dark look")
	b.open(strings.TrimPrefix(link, w.url))
	b.see("Denied")
	b.accessible("check, dark")
	b.click("Sign out")
	b.see("Password")
	b.open("/devices")
	b.see("Password")
}

// TestConsoleThroughTheWork goes through the order of the work: site, device, device group, people group, person, role,
// schedule, grant with two lines, check, move, suspend, remove; each step leaves what the API shows.
func TestConsoleThroughTheWork(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	b := w.console()
	left := func(path, want string) {
		t.Helper()
		if status, _, body := w.ask("GET", "/api/v1/"+path, w.token, ""); status != 200 || !strings.Contains(body, want) {
			t.Errorf("%s: %d %s, want …%s…", path, status, body, want)
		}
	}
	save := func() {
		t.Helper()
		b.click("Save")
		b.see("Undo")
	}

	b.open("/records/sites/new")
	b.fill("Name", "Heron Lock")
	b.pick("Within", "border", "Border Arm")
	b.see("Added Site")
	save()
	left("sites/heron-lock", `"parent":"border-arm"`)

	b.open("/records/devices/new")
	b.fill("Name", "Heron gate")
	b.fill("Kind", "lock-gate")
	b.fill("Site", "heron-lok")
	b.fill("Address", "plc-heron.larkmere.example")
	b.see("Nothing is called “heron-lok”")
	b.click("Save") // what cannot be read is not saved
	b.fill("Site", "Heron Lock")
	save() // and what names something whole is chosen when the field is left
	left("devices/heron-gate", `"kind":"lock-gate","site":"heron-lock"`)

	b.open("/records/device_groups/new")
	b.fill("Name", "Heron gates")
	b.pick("Devices", "Heron", "Heron gate")
	save()
	left("device_groups/heron-gates", `"devices":["heron-gate"]`)

	b.open("/records/user_groups/new")
	b.fill("Name", "Heron keepers")
	save()
	b.open("/records/users/new")
	b.fill("Name", "Pia Rask")
	b.fill("E-mail", "tomas.field@larkmere.example")
	b.see("one person has one account")
	b.fill("E-mail", "pia.rask@larkmere.example")
	b.accessible("a new person")
	save()
	left("users/pia-rask", `"email":"pia.rask@larkmere.example"`)

	b.open("/records/roles/new")
	b.fill("Name", "Heron keeping")
	b.press("the right", `//label[span[normalize-space(.)="Control"]]//input`)
	b.see("comes with what stands above")
	save()
	left("roles/heron-keeping", `"rights":["control"]`)

	b.open("/records/schedules/new")
	b.fill("Name", "Heron hours")
	b.dragWeek(2, 6, 18) // Wednesday
	b.see("Windows")
	save()
	left("schedules/heron-hours", `"windows":[{"days":["wed"],"from":"06:00","to":"18:00"}]`)
	b.accessible("a schedule")

	b.open("/records/grants/new")
	b.fill("Name", "Heron keepers work")
	b.pick("Who", "heron", "Heron keepers")
	b.pick("What", "heron", "Heron keeping")
	b.pick("Where", "heron", "Heron gates")
	b.pick("When", "heron", "Heron hours")
	b.see("Added Grant")
	b.click("Add a line")
	b.fill("What", "view") // with the keyboard alone
	b.settled()
	b.key("Enter")
	b.fill("Where", "heron lock")
	b.settled()
	b.key("Enter")
	b.accessible("the grant editor")
	save()
	left("grants/heron-keepers-work", `"lines":[{"roles":["heron-keeping"],"on":{"device_groups":["heron-gates"]},"depth":"all","when":["heron-hours"]},{"rights":["view"],"on":{"sites":["heron-lock"]},"depth":"all"}]`)

	b.open("/records/users/pia-rask")
	b.click("Move")
	b.pick("New group", "heron", "Heron keepers")
	b.see("Who gains and loses")
	b.see("Pia Rask · Heron gate: +Control")
	b.clickLast("Move")
	b.see("Undo")
	left("user_groups/heron-keepers", `"members":["pia-rask"]`)
	b.open(question("user", "pia-rask", "right", "control", "device", "heron-gate", "at", "2026-11-25 10:00"))
	b.see("Allowed")
	b.see("Heron hours")

	b.open("/records/users/pia-rask")
	b.click("Suspend")
	b.see("Pia Rask · Heron gate: −Control")
	b.clickLast("Suspend")
	b.see("Reinstate")
	left("users/pia-rask", `"status":"suspended"`)
	b.click("Undo")
	b.see("Undone")
	left("users/pia-rask", `"status":"active"`)

	b.open("/records/device_groups/heron-gates")
	b.click("Remove")
	b.see("other record")
	b.accessible("a removal")
	b.clickLast("Remove")
	b.see("Undo")
	if status, _, _ := w.ask("GET", "/api/v1/device_groups/heron-gates", w.token, ""); status != 404 {
		t.Error("the group is there after its removal")
	}
	left("grants/heron-keepers-work", `"lines":[{"rights":["view"]`)

	// Somebody else changes what is open in a form: both versions are shown, and nothing is lost.
	b.open("/records/users/pia-rask/edit")
	b.fill("Name", "Pia Rask-Holm")
	w.ask("PATCH", "/api/v1/users/pia-rask", w.token, `{"name": "Pia R."}`)
	b.see("Somebody else has changed this")
	b.see("Pia Rask-Holm\"")
	b.click("Begin again from theirs")
	b.see("Nothing yet.")
	left("users/pia-rask", `"name":"Pia R."`)

	b.open("/devices")
	b.see("185 in all")
	b.key("/")
	b.do("search", chromedp.WaitVisible(chromedp.CSS(`[role=dialog] input:focus`)))
	b.typeKeys("heron")
	b.see("Heron keepers work")
	w.ask("PUT", "/api/v1/kinds/crane", w.token, `{"name": "Crane"}`)
	b.open("/rights/kinds")
	b.see("Crane")
	w.ask("PATCH", "/api/v1/kinds/crane", w.token, `{"name": "Gantry"}`)
	b.see("Gantry") // by itself, through the events
}

// TestConsoleSheets brings a CSV file in: refused row by row, looked at, then done.
func TestConsoleSheets(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	dir := t.TempDir()
	bad := write(t, dir+"/bad.csv", "name,status\nOle Bay,activ\n")
	good := write(t, dir+"/good.csv", "name,email\nOle Bay,ole.bay@larkmere.example\n")
	b := w.consoleAt("/people")
	b.click("CSV files")
	b.see("Columns: id, name, email")
	file := chromedp.CSS(`input[type=file]`)
	b.do("choose a bad file", chromedp.SendKeys(file, bad))
	b.see("Nothing of bad.csv was brought in")
	b.see("did you mean \"active\"")
	b.accessible("a refused file")
	b.do("choose a good file", chromedp.SendKeys(file, good))
	b.see("Nothing is changed yet")
	b.click("Bring it in")
	b.see("was brought in, as revision 2")
	if status, _, body := w.ask("GET", "/api/v1/users/ole-bay", w.token, ""); status != 200 {
		t.Error(body)
	}
}

// TestConsoleInFrench chooses the other language before signing in, and follows a refusal in it.
func TestConsoleInFrench(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	b := w.browse()
	b.open("/")
	b.see("Who may do what, where and when")
	b.click("Français")
	b.see("Qui peut quoi, où et quand")
	b.until("the page says its language", `document.documentElement.lang === "fr"`)
	b.accessible("sign in, in French")
	b.fill("Utilisateur", "ines.carvalho")
	b.fill("Mot de passe", password)
	b.click("Se connecter")
	b.see("Derniers changements")
	b.open(question("user", "noor.haddad", "right", "control", "device", "alder-gate-1", "at", "2026-11-24 10:00"))
	b.see("Refusé")
	b.see("Se rompt ici : n’est pas membre")
	b.see("mar. 24 nov. 2026")
	b.click("Qu’est-ce qui en ferait un oui ?")
	b.see("Ajouter Noor Haddad à Lock keepers, north")
	b.accessible("advice in French")
	for path, words := range map[string]string{
		"/devices": "Pas encore rangés", "/people": "Inviter une personne", "/grants": "en tout", "/times": "Horaires", "/matrix": "plus tard : d’ici 400 jours", "/rights": "Par niveaux",
		"/policy": "Un document est d’abord comparé", "/records/user_groups/bridge-crew": "À quoi revient le groupe", "/records/grants/bridge-watch/edit": "Ce que cela change",
	} {
		b.open(path)
		b.see(words)
	}
	b.open("/records/users/new")
	b.fill("Nom", "Al Brook")
	b.fill("Courriel", "nowhere")
	b.click("Enregistrer")
	b.see("n’est pas une adresse électronique : écrivez-la comme nom@domaine")
	b.look("fault-in-french")
	b.click("English")
	b.until("the page says its language", `document.documentElement.lang === "en"`)
	b.open("/rights")
	b.see("As levels")
}

// TestConsoleOfSomebodyWithoutAMandate shows their own access and nothing else: neither lists nor a search that would be refused.
func TestConsoleOfSomebodyWithoutAMandate(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	w.must("PATCH", "/api/v1/user_groups/instrument-technicians", `{"sign_in":null}`)
	if err := w.owner.Service.SetPassword(t.Context(), "tomas.field", password); err != nil {
		t.Fatal(err)
	}
	b := w.browse()
	b.signIn("tomas.field", password)
	b.see("What you reach")
	b.see("Tomas Field has")
	b.see("Twin bridge north")
	b.accessible("one's own access")
	if page := b.text("body"); strings.Contains(page, "Grants") || strings.Contains(page, "Search") || strings.Contains(page, "that you looked is recorded") {
		t.Errorf("there is more than their own access:\n%s", page)
	}
	b.do("there is nowhere to go but to an answer", chromedp.WaitNotPresent(chromedp.Search(`//main//a[not(starts-with(@href, "/check?"))]`)))
	b.do("the first why", chromedp.Click(chromedp.Search(`(//main//a)[1]`)))
	b.see("Because")
	b.see("Instrument technicians")
	for _, path := range []string{"/records/users/rui.falcao", "/records/users/nobody", "/today", "/devices", "/people/rui.falcao/seen"} {
		b.open(path)
		b.see("for those who administer the service")
	}
	if looks := get[[]wire.Look](w, "GET", "/api/v1/looks", ""); len(looks) > 0 {
		t.Errorf("looking at one's own access was recorded: %+v", looks)
	}
	// A mandate, and with the next page there is more.
	if _, status := edit(w, "PUT", "/api/v1/mandates/reads", `{"id":"reads","role":"auditor","to":{"users":["tomas.field"]}}`); status >= 300 {
		t.Fatalf("a mandate: %d", status)
	}
	b.open("/")
	b.see("Last changes")
	b.see("Auditor")
	b.open("/grants")
	b.see("Bridge watch")
}
