package acceptance

import (
	"context"
	"testing"
	"time"
)

// TestRequestsInTheConsole: somebody joins what is laid ready, asks for something and gives something back; an owner is told on the first page,
// sees what it would change, and answers.
func TestRequestsInTheConsole(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	ctx := context.Background()
	for _, user := range []string{"maya.winter", "agnes.lindqvist"} {
		if err := w.owner.Service.SetPassword(ctx, user, password); err != nil {
			t.Fatal(err)
		}
	}
	w.must("PATCH", "/api/v1/user_groups/control-room", `{"sign_in":null}`)
	w.must("PATCH", "/api/v1/user_groups/duty-officers", `{"sign_in":null}`)
	maya := w.browse()
	maya.signIn("maya.winter", password)
	maya.see("You may join")
	maya.accessible("what one can do oneself")
	maya.look("mine")
	maya.press("join", `//button[@aria-label="Join: Duty officers"]`)
	maya.see("Join Duty officers for a time")
	maya.choose("For how long", "2 hours")
	maya.fill("What for", "the estuary gate is stuck")
	maya.accessible("joining")
	maya.clickLast("Join")
	maya.see("joined")
	maya.see("until")

	agnes := w.browse()
	agnes.signIn("agnes.lindqvist", password)
	agnes.see("What you can do yourself")
	agnes.click("Ask for something…")
	agnes.fill("Which device, by the name that you know", "mill bridge")
	agnes.choose("For how long", "4 hours")
	agnes.fill("What for", "to let the barge through")
	agnes.clickLast("Ask")
	agnes.see("waits for an answer")

	b := w.console()
	b.see("Maya Winter joined Duty officers for 2 hours")
	b.see("Agnes Lindqvist asks for control on Mill bridge")
	b.accessible("the first page with requests")
	b.look("requests")
	b.press("answer", `//button[@aria-label="Answer Agnes Lindqvist…"]`)
	b.see("the first changes least beside it")
	b.accessible("an answer")
	b.look("answer")
	b.fill("A word to Agnes Lindqvist", "mind the wind")
	b.press("agree", `(//div[@role="dialog"]//button[normalize-space(.)="Agree"])[1]`)
	b.until("the request is answered", `!document.body.innerText.includes("Agnes Lindqvist asks for")`)
	agnes.open("/mine")
	agnes.see("granted")
	agnes.see("mind the wind")
	agnes.press("give back", `(//button[starts-with(@aria-label, "Give back:")])[1]`)
	agnes.see("To have it again")
	agnes.clickLast("Give back")
	time.Sleep(300 * time.Millisecond)
	agnes.until("it is given back", `!document.querySelector("[role=dialog]")`)
}
