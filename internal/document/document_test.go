package document_test

import (
	"bytes"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"sentier/internal/demo"
	"sentier/internal/document"
	"sentier/internal/policy"
)

// twelve has one fault on each of the lines that end with a mark.
const twelve = `format: sentier-policy/1
settings: {zone: Europe/Lisbonn} # here
rights:
  - id: history
    implies: [veiw] # here
    colour: red # here
sites:
  - {id: a, name: North, parent: b} # here
  - {id: b, name: South, parent: a}
devices:
  - id: gate-1
    state: working # here
    tags: tidal # here
  - id: gate-1 # here
schedules:
  - id: nav
    windows:
      - {days: [tusday], from: '07:00', to: '08:00'} # here
      - {from: '25:00', to: '08:00'} # here
grants:
  - id: g1
    to: {groups: [keepers]} # here
    lines:
      - on: {points: [gate-1/deck]} # here
        if: {networks: [10.0.0.1]} # here
`

func TestEveryFaultComesWithItsLine(t *testing.T) {
	var want []int
	for i, line := range strings.Split(twelve, "\n") {
		if strings.Contains(line, "# here") {
			want = append(want, i+1)
		}
	}
	_, err := document.ReadPolicy([]byte(twelve))
	faults, ok := err.(document.Faults)
	if !ok {
		t.Fatalf("no faults, but %v", err)
	}
	var got []int
	for _, f := range faults {
		got = append(got, f.Line)
		if f.Column == 0 || f.Path == "" {
			t.Errorf("no place: %v", f)
		}
	}
	if !slices.Equal(got, want) {
		t.Errorf("faults on lines %v, want %v:\n%v", got, want, err)
	}
}

func TestFaultsOfDocuments(t *testing.T) {
	for name, c := range map[string]struct{ text, want string }{
		"nothing":                 {"", "1:1: is empty"},
		"no format":               {"users: []", "format: is missing: write format: sentier-policy/1"},
		"another format":          {"format: sentier-expect/1", `1:9: format: "sentier-expect/1" is not read here`},
		"JSON that ends early":    {`{"format": "sentier-policy/1", "users": [`, "1:42: is no JSON: it ends before it is complete"},
		"JSON with a comma more":  {"{\n  \"users\": [1,,2]}", "2:15: is no JSON"},
		"JSON with more after":    {`{"format": "sentier-policy/1"} x`, "more follows after the end"},
		"a number for a text":     {`{"format": "sentier-policy/1", "users": [{"id": 5}]}`, "1:49: users[0].id: is a number, but a text belongs here: put it in quotes"},
		"a field twice":           {"format: sentier-policy/1\nusers:\n  - {id: a, name: A, name: B}", "3:22: users[0].name: is given twice, first on line 3"},
		"a list for an object":    {"format: sentier-policy/1\nsettings: []", "2:11: settings: is a list, but an object belongs here"},
		"a missing id":            {"format: sentier-policy/1\nusers:\n  - name: A", "3:5: users[0].id: is missing"},
		"a missing end":           {"format: sentier-policy/1\nschedules:\n  - {id: s, windows: [{from: '08:00'}]}", "schedules[0].windows[0].to: is missing"},
		"a list that is none":     {"format: sentier-policy/1\nuser: []", `2:1: user: is not known here: did you mean "users"?`},
		"a list far from any":     {`{"format": "sentier-policy/1", "boats": []}`, "boats: is not known here: the fields are format, settings, rights,"},
		"a list twice":            {"format: sentier-policy/1\nusers: []\nkinds: []\nusers: []", "4:1: users: is given twice, first on line 2"},
		"a list twice in JSON":    {"{\"format\": \"sentier-policy/1\",\n\"users\": [],\n\"users\": []}", "3:1: users: is given twice, first on line 2"},
		"settings twice":          {"format: sentier-policy/1\nsettings: {zone: UTC}\nsettings: {zone: UTC}", "3:1: settings: is given twice, first on line 2"},
		"the format twice":        {"format: sentier-policy/1\nformat: sentier-policy/1", "2:1: format: is given twice"},
		"a record that is none":   {"format: sentier-policy/1\nusers:\n  - {id: a}\n  -\n  - {id: b}", "users[1]: is empty: take it out, or give it a value"},
		"a text for a list":       {`{"format": "sentier-policy/1", "users": "ana"}`, "1:41: users: is a text, but a list belongs here: write [ana]"},
		"a list at the top":       {`[{"format": "sentier-policy/1"}]`, "is a list, but an object belongs here"},
		"many fields twice":       {`{"format": "sentier-policy/1", "users": [{` + strings.Repeat(`"id": "a", `, 20) + `"name": "A"}]}`, "users[0].id: is given twice, first on line 1"},
		"a fault far inside":      {"format: sentier-policy/1\nrights: []\ngrants:\n  - id: g\n    to: {everyone: true}\n    lines:\n      - rights: [vew]\n        on: {everything: true}", `7:18: grants[0].lines[0].rights[0]: there is no right "vew": did you mean "view"?`},
		"the same in JSON":        {"{\"format\": \"sentier-policy/1\", \"grants\": [\n{\"id\": \"g\", \"to\": {\"everyone\": true},\n\"lines\": [{\"rights\": [\"vew\"], \"on\": {\"everything\": true}}]}]}", `3:23: grants[0].lines[0].rights[0]: there is no right "vew"`},
		"the same in flow style":  {"# in flow style\n{format: sentier-policy/1, grants: [\n  {id: g, to: {everyone: true}, lines: [{rights: [vew], on: {everything: true}}]}]}", `grants[0].lines[0].rights[0]: there is no right "vew"`},
		"an anchor":               {"format: sentier-policy/1\nusers:\n  - &a {id: a}\n  - *a", "holds a YAML"},
		"two documents":           {"format: sentier-policy/1\n---\nformat: sentier-policy/1", "second document"},
		"bytes that are no text":  {"format: sentier-policy/1\nusers:\n  - {id: a, name: \xff}", "3:19: holds bytes that are no UTF-8"},
		"a tab":                   {"format: sentier-policy/1\nusers:\n\t- {id: a}", "is no YAML"},
		"a depth without end":     {`{"format":` + strings.Repeat("[", 100), "levels deep"},
		"an instant that is none": {"format: sentier-policy/1\nusers:\n  - {id: a, valid: {until: tomorrow}}", `"tomorrow" is no instant: write it as in RFC 3339`},
	} {
		t.Run(name, func(t *testing.T) {
			p, err := document.ReadPolicy([]byte(c.text))
			if p != nil || err == nil || !strings.Contains(err.Error(), c.want) {
				t.Errorf("got %v\nwant …%s…", err, c.want)
			}
		})
	}
}

func TestTheDemoPolicyIsWhatItIsDumpedAs(t *testing.T) {
	p, err := demo.Policy()
	if err != nil {
		t.Fatal(err)
	}
	for _, syntax := range []document.Syntax{document.YAML, document.JSON} {
		data, err := document.WritePolicy(p, syntax)
		if err != nil {
			t.Fatal(err)
		}
		again, err := document.ReadPolicy(data)
		if err != nil {
			t.Fatalf("%s: %v", syntax, err)
		}
		if n := len(p.Compare(again)); n != 0 {
			t.Errorf("%s: %d records came back otherwise", syntax, n)
		}
		if syntax == document.YAML && !bytes.Equal(data, demo.Document()) {
			t.Error("the shipped document is not what is dumped")
		}
	}
}

func TestParseInstant(t *testing.T) {
	madrid, err := policy.LoadZone("Europe/Madrid")
	if err != nil {
		t.Fatal(err)
	}
	now := time.Date(2026, 11, 23, 22, 59, 0, 0, time.UTC) // Monday, 23:59 in Madrid
	for text, want := range map[string]string{
		"now":                       "2026-11-23T22:59:00Z",
		"2026-07-04T21:30:00+01:00": "2026-07-04T20:30:00Z",
		"2026-07-04 21:30":          "2026-07-04T19:30:00Z",
		"2026-07-04T21:30":          "2026-07-04T19:30:00Z",
		"2026-07-04 21:30:15":       "2026-07-04T19:30:15Z",
		"2026-07-04":                "2026-07-03T22:00:00Z",
		"tomorrow 06:00":            "2026-11-24T05:00:00Z",
		"Today 06:00":               "2026-11-23T05:00:00Z",
		"yesterday":                 "2026-11-21T23:00:00Z",
		"21:30":                     "2026-11-23T20:30:00Z",
		"mon 06:00":                 "2026-11-23T05:00:00Z",
		"sunday 06:00":              "2026-11-29T05:00:00Z",
		"2026-10-25 02:30":          "2026-10-25T00:30:00Z",
		"2026-03-29 02:30":          "",
		"2026-02-30":                "",
		"soon":                      "",
		"25:00":                     "",
		"tomorrow noon":             "2026-11-24T11:00:00Z",
		"Fri 18:00":                 "2026-11-27T17:00:00Z",
		"ven 18h":                   "2026-11-27T17:00:00Z",
		"demain, 6h30":              "2026-11-24T05:30:00Z",
		"aujourd’hui à 06:00":       "2026-11-23T05:00:00Z",
		"friday":                    "2026-11-26T23:00:00Z",
		"31 March":                  "2027-03-30T22:00:00Z",
		"march 31 at 18:00":         "2027-03-31T16:00:00Z",
		"le 1er avril 2028":         "2028-03-31T22:00:00Z",
		"23 nov":                    "2026-11-22T23:00:00Z",
		"29 February":               "2028-02-28T23:00:00Z",
		"31 mar":                    "2027-03-30T22:00:00Z",
		"Fri 27 Nov 2026 18:00":     "2026-11-27T17:00:00Z",
		"ven. 4 sept. 2026 06:05":   "2026-09-04T04:05:00Z",
		"Mon 2026-11-30 18:00":      "2026-11-30T17:00:00Z",
		"mar 06:00":                 "2026-11-24T05:00:00Z",
		"in 2 weeks":                "2026-12-07T22:59:00Z",
		"dans 2 semaines 18:00":     "2026-12-07T17:00:00Z",
		"in 90 minutes":             "2026-11-24T00:29:00Z",
		"in a month":                "2026-12-23T22:59:00Z",
		"in 3 months":               "2027-02-23T22:59:00Z",
		"in 10001 days":             "",
		"in -1 days":                "",
		"in 2":                      "",
		"31 February":               "",
		"30 February 2027":          "",
		"tomorrow tomorrow":         "",
		"fri 18:00 06:00":           "",
		"at":                        "",
		"":                          "",
	} {
		got, err := document.ParseInstant(text, now, madrid)
		if (err == nil) != (want != "") || err == nil && got.UTC().Format(time.RFC3339) != want {
			t.Errorf("%q: %v, %v; want %s", text, got.UTC(), err, want)
		}
		if err != nil && !strings.Contains(err.Error(), "2026-07-04 21:30") && !strings.Contains(err.Error(), "put forward") {
			t.Errorf("%q: the fault does not say which forms can be read: %v", text, err)
		}
	}
}

// FuzzParseInstant: no text breaks the reader, and the instant that it reads is one that it reads again.
func FuzzParseInstant(f *testing.F) {
	for _, text := range []string{"in 2 weeks 18:00", "31 mars 2027", "le 1er avril à 6h", "2026-07-04T21:30", "in 9999 years", "29 feb", "fri"} {
		f.Add(text)
	}
	madrid, err := policy.LoadZone("Europe/Madrid")
	if err != nil {
		f.Fatal(err)
	}
	now := time.Date(2027, 1, 31, 10, 0, 0, 0, time.UTC)
	f.Fuzz(func(t *testing.T, text string) {
		got, err := document.ParseInstant(text, now, madrid)
		if err != nil {
			return
		}
		again, err := document.ParseInstant(got.Format(time.RFC3339Nano), now, madrid)
		if err != nil || !again.Equal(got) {
			t.Fatalf("%q is %v, and that %v (%v)", text, got, again, err)
		}
	})
}

// FuzzReadPolicy: no input breaks the reader, every fault has a place within the input, and what is read is
// the same after it was written.
func FuzzReadPolicy(f *testing.F) {
	f.Add([]byte(twelve))
	f.Add([]byte(`{"format": "sentier-policy/1", "users": [{"id": "a", "name": "\u00e9 'x' # : - "}], "roles": [{"id": "r", "note": "two\nlines\t"}]}`))
	f.Add([]byte("format: sentier-policy/1\nusers:\n  - {id: yes, name: 'no', email: 2026}\n  - id: '1.0'\n    name: |\n      a text\n"))
	f.Add([]byte("format: sentier-policy/1\ngrants:\n  - {id: g, lines: [{limits: {a.b: 3, c: []}, if: {attended: false}}]}\n"))
	for _, n := range []string{"policy-0.json", "policy-2.json"} {
		data, err := os.ReadFile("testdata/vectors/" + n)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(data)
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		p, err := document.ReadPolicy(data)
		if err != nil {
			faults, ok := err.(document.Faults)
			if !ok || len(faults) == 0 {
				t.Fatalf("an error that is no faults: %v", err)
			}
			for _, fault := range faults {
				if fault.Line > bytes.Count(data, []byte("\n"))+bytes.Count(data, []byte("\r"))+1 {
					t.Errorf("the fault lies beyond the end: %v", fault)
				}
			}
			return
		}
		for _, syntax := range []document.Syntax{document.YAML, document.JSON} {
			written, err := document.WritePolicy(p, syntax)
			if err != nil {
				t.Fatal(err)
			}
			again, err := document.ReadPolicy(written)
			if err != nil {
				t.Fatalf("what was written as %s is not read: %v\n%s", syntax, err, written)
			}
			if diff := p.Compare(again); len(diff) != 0 {
				t.Fatalf("%s: %d records came back otherwise\n%s", syntax, len(diff), written)
			}
		}
	})
}

func TestTimesThatAreNotThere(t *testing.T) {
	now := time.Date(2026, 11, 24, 10, 0, 0, 0, time.UTC)
	for _, x := range []struct{ zone, text, want string }{
		{"Europe/Lisbon", "2026-03-29 01:30", ""},    // the clock is put forward
		{"Pacific/Apia", "2011-12-30 12:00", ""},     // a day that never was
		{"America/Santiago", "2026-09-06 00:30", ""}, // before the day begins
		{"Europe/Lisbon", "9999-12-31 12:00", ""},    // no answer about it could be written
		{"Europe/Lisbon", "9999-12-31T23:59:59Z", ""},
		{"Europe/Lisbon", "2026-10-25 01:30", "2026-10-25T00:30:00Z"},
		{"Europe/Madrid", "1890-01-01 12:00", "1890-01-01T12:14:44Z"}, // an offset with seconds
		{"Europe/Madrid", "2026-11-24T10:00:00+01:00", "2026-11-24T09:00:00Z"},
	} {
		zone, err := policy.LoadZone(x.zone)
		if err != nil {
			t.Fatal(err)
		}
		got, err := document.ParseInstant(x.text, now, zone)
		if (err != nil) != (x.want == "") || err == nil && got.Format(time.RFC3339) != x.want {
			t.Errorf("%s in %s: %v (%v), want %q", x.text, x.zone, got, err, x.want)
		}
	}
}

// TestBlanksAroundTexts are no part of them, whether they come by document, by API or by sheet.
func TestBlanksAroundTexts(t *testing.T) {
	const want = "Ana\nLund"
	var byJSON policy.User
	if err := document.DecodeJSON([]byte(`{"id":"ana","name":" Ana\nLund\u00a0","email":" ana@larkmere.example","note":"\n x "}`), &byJSON); err != nil {
		t.Fatal(err)
	}
	if byJSON.Name != want || byJSON.Email != "ana@larkmere.example" || byJSON.Note != "x" {
		t.Errorf("by API: %q %q %q", byJSON.Name, byJSON.Email, byJSON.Note)
	}
	patch, err := document.ReadPatch(policy.Users, []byte(`{"name":"  Ana\nLund ","note":" "}`))
	if err != nil || string(patch) != `{"name":"Ana\nLund","note":""}` {
		t.Errorf("by a patch: %s %v", patch, err)
	}
	var password struct {
		Password string `json:"password"`
	}
	if err := document.DecodeJSON([]byte(`{"password":" herons "}`), &password); err != nil || password.Password != " herons " {
		t.Errorf("what is no record is taken as it comes: %q %v", password.Password, err)
	}
}
