package acceptance

import (
	"testing"

	"sentier/internal/wire"
)

// TestASettingThatNeedsASecondPersonInTheConsole: what is refused for want of a second person is saved as a draft, from where it was typed; a draft whose approval is
// void says why; a review begins with mandates; and who is invited is told with what they can do once they come in.
func TestASettingThatNeedsASecondPersonInTheConsole(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	w.must("PUT", "/api/v1/user_groups/few", `{"name":"Few","members":["noor.haddad"]}`)
	w.must("PUT", "/api/v1/users/new.hand", `{"name":"New Hand","status":"invited"}`)
	w.must("POST", "/api/v1/changes", `{"changes":[{"op":"add","type":"user_groups","id":"bridge-crew","list":"members","value":"new.hand"}]}`)
	w.must("POST", "/api/v1/reviews", `{"name":"Autumn","groups":["border-arm-staff"],"due":"in 9 days","unanswered":"told"}`)
	w.must("PATCH", "/api/v1/service", `{"approval":{"control":true,"everyone":true,"everything":true,"mandates":true,"more_than":9}}`)
	bram := w.session("bram.okafor")
	d := get[wire.Draft](w, "POST", "/api/v1/drafts", `{"name":"The few on the bridge","changes":[{"op":"put","type":"grants","id":"new","record":{"id":"new","name":"New","to":{"groups":["few"]},"lines":[{"rights":["control"],"on":{"devices":["mill-bridge"]}}]}}]}`)
	if status, body := bram.approve(d.ID); status != 200 {
		t.Fatalf("approved: %d %s", status, body)
	}
	w.must("POST", "/api/v1/changes", `{"changes":[{"op":"add","type":"user_groups","id":"few","list":"members","value":"elin.berg"}]}`)

	b := w.console()
	b.open("/service")
	b.fill("Let entries go after (days; empty: never)", "30")
	b.click("Save")
	b.see("needs a second person")
	b.click("Save as a draft for approval")
	b.see("Change settings of the service")
	b.see("Somebody else has to agree to it")
	b.accessible("a draft of settings")
	b.open("/drafts/" + d.ID)
	b.see("is void")
	b.see("Elin Berg")
	b.open("/reviews/autumn")
	b.see("Delegate")
	b.open("/records/users/new.hand")
	b.see("once they come in")
}
