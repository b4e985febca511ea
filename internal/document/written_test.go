package document_test

import (
	"bytes"
	"encoding/json"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"

	"sentier/internal/demo"
	"sentier/internal/document"
	"sentier/internal/policy"
)

// awkward are texts that one syntax or the other takes for something else where they are not written with care.
var awkward = []string{
	"yes", "No", "null", "~", "true", "1e3", "0x1F", "1_000", "007", "-1", ".5", ".inf", "2026-11-24", "12:30", "1:20:30", "- a", "-", "a: b", "a:", ":", "#x", "a #b",
	`"quoted"`, `'single'`, `it's`, `{a}`, `[b]`, "%x", "@y", "`z`", "!tag", "&anchor", "*alias", "|", ">", "|-", "? a", "?", "=", "<<", `\`, `\n`, "a,b", "a; b",
	"line one\nline two", "line\n\n  indented\nend", "é", "Ångström", "🌊 lock", "hard\u00a0space", "a\u2028b", "</script>", "=1+1", "---", "...", "x\u0085y", "𝄞", "…",
}

// disturb puts awkward texts and other values into fields of a record, at random. Ids and mentions stay.
func disturb(random *rand.Rand, v reflect.Value) {
	switch v.Kind() {
	case reflect.Pointer:
		if !v.IsNil() {
			disturb(random, v.Elem())
		}
	case reflect.Struct:
		for i := range v.NumField() {
			name, _, _ := strings.Cut(v.Type().Field(i).Tag.Get("json"), ",")
			if f := v.Field(i); f.CanSet() && (name == "name" || name == "note" || name == "address" || name == "reason" || name == "by") && f.Kind() == reflect.String && random.IntN(2) == 0 {
				f.SetString(awkward[random.IntN(len(awkward))])
			} else if f.CanSet() && name == "tags" && random.IntN(2) == 0 {
				f.Set(reflect.ValueOf([]string{awkward[random.IntN(len(awkward))], "old"}))
			} else if f.CanSet() && name == "limits" && !f.IsNil() {
				f.Set(reflect.ValueOf(map[string]policy.Limit{"minutes": {Number: float64(random.IntN(90)) / 4}, "folders": {Texts: []string{awkward[random.IntN(len(awkward))], "x"}}}))
			} else {
				disturb(random, f)
			}
		}
	case reflect.Slice:
		for i := range v.Len() {
			disturb(random, v.Index(i))
		}
	}
}

// TestWhatIsWrittenIsRead: whatever texts stand in records, a document of them in either syntax is the same policy again, and the same bytes;
// so is each record as the store keeps it.
func TestWhatIsWrittenIsRead(t *testing.T) {
	random := rand.New(rand.NewPCG(31, 7))
	taken := 0
	for range 15 {
		p, err := demo.Policy()
		if err != nil {
			t.Fatal(err)
		}
		for _, typ := range policy.Types() {
			for r := range p.Table(typ).All() {
				again := policy.New(typ) // a copy that shares nothing
				body, err := json.Marshal(r)
				if err != nil {
					t.Fatal(err)
				}
				if err := json.Unmarshal(body, again); err != nil {
					t.Fatal(err)
				}
				disturb(random, reflect.ValueOf(again))
				next, done, err := p.Apply([]policy.Change{{Op: policy.Put, Type: typ, ID: r.Key(), Record: again}})
				if err == nil {
					p, taken = next, taken+len(done)
				}
			}
		}
		for _, syntax := range []document.Syntax{document.YAML, document.JSON} {
			data, err := document.WritePolicy(p, syntax)
			if err != nil {
				t.Fatal(err)
			}
			q, err := document.ReadPolicyAs(data, syntax, nil)
			if err != nil {
				t.Fatalf("%s: %v", syntax, err)
			}
			for _, c := range p.Compare(q) {
				was, _ := json.Marshal(c.Before)
				is, _ := json.Marshal(c.After)
				t.Errorf("%s: %s\ncame back as %s", syntax, was, is)
			}
			if again, err := document.WritePolicy(q, syntax); err != nil || !bytes.Equal(again, data) {
				t.Errorf("%s: written again it is other bytes (%v)", syntax, err)
			}
		}
		for _, typ := range policy.Types() {
			for r := range p.Table(typ).All() {
				body, err := json.Marshal(r)
				again := policy.New(typ)
				if err != nil || json.Unmarshal(body, again) != nil || !reflect.DeepEqual(r, again) {
					t.Errorf("%s comes back otherwise (%v)", body, err)
				}
			}
		}
	}
	if taken < 1000 {
		t.Errorf("only %d records were disturbed: the property says little", taken)
	}
}

// TestADocumentInAnyHand: the same policy, however it is laid out.
func TestADocumentInAnyHand(t *testing.T) {
	p, err := demo.Policy()
	if err != nil {
		t.Fatal(err)
	}
	yaml := string(demo.Document())
	asJSON, err := document.WritePolicy(p, document.JSON)
	if err != nil {
		t.Fatal(err)
	}
	var compact bytes.Buffer
	if err := json.Compact(&compact, asJSON); err != nil {
		t.Fatal(err)
	}
	sections := strings.Split(yaml, "\nusers:\n")
	users, rest, _ := strings.Cut(sections[1], "\nuser_groups:\n")
	for name, c := range map[string]struct {
		text   string
		syntax document.Syntax
	}{
		"with the line ends of another system": {strings.ReplaceAll(yaml, "\n", "\r\n"), ""},
		"with a byte order mark":               {"\uFEFF" + yaml, ""},
		"with a mark of its beginning":         {"---\n" + yaml, ""},
		"with comments between":                {strings.ReplaceAll(yaml, "\ngrants:\n", "\n# what is given\n\n  # to whom\ngrants: # here\n"), ""},
		"further in":                           {indented(yaml), ""},
		"its fields in another order":          {sections[0] + "\nuser_groups:\n" + rest + "\nusers:\n" + users + "\n", ""},
		"a field in quotes":                    {strings.Replace(yaml, "\nusers:\n", "\n\"users\" :\n", 1), ""},
		"JSON on one line":                     {compact.String(), ""},
		"JSON that is read as YAML":            {string(asJSON), document.YAML},
	} {
		q, err := document.ReadPolicyAs([]byte(c.text), c.syntax, p)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if n := len(p.Compare(q)); n != 0 {
			t.Errorf("%s: %d records differ", name, n)
		}
	}
}

// indented moves what lies below the fields of a document two further in.
func indented(text string) string {
	lines := strings.Split(text, "\n")
	for i, line := range lines {
		if strings.HasPrefix(line, " ") || strings.HasPrefix(line, "-") {
			lines[i] = "  " + line
		}
	}
	return strings.Join(lines, "\n")
}
