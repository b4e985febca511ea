package acceptance

import (
	"strings"
	"testing"

	"sentier/internal/wire"
)

// TestWhatWouldGetRoundTheSecondPerson falls under the rule for mandates: settings, sources and webhooks are put into a draft, which somebody else approves.
func TestWhatWouldGetRoundTheSecondPerson(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	w.must("POST", "/api/v1/sources", `{"name":"Staff","kind":"scim","bring":{}}`)
	w.must("PATCH", "/api/v1/service", `{"approval":{"control":true,"everyone":true,"everything":true,"mandates":true,"more_than":9}}`)
	bram := w.session("bram.okafor")
	for body, wants := range map[string]int{
		`{"approval":{"control":false,"everyone":true,"everything":true,"mandates":true,"more_than":9}}`: 409,
		`{"approval":{"control":true,"everyone":true,"everything":true,"mandates":true,"more_than":90}}`: 409,
		`{"approval":{"control":true,"everyone":true,"everything":true,"mandates":false,"more_than":9}}`: 409,
		`{"keep_days":30}`:     409,
		`{"decisions":"none"}`: 409,
		`{"decisions_of":[{"right":"control","keep":"none"}]}`: 409,
		`{"reason_required":true}`:                             200,
		`{"approval":{"control":true,"everyone":true,"everything":true,"mandates":true,"more_than":4}}`: 200,
	} {
		if status, _, text := w.ask("PATCH", "/api/v1/service", w.token, body); status != wants {
			t.Errorf("%s: %d %s", body, status, text)
		}
	}
	for _, r := range [][3]string{
		{"POST", "/api/v1/hooks", `{"name":"Away","url":"https://desk.example/x","secret":"none"}`},
		{"POST", "/api/v1/sources", `{"name":"People","kind":"inventory","inventory":{"format":"csv"},"bring":{}}`},
		{"POST", "/api/v1/sources/staff/links", `{"outside":"u-1","user":"noor.haddad"}`},
	} {
		w.refused(r[0], r[1], r[2], 409, "second person")
	}
	code, out, said := w.run("service", "--keep-days", "400", "--as-draft", "Keep less")
	if code != 0 || !strings.Contains(said, "keep-less") {
		t.Fatalf("%d %s %s", code, out, said)
	}
	w.refused("POST", "/api/v1/drafts/keep-less/application", `{}`, 409, "second person")
	if status, body := w.approve("keep-less"); status != 403 {
		t.Errorf("by who made it: %d %s", status, body)
	}
	if status, body := bram.approve("keep-less"); status != 200 {
		t.Fatalf("by another: %d %s", status, body)
	}
	w.must("POST", "/api/v1/drafts/keep-less/application", `{}`)
	if got := get[wire.ServiceSettings](w, "GET", "/api/v1/service", ""); got.KeepDays != 400 || !got.Approval.Mandates {
		t.Errorf("the settings are %+v", got)
	}
	w.must("POST", "/api/v1/drafts", `{"name":"Noor","acts":[{"act":"link_source","id":"staff","body":{"outside":"u-1","user":"noor.haddad"}}]}`)
	if status, body := bram.approve("noor"); status != 200 {
		t.Fatalf("a link at a source, by another: %d %s", status, body)
	}
	w.must("POST", "/api/v1/drafts/noor/application", `{}`)
	if got := get[wire.Source](w, "GET", "/api/v1/sources/staff", ""); got.Bring.Links["u-1"] != "noor.haddad" {
		t.Errorf("linked by a draft: %+v", got.Bring)
	}
	w.refused("POST", "/api/v1/drafts", `{"name":"x","acts":[{"act":"change_settings","body":{"keep_dys":3}}]}`, 422, "keep_days")
	w.refused("POST", "/api/v1/drafts", `{"name":"x","acts":[{"act":"open_the_gate"}]}`, 400, "is not known")
}
