package acceptance

import (
	"strings"
	"testing"
)

// TestConsole drives the console as an administrator would: sign in, ask, read the trail, follow it.
func TestConsole(t *testing.T) {
	w := start(t, nil)
	b := w.browse()
	b.signIn("ines.carvalho", "not the password")
	b.see("the user or the password is wrong")
	b.accessible("sign-in")
	b.fill("Password", password)
	b.click("Sign in")
	b.see("Choose a person, a right and a device")

	b.fill("Person", "agnes")
	b.click("Agnes Lindqvist agnes.lindqvist")
	b.choose("Right", "Control")
	b.fill("Device or point", "alder-gate-1")
	b.click("Alder gate 1 alder-gate-1")
	b.fill("When (the device’s local time)", "2026-11-24 20:00")
	b.click("Ask")
	b.see("Denied")
	b.see("Breaks here: closed until Wed 25 Nov 2026 08:00 (Europe/Madrid)")
	b.see("in 12 h")
	b.accessible("check")
	link := b.location()
	if !strings.Contains(link, "user=agnes.lindqvist") || !strings.Contains(link, "at=2026-11-24+20%3A00") {
		t.Errorf("the address does not hold the question: %s", link)
	}

	b.click("Lock keeping, north")
	b.see("Lines")
	b.see("Navigation hours, summer, Navigation hours, winter")
	b.accessible("a grant")
	b.click("Lock keepers, north")
	b.see("Hana Novak")
	b.click("Hana Novak")
	b.see("hana.novak@larkmere.example")

	b.click("Devices")
	b.see("184 in all")
	b.accessible("devices")
	b.fill("Search", "twin bridge")
	b.see("2 in all")
	b.click("Twin bridge north")
	b.see("Barriers (barriers)")
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
