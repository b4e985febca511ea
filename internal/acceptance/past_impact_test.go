package acceptance

import (
	"fmt"
	"testing"

	"sentier/internal/wire"
)

// TestARevisionTellsWhatWasShown: who gains and loses by a change is told of its revision as it was told before it was saved, whatever came before and after.
func TestARevisionTellsWhatWasShown(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	type shown struct {
		number uint64
		impact string
	}
	var all []shown
	told := func(i *wire.Impact) string { return fmt.Sprintf("%+v %+v %d %d", i.Gained, i.Lost, i.Users, i.Devices) }
	for _, change := range []string{
		`{"op":"patch","type":"users","id":"tomas.field","record":{"status":"suspended"}}`,
		`{"op":"patch","type":"users","id":"tomas.field","record":{"status":"active"}}`,
		`{"op":"patch","type":"devices","id":"mill-bridge","record":{"state":"retired"}}`,
		`{"op":"patch","type":"devices","id":"mill-bridge","record":{"state":"in-service"}}`,
		`{"op":"add","type":"user_groups","id":"bridge-crew","list":"members","value":"noor.haddad"}`,
		`{"op":"patch","type":"user_groups","id":"lock-keepers-north","record":{"enabled":false}}`,
		`{"op":"patch","type":"settings","id":"settings","record":{"combine":"direct-first"}}`,
		`{"op":"drop","type":"user_groups","id":"bridge-crew","list":"members","value":"noor.haddad"}`,
		`{"op":"patch","type":"settings","id":"settings","record":{"combine":"sum"}}`,
		`{"op":"patch","type":"sites","id":"summit","record":{"zone":"Europe/Madrid"}}`,
		`{"op":"patch","type":"schedules","id":"night-watch","record":{"windows":[{"from":"20:00","to":"05:00"}]}}`,
	} {
		look := get[wire.Saved](w, "POST", "/api/v1/changes?dry_run=true&impact=true", `{"changes":[`+change+`]}`)
		saved := get[wire.Saved](w, "POST", "/api/v1/changes", `{"changes":[`+change+`]}`)
		if look.Impact == nil || len(saved.Changes) == 0 {
			t.Fatalf("%s: %+v", change, look)
		}
		all = append(all, shown{uint64(saved.Revision), told(look.Impact)})
	}
	for range 2 { // in whatever order they are asked for
		for i := range all {
			s := all[(i*7)%len(all)]
			if r := get[wire.RevisionShown](w, "GET", fmt.Sprintf("/api/v1/revisions/%d?impact=true", s.number), ""); r.Impact == nil || told(r.Impact) != s.impact {
				t.Errorf("revision %d tells %+v, and before it was saved %s", s.number, r.Impact, s.impact)
			}
		}
	}
}
