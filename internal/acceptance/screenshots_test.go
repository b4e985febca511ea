package acceptance

import (
	"context"
	"net/url"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
)

func question(pairs ...string) string {
	q := url.Values{}
	for i := 0; i+1 < len(pairs); i += 2 {
		q.Set(pairs[i], pairs[i+1])
	}
	return "/check?" + q.Encode()
}

// TestScreenshots takes the pictures of docs/screenshots; “make screenshots” runs it.
func TestScreenshots(t *testing.T) {
	dir := os.Getenv("SENTIER_SCREENSHOTS")
	if dir == "" {
		t.Skip("only with SENTIER_SCREENSHOTS, the folder to write to")
	}
	w := start(t, nil)
	b := w.console()
	for _, page := range []struct{ name, path, shows string }{
		{"check-denied", question("user", "agnes.lindqvist", "right", "control", "device", "alder-gate-1", "at", "2026-11-24 20:00"), "What would have made it a yes"},
		{"devices", "/devices", "Alder gate 1"},
		{"today", "/", "Last changes"}, {"person", "/records/users/tomas.field", "Grants by name"},
		{"upkeep", "/upkeep?kind=leftover", "Tomas Field is the only one"},
		{"matrix", "/matrix?at=2026-11-24+10:00", "Winter contractors"},
	} {
		b.open(page.path)
		b.see(page.shows)
		time.Sleep(400 * time.Millisecond) // fonts and the last rows
		b.shot(filepath.Join(dir, page.name+".png"))
	}
	b.open("/records/grants/bridge-watch/edit")
	b.press("line 1", `(//button[contains(., "Line 1")])[1]`)
	b.click("Add a condition")
	b.fill("Networks", "10.20.0.0/16")
	b.key("Enter")
	b.see("only if the address is in 10.20.0.0/16")
	b.see("lost")
	time.Sleep(400 * time.Millisecond)
	b.shot(filepath.Join(dir, "edit-grant.png"))
	w.must("POST", "/access/v1/evaluation", `{"subject":{"type":"user","id":"noor.haddad"},"action":{"name":"control"},"resource":{"type":"device","id":"mill-bridge"},"context":{"ip":"10.20.3.4"}}`)
	w.must("PATCH", "/api/v1/users/tomas.field?note=moved%20to%20the%20instruments", `{"email":"t.field@larkmere.example"}`)
	b.open("/record")
	b.see("moved to the instruments")
	b.press("the entry", `//tr[contains(., "moved to the instruments")]//button`)
	b.see("t.field@larkmere.example")
	b.shot(filepath.Join(dir, "record.png"))
	w.must("DELETE", "/api/v1/user_groups/bridge-crew/members/tomas.field?note=and%20leaves%20the%20bridges", "")
	b.open("/history")
	b.click("What revision 3 did")
	b.see("Who gained and lost what")
	time.Sleep(400 * time.Millisecond)
	b.shot(filepath.Join(dir, "history.png"))
	w.must("POST", "/api/v1/drafts", `{"name":"Tomas moves","reason":"to the instruments","changes":[{"op":"drop","type":"user_groups","id":"instrument-technicians","list":"members","value":"tomas.field"},{"op":"patch","type":"devices","id":"mill-bridge","record":{"state":"maintenance"}}]}`)
	w.must("PATCH", "/api/v1/devices/mill-bridge", `{"state":"retired","name":"Mill lift bridge"}`)
	b.open("/drafts/tomas-moves")
	b.see("was changed by somebody else")
	time.Sleep(400 * time.Millisecond)
	b.shot(filepath.Join(dir, "draft.png"))
	w.must("POST", "/api/v1/reviews", `{"name":"Bridges, autumn","reason":"the yearly round","groups":["bridge-crew","border-arm-staff"],"due":"in 3 weeks","unanswered":"suspended"}`)
	w.must("POST", "/api/v1/reviews/bridges-autumn/answers", `{"answers":[{"user":"luis.ortega","type":"user_groups","record":"border-arm-staff","answer":"kept"},{"user":"julia.moreno","type":"user_groups","record":"border-arm-staff","answer":"taken","note":"has left the arm"}]}`)
	b.open("/reviews/bridges-autumn")
	b.see("has left the arm")
	time.Sleep(400 * time.Millisecond)
	b.shot(filepath.Join(dir, "review.png"))
	if err := w.owner.Service.SetPassword(context.Background(), "agnes.lindqvist", password); err != nil {
		t.Fatal(err)
	}
	agnes := w.browse()
	agnes.signIn("agnes.lindqvist", password)
	agnes.see("You may join")
	agnes.shot(filepath.Join(dir, "mine.png"))
}

// emulated shows a page as on another medium: print.
func emulated(medium string) chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{Media: medium})
		return err
	})
}
