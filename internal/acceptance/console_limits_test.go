package acceptance

import (
	"strings"
	"testing"

	"sentier/internal/wire"
)

// TestLimitsAndExceptionsInTheConsole: a draft that loosens limits says so, and by how much, and needs the second person who is asked for; and an expectation is
// told with those whom it leaves out.
func TestLimitsAndExceptionsInTheConsole(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	w.must("PATCH", "/api/v1/service", `{"approval":{"control":false,"limits":true,"everyone":false,"everything":false,"mandates":false,"more_than":0}}`)
	_, _, grant := w.ask("GET", "/api/v1/grants/night-bridges", w.token, "")
	grant = strings.Replace(grant, `"minutes":15`, `"minutes":45`, 1)
	if status, _, body := w.ask("PUT", "/api/v1/grants/night-bridges", w.token, grant); status < 400 || !strings.Contains(body, "loosens limits") {
		t.Fatalf("loosened by one alone: %d %s", status, body)
	}
	d := get[wire.Draft](w, "POST", "/api/v1/drafts", `{"name":"Longer at night","changes":[{"op":"put","type":"grants","id":"night-bridges","record":`+grant+`}]}`)
	if d.Impact.Loosened.All == 0 || d.Impact.Gained.All+d.Impact.Lost.All+d.Impact.Tightened.All != 0 {
		t.Fatalf("the draft is told as %+v", d.Impact)
	}
	b := w.console()
	b.open("/drafts/" + d.ID)
	b.see("limits loosened")
	b.see("→ 45")
	b.accessible("a draft that loosens limits")

	b.open("/records/expectations/bridges-have-two")
	b.see("everyone")
	b.click("Edit")
	b.pick("Except", "ines", "Ines Carvalho")
	b.see("Ines Carvalho")
	b.click("Save")
	b.see("Changed: Two people")
	b.open("/records/expectations/bridges-have-two")
	b.see("(except")
	b.accessible("an expectation that leaves somebody out")
	if _, _, kept := w.ask("GET", "/api/v1/expectations/bridges-have-two", w.token, ""); !strings.Contains(kept, `"except":{"users":["ines.carvalho"]}`) {
		t.Errorf("kept is %s", kept)
	}
}
