package acceptance

import (
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"sentier/internal/wire"
)

// TestATokenIsMadeAndRotatedInTheConsole: for one mandate and one network; its secret is shown once and works, and the one made in its place works too.
func TestATokenIsMadeAndRotatedInTheConsole(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	b := w.console()
	secret := func() string {
		t.Helper()
		b.until("the secret", `[...document.querySelectorAll('[role=dialog] input')].some(x => x.value.startsWith('sentier_'))`)
		out, err := ask(b, chromedp.Evaluate[string](`[...document.querySelectorAll('[role=dialog] input')].find(x => x.value.startsWith('sentier_')).value`))
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	b.open("/records/users/lena.marsh")
	b.click("Make a token")
	b.accessible("making a token")
	b.fill("What it is for", "panel at the gate")
	b.fill("From these networks alone (empty: from anywhere)", "127.0.0.0/8, 10.20.0.0/16")
	b.look("token-form")
	b.clickLast("Make a token")
	first := secret()
	b.clickLast("Copy")
	b.until("that it is copied, or selected to be", `[...document.querySelectorAll('[role=dialog]')].some(x => x.innerText.includes('Copied') || x.innerText.includes('copy it by hand'))`)
	b.look("token-once")
	if status, _, body := w.ask("GET", "/api/v1/session", first, ""); status != 200 {
		t.Errorf("with the token: %d %s", status, body)
	}
	b.key("Escape")
	b.see("panel at the gate")
	b.until("that the secret is gone", `!document.body.innerHTML.includes('`+first+`')`)
	b.click("Rotate: panel at the gate")
	b.see("holds beside it for a day")
	b.clickLast("Rotate")
	second := secret()
	for _, token := range []string{first, second} {
		if status, _, body := w.ask("GET", "/api/v1/session", token, ""); status != 200 {
			t.Errorf("while both hold: %d %s", status, body)
		}
	}
	b.key("Escape")
	b.look("token-two")
	b.accessible("two tokens")
	named := 0
	for _, x := range get[[]wire.Token](w, "GET", "/api/v1/tokens?user=lena.marsh", "") {
		if strings.HasPrefix(x.Name, "panel at the gate") {
			named++
			if len(x.Networks) != 2 {
				t.Errorf("%+v", x)
			}
		}
	}
	if named != 2 {
		t.Errorf("%d tokens of that name", named)
	}

	// What is no network is refused in the form, and what was typed stays.
	b.click("Make a token")
	b.fill("What it is for", "elsewhere")
	b.fill("From these networks alone (empty: from anywhere)", "the-lock")
	b.clickLast("Make a token")
	b.see(`"the-lock" is no network`)
	b.look("token-fault")
	b.until("that what was typed stays", `[...document.querySelectorAll('[role=dialog] input')].some(x => x.value === 'elsewhere')`)
}
