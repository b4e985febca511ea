package acceptance

import (
	"strings"
	"testing"

	"sentier/internal/wire"
)

// TestPreferencesAreOnesOwn: what somebody prefers is kept by the service for them alone, and what cannot be is refused with the field.
func TestPreferencesAreOnesOwn(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	other := w.tokenFor("lena.marsh")
	if got := get[wire.Preferences](w, "GET", "/api/v1/session/preferences", ""); got != (wire.Preferences{}) {
		t.Errorf("before anything is preferred: %+v", got)
	}
	mine := wire.Preferences{Language: "fr", Theme: "dark", Landing: "devices", Zone: "Europe/Madrid"}
	if status, _, body := w.ask("PUT", "/api/v1/session/preferences", w.token, `{"language":"fr","theme":"dark","landing":"devices","zone":"Europe/Madrid"}`); status != 200 {
		t.Fatal(status, body)
	}
	if got := get[wire.Preferences](w, "GET", "/api/v1/session/preferences", ""); got != mine {
		t.Errorf("kept is %+v", got)
	}
	if _, _, body := w.ask("GET", "/api/v1/session/preferences", other, ""); strings.TrimSpace(body) != "{}" {
		t.Errorf("somebody else is told %s", body)
	}
	for body, field := range map[string]string{
		`{"language":"de"}`: "language", `{"theme":"pink"}`: "theme", `{"landing":"/etc"}`: "landing", `{"zone":"Local"}`: "zone", `{"zone":"../../etc/passwd"}`: "zone",
		`{"zone":"` + strings.Repeat("x", 3000) + `"}`: "zone",
	} {
		if status, _, said := w.ask("PUT", "/api/v1/session/preferences", w.token, body); status != 422 && status != 400 || !strings.Contains(said, field) || len(said) > 2000 {
			t.Errorf("%.80s: %d %s", body, status, said)
		}
	}
	if status, _, _ := w.ask("PUT", "/api/v1/session/preferences", "", `{}`); status != 401 {
		t.Errorf("without a credential: %d", status)
	}
}

// TestTheConsoleIsAsOnePrefersIt in whatever browser one has it open.
func TestTheConsoleIsAsOnePrefersIt(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	b, again := w.console(), w.console() // two browsers
	b.open("/account")
	b.see("How you have the console")
	b.choose("The page you come to", "Devices")
	b.choose("Look", "Dark")
	b.until("it is dark", `document.documentElement.dataset.theme === "dark"`)
	b.fill("Times that belong to no device are told in", "Madrid")
	b.key("Enter")
	b.until("the zone is kept", `[...document.querySelectorAll("input")].some((i) => i.value === "Europe/Madrid")`)
	b.accessible("what one prefers")
	b.look("account")
	b.choose("Language", "Français")
	b.see("Votre compte")

	again.open("/")
	again.see("Appareils")
	again.until("it is dark there too, and French", `document.documentElement.dataset.theme === "dark" && document.documentElement.lang === "fr"`)
	again.until("one comes to the devices", `location.pathname.endsWith("/devices")`)
	again.open("/today")
	again.see("Derniers changements")
	again.click("English")
	again.see("Last changes")
	again.open("/records/grants/new")
	again.see("Europe/Madrid")
}
