package acceptance

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// browser is a page of a headless Chromium, driven with real clicks and keys.
type browser struct {
	t   *testing.T
	ctx context.Context
	url string
}

const stepTime = 30 * time.Second

// chromium is Debian's headless Chromium, or where that has no package of its own, the whole of it.
func chromium() string {
	const headless = "/usr/bin/chromium-headless-shell" // which starts in half the time
	if _, err := os.Stat(headless); err == nil {
		return headless
	}
	return "/usr/bin/chromium"
}

// oneChromium is the one that all tests share, as to start it takes longer than most pages do. Its context ends by endChromium.
var oneChromium = sync.OnceValues(func() (context.Context, error) {
	options := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath(chromium()), chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.Flag("disable-component-update", true), chromedp.Flag("no-proxy-server", true), chromedp.Flag("lang", "en-GB"))
	allocator, end := chromedp.NewExecAllocator(context.Background(), options...)
	ctx, endPage := chromedp.NewContext(allocator)
	endChromium = func() { endPage(); end() }
	return ctx, chromedp.Do(ctx)
})

var endChromium = func() {}

// browse opens a page for the world's console, with cookies and stores of its own.
func (w *world) browse() *browser {
	w.t.Helper()
	all, err := oneChromium()
	if err != nil {
		w.t.Fatalf("start %s: %v", chromium(), err)
	}
	ctx, end := chromedp.NewContext(all, chromedp.WithNewBrowserContext())
	w.t.Cleanup(end)
	if err := chromedp.Do(ctx); err != nil {
		w.t.Fatalf("open a page in %s: %v", chromium(), err)
	}
	b := &browser{w.t, ctx, w.url}
	b.do("size", chromedp.EmulateViewport(1280, 800))
	return b
}

// console opens a browser in which the owner has signed in, and looks at the first page.
func (w *world) console() *browser {
	w.t.Helper()
	b := w.consoleAt("/")
	b.see("Last changes")
	return b
}

// consoleAt opens a browser in which the owner has signed in, at a page.
func (w *world) consoleAt(path string) *browser {
	w.t.Helper()
	b := w.browse()
	status, cookie, body := w.signedIn("ines.carvalho", password)
	if status != http.StatusOK {
		w.t.Fatalf("sign in: %d %s", status, body)
	}
	b.do("the cookie of a session", chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, network.SetCookie, network.SetCookieParams{URL: w.url, Name: cookie.Name, Value: cookie.Value})
		return err
	}))
	b.open(path)
	return b
}

func (b *browser) do(what string, steps ...chromedp.Action[chromedp.Void]) {
	b.t.Helper()
	ctx, cancel := context.WithTimeout(b.ctx, stepTime)
	defer cancel()
	err := chromedp.Do(ctx, steps...)
	for err != nil && ctx.Err() == nil && strings.Contains(err.Error(), "Could not find node") {
		err = chromedp.Do(ctx, steps...) // the page was drawn anew between finding it and clicking on it
	}
	if err != nil {
		b.shot(filepath.Join(os.TempDir(), "sentier-failed.png"))
		b.t.Fatalf("%s: %v\nthe page says:\n%s", what, err, b.text("body"))
	}
}

func (b *browser) open(path string) { b.t.Helper(); b.do("open "+path, chromedp.Navigate(b.url+path)) }

// see waits until the page shows a text; capitals do not matter, since style may change them.
func (b *browser) see(text string) {
	b.t.Helper()
	b.until(text, fmt.Sprintf(`document.body.innerText.replace(/\s+/g, " ").toLowerCase().includes(%q)`, strings.ToLower(text)))
}

// settled waits until the list that is open shows what was typed.
func (b *browser) settled() {
	b.t.Helper()
	b.until("a settled list", `document.querySelector('[role=listbox]:not([hidden]):not([aria-busy=true]) [role=option]') !== null`)
}

// ask has the page answer, or fails: one that is gone, or busy with leaving, never answers by itself.
func ask[T any](b *browser, what chromedp.Action[T]) (T, error) {
	ctx, cancel := context.WithTimeout(b.ctx, stepTime)
	defer cancel()
	return chromedp.Run(ctx, what)
}

// until waits for an expression to become true.
func (b *browser) until(what, shown string) {
	b.t.Helper()
	for end := time.Now().Add(stepTime); ; time.Sleep(40 * time.Millisecond) {
		ok, err := ask(b, chromedp.Evaluate[bool](shown))
		if err == nil && ok {
			return
		}
		if time.Now().After(end) {
			b.shot(filepath.Join(os.TempDir(), "sentier-failed.png"))
			b.t.Fatalf("%q does not show (%v); the page says:\n%s", what, err, b.text("body"))
		}
	}
}

// is evaluates a condition.
func (b *browser) is(condition string, into *bool) {
	b.t.Helper()
	on, err := ask(b, chromedp.Evaluate[bool](condition))
	if err != nil {
		b.t.Fatalf("%s: %v", condition, err)
	}
	*into = on
}

// click presses the first visible element with a role-like tag and text.
func (b *browser) click(text string) {
	b.t.Helper()
	b.press(text, fmt.Sprintf(
		`(//button|//a|//*[@role="option"]|//*[@role="tab"]|//*[@role="menuitem"])[normalize-space(.)=%q or @aria-label=%q]`, text, text))
}

// press clicks what an XPath finds once it stands still: what is still moving would be missed, by a person too.
func (b *browser) press(what, xpath string) {
	b.t.Helper()
	place := fmt.Sprintf(`(() => { const e = document.evaluate(%q, document, null, XPathResult.FIRST_ORDERED_NODE_TYPE, null).singleNodeValue;
		if (!e) return "none"; const r = e.getBoundingClientRect(); return [r.x, r.y, r.width, r.height].join(" "); })()`, xpath)
	last := ""
	for end := time.Now().Add(stepTime); time.Now().Before(end); time.Sleep(90 * time.Millisecond) {
		now, err := ask(b, chromedp.Evaluate[string](place))
		if err == nil && now != "none" && now == last {
			break
		}
		last = now
	}
	b.do("click "+what, chromedp.Click(chromedp.Search(xpath)))
}

// clickLast presses the last button with a text: that of a dialog, which comes after the page's own.
func (b *browser) clickLast(text string) {
	b.t.Helper()
	b.press("the last "+text, fmt.Sprintf(`(//button[normalize-space(.)=%q])[last()]`, text))
}

// key presses a key, wherever the focus is.
func (b *browser) key(name string) {
	b.t.Helper()
	if name == "Escape" {
		name = kb.Escape
	}
	if name != "Enter" {
		b.do("press "+name, chromedp.KeyEvent(name))
		return
	}
	// A page that takes the key for itself keeps its character from coming, as it does where a person types.
	ctx, cancel := context.WithTimeout(b.ctx, stepTime)
	defer cancel()
	for _, kind := range []input.DispatchKeyEventType{input.DispatchKeyEventTypeRawKeyDown, input.DispatchKeyEventTypeKeyUp} {
		_, err := chromedp.Call(ctx, input.DispatchKeyEvent, input.DispatchKeyEventParams{Type: kind, Key: "Enter", Code: "Enter", WindowsVirtualKeyCode: 13, NativeVirtualKeyCode: 13})
		if err != nil {
			b.t.Fatal(err)
		}
	}
}

func (b *browser) typeKeys(text string) { b.t.Helper(); b.do("type "+text, chromedp.KeyEvent(text)) }

// dragWeek draws a window over a day of the week editor, from one hour to another.
func (b *browser) dragWeek(day int, from, to float64) {
	b.t.Helper()
	box, err := ask(b, chromedp.Evaluate[[]float64](
		`(() => { const e = document.querySelector("[data-week]"); e.scrollIntoView({block: "center"}); const r = e.getBoundingClientRect(); return [r.x, r.y, r.width, r.height]; })()`))
	if err != nil {
		b.t.Fatal(err)
	}
	y := box[1] + box[3]*(float64(day)+0.5)/7
	ctx, cancel := context.WithTimeout(b.ctx, stepTime)
	defer cancel()
	for _, step := range []struct {
		kind input.DispatchMouseEventType
		hour float64
	}{{input.DispatchMouseEventTypeMousePressed, from}, {input.DispatchMouseEventTypeMouseMoved, (from + to) / 2}, {input.DispatchMouseEventTypeMouseMoved, to}, {input.DispatchMouseEventTypeMouseReleased, to}} {
		_, err := chromedp.Call(ctx, input.DispatchMouseEvent, input.DispatchMouseEventParams{
			Type: step.kind, X: box[0] + box[2]*step.hour/24, Y: y, Button: input.MouseButtonLeft, Buttons: 1, ClickCount: 1,
		})
		if err != nil {
			b.t.Fatal(err)
		}
	}
}

// fill types into the input with a label, after emptying it.
func (b *browser) fill(label, value string) {
	b.t.Helper()
	b.fillIn(label, "1", value)
}

// fillLast types into the last of several inputs with a label.
func (b *browser) fillLast(label, value string) { b.t.Helper(); b.fillIn(label, "last()", value) }

func (b *browser) fillIn(label, which, value string) {
	b.t.Helper()
	sel := chromedp.Search(fmt.Sprintf(`(//input[@id=//label[normalize-space(.)=%q]/@for] | //label[.//span[normalize-space(.)=%q]]//input)[%s]`, label, label, which))
	b.do("fill "+label, chromedp.WaitVisible(sel), chromedp.Click(sel),
		chromedp.Evaluate[chromedp.Void](`document.activeElement.select()`), chromedp.KeyEvent(kb.Delete), chromedp.SendKeys(sel, value))
}

// choose picks an option of a list with a label.
func (b *browser) choose(label, option string) {
	b.t.Helper()
	b.do("choose "+label, chromedp.Click(chromedp.Search(fmt.Sprintf(`//button[@aria-labelledby=//span[normalize-space(.)=%q]/@id]`, label))))
	b.press(option, fmt.Sprintf(`//*[@role="option"][.//text()[normalize-space(.)=%q]]`, option)) // which a place may be called as well
}

// pick types into a box that finds, and chooses what is called so from its list.
func (b *browser) pick(label, typed, name string) {
	b.t.Helper()
	b.fill(label, typed)
	b.settled()
	b.press(name, fmt.Sprintf(`//ul[@role="listbox" and not(@hidden)]/li[@role="option"][.//span[normalize-space(.)=%q]]`, name))
}

func (b *browser) text(css string) string {
	text, err := ask(b, chromedp.Evaluate[string](fmt.Sprintf(`document.querySelector(%q)?.innerText ?? ""`, css)))
	if err != nil {
		return err.Error()
	}
	return text
}

func (b *browser) shot(path string) {
	b.t.Helper()
	picture, err := ask(b, chromedp.CaptureScreenshot())
	if err != nil {
		b.t.Errorf("take a picture: %v", err)
		return
	}
	if err := os.WriteFile(path, picture, 0o644); err != nil {
		b.t.Error(err)
	}
}

// screenshot takes a picture for the documentation, where one is asked for.
func (b *browser) screenshot(name string) {
	b.t.Helper()
	if dir := os.Getenv("SENTIER_SCREENSHOTS"); dir != "" {
		time.Sleep(400 * time.Millisecond)
		b.shot(filepath.Join(dir, name+".png"))
	}
}

func (b *browser) signIn(user, password string) {
	b.t.Helper()
	b.open("/")
	b.fill("User", user)
	b.fill("Password", password)
	b.click("Sign in")
}

// accessible runs axe-core on the page and reports what breaks WCAG 2.2 AA.
func (b *browser) accessible(where string) {
	b.t.Helper()
	axe, err := os.ReadFile("../../web/node_modules/axe-core/axe.min.js")
	if err != nil {
		b.t.Fatal(err)
	}
	b.do("load axe", chromedp.Evaluate[chromedp.Void](string(axe)))
	found, err := ask(b, chromedp.Evaluate[[]string](
		`axe.run({runOnly: ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa"]}).then(r => r.violations.map(v => v.id + ": " + v.help + " at " + v.nodes.map(n => n.target.join(" ")).join(", ")))`,
		chromedp.EvalAwaitPromise))
	if err != nil {
		b.t.Fatal(err)
	}
	if len(found) > 0 {
		b.t.Errorf("%s: %s", where, strings.Join(found, "\n"))
	}
}

func (b *browser) location() string {
	b.t.Helper()
	at, err := ask(b, chromedp.Location())
	if err != nil {
		b.t.Fatal(err)
	}
	return at
}
