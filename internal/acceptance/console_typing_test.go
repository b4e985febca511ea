package acceptance

import (
	"fmt"
	"testing"

	"github.com/chromedp/chromedp"

	"sentier/internal/policy"
)

// TestTypingStaysAsTyped opens the form of every type with a row of everything in it, and types into each input key by key: after every
// key it holds what was typed, and nothing that somebody types while the form looks ahead is taken away or printed otherwise.
func TestTypingStaysAsTyped(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	b := w.console()
	const typed = "1, -"
	inputs := 0
	for _, typ := range append(policy.Types(), policy.SettingsType) {
		where := "/records/" + typ.String() + "/new"
		if typ == policy.SettingsType {
			where = "/records/settings/settings/edit"
		}
		b.open(where)
		b.until("the form of "+typ.String(), `!!document.querySelector("form")`)
		n, err := ask(b, chromedp.Evaluate[int](`
			document.querySelectorAll("form details").forEach((x) => x.open = true);
			document.querySelectorAll("form button.self-start:not([aria-haspopup])").forEach((x) => x.click());
			new Promise((done) => setTimeout(() => {
				window.typing = [...document.querySelectorAll("form input:not([type=checkbox]):not([readonly]), form textarea")];
				done(window.typing.length);
			}, 150))`, chromedp.EvalAwaitPromise))
		if err != nil {
			t.Fatal(err)
		}
		if n == 0 {
			t.Errorf("the form of %s has no input", typ)
		}
		for i := range n {
			b.do("focus", chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`window.typing[%d].focus(); window.typing[%d].select()`, i, i)))
			for k, key := range typed {
				b.typeKeys(string(key))
				if k != 1 && k != len(typed)-1 {
					continue // asking after each costs more than it tells
				}
				got, err := ask(b, chromedp.Evaluate[string](fmt.Sprintf(`window.typing[%d].isConnected ? window.typing[%d].value : "(gone)"`, i, i)))
				if err != nil {
					t.Fatal(err)
				}
				if got != typed[:k+1] {
					label, _ := ask(b, chromedp.Evaluate[string](fmt.Sprintf(`window.typing[%d].closest("label")?.innerText ?? window.typing[%d].id`, i, i)))
					t.Errorf("%s, input %d (%s): typed %q, and it holds %q", typ, i, label, typed[:k+1], got)
					break
				}
			}
			inputs++
		}
	}
	if inputs < 60 {
		t.Errorf("only %d inputs were found", inputs)
	}
}
