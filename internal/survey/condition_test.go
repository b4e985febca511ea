package survey_test

import (
	"encoding/json"
	"net/netip"
	"reflect"
	"slices"
	"strings"
	"testing"

	"sentier/internal/decision"
	"sentier/internal/policy"
	"sentier/internal/specimen"
	"sentier/internal/survey"
	"sentier/internal/translate"
	"sentier/internal/wire"
	"sentier/internal/wording"
)

// TestEveryConditionIsKnownEverywhere: each field of a line's “if”, new ones as well, is in the one list of circumstances, and is looked at by the decision, by the
// reader of contexts, by what is possible and by the words. One that any of them does not know fails here, and opens nothing.
func TestEveryConditionIsKnownEverywhere(t *testing.T) {
	yes := true
	samples := map[reflect.Type]any{
		reflect.TypeFor[[]netip.Prefix](): []netip.Prefix{netip.MustParsePrefix("10.0.0.0/8")}, reflect.TypeFor[[]policy.SiteID](): []policy.SiteID{"here"},
		reflect.TypeFor[[]policy.State](): []policy.State{policy.Maintenance}, reflect.TypeFor[*bool](): &yes,
	}
	of := reflect.TypeFor[policy.If]()
	if of.NumField() != len(decision.Circumstances) {
		t.Fatalf("a line has %d conditions, and %d are described in decision.Circumstances", of.NumField(), len(decision.Circumstances))
	}
	told := map[string]bool{}
	for i := range of.NumField() {
		name, _, _ := strings.Cut(of.Field(i).Tag.Get("json"), ",")
		at := slices.IndexFunc(decision.Circumstances, func(k decision.Circumstance) bool { return k.Name == name })
		if at < 0 {
			t.Errorf("%s is not in decision.Circumstances", name)
			continue
		}
		k := decision.Circumstances[at]
		value, ok := samples[of.Field(i).Type]
		if !ok {
			t.Errorf("%s is of a type of which this test has no sample: add one", name)
			continue
		}
		var only policy.If
		reflect.ValueOf(&only).Elem().Field(i).Set(reflect.ValueOf(value))
		p, err := policy.FromRecords(&policy.Records{
			Sites: []policy.Site{{ID: "here", Name: "Here"}}, Devices: []policy.Device{{ID: "gate", Site: "here"}}, Users: []policy.User{{ID: "ana"}},
			Grants: []policy.Grant{{ID: "g", Name: "G", To: policy.To{Users: []policy.UserID{"ana"}}, Lines: []policy.Line{{Rights: []policy.RightID{policy.View}, On: policy.Where{Devices: []policy.DeviceID{"gate"}}, If: only}}}},
		})
		if err != nil {
			t.Fatal(err)
		}
		c := decision.Compile(p)
		q := decision.Question{User: "ana", Right: policy.View, Device: "gate", At: specimen.Probes[0]}
		if got := c.Decide(&q); got.Allowed || got.Reason != decision.ConditionNotMet {
			t.Errorf("%s: with nothing known the decision is %v, %v", name, got.Allowed, got.Reason)
		}
		a := c.Explain(q)
		if len(a.Missing) == 0 || len(a.Missing[0].Conditions) != 1 || a.Missing[0].Conditions[0].Name != name {
			t.Errorf("%s: the explanation names %+v", name, a.Missing)
		}
		if !wording.English.Has("condition."+name) && !wording.English.Has("condition."+name+"_yes") {
			t.Errorf("%s: there are no words for it", name)
		}
		possible := survey.Of(c).Possible(q)
		if k.Context == "" {
			if possible.Degree != survey.Impossible {
				t.Errorf("%s stays as it is, and what is possible is %+v", name, possible)
			}
			continue
		}
		if possible.Degree != survey.If || possible.Given == nil {
			t.Errorf("%s: what is possible is %+v", name, possible)
			continue
		}
		if told[possible.Given.String()] {
			t.Errorf("%s: what is possible is told as another condition is, %v", name, possible.Given)
		}
		told[possible.Given.String()] = true
		q.Context = possible.Given.In(q.Context)
		if !c.Decide(&q).Allowed {
			t.Errorf("%s: what is told to be possible is denied", name)
		}
		text, err := json.Marshal(wording.Given(possible.Given))
		if err != nil || string(text) == "{}" || wording.English.Circumstances(p, possible.Given, nil) == "" {
			t.Errorf("%s: over the wire it is told as %s (%v)", name, text, err)
		}
		// A context that says it is read.
		if !slices.Contains(translate.ContextNames, k.Context) {
			t.Errorf("%s: %s is not read", name, k.Context)
		}
		var said map[string]any
		in := map[string]any{"ip": "10.0.0.1", "place": "here", "strong_sign_in": true, "attended": true}
		said = map[string]any{k.Context: in[k.Context]}
		read, err := translate.Evaluation(&wire.Evaluation{Subject: wire.Entity{Type: "user", ID: "ana"}, Action: wire.Action{Name: "view"}, Resource: wire.Entity{Type: "device", ID: "gate"}, Context: said}, specimen.Probes[0])
		if err != nil || !c.Decide(&read).Allowed {
			t.Errorf("%s: a context that says it is read as %+v (%v)", name, read.Context, err)
		}
	}
}
