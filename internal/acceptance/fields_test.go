package acceptance

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"

	"sentier/internal/document"
	"sentier/internal/policy"
	"sentier/internal/wire"
)

// sample is a value for a field by its kind, of records that the navigation has.
func sample(p *policy.Policy, f *policy.Field, self string) any {
	if f.Kind == policy.ObjectField {
		out := map[string]any{}
		for i := range f.Fields {
			if f.Fields[i].Kind != policy.IDField || f.Many {
				out[f.Fields[i].Name] = sample(p, &f.Fields[i], self)
			}
		}
		return many(f, out)
	}
	one := func() any {
		switch f.Kind {
		case policy.RefField:
			for r := range p.Table(f.Ref).All() {
				if r.Key() != self {
					return r.Key()
				}
			}
		case policy.PointField:
			for d := range policy.Each[*policy.Device](p) {
				if len(d.Points) > 0 {
					return string(d.ID) + "/" + string(d.Points[0].ID)
				}
			}
		case policy.ChoiceField:
			return f.Choices[len(f.Choices)-1]
		case policy.SwitchField:
			return false
		case policy.BoolField, policy.TriField:
			return true
		case policy.NumberField:
			return 7
		case policy.InstantField:
			return map[bool]string{true: "2026-11-02T08:00:00Z", false: "2027-03-01T17:30:00Z"}[f.Name == "from"]
		case policy.DateField:
			return map[bool]string{true: "2027-02-08", false: "2027-02-12"}[f.Name == "from"]
		case policy.MonthDayField:
			return map[bool]string{true: "04-01", false: "09-30"}[f.Name == "from"]
		case policy.ClockField:
			return map[bool]string{true: "07:15", false: "16:45"}[f.Name == "from"]
		case policy.NetworkField:
			return "10.44.0.0/16"
		case policy.ZoneField:
			return "Europe/Madrid"
		case policy.LimitsField:
			return map[string]any{"minutes": 30, "paths": []string{"a", "b"}}
		case policy.IDField:
			return "field-sample"
		}
		return "Sample of " + f.Path
	}
	return many(f, one())
}

func many(f *policy.Field, one any) any {
	if f.Many {
		return []any{one}
	}
	return one
}

// awkward are the fields that do not go with what the record has, or are texts with a form of their own: what is sent in their place.
var awkward = map[string]string{
	"sites.parent":             `{"parent": "border-arm"}`,
	"device_groups.parent":     `{"parent": "bridges"}`,
	"user_groups.includes":     `{"includes": ["apprentices"]}`,
	"rights.implies":           `{"implies": ["view"]}`,
	"users.email":              `{"email": "sample@larkmere.example"}`,
	"users.kind":               `{"kind": "person"}`,
	"users.status":             `{"status": "active"}`,
	"calendars.days":           `{"days": [{"date": "2027-02-08", "name": "Sample of days.name"}]}`,
	"grants.lines":             `{"lines": [{"rights": ["view"], "roles": ["look-only"], "on": {"sites": ["border-arm"]}, "depth": "here", "when": ["night-watch"], "if": {"networks": ["10.44.0.0/16"], "places": ["border-arm"], "states": ["maintenance"], "strong_sign_in": true, "attended": false}, "limits": {"minutes": 30}}]}`,
	"user_groups.members":      `{"members": [{"user": "noor.haddad", "from": "2026-11-02T08:00:00Z", "until": "2027-03-01T17:30:00Z"}, "tomas.field"]}`,
	"mandates.role":            `{"role": "delegate"}`,
	"grants.effect":            `{"effect": "allow"}`, // a deny carries no limits
	"settings.combine":         `{"combine": "direct-first"}`,
	"device_groups.match":      `{"match": {"kinds": ["lock-gate"], "tags": ["critical"], "sites": ["border-arm"]}}`,
	"devices.points":           `{"points": [{"id": "field-sample", "name": "Sample of points.name"}]}`,
	"schedules.special":        `{"special": [{"calendar": "regatta", "windows": [{"from": "07:15", "to": "16:45"}]}]}`,
	"schedules.season":         `{"season": {"from": "04-01", "to": "09-30"}}`,
	"schedules.dates":          `{"dates": {"from": "2027-02-08", "to": "2027-02-12"}}`,
	"expectations.who":         `{"who": {"groups": ["backup-services"], "users": ["night-backup"]}}`, // which hold, whatever the others say
	"expectations.expect":      `{"expect": "never"}`,
	"expectations.rights":      `{"rights": ["control", "release"]}`,
	"expectations.at_least":    `{"expect": "someone", "who": {"everyone": true}, "rights": ["view"], "on": {"devices": ["mill-bridge"]}, "at_least": 2}`,
	"schedules.every_nth_week": `{"every_nth_week": 2}`,
}

// TestEveryFieldSurvives sets each field that a descriptor has, over HTTP, and finds it again in the record, in the document, in the sheet
// of its type, in the terminal, and after a restart.
func TestEveryFieldSurvives(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	p := w.owner.Service.State().Policy
	set := 0
	for _, typ := range policy.Types() {
		d := policy.Describe(typ)
		var ids []string
		for r := range p.Table(typ).All() {
			ids = append(ids, r.Key())
		}
		if len(ids) == 0 {
			t.Fatalf("the navigation has no %s", d.Plural)
		}
		id := ids[len(ids)-1]
		if typ == policy.Users {
			id = "tomas.field" // a person who stays active
		}
		if typ == policy.Rights {
			id = "release"
		}
		if typ == policy.Expectations {
			id = "backup-never-controls"
		}
		if typ == policy.Mandates {
			id = "border-arm-manager" // the only role with bounds
		}
		for i := range d.Fields {
			f := &d.Fields[i]
			if f.Kind == policy.IDField {
				continue
			}
			name, _, _ := strings.Cut(f.Path, ".")
			body, ok := awkward[d.Plural+"."+name]
			if !ok {
				body = string(encoded(t, map[string]any{name: sample(p, f, id)}))
			}
			path := "/api/v1/" + d.Plural + "/" + id
			if typ == policy.SettingsType {
				path = "/api/v1/settings/settings"
			}
			if status, _, answer := w.ask("PATCH", path, w.token, body); status != 200 {
				t.Errorf("%s.%s: PATCH %s: %d %s", d.Plural, name, body, status, answer)
				continue
			}
			set++
			var sent, got map[string]json.RawMessage
			_, _, text := w.ask("GET", path, w.token, "")
			decode(t, []byte(body), &sent)
			decode(t, []byte(text), &got)
			want := compact(t, sent[name])
			if name == "lockout" { // who set it is never what is typed
				want = strings.Replace(want, "Sample of lockout.by", "ines.carvalho", 1)
			}
			if have := compact(t, got[name]); have != want && want != "false" && !isDefault(f, want) {
				t.Errorf("%s.%s: GET gives %s, and it was set to %s", d.Plural, name, have, want)
			}
		}
	}
	if set < 60 {
		t.Errorf("only %d fields were set", set)
	}
	// Together they go through the document, both ways.
	_, _, text := w.ask("GET", "/api/v1/policy", w.token, "")
	read, err := document.ReadPolicy([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	now := w.owner.Service.State().Policy
	if done := now.Compare(read); len(done) > 0 {
		t.Errorf("the document reads as another policy: %+v", done[0])
	}
	// What is in the store is what is answered.
	kept, _, err := w.owner.Store().Load(t.Context())
	if err != nil || len(now.Compare(kept)) > 0 {
		t.Errorf("the store has another policy: %v", err)
	}
	// And each sheet, brought in as it was taken out, changes nothing.
	for sheet, columns := range document.Sheets() {
		_, _, csv := w.ask("GET", "/api/v1/sheets/"+string(sheet)+"?raw=true", w.token, "")
		status, _, answer := w.ask("PUT", "/api/v1/sheets/"+string(sheet)+"?dry_run=true", w.token, csv, "Content-Type", "text/csv")
		var in wire.Imported
		decode(t, []byte(answer), &in)
		if status != 200 || in.Added+in.Changed != 0 || !slices.Contains(columns, "id") && !slices.Contains(columns, "group") {
			t.Errorf("%s: %d, %d added and %d changed by what was taken out: %.300s", sheet, status, in.Added, in.Changed, answer)
		}
	}
	if _, out, _ := w.run("user", "show", "tomas.field"); !strings.Contains(out, "sample@larkmere.example") {
		t.Errorf("the terminal shows %s", out)
	}
}

func encoded(t *testing.T, v any) []byte {
	t.Helper()
	out, err := json.Marshal(v)
	if err != nil {
		t.Fatal(err)
	}
	return out
}

func decode(t *testing.T, data []byte, into any) {
	t.Helper()
	if err := json.Unmarshal(data, into); err != nil {
		t.Fatalf("%v: %.300s", err, data)
	}
}

// compact is JSON with its names in order, as what a record says does not hang on theirs.
func compact(t *testing.T, data json.RawMessage) string {
	t.Helper()
	if len(data) == 0 {
		return ""
	}
	var v any
	decode(t, data, &v)
	return string(encoded(t, v))
}

// isDefault tells whether a field left out means the same.
func isDefault(f *policy.Field, text string) bool {
	return f.Kind == policy.ChoiceField && text == fmt.Sprintf("%q", f.Choices[0])
}
